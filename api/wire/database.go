package wire

import "time"

// Database is one database as its server shows it. What is null is unknown.
type Database struct {
	Name       string         `json:"name"`
	Address    string         `json:"address"`
	Owner      string         `json:"owner" doc:"Who owns it; where there are no owners, who holds all of it."`
	Encoding   string         `json:"encoding"`
	Collation  string         `json:"collation"`
	Comment    string         `json:"comment"`
	Closed     bool           `json:"closed" doc:"Nobody can connect to it."`
	Broken     bool           `json:"broken,omitempty" doc:"All that can be done with it is to drop it."`
	System     bool           `json:"system"`
	Trouble    string         `json:"trouble,omitempty"`
	Properties map[string]any `json:"properties" doc:"All others, by the names of the engine's fields: see GET /engines."`
	Size       *int64         `json:"size" doc:"Bytes."`
	Tables     *int           `json:"tables"`
	TablesRead *time.Time     `json:"tables_read,omitempty" doc:"When the tables were counted, if not just now."`
	Sessions   *int           `json:"sessions"`
	CreatedBy  *MadeBy        `json:"created_by,omitempty" doc:"The change that made it, if Genarch did."`
	LastUse    *Use           `json:"last_use,omitempty" doc:"Shown with one database, not in lists."`
}

// MadeBy says which change made something.
type MadeBy struct {
	Change   uint64    `json:"change"`
	Operator string    `json:"operator"`
	At       time.Time `json:"at"`
}

// DatabaseList is a page of a server's databases, sorted by name.
type DatabaseList struct {
	Server      string     `json:"server"`
	Engine      string     `json:"engine"`
	Environment string     `json:"environment"`
	Databases   []Database `json:"databases" nullable:"false"`
	Total       int        `json:"total" doc:"How many there are in all, with the filter applied."`
	SetAside    int        `json:"set_aside" doc:"How many more were set aside and wait."`
	Next        string     `json:"next,omitempty" doc:"Give this as after to read on."`
	Partial     []string   `json:"partial,omitempty" nullable:"false" doc:"What is missing and why."`
	Read        time.Time  `json:"read"`
}

// Choice is one thing that can be chosen on one server.
type Choice struct {
	Name       string         `json:"name"`
	Title      string         `json:"title,omitempty" doc:"What it is, in words."`
	Default    bool           `json:"default,omitempty" doc:"It holds when nothing is asked for."`
	For        string         `json:"for,omitempty" doc:"What it goes with, where it does not go with everything: the encoding of a collation."`
	Why        string         `json:"why,omitempty" doc:"Why it cannot be chosen just now."`
	Properties map[string]any `json:"properties,omitempty"`
}

// Choices are lists of what can be chosen on a server.
type Choices struct {
	Server  string              `json:"server"`
	Engine  string              `json:"engine"`
	Choices map[string][]Choice `json:"choices" doc:"By the keys that the engine describes."`
}
