package catalog

// Encoding is a character encoding that a database can have.
type Encoding struct {
	Name    string
	Comment string
	Default bool
	// Collation is the encoding's own default collation, where it has one.
	Collation string
}

// Collation is an ordering that a database can have.
type Collation struct {
	Name string
	// Encoding is the one it belongs to; empty: fits every encoding.
	Encoding string
	Provider string // libc, icu, builtin; empty where there are none
	Default  bool
}

// Template is a database that a new one can be copied from.
type Template struct {
	Name      string
	Encoding  string
	Collation string
	CType     string
	Provider  string
	Locale    string
	// Tablespace is where a copy is put when nothing else is said.
	Tablespace string
	Default    bool
	// Usable says whether Genarch's login may copy it, and Why not.
	Usable   bool
	Why      string
	Sessions int
	Comment  string
}

// Tablespace is a place on disk where a database can be put.
type Tablespace struct {
	Name     string
	Owner    string
	Location string
	Default  bool
	Size     *int64
}

// Choices is what can be chosen for a new database on one server.
type Choices struct {
	Encodings   []Encoding
	Collations  []Collation
	Templates   []Template
	Tablespaces []Tablespace
	Owners      []string
	Strategies  []string
	Providers   []string
}
