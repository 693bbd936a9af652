// Package blueprint is about recipes for databases: a name rule with parameters, options by
// engine, and a team's accounts, in a small YAML format of Genarch's own (schema.json). A
// recipe is filled with values and becomes what is asked for; what it asks for is checked
// like anything else that is asked for.
package blueprint

import (
	_ "embed"
	"regexp"
	"time"
)

// Format is the version of the format that this package reads.
const Format = 1

// MaxText bounds the text of a blueprint, in bytes.
const MaxText = 64 << 10

// Schema is the JSON Schema of the format, for editors.
//
//go:embed schema.json
var Schema []byte

// Blueprint is a recipe, as it was read.
type Blueprint struct {
	Title        string
	Description  string
	Environments []string // where it may be used; none: everywhere
	Parameters   []Parameter
	// Name is the database's name, with placeholders; empty: whoever asks gives one.
	Name string
	// Options are asked for on every engine, and Engines holds those of one alone.
	Options map[string]any
	Engines map[string]map[string]any
	// Scripts are run in the database once it is there, each on its engine, by a change of their
	// own. Nothing in them is replaced: a value is never code.
	Scripts map[string]string
	// Team makes a team's accounts with the database; nil: no team.
	Team *Team
}

// Parameter is a value that whoever uses a blueprint gives.
type Parameter struct {
	Name        string
	Title       string
	Description string
	// Default is taken when nothing is given; nil: something has to be given.
	Default *string
	// Pattern is what the whole value has to match; nil: anything goes.
	Pattern *regexp.Regexp
	// Values are the only ones that go; none: any.
	Values []string
}

// Team is what a team gets, with placeholders.
type Team struct{ Name, Host string }

// Kept is a blueprint on record. A later version replaces an earlier one, which stays.
type Kept struct {
	Name     string
	Version  int
	Text     string
	Operator string // who put it there
	Created  time.Time
}

// nameShape is what blueprints and their parameters can be called.
var nameShape = regexp.MustCompile(`^[a-z][a-z0-9_]{0,39}$`)

// ValidName reports whether a blueprint or a parameter can have this name.
func ValidName(name string) bool { return nameShape.MatchString(name) }
