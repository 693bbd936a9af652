package wire

import "time"

// Database is one database as its server shows it. What is null is unknown.
type Database struct {
	Name             string     `json:"name"`
	Address          string     `json:"address"`
	Owner            string     `json:"owner"`
	Owners           []string   `json:"owners,omitempty" nullable:"false" doc:"MariaDB: accounts with all privileges on it."`
	Encoding         string     `json:"encoding"`
	Collation        string     `json:"collation"`
	CType            string     `json:"ctype,omitempty"`
	Provider         string     `json:"provider,omitempty"`
	Locale           string     `json:"locale,omitempty"`
	Tablespace       string     `json:"tablespace,omitempty"`
	IsTemplate       bool       `json:"is_template"`
	AllowConnections bool       `json:"allow_connections"`
	ConnectionLimit  int        `json:"connection_limit" doc:"-1 for none."`
	System           bool       `json:"system"`
	Trouble          string     `json:"trouble,omitempty"`
	Comment          string     `json:"comment"`
	Size             *int64     `json:"size" doc:"Bytes."`
	Tables           *int       `json:"tables"`
	TablesRead       *time.Time `json:"tables_read,omitempty" doc:"When the tables were counted, if not just now."`
	Sessions         *int       `json:"sessions"`
	CreatedBy        *MadeBy    `json:"created_by,omitempty" doc:"The change that made it, if Genarch did."`
	LastUse          *Use       `json:"last_use,omitempty" doc:"Shown with one database, not in lists."`
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
	Next        string     `json:"next,omitempty" doc:"Give this as after to read on."`
	Partial     []string   `json:"partial,omitempty" nullable:"false" doc:"What is missing and why."`
	Read        time.Time  `json:"read"`
}

// Encoding is a character encoding that a database can have.
type Encoding struct {
	Name      string `json:"name"`
	Comment   string `json:"comment,omitempty"`
	Default   bool   `json:"default"`
	Collation string `json:"collation,omitempty" doc:"Its own default collation."`
}

// Collation is an ordering that a database can have.
type Collation struct {
	Name     string `json:"name"`
	Encoding string `json:"encoding,omitempty" doc:"The encoding it belongs to; absent: it fits every one."`
	Provider string `json:"provider,omitempty"`
	Default  bool   `json:"default"`
}

// Template is a database that a new one can be copied from.
type Template struct {
	Name       string `json:"name"`
	Encoding   string `json:"encoding"`
	Collation  string `json:"collation"`
	CType      string `json:"ctype"`
	Provider   string `json:"provider"`
	Locale     string `json:"locale,omitempty"`
	Tablespace string `json:"tablespace" doc:"Where a copy is put when nothing else is said."`
	Default    bool   `json:"default"`
	Usable     bool   `json:"usable"`
	Why        string `json:"why,omitempty" doc:"Why it cannot be copied."`
	Sessions   int    `json:"sessions" doc:"Nobody may be connected while it is copied."`
	Comment    string `json:"comment,omitempty"`
}

// Tablespace is a place on disk where a database can be put.
type Tablespace struct {
	Name     string `json:"name"`
	Owner    string `json:"owner"`
	Location string `json:"location,omitempty"`
	Default  bool   `json:"default"`
	Size     *int64 `json:"size"`
}

// Choices is everything that can be chosen for a new database on a server.
type Choices struct {
	Server      string       `json:"server"`
	Encodings   []Encoding   `json:"encodings" nullable:"false"`
	Collations  []Collation  `json:"collations" nullable:"false"`
	Templates   []Template   `json:"templates" nullable:"false"`
	Tablespaces []Tablespace `json:"tablespaces" nullable:"false"`
	Owners      []string     `json:"owners" nullable:"false" doc:"Roles, or accounts as name@host."`
	Providers   []string     `json:"providers" nullable:"false"`
	Strategies  []string     `json:"strategies" nullable:"false"`
}
