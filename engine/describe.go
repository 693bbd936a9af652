package engine

import (
	"slices"
	"strings"

	"example.com/genarch/core/access"
	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/naming"
	"example.com/genarch/core/privilege"
)

// Description is what an engine says of itself, as data. GET /engines serves it as
// it is; the check of an intent, the flags and tables of the CLI, the forms and
// columns of the console, and the settings of a brief are all made of it.
type Description struct {
	ID       catalog.Engine `json:"id"`
	Title    string         `json:"title"`
	Versions string         `json:"versions"` // in words
	// Releases are the versions that the description speaks of, by the name that a
	// person knows, and the number by which [catalog.Instance] compares them. Since
	// everywhere below is such a name.
	Releases map[string]int `json:"releases,omitempty"`
	Port     int            `json:"port"`
	// Nouns are the engine's words for what every engine has.
	Nouns map[Noun]Word `json:"nouns"`
	// Choices are the lists that a server can be asked for, by key, with their titles.
	Choices map[string]string `json:"choices"`
	// Fields are the options and properties, by the part of an intent that they
	// belong to; those of [PartServer] are what registering asks for.
	Fields map[change.Part][]Field `json:"fields"`
	// Intents has a form, or a reason why not, for each kind of intent.
	Intents map[change.Kind]Form `json:"intents"`
	// Principals are the kinds of whoever can hold privileges.
	Principals []Principal `json:"principals"`
	Scopes     []Scope     `json:"scopes"` // the widest first
	Privileges []Privilege `json:"privileges"`
	// Table holds the sets of privileges: all that are named above, and those that the
	// engine speaks of without their being granted through Genarch.
	Table    *privilege.Table `json:"-"`
	Granting Granting         `json:"granting"`
	Bundles  []Bundle         `json:"bundles"`
	// Endings are the ways in which a session can be ended.
	Endings map[catalog.Ending]Form `json:"endings"`
	Gate    Gate                    `json:"gate"`
	// Team says what is made for a team with a new database.
	Team   Form          `json:"team"`
	Names  naming.Limits `json:"names"` // of databases
	Script Script        `json:"script"`
	// AddressMarks are the marks of an identity that follow the server's address:
	// they differ after it was moved to another port, and it is the same all the same.
	AddressMarks []string `json:"-"`
}

// PartServer holds the fields of a registration; it is no part of an intent.
const PartServer change.Part = "server"

// Noun is a thing that every engine has a word for.
type Noun string

// The nouns.
const (
	NounDatabase Noun = "database"
	NounSchema   Noun = "schema" // without words where there are none
	NounTable    Noun = "table"
	NounAccount  Noun = "account"
	NounRole     Noun = "role"
	NounSession  Noun = "session"
)

// Nouns lists them.
var Nouns = []Noun{NounDatabase, NounSchema, NounTable, NounAccount, NounRole, NounSession}

// Word is a noun in the singular and the plural.
type Word struct {
	One  string `json:"one"`
	Many string `json:"many"`
}

// Form says how the engine does something, or why it cannot.
type Form struct {
	Says string `json:"says,omitempty"`
	// Undo says in words how it is rolled back; empty where nothing can.
	Undo string `json:"undo,omitempty"`
	Why  string `json:"why,omitempty"`
	// Instead says what to do where it is not possible.
	Instead string `json:"instead,omitempty"`
	Since   string `json:"since,omitempty"`
}

// Place says what a principal lies in.
type Place string

// The places.
const (
	OnServer   Place = ""
	FromHost   Place = "host"
	InDatabase Place = "database"
)

// Principal is one kind of whoever can hold privileges.
type Principal struct {
	Kind  string `json:"kind"`
	Title string `json:"title"`
	Many  string `json:"many"`
	// Role: its address is role:NAME, it is listed among the roles, and it has members.
	Role bool `json:"role,omitempty"`
	// SignsIn: it can have a password.
	SignsIn bool  `json:"signs_in,omitempty"`
	In      Place `json:"in,omitempty"`
	// Default is what it lies in when nothing is said ("%"); empty: it has to be said.
	Default string        `json:"default,omitempty"`
	Names   naming.Limits `json:"names"`
	Decides string        `json:"decides"`
	// Space is shared by kinds of which no two can have the same name; empty: the
	// kind's own.
	Space string `json:"space,omitempty"`
}

// Scope is a level of objects that privileges are held on.
type Scope struct {
	Name   catalog.Scope `json:"name"`
	Title  string        `json:"title"`
	Within catalog.Scope `json:"within,omitempty"`
	// Parts are the parts of an object that it is named by: database, schema, name, column.
	Parts []string `json:"parts,omitempty"`
	// Pattern: the name may be a pattern, and is one unless it is escaped.
	Pattern bool `json:"pattern,omitempty"`
}

// Privilege is one thing that an account may do, and the scopes on which it can be granted.
type Privilege struct {
	Name string          `json:"name"`
	On   []catalog.Scope `json:"on"`
	// Also are names that other versions or statements have for it.
	Also  []string `json:"also,omitempty"`
	Since string   `json:"since,omitempty"`
}

// Granting says how privileges are granted.
type Granting struct {
	// Option is how the right to grant on goes: "" there is none, "privilege" each by
	// itself, "object" all on the object.
	Option string `json:"option,omitempty"`
	// Admin: a membership can carry the right to grant the role on.
	Admin  bool   `json:"admin,omitempty"`
	Later  string `json:"later"`   // how objects that are made later are covered
	AtOnce string `json:"at_once"` // when a grant or a revoke reaches open sessions
}

// Bundle is a named set of privileges on one database.
type Bundle struct {
	Name    string `json:"name"` // read, write, build, own
	Decides string `json:"decides"`
	// On are the privileges by scope.
	On map[catalog.Scope][]string `json:"on,omitempty"`
	// Careful says what more than its name it lets one do.
	Careful string `json:"careful,omitempty"`
}

// Gate keeps new logins out of a database while a change runs.
type Gate struct {
	// Keeps says whom it keeps out: all, those whose rights can be taken for a while, or
	// nobody, where there is no gate.
	Keeps string `json:"keeps"`
	// AtLast: it closes with the act itself; until then whoever signs in gets in, and is ended with it.
	AtLast bool   `json:"at_last,omitempty"`
	Says   string `json:"says"`
	Leaks  string `json:"leaks,omitempty"` // whom or what it does not stop
}

// What a gate can keep out.
const (
	KeepsAll    = "all"
	KeepsRights = "rights"
	KeepsNobody = "nobody" // there is no gate
)

// Script says how the statements of a change are written as a file for the
// engine's own client.
type Script struct {
	Comment string `json:"comment"` // begins a comment: "-- "
	End     string `json:"end"`     // ends a statement: ";", "\nGO"
	Media   string `json:"media"`
	File    string `json:"file"` // extension
	Client  string `json:"client"`
	// Piece is what is sent at once, where that is not one statement, and Pieces several: "batch".
	Piece  string `json:"piece,omitempty"`
	Pieces string `json:"pieces,omitempty"`
	// Wide: statements are sent in UTF-16. A file may be written so, with a byte order mark, and what is no
	// character would be lost.
	Wide bool `json:"-"`
	// AnyCase: a script may write the name of its database in other letters.
	AnyCase bool `json:"-"`
	// Begins are how the dumps of the engine's own programs begin, after empty comments.
	Begins []string `json:"-"`
	// Head stands before the first statement.
	Head string `json:"-"`
	// Connect is what goes to another database; nil where a statement does not run
	// inside one.
	Connect func(database string) string `json:"-"`
}

// Count is how many pieces a script has, in words.
func (s Script) Count(n int) string {
	if s.Piece == "" {
		return naming.Count(n, "statement")
	}
	return naming.Count(n, s.Piece, s.Pieces)
}

// Common are options that mean the same on every engine that has them: the CLI has
// a flag of its own for each. Every other option is --set name=value.
var Common = map[change.Part]map[string]Type{
	change.PartDatabase: {"owner": Pick, "encoding": Pick, "collation": Pick, "template": Pick, "tablespace": Pick,
		"connection_limit": Number, "comment": Text},
	change.PartAccount: {"connection_limit": Number, "expires": Text, "locked": Yes, "comment": Text,
		"reassign_to": Text},
	change.PartClearing: {"lock_accounts": Yes},
}

// OptionsOf are the options of a part that a kind of intent has, in the order of
// the table. A common one comes first in what the CLI shows.
func (d *Description) OptionsOf(p change.Part, k change.Kind) []Field {
	return slices.DeleteFunc(slices.Clone(d.Fields[p]), func(f Field) bool { return !slices.Contains(f.In, k) })
}

// Needs lists the keys of the choices that the options of an intent about a database
// are to be found in.
func (d *Description) Needs(in change.Intent) []string {
	var out []string
	for _, f := range d.OptionsOf(change.PartDatabase, in.Kind) {
		if in.Database.Options.Has(f.Name) && f.From != "" && !slices.Contains(out, f.From) {
			out = append(out, f.From)
		}
		for _, c := range f.Columns {
			if in.Database.Options.Has(f.Name) && c.From != "" && !slices.Contains(out, c.From) {
				out = append(out, c.From)
			}
		}
	}
	return out
}

// Option finds a field of a part.
func (d *Description) Option(p change.Part, name string) (Field, bool) {
	for _, f := range d.Fields[p] {
		if f.Name == name {
			return f, true
		}
	}
	return Field{}, false
}

// BundleDecides is one line on what the holder of a bundle can do.
func (d *Description) BundleDecides(b access.Bundle) string {
	for _, x := range d.Bundles {
		if x.Name == string(b) {
			text := strings.TrimSuffix(x.Decides, ".")
			return strings.ToLower(text[:1]) + text[1:]
		}
	}
	return ""
}

// Careful says what the options of a registration leave open to others.
func (d *Description) Careful(srv catalog.Server) []string {
	var out []string
	for _, f := range d.Fields[PartServer] {
		if f.Careful != "" && srv.Options.Bool(f.Name) {
			out = append(out, srv.Name+": "+f.Careful+" ("+f.Name+")")
		}
	}
	return out
}

// Has reports whether a server of this number has what came with a release.
func (d *Description) Has(number int, since string) bool { return number >= d.Releases[since] }

// Word is the engine's word for something.
func (d *Description) Word(n Noun) Word { return d.Nouns[n] }

// HasHosts reports whether an account is a name and the host that it comes from.
func (d *Description) HasHosts() bool {
	p, _ := d.Principal(false)
	return p.In == FromHost
}

// InDatabases reports whether accounts lie in databases.
func (d *Description) InDatabases() bool {
	p, _ := d.Principal(false)
	return p.In == InDatabase
}

// SeparateRoles reports whether accounts and roles of one name are two things.
func (d *Description) SeparateRoles() bool {
	p, ok := d.Principal(true)
	return ok && p.Space == ""
}

// PrincipalOf finds the kind of an account or role that lies in a database, or does not; empty: there is none.
func (d *Description) PrincipalOf(role, inside bool) Principal {
	for _, p := range d.Principals {
		if p.Role == role && (p.In == InDatabase) == inside {
			return p
		}
	}
	return Principal{}
}

// Principal finds the kind of an account (role false) or of a role; where some lie in databases and
// some do not, the one that stands first.
func (d *Description) Principal(role bool) (Principal, bool) {
	for _, p := range d.Principals {
		if p.Role == role {
			return p, true
		}
	}
	return Principal{}, false
}
