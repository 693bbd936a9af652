// Package wire holds the JSON types of the HTTP API, without behaviour. The API
// renders them, the client and the CLI read them, and the OpenAPI document is
// made from them.
package wire

import "time"

// NameRule is what a server asks of the names of new databases.
type NameRule struct {
	Free      bool   `json:"free" doc:"Any name goes that the engine takes. When false, names have lower-case letters, digits and _ and start with a letter."`
	Suffix    string `json:"suffix" maxLength:"20" doc:"Every name must end in this, for example _prod; empty for none."`
	MaxLength int    `json:"max_length" minimum:"0" maximum:"64" doc:"The longest name; 0 leaves it to the engine."`
}

// Keeping is what is done with what was set aside on a server.
type Keeping struct {
	Days    int  `json:"days" minimum:"0" maximum:"3650" doc:"Kept for certain; 0: 30, 7 or 1 by environment."`
	Discard bool `json:"discard" doc:"Then Genarch discards it, but for what is held or was opened."`
}

// Identity marks an instance, whatever its address.
type Identity struct {
	Key   string            `json:"key"`
	Marks map[string]string `json:"marks"`
}

// Server is a registered server. It never holds the admin secret.
type Server struct {
	Name        string            `json:"name"`
	Engine      string            `json:"engine"`
	Host        string            `json:"host"`
	Port        int               `json:"port"`
	Admin       string            `json:"admin" doc:"The login that Genarch uses there."`
	Options     map[string]any    `json:"options" doc:"The engine's own, as GET /engines has them for a registration."`
	Clients     []string          `json:"client_addresses" nullable:"false" doc:"Where clients find it, HOST or HOST:PORT, the one to be used first. None: the address that Genarch uses."`
	Environment string            `json:"environment" enum:"production,staging,development"`
	Labels      map[string]string `json:"labels"`
	TLS         string            `json:"tls" enum:"off,required,verified"`
	Cautions    []string          `json:"cautions,omitempty" nullable:"false" doc:"What leaves a way for somebody in between, or in the server's place."`
	NameRule    NameRule          `json:"name_rule"`
	Keeping     Keeping           `json:"keeping" doc:"What is done with what was set aside there."`
	Identity    Identity          `json:"identity" doc:"The instance by which the server is known."`
	Version     int               `json:"version" doc:"Of the registration; an edit names it, so that nobody's edit is lost."`
	Created     time.Time         `json:"created"`
	Updated     time.Time         `json:"updated"`
	Status      *Status           `json:"status,omitempty" doc:"What was read from the server just now, if that was asked for."`
}

// ServerInput registers a server.
type ServerInput struct {
	Name        string            `json:"name" maxLength:"40"`
	Engine      string            `json:"engine"`
	Host        string            `json:"host" maxLength:"255"`
	Port        int               `json:"port,omitempty" minimum:"0" maximum:"65535" doc:"0 or absent: the engine's usual one."`
	Admin       string            `json:"admin" maxLength:"128"`
	Secret      string            `json:"secret" maxLength:"1024" doc:"The password of the admin login. It is kept encrypted and never shown."`
	Options     map[string]any    `json:"options,omitempty" doc:"The engine's own, as GET /engines has them for a registration."`
	Clients     []string          `json:"client_addresses,omitempty" nullable:"false" maxItems:"10" doc:"Where clients find it, HOST or HOST:PORT, the one to be used first."`
	Environment string            `json:"environment" enum:"production,staging,development"`
	Labels      map[string]string `json:"labels,omitempty"`
	TLS         string            `json:"tls,omitempty" enum:"off,required,verified" doc:"Absent: off on this machine, else verified."`
	CA          string            `json:"ca,omitempty" maxLength:"1048576" doc:"PEM text, for verified; absent: the authorities that the system trusts."`
	ServerKey   string            `json:"server_key,omitempty" maxLength:"100" doc:"For required: the key of the server's certificate, sha256: and base64."`
	NameRule    *NameRule         `json:"name_rule,omitempty"`
	Keeping     *Keeping          `json:"keeping,omitempty"`
}

// ServerPatch alters a registration: what is absent stays as it is.
type ServerPatch struct {
	Version     int                `json:"version" doc:"The version that was read."`
	Host        *string            `json:"host,omitempty" maxLength:"255" doc:"Host, port, login, options and TLS need the secret beside them."`
	Port        *int               `json:"port,omitempty" minimum:"1" maximum:"65535"`
	Admin       *string            `json:"admin,omitempty" maxLength:"128"`
	Secret      *string            `json:"secret,omitempty" maxLength:"1024"`
	Options     *map[string]any    `json:"options,omitempty" doc:"Those that are to be another; null takes one away."`
	Clients     *[]string          `json:"client_addresses,omitempty" maxItems:"10"`
	Environment *string            `json:"environment,omitempty" enum:"production,staging,development"`
	Labels      *map[string]string `json:"labels,omitempty"`
	TLS         *string            `json:"tls,omitempty" enum:"off,required,verified"`
	CA          *string            `json:"ca,omitempty" maxLength:"1048576"`
	ServerKey   *string            `json:"server_key,omitempty" maxLength:"100"`
	NameRule    *NameRule          `json:"name_rule,omitempty"`
	Keeping     *Keeping           `json:"keeping,omitempty"`
}

// Accept names the instance that is to be the known one from now on.
type Accept struct {
	Key string `json:"key" doc:"The identity key that was seen and is meant."`
}

// Ability is one thing that Genarch's login may or may not do on a server.
type Ability struct {
	Code     string `json:"code"`
	Title    string `json:"title"`
	Allowed  bool   `json:"allowed"`
	Unneeded bool   `json:"unneeded,omitempty" doc:"Genarch's work does without it, and the server is safer so."`
	Remedy   string `json:"remedy,omitempty" doc:"The statement that would allow it, or take away what is not needed."`
}

// Status is what a server said just now, or why it said nothing.
type Status struct {
	Reachable bool      `json:"reachable"`
	Trouble   *Problem  `json:"trouble,omitempty" doc:"Why it could not be read, or must not be touched."`
	Version   string    `json:"version,omitempty"`
	Identity  *Identity `json:"identity,omitempty" doc:"The instance that answered."`
	ReadOnly  string    `json:"read_only,omitempty" doc:"Why nothing can be altered there; absent when it can."`
	Started   time.Time `json:"started,omitzero"`
	Sessions  int       `json:"sessions"`
	Allowed   int       `json:"sessions_allowed"`
	Databases int       `json:"databases" doc:"Without the system's own."`
	Size      int64     `json:"size" doc:"Bytes of all databases whose size is known, as of a few seconds ago."`
	SetAside  int       `json:"set_aside,omitempty" doc:"Databases that were set aside and wait."`
	Due       int       `json:"set_aside_due,omitempty" doc:"How much of what waits is kept no longer for certain."`
	Encoding  string    `json:"encoding,omitempty"`
	Collation string    `json:"collation,omitempty"`
	Encrypted bool      `json:"encrypted" doc:"Genarch's own connection is protected by TLS."`
	Login     string    `json:"login,omitempty"`
	Abilities []Ability `json:"abilities,omitempty" nullable:"false"`
	Read      time.Time `json:"read"`
}

// Check is a thorough look at a registered server.
type Check struct {
	Server Server `json:"server"`
	Status Status `json:"status"`
}
