package wire

import "time"

// Blueprint is a recipe for databases, as it is on record.
type Blueprint struct {
	Name         string      `json:"name"`
	Version      int         `json:"version"`
	Title        string      `json:"title,omitempty"`
	Description  string      `json:"description,omitempty"`
	Environments []string    `json:"environments" nullable:"false" doc:"Where it may be used; none: everywhere."`
	Parameters   []Parameter `json:"parameters" nullable:"false"`
	NameRule     string      `json:"name_rule,omitempty" doc:"The database's name, with {PARAMETER} for values."`
	Engines      []string    `json:"engines" nullable:"false" doc:"Those for which it has options of their own."`
	Operator     string      `json:"operator" doc:"Who put this version there."`
	Created      time.Time   `json:"created"`
	// Scripts are by engine.
	Scripts map[string]string `json:"scripts,omitempty" doc:"What the database can be filled with once it is there, by engine; absent in lists."`
	Text    string            `json:"text,omitempty" doc:"The whole, in YAML; absent in lists."`
}

// Parameter is a value that whoever uses a blueprint gives.
type Parameter struct {
	Name        string   `json:"name"`
	Title       string   `json:"title,omitempty"`
	Description string   `json:"description,omitempty"`
	Default     *string  `json:"default" doc:"null: a value has to be given."`
	Pattern     string   `json:"pattern,omitempty" doc:"A regular expression that the whole value matches."`
	Values      []string `json:"values" nullable:"false" doc:"The only ones that go; none: any."`
}

// BlueprintList is all blueprints, each in its latest version.
type BlueprintList struct {
	Blueprints []Blueprint `json:"blueprints" nullable:"false"`
}

// BlueprintText is a blueprint in YAML.
type BlueprintText struct {
	Text string `json:"text" maxLength:"65536"`
}

// BlueprintCheck is what was found in a text.
type BlueprintCheck struct {
	Problems  []TextProblem `json:"problems" nullable:"false" doc:"None: it can be used."`
	Blueprint *Blueprint    `json:"blueprint,omitempty" doc:"What it says, without problems."`
}

// TextProblem is something wrong in a text.
type TextProblem struct {
	Line   int    `json:"line" doc:"From 1 on; 0: the whole text."`
	Column int    `json:"column"`
	Text   string `json:"text"`
}
