package naming

import (
	"errors"
	"fmt"
	"strings"
)

// Kind says what an [Address] points at.
type Kind string

// The kinds of things that have an address.
const (
	KindServer   Kind = "server"
	KindDatabase Kind = "database"
	KindAccount  Kind = "account"
	KindRole     Kind = "role"
	KindSession  Kind = "session"
	// KindHolding is a database that was set aside, by the name under which it waits.
	KindHolding Kind = "holding"
)

// prefixes are the words that may stand before a colon in the second part of
// an address. A database whose own name begins with one of them is written
// with the prefix "database:".
var prefixes = []Kind{KindDatabase, KindAccount, KindRole, KindSession, KindHolding}

// ErrAddress is what every failure of [ParseAddress] wraps.
var ErrAddress = errors.New("not an address")

// Address names one thing on one server: "harbour", "harbour/tickets_prod",
// "quay/account:app@10.0.0.%", "harbour/role:crew", "harbour/session:4711",
// "harbour/holding:genarch_held_16384_tickets_prod"; and, where accounts lie in databases,
// "harbour/tickets_prod/account:app".
// It is written the same way in the CLI, the API, the journal and the console.
type Address struct {
	Server string
	Kind   Kind
	// Name is the database, account, role, session or holding; empty for a server.
	Name string
	// Host is the host part of an account on engines that have one, Database what an
	// account or role lies in where it is not the whole server's.
	Host, Database string
}

// ServerAddress is the address of a server itself.
func ServerAddress(server string) Address { return Address{Server: server, Kind: KindServer} }

// DatabaseAddress is the address of a database.
func DatabaseAddress(server, name string) Address {
	return Address{Server: server, Kind: KindDatabase, Name: name}
}

// ParseAddress reads an address. Everything behind the first slash belongs to
// the name, so a name may hold slashes and blanks.
func ParseAddress(text string) (Address, error) {
	server, rest, deeper := strings.Cut(text, "/")
	if err := CheckServerName(server); err != nil {
		return Address{}, fmt.Errorf("%w: %q: %w", ErrAddress, text, err)
	}
	if !deeper {
		return ServerAddress(server), nil
	}
	a := Address{Server: server, Kind: KindDatabase, Name: rest}
	for _, k := range prefixes {
		if name, ok := strings.CutPrefix(rest, string(k)+":"); ok {
			a.Kind, a.Name = k, name
			break
		}
	}
	if a.Kind == KindDatabase && a.Name == rest { // without its prefix
		if database, inside, deeper := strings.Cut(rest, "/"); deeper {
			for _, k := range []Kind{KindAccount, KindRole} {
				if name, ok := strings.CutPrefix(inside, string(k)+":"); ok && name != "" && database != "" {
					return Address{Server: server, Kind: k, Name: name, Database: unescaped.Replace(database)}, nil
				}
			}
		}
	}
	if a.Kind == KindAccount {
		// A host cannot hold an at sign, a name can: split at the last one.
		if at := strings.LastIndexByte(a.Name, '@'); at >= 0 {
			a.Name, a.Host = a.Name[:at], a.Name[at+1:]
		}
	}
	if a.Name == "" && a.Kind != KindAccount {
		return Address{}, fmt.Errorf("%w: %q names no %s after the slash", ErrAddress, text, a.Kind)
	}
	return a, nil
}

// A database that something lies in is written without slashes.
var (
	escaped   = strings.NewReplacer("%", "%25", "/", "%2F")
	unescaped = strings.NewReplacer("%25", "%", "%2F", "/")
)

// prefixed reports whether the name of a database has to be written with its prefix,
// so that it is not read as something else.
func prefixed(name string) bool {
	_, inside, _ := strings.Cut(name, "/")
	for _, k := range prefixes {
		if strings.HasPrefix(name, string(k)+":") || strings.HasPrefix(inside, string(k)+":") {
			return true
		}
	}
	return false
}

// String writes the address so that ParseAddress reads the same one back.
func (a Address) String() string {
	switch a.Kind {
	case KindServer, "":
		return a.Server
	case KindDatabase:
		if prefixed(a.Name) {
			return a.Server + "/database:" + a.Name
		}
		return a.Server + "/" + a.Name
	case KindAccount, KindRole:
		if a.Database != "" {
			return a.Server + "/" + escaped.Replace(a.Database) + "/" + string(a.Kind) + ":" + a.Name
		}
		if a.Kind == KindAccount && (a.Host != "" || strings.Contains(a.Name, "@") || a.Name == "") {
			return a.Server + "/account:" + a.Name + "@" + a.Host
		}
	}
	return a.Server + "/" + string(a.Kind) + ":" + a.Name
}

// maxServerName is the longest name of a server, in bytes. It is Genarch's own
// name for it, so it can be short enough to stand in every line.
const maxServerName = 40

// CheckServerName says why a text cannot be the name of a server, or nil. The
// rule: lower-case letters, digits, hyphen and underscore, a letter first, at
// most 40 bytes.
func CheckServerName(name string) error {
	switch {
	case name == "":
		return errors.New("a server's name is missing")
	case len(name) > maxServerName:
		return fmt.Errorf("a server's name has at most %d characters, this one has %d", maxServerName, len(name))
	case name[0] < 'a' || name[0] > 'z':
		return errors.New("a server's name starts with a lower-case letter")
	}
	for _, r := range name {
		if (r < 'a' || r > 'z') && (r < '0' || r > '9') && r != '-' && r != '_' {
			return fmt.Errorf("a server's name has lower-case letters, digits, - and _ only, not %q", r)
		}
	}
	return nil
}
