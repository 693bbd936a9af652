package wire

import "time"

// Principal names an account or role, or everybody: {"name": "PUBLIC", "role": true}.
type Principal struct {
	Name     string `json:"name" maxLength:"400"`
	Host     string `json:"host,omitempty" maxLength:"300" doc:"Where it comes from, on engines where that is part of an account. Empty: the only account of that name."`
	Database string `json:"database,omitempty" maxLength:"800" doc:"The one that it lies in, on engines where accounts do. Empty beside a grant: the grant's."`
	Role     bool   `json:"role,omitempty" doc:"A role, on engines where accounts and roles of one name are two things."`
}

// AccountSpec is what is asked for of an account or role.
type AccountSpec struct {
	Name         string         `json:"name" maxLength:"400"`
	Database     string         `json:"database,omitempty" maxLength:"800" doc:"The one that it lies in, on engines where accounts do."`
	Host         string         `json:"host,omitempty" maxLength:"300" doc:"Where it comes from, on engines where that is part of an account; new ones without one come from everywhere."`
	Role         bool           `json:"role,omitempty" doc:"A group without login."`
	IfNotExists  bool           `json:"if_not_exists,omitempty" doc:"account.create: do nothing if it is there, and say what differs."`
	IfExists     bool           `json:"if_exists,omitempty" doc:"Do nothing if it is not there."`
	KeepDays     int            `json:"keep_days,omitempty" minimum:"0" maximum:"3650" doc:"For how long; 0: as usual."`
	NewName      string         `json:"new_name,omitempty" maxLength:"400"`
	NewHost      string         `json:"new_host,omitempty" maxLength:"300"`
	PasswordFrom string         `json:"password_from,omitempty" enum:"generated,given,none" doc:"Generated unless said otherwise; a given one is in password."`
	Password     string         `json:"password,omitempty" maxLength:"300" writeOnly:"true" doc:"The password itself, for password_from given. It is never shown or kept in clear."`
	Options      map[string]any `json:"options,omitempty" doc:"The options of the engine, by name, as GET /engines describes them."`
}

// MemberSpec asks for a membership to be granted or revoked.
type MemberSpec struct {
	Role    string         `json:"role" maxLength:"400"`
	To      Principal      `json:"to" doc:"The member."`
	Admin   bool           `json:"admin,omitempty" doc:"With ADMIN OPTION: the member may grant the role on."`
	Options map[string]any `json:"options,omitempty" doc:"The options of the engine, by name, as GET /engines describes them."`
}

// GrantSpec asks for privileges to be granted or revoked.
type GrantSpec struct {
	Database    string         `json:"database" maxLength:"400"`
	To          Principal      `json:"to" doc:"Whose privileges."`
	Bundle      string         `json:"bundle,omitempty" enum:"read,write,build,own" doc:"To grant, or what is to remain."`
	Privileges  []string       `json:"privileges,omitempty" maxItems:"40" nullable:"false" doc:"Single privileges instead of a bundle."`
	On          Object         `json:"on,omitempty" doc:"What single privileges are about; the database when nothing is named."`
	GrantOption bool           `json:"grant_option,omitempty" doc:"With the right to grant them on."`
	Options     map[string]any `json:"options,omitempty" doc:"The options of the engine, by name, as GET /engines describes them."`
}

// Object is one thing that privileges are about.
type Object struct {
	Scope    string `json:"scope,omitempty" enum:"server,database,schema,table,sequence,routine,column,future"`
	Database string `json:"database,omitempty" maxLength:"400"`
	Schema   string `json:"schema,omitempty" maxLength:"400"`
	Name     string `json:"name,omitempty" maxLength:"800"`
	Column   string `json:"column,omitempty" maxLength:"400"`
}

// TeamSpec asks for what a team needs on a new database.
type TeamSpec struct {
	Name string `json:"name" maxLength:"100" doc:"The role NAME_owner and the accounts NAME_app and NAME_read are made."`
	Host string `json:"host,omitempty" maxLength:"300" doc:"Where the accounts come from, on engines where that is part of an account."`
}

// Mark is something about an account that deserves a look.
type Mark struct {
	Code string `json:"code" doc:"For programs: powerful, no_password, anonymous, …; an engine may have codes of its own."`
	Text string `json:"text"`
	Trap bool   `json:"trap,omitempty" doc:"It does other than it seems."`
}

// RoleLink is a membership as seen from one side.
type RoleLink struct {
	Name    string `json:"name"`
	Admin   bool   `json:"admin,omitempty" doc:"May grant the role on."`
	AtOnce  bool   `json:"at_once" doc:"Its privileges hold without SET ROLE."`
	Grantor string `json:"grantor,omitempty"`
}

// DatabaseLevel is what an account comes to on one database.
type DatabaseLevel struct {
	Database string `json:"database"`
	Level    string `json:"level" enum:"none,unknown,connect,custom,read,write,build,own"`
	More     bool   `json:"more,omitempty" doc:"It has more than the bundle of that name."`
	Gap      bool   `json:"gap,omitempty" doc:"What will be made there later is not covered."`
}

// Account is an account or role as its server shows it. What is null cannot be seen.
type Account struct {
	Address         string          `json:"address"`
	Name            string          `json:"name"`
	Host            string          `json:"host,omitempty"`
	Database        string          `json:"database,omitempty" doc:"The one that it lies in."`
	Kind            string          `json:"kind" enum:"account,role"`
	Title           string          `json:"title" doc:"The kind as the engine calls it: login, user, server role."`
	Login           bool            `json:"login"`
	Super           bool            `json:"super" doc:"Nothing, or next to nothing, is refused to it."`
	ServerRights    []string        `json:"server_rights" nullable:"false" doc:"What reaches the whole server."`
	Locked          bool            `json:"locked"`
	HasPassword     *bool           `json:"has_password"`
	Expires         *time.Time      `json:"expires,omitempty"`
	Expired         bool            `json:"expired"`
	ConnectionLimit int             `json:"connection_limit" doc:"-1 is none."`
	Sessions        *int            `json:"sessions"`
	Method          string          `json:"method,omitempty"`
	TLS             string          `json:"tls,omitempty"`
	DefaultRole     string          `json:"default_role,omitempty"`
	Comment         string          `json:"comment,omitempty"`
	System          bool            `json:"system"`
	Marks           []Mark          `json:"marks" nullable:"false"`
	MemberOf        []RoleLink      `json:"member_of" nullable:"false"`
	Members         []RoleLink      `json:"members" nullable:"false"`
	Owns            []string        `json:"owns" nullable:"false" doc:"Databases."`
	Properties      map[string]any  `json:"properties,omitempty" doc:"All others, by the names of the engine's fields of an account."`
	Connects        *int            `json:"connects,omitempty" doc:"In a list: how many databases it can get into."`
	Databases       []DatabaseLevel `json:"databases" nullable:"false" doc:"What it comes to, where it is anything."`
}

// AccountList is a page of accounts and roles.
type AccountList struct {
	Server      string    `json:"server"`
	Engine      string    `json:"engine"`
	Environment string    `json:"environment"`
	Accounts    []Account `json:"accounts" nullable:"false"`
	Total       int       `json:"total"`
	SetAside    int       `json:"set_aside" doc:"How many more were set aside and wait."`
	Next        string    `json:"next,omitempty" doc:"Give this as after to read on."`
	Unknown     []string  `json:"unknown" nullable:"false" doc:"What Genarch's login may not see."`
	Read        time.Time `json:"read"`
}

// AccountDetail is one account with all that was granted to it.
type AccountDetail struct {
	Account
	Server      string      `json:"server"`
	Engine      string      `json:"engine"`
	Environment string      `json:"environment"`
	Grants      []GrantLine `json:"grants" nullable:"false" doc:"What was granted to itself."`
	LastUse     *Use        `json:"last_use,omitempty" doc:"Absent for roles."`
	Unknown     []string    `json:"unknown" nullable:"false"`
	Read        time.Time   `json:"read"`
}

// GrantLine is one thing that was granted to somebody, or that they own.
type GrantLine struct {
	Holder      Principal `json:"holder"`
	Object      Object    `json:"object"`
	Text        string    `json:"text" doc:"The object in words."`
	Privileges  []string  `json:"privileges" nullable:"false"`
	GrantOption []string  `json:"grant_option" nullable:"false" doc:"Those that may be granted on."`
	Denied      []string  `json:"denied,omitempty" nullable:"false" doc:"What is refused whatever else is granted, on engines that can."`
	Grantor     string    `json:"grantor,omitempty"`
	Count       int       `json:"count" doc:"How many objects of that kind together."`
	Owner       bool      `json:"owner,omitempty"`
	Builtin     bool      `json:"builtin,omitempty" doc:"It holds because nothing was ever granted or revoked there."`
	Pattern     bool      `json:"pattern,omitempty" doc:"The database's name is a pattern."`
	Opens       []string  `json:"opens,omitempty" doc:"The databases that the pattern opens."`
	Leftover    bool      `json:"leftover,omitempty" doc:"The database does not exist; the grant takes effect again with it."`
}

// GrantList is what was granted to whom.
type GrantList struct {
	Server  string      `json:"server"`
	Engine  string      `json:"engine"`
	Grants  []GrantLine `json:"grants" nullable:"false"`
	Total   int         `json:"total"`
	Unknown []string    `json:"unknown" nullable:"false"`
	Read    time.Time   `json:"read"`
}

// Matrix is what each account comes to on each database. A row is one text with
// a letter for each database: - none, ? unknown, n connect, c custom, r read, w
// write, b build, o own; an upper-case letter has more than the bundle, or a gap.
type Matrix struct {
	Server      string      `json:"server"`
	Engine      string      `json:"engine"`
	Environment string      `json:"environment"`
	Databases   []string    `json:"databases" nullable:"false"`
	Rows        []MatrixRow `json:"rows" nullable:"false"`
	Unknown     []string    `json:"unknown" nullable:"false"`
	Wide        []GrantLine `json:"wide" nullable:"false" doc:"Grants that open more databases than they seem to name."`
	Leftovers   []GrantLine `json:"leftovers" nullable:"false" doc:"Grants on databases that do not exist."`
	Read        time.Time   `json:"read"`
}

// MatrixRow is one account's row.
type MatrixRow struct {
	Name     string `json:"name"`
	Host     string `json:"host,omitempty"`
	Database string `json:"database,omitempty"`
	Role     bool   `json:"role,omitempty" doc:"It cannot sign in."`
	Super    bool   `json:"super,omitempty"`
	Marks    int    `json:"marks,omitempty" doc:"How many marks the account has."`
	Cells    string `json:"cells"`
}

// Chain is one way by which an account has a privilege.
type Chain struct {
	Roles       []string `json:"roles" nullable:"false" doc:"From the account to who holds it."`
	Via         string   `json:"via" enum:"superuser,owner,grant,public,builtin,server,pattern"`
	Text        string   `json:"text"`
	GrantOption bool     `json:"grant_option,omitempty"`
}

// Need is one thing that it takes.
type Need struct {
	Privilege string  `json:"privilege"`
	Object    Object  `json:"object"`
	Text      string  `json:"text" doc:"In words: SELECT on table tickets_prod.public.fares."`
	Met       bool    `json:"met"`
	Known     bool    `json:"known" doc:"False: the object was not found, or cannot be seen."`
	Chains    []Chain `json:"chains" nullable:"false"`
	More      int     `json:"more,omitempty" doc:"Further ways that are not listed."`
	Denied    []Chain `json:"denied,omitempty" nullable:"false" doc:"Why it is refused whatever the chains say, on engines that can deny."`
	Dormant   []Chain `json:"dormant" nullable:"false" doc:"Ways that open only with SET ROLE."`
	Missing   *Intent `json:"missing,omitempty" doc:"What to ask for, so that it is granted."`
}

// Why is the answer to who may do what, and by which chain.
type Why struct {
	Server  string    `json:"server"`
	Account string    `json:"account" doc:"Its address."`
	Allowed bool      `json:"allowed"`
	Summary string    `json:"summary"`
	Needs   []Need    `json:"needs" nullable:"false"`
	Barred  []string  `json:"barred" nullable:"false" doc:"What keeps the account out whatever it holds."`
	Read    time.Time `json:"read"`
}

// Comparison is in what two accounts differ.
type Comparison struct {
	Left        string              `json:"left"`
	Right       string              `json:"right"`
	Differences []AccountDifference `json:"differences" nullable:"false"`
	Unknown     []string            `json:"unknown" nullable:"false"`
}

// AccountDifference is one thing in which they differ; empty: it has none of that.
type AccountDifference struct {
	What  string `json:"what"`
	Left  string `json:"left"`
	Right string `json:"right"`
}

// Form is one way of writing down how to connect.
type Form struct {
	Name  string `json:"name" enum:"url,dsn,jdbc,env,options,passwords"`
	Title string `json:"title"`
	File  string `json:"file,omitempty" doc:"Where the text belongs."`
	Text  string `json:"text"`
}

// HandoverAccount is one account on a handover sheet.
type HandoverAccount struct {
	Name     string   `json:"name"`
	Host     string   `json:"host,omitempty"`
	Level    string   `json:"level"`
	Password string   `json:"password,omitempty" doc:"Only when it is shown, once."`
	Forms    []Form   `json:"forms" nullable:"false"`
	Proof    []string `json:"proof" nullable:"false" doc:"What was tried as this account, and how it went."`
}

// Handover is the sheet for the team that uses a database.
type Handover struct {
	Server      string            `json:"server"`
	Engine      string            `json:"engine"`
	Environment string            `json:"environment"`
	Host        string            `json:"host"`
	Port        int               `json:"port"`
	Also        []string          `json:"also" nullable:"false" doc:"Other addresses at which clients find the server."`
	Database    string            `json:"database,omitempty"`
	TLS         string            `json:"tls"`
	Accounts    []HandoverAccount `json:"accounts" nullable:"false"`
	Change      uint64            `json:"change,omitempty" doc:"The change that made them."`
	Read        time.Time         `json:"read"`
}

// Decline ends a change that waits.
type Decline struct {
	Reason string `json:"reason" minLength:"1" maxLength:"500"`
}
