// Package catalog describes what database servers hold, in one vocabulary for
// all engines: the server as registered, its identity, its databases and what
// can be chosen for a new one. It is plain data: reading it is the engines' job.
package catalog

import (
	"net/netip"
	"strings"
	"time"

	"example.com/genarch/core/naming"
)

// Engine names a kind of database server: the ID of an engine's description.
type Engine string

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

// The modes. Verified checks the certificate against an authority (a CA file, or
// those that the system trusts) and the name. Required takes any certificate at
// first, and from then on only one of the same key.
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
	Environment Environment
	Labels      map[string]string
	TLS         TLSMode
	CA          string // PEM text, for TLSVerified; "" takes the system's authorities
	// Options are the engine's own, by the names that its description has for a
	// registration.
	Options Values
	// Clients is where clients find it, as HOST or HOST:PORT, the one to be used first: a
	// pooler, or a name that outlives the machine. None: the address that Genarch uses.
	Clients  []string
	NameRule naming.Rule
	Keeping  Keeping
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
	// Unneeded: Genarch's work does without it, and the server is safer so.
	Unneeded bool
	// Remedy is the statement that would allow it, or take away what is not needed; empty when it
	// is as it should be.
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

// MarkTLSKey is the mark of an identity that holds the public key of the server's
// certificate, where it is known by its key and not by an authority.
const MarkTLSKey = "tls_key"

// OnSocket reports whether the host is the path of a unix socket or of its
// folder.
func (s Server) OnSocket() bool { return strings.HasPrefix(s.Host, "/") }

// OnThisMachine reports whether the host is this machine by its own word.
func (s Server) OnThisMachine() bool {
	ip, err := netip.ParseAddr(s.Host)
	return s.Host == "localhost" || s.OnSocket() || err == nil && ip.IsLoopback()
}

// Cautions says what of the registration leaves a way for somebody in between, or
// in the server's place.
func (s Server) Cautions() []string {
	var out []string
	key := s.Identity.Marks[MarkTLSKey]
	if s.TLS == TLSOff && !s.OnThisMachine() {
		out = append(out, "TLS is off: whoever is between Genarch and "+s.Name+
			" reads and can alter everything that passes")
	}
	switch {
	case s.TLS == TLSRequired && key != "":
		out = append(out, "the certificate of "+s.Name+
			" is known by its key alone, as it was when it was registered: compare it on the server ("+key+
			"), or have it verified")
	case s.TLS == TLSRequired && s.Identity.Known():
		out = append(out, "the certificate of "+s.Name+" is neither verified nor known by its key")
	}
	return out
}
