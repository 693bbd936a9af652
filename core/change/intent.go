// Package change holds the life of an alteration: what a person asks for
// (intent), what it would do (brief: settings, steps, findings), and the state
// machine by which it is carried out, undone, or stopped. It is pure: it acts
// on nothing and has no clock; the runner feeds it what happened.
package change

import (
	"encoding/json"
	"errors"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/naming"
)

// Kind says what an intent asks for.
type Kind string

// The kinds of intents.
const (
	// CreateDatabase makes a database.
	CreateDatabase Kind = "database.create"
	// AlterDatabase sets what can be set of one that is there.
	AlterDatabase Kind = "database.alter"
	// DropDatabase removes one for good, once nobody is connected to it.
	DropDatabase Kind = "database.drop"
	// RenameDatabase gives it another name, once nobody is connected to it.
	RenameDatabase Kind = "database.rename"
	// SetAside puts one out of the way, whole, so that it can be brought back.
	SetAside Kind = "database.set_aside"
	// FillDatabase runs a script in one.
	FillDatabase Kind = "database.fill"
	// BringBack makes a database or an account that was set aside what it was, Discard
	// drops it for good, and KeepHolding says how long it is kept.
	BringBack   Kind = "holding.bring_back"
	Discard     Kind = "holding.discard"
	KeepHolding Kind = "holding.keep"
	// EndSessions ends sessions, or only what they run just now.
	EndSessions Kind = "session.end"
	// MarkServer puts a row on a server by which it is known for certain,
	// where the engine has no such mark of its own.
	MarkServer Kind = "server.mark"
	// CreateAccount makes an account, or a role (a group without login).
	CreateAccount Kind = "account.create"
	// AlterAccount sets its limits, expiry, lock, default role or comment.
	AlterAccount Kind = "account.alter"
	// RenameAccount gives it another name.
	RenameAccount Kind = "account.rename"
	// SetPassword gives it another password.
	SetPassword Kind = "account.password"
	// DropAccount removes it.
	DropAccount Kind = "account.drop"
	// SetAsideAccount puts it out of the way with all that it has, so that it can be brought back.
	SetAsideAccount Kind = "account.set_aside"
	// GrantRole makes an account or role a member of a role, RevokeRole ends that.
	GrantRole  Kind = "role.grant"
	RevokeRole Kind = "role.revoke"
	// GrantPrivilege gives a bundle or single privileges, RevokePrivilege takes them.
	GrantPrivilege  Kind = "privilege.grant"
	RevokePrivilege Kind = "privilege.revoke"
)

// ScriptHash is the setting of a brief that says which script would run, by its hash.
const ScriptHash = "sha256"

// ErrIntent is what every malformed intent's error wraps.
var ErrIntent = errors.New("the request cannot be understood")

// Intent is what a person asks for, exactly as asked.
type Intent struct {
	Kind   Kind   `json:"kind"`
	Server string `json:"server"`
	// Database is set for the kinds that begin with database.
	Database *DatabaseSpec `json:"database,omitempty"`
	// Clearing says how to go about sessions that are in the way: of a database
	// that is to go or to move, of an account that is dropped. When making a
	// database, it lets the template be cleared; with a lock, it ends the
	// sessions of the account. Nil leaves it to the defaults.
	Clearing *ClearingSpec `json:"clearing,omitempty"`
	// Holding is set for the kinds that begin with holding.
	Holding *HoldingSpec `json:"holding,omitempty"`
	// Sessions is set for EndSessions.
	Sessions *SessionsSpec `json:"sessions,omitempty"`
	// Account is set for the kinds that begin with account.
	Account *AccountSpec `json:"account,omitempty"`
	// Member is set for GrantRole and RevokeRole.
	Member *MemberSpec `json:"member,omitempty"`
	// Grant is set for GrantPrivilege and RevokePrivilege.
	Grant *GrantSpec `json:"grant,omitempty"`
	// Mark is set for MarkServer: the random identifier to be written.
	Mark string `json:"mark,omitempty"`
}

// DatabaseSpec is what is asked for of one database.
type DatabaseSpec struct {
	Name        string `json:"name"`
	IfNotExists bool   `json:"if_not_exists,omitempty"`
	// IfExists: dropping one that is not there is done already.
	IfExists bool `json:"if_exists,omitempty"`
	// NewName is for RenameDatabase.
	NewName string `json:"new_name,omitempty"`
	// Script is the one that FillDatabase runs, by its number among those taken in.
	Script string `json:"script,omitempty"`
	// KeepDays is how long SetAside keeps it; 0 leaves it to the environment.
	KeepDays int `json:"keep_days,omitempty"`
	// Team makes, with the database, what a team needs to use it.
	Team *TeamSpec `json:"team,omitempty"`
	// Blueprint is the recipe that this was made from; nil: none.
	Blueprint *Blueprint `json:"blueprint,omitempty"`
	// Options are what is asked for of the engine's own fields, by their names. What
	// is absent was not asked for.
	Options catalog.Values `json:"options,omitempty"`
}

// Blueprint says by which version of a recipe a database is made, and with which values.
type Blueprint struct {
	Name    string            `json:"name"`
	Version int               `json:"version"`
	With    map[string]string `json:"with,omitempty"`
}

// Check says what makes the intent malformed, before any server is asked.
func (in Intent) Check() error {
	if err := naming.CheckServerName(in.Server); err != nil {
		return errors.Join(ErrIntent, err)
	}
	err := in.shape()
	if err == nil {
		switch {
		case in.Database != nil:
			err = in.Database.check(in.Kind)
		case in.Holding != nil:
			err = in.Holding.check(in.Kind)
		case in.Sessions != nil:
			err = in.Sessions.check()
		case in.Account != nil:
			err = in.Account.check(in.Kind)
		case in.Grant != nil:
			err = in.Grant.check(in.Kind)
		}
	}
	if err == nil && in.Clearing != nil {
		err = in.Clearing.check()
	}
	if err != nil {
		return errors.Join(ErrIntent, err)
	}
	return nil
}

// Same reports whether two intents ask for the same; a mark is made anew for
// each request, so it does not count.
func (in Intent) Same(other Intent) bool {
	in.Mark, other.Mark = "", ""
	x, errX := json.Marshal(in)
	y, errY := json.Marshal(other)
	return errX == nil && errY == nil && string(x) == string(y)
}

// Becomes is the address that the target has afterwards, where that is another one.
func (in Intent) Becomes() (naming.Address, bool) {
	switch {
	case in.Kind == RenameDatabase:
		return naming.DatabaseAddress(in.Server, in.Database.NewName), true
	case in.Kind == BringBack && in.Holding.NewName != "" && !in.Holding.Account:
		return naming.DatabaseAddress(in.Server, in.Holding.NewName), true
	}
	return naming.Address{}, false
}

// Target is the address of what the intent is about. Of one that Check refuses it
// is the server.
func (in Intent) Target() naming.Address {
	k, known := kinds[in.Kind]
	if !known || in.shape() != nil {
		return naming.ServerAddress(in.Server)
	}
	return k.target(in)
}

// PrincipalAddress is the address of an account or role.
func PrincipalAddress(server string, p catalog.Principal) naming.Address {
	kind := naming.KindAccount
	if p.Role {
		kind = naming.KindRole
	}
	return naming.Address{Server: server, Kind: kind, Name: p.Name, Host: p.Host, Database: p.Database}
}
