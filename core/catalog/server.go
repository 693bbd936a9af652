// Package catalog describes what database servers hold, in one vocabulary for
// all engines: the server as registered, its identity, its databases and what
// can be chosen for a new one. It is plain data: reading it is the engines' job.
package catalog

import (
	"time"

	"example.com/genarch/core/naming"
)

// Engine names a kind of database server.
type Engine string

// The engines Genarch knows.
const (
	PostgreSQL Engine = "postgresql"
	MariaDB    Engine = "mariadb"
)

// Environment says how careful Genarch is with a server.
type Environment string

// The environments, the most careful first.
const (
	Production  Environment = "production"
	Staging     Environment = "staging"
	Development Environment = "development"
)

// Environments lists them in order of care.
var Environments = []Environment{Production, Staging, Development}

// TLSMode says how a connection to a server is protected.
type TLSMode string

// The modes. Verified checks the certificate against a CA file and the name.
const (
	TLSOff      TLSMode = "off"
	TLSRequired TLSMode = "required"
	TLSVerified TLSMode = "verified"
)

// Server is a database server as registered with Genarch. It never holds the
// admin secret.
type Server struct {
	ID          uint64
	Name        string
	Engine      Engine
	Host        string
	Port        int
	Admin       string // login name
	Database    string // PostgreSQL: where Genarch connects to; "" is postgres
	Environment Environment
	Labels      map[string]string
	TLS         TLSMode
	CA          string // PEM text, for TLSVerified
	NameRule    naming.Rule
	// Identity is what answered when the server was registered or last accepted.
	Identity Identity
	Version  int // of the record, for compare-and-set
	Created  time.Time
	Updated  time.Time
}

// Instance is what a running server says of itself.
type Instance struct {
	Engine   Engine
	Version  string // as a person writes it, for example "15.18"
	Number   int    // comparable: 150018, 101119
	Identity Identity
	// ReadOnly holds why nothing can be altered there (a standby, read_only);
	// empty when it can.
	ReadOnly string
	Started  time.Time // zero when the engine does not tell
	Sessions Headroom
	Login    Login
	// Encoding and Collation are the defaults of a new database.
	Encoding  string
	Collation string
	TLS       bool // this connection is encrypted
	Read      time.Time
}

// Headroom is how many sessions are open and how many are allowed.
type Headroom struct{ Open, Allowed int }

// Login is what Genarch's own login may do on a server.
type Login struct {
	Name      string
	Superuser bool
	Abilities []Ability
}

// Ability is one thing that Genarch's login may or may not do on a server.
type Ability struct {
	Code    string // stable: create_database, see_sessions, …
	Title   string
	Allowed bool
	// Remedy is the statement that would allow it; empty when allowed.
	Remedy string
}

// May reports whether the login has the ability with this code.
func (l Login) May(code string) bool {
	for _, a := range l.Abilities {
		if a.Code == code {
			return a.Allowed
		}
	}
	return false
}

// Remedy returns the statement that would grant the ability.
func (l Login) Remedy(code string) string {
	for _, a := range l.Abilities {
		if a.Code == code {
			return a.Remedy
		}
	}
	return ""
}
