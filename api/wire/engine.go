package wire

// Engine is what an engine says of itself: its words, what can be asked for and what
// is shown, who can hold privileges on what, and what it cannot do.
type Engine struct {
	ID         string                `json:"id"`
	Title      string                `json:"title"`
	Versions   string                `json:"versions"`
	Releases   map[string]int        `json:"releases,omitempty" doc:"The versions that since speaks of, and the numbers by which they compare."`
	Port       int                   `json:"port" doc:"The usual one."`
	Nouns      map[string]Noun       `json:"nouns" doc:"The engine's words for database, schema, table, account, role and session."`
	Choices    map[string]string     `json:"choices" doc:"The lists that a server can be asked for, by key, with their titles."`
	Fields     map[string][]Field    `json:"fields" doc:"Options and properties, by the part of an intent that they belong to; under server what registering asks for."`
	Intents    map[string]EngineForm `json:"intents" doc:"How each kind of intent is done, or why it is not possible."`
	Principals []PrincipalKind       `json:"principals" nullable:"false"`
	Scopes     []Scope               `json:"scopes" nullable:"false"`
	Privileges []EnginePrivilege     `json:"privileges" nullable:"false"`
	Granting   Granting              `json:"granting"`
	Bundles    []EngineBundle        `json:"bundles" nullable:"false"`
	Endings    map[string]EngineForm `json:"endings" doc:"How a session, and how only its statement, is ended."`
	Gate       Gate                  `json:"gate"`
	Team       EngineForm            `json:"team" doc:"What is made for a team with a new database."`
	Names      NameLimits            `json:"names" doc:"Of databases."`
	Script     EngineScript          `json:"script"`
}

// Preparation is the statements that make a login for Genarch itself.
type Preparation struct {
	Engine     string  `json:"engine"`
	Login      string  `json:"login"`
	Statements []Right `json:"statements" nullable:"false" doc:"None: the engine has one login, or what makes one is not known."`
	Comment    string  `json:"comment" doc:"Begins a comment in the engine's own client."`
	End        string  `json:"end" doc:"Ends a statement there."`
	Client     string  `json:"client" doc:"The engine's own client."`
}

// Right is one statement that gives a login something.
type Right struct {
	For       string `json:"for"`
	Statement string `json:"statement"`
}

// Noun is a word in the singular and the plural.
type Noun struct {
	One  string `json:"one"`
	Many string `json:"many"`
}

// Field is one option, one property, or both: the same name means the same value
// wherever it is asked for or read.
type Field struct {
	Name     string       `json:"name"`
	Title    string       `json:"title"`
	Decides  string       `json:"decides,omitempty"`
	Type     string       `json:"type" enum:"text,long,pick,number,size,bool,list,table"`
	Values   []FieldValue `json:"values,omitempty" nullable:"false" doc:"The only ones of a pick; for a number or size, words that can stand in its place."`
	From     string       `json:"from,omitempty" doc:"The key of the choices that are offered."`
	Free     bool         `json:"free,omitempty" doc:"It need not be one of those choices."`
	By       string       `json:"by,omitempty" doc:"The option whose value narrows the choices."`
	With     string       `json:"with,omitempty" doc:"The option without which this one means nothing."`
	Columns  []Field      `json:"columns,omitempty" nullable:"false" doc:"Of a table."`
	Key      string       `json:"key,omitempty" doc:"The column that tells the rows apart."`
	In       []string     `json:"in,omitempty" nullable:"false" doc:"The kinds of intents that take it; none: it can only be read."`
	Required bool         `json:"required,omitempty"`
	For      []string     `json:"for,omitempty" nullable:"false" doc:"The kinds of accounts and roles that have it; absent: all."`
	Default  string       `json:"default,omitempty" doc:"What holds when it is not asked for, in words."`
	Fixed    string       `json:"fixed,omitempty" doc:"It is settled for good when the object is made; what to do instead of altering it."`
	Alone    bool         `json:"alone,omitempty" doc:"Nobody else may be in the database while it is altered."`
	Since    string       `json:"since,omitempty"`
	Show     string       `json:"show,omitempty" enum:"detail,list" doc:"Where the property is shown; absent: it is none."`
	Group    string       `json:"group,omitempty" doc:"The part of a form; one that has one is folded away at first."`
	Min      *int64       `json:"min,omitempty"`
	Max      *int64       `json:"max,omitempty" doc:"Of a text: characters."`
}

// FieldValue is one that a field can have.
type FieldValue struct {
	Name  string `json:"name"`
	Title string `json:"title,omitempty"`
	Since string `json:"since,omitempty"`
}

// EngineForm says how the engine does something, or why it cannot.
type EngineForm struct {
	Says    string `json:"says,omitempty"`
	Undo    string `json:"undo,omitempty" doc:"How it is rolled back; absent: it cannot be."`
	Why     string `json:"why,omitempty" doc:"Why it is not possible."`
	Instead string `json:"instead,omitempty" doc:"What to do where it is not possible."`
	Since   string `json:"since,omitempty"`
}

// NameLimits are what an engine takes as a name.
type NameLimits struct {
	MaxLength int      `json:"max_length"`
	Counted   string   `json:"counted" enum:"bytes,characters,UTF-16 units"`
	BMPOnly   bool     `json:"bmp_only,omitempty" doc:"No character beyond U+FFFF."`
	Reserved  []string `json:"reserved,omitempty" nullable:"false"`
}

// PrincipalKind is one kind of whoever can hold privileges.
type PrincipalKind struct {
	Kind    string     `json:"kind"`
	Title   string     `json:"title"`
	Many    string     `json:"many"`
	Role    bool       `json:"role,omitempty" doc:"Its address is role:NAME, and it has members."`
	SignsIn bool       `json:"signs_in,omitempty"`
	In      string     `json:"in,omitempty" enum:"host,database" doc:"What it lies in; absent: the server."`
	Default string     `json:"default,omitempty" doc:"What it lies in when nothing is said."`
	Names   NameLimits `json:"names"`
	Decides string     `json:"decides"`
	Space   string     `json:"space,omitempty" doc:"Shared by kinds of which no two can have the same name; absent: the kind's own."`
}

// Scope is a level of objects that privileges are held on.
type Scope struct {
	Name    string   `json:"name"`
	Title   string   `json:"title"`
	Within  string   `json:"within,omitempty"`
	Parts   []string `json:"parts,omitempty" nullable:"false" doc:"The parts of an object that it is named by."`
	Pattern bool     `json:"pattern,omitempty" doc:"The name may be a pattern."`
}

// EnginePrivilege is a privilege, and the scopes on which it can be granted.
type EnginePrivilege struct {
	Name  string   `json:"name"`
	On    []string `json:"on" nullable:"false"`
	Also  []string `json:"also,omitempty" nullable:"false" doc:"Other names of it."`
	Since string   `json:"since,omitempty"`
}

// Granting says how privileges are granted.
type Granting struct {
	Option string `json:"option,omitempty" enum:"privilege,object" doc:"Whether the right to grant on goes with each privilege, or with all on an object; absent: there is none."`
	Admin  bool   `json:"admin,omitempty" doc:"A membership can carry the right to grant the role on."`
	Later  string `json:"later" doc:"How objects that are made later are covered."`
	AtOnce string `json:"at_once" doc:"When a grant or a revoke reaches open sessions."`
}

// EngineBundle is a named set of privileges on one database.
type EngineBundle struct {
	Name    string              `json:"name" enum:"read,write,build,own"`
	Decides string              `json:"decides"`
	On      map[string][]string `json:"on,omitempty" doc:"The privileges by scope."`
	Careful string              `json:"careful,omitempty" doc:"What more than its name it lets one do."`
}

// Gate keeps new logins out of a database while a change runs.
type Gate struct {
	Keeps  string `json:"keeps" enum:"all,rights,nobody"`
	AtLast bool   `json:"at_last,omitempty" doc:"It closes with the act itself; whoever comes before is ended with it."`
	Says   string `json:"says"`
	Leaks  string `json:"leaks,omitempty" doc:"Whom it does not stop."`
}

// EngineScript says how the statements of a change are written as a file.
type EngineScript struct {
	Comment string `json:"comment"`
	End     string `json:"end"`
	Media   string `json:"media"`
	File    string `json:"file" doc:"The extension."`
	Client  string `json:"client" doc:"The program that runs it."`
	Piece   string `json:"piece,omitempty" doc:"What is sent at once, where that is not one statement."`
	Pieces  string `json:"pieces,omitempty" doc:"Several of them."`
}

// Engines is everything that the engines say of themselves.
type Engines struct {
	Engines []Engine            `json:"engines" nullable:"false"`
	Common  map[string][]string `json:"common" doc:"The options that mean the same on every engine that has them, by the part of an intent."`
}
