package change

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"example.com/genarch/core/access"
	"example.com/genarch/core/catalog"
	"example.com/genarch/core/naming"
)

// PasswordSource says where the password of an account comes from.
type PasswordSource string

// The sources. The password itself is never part of an intent.
const (
	// Generated: Genarch makes one of randomness.
	Generated PasswordSource = "generated"
	// Given: the operator chose it.
	Given PasswordSource = "given"
	// NoPassword: nobody signs in with one.
	NoPassword PasswordSource = "none"
)

// AccountSpec is what is asked for of an account or role. Empty and nil fields
// were not asked for.
type AccountSpec struct {
	Name string `json:"name"`
	// Host is where it comes from, on engines where that is part of an account.
	Host string `json:"host,omitempty"`
	// Database is the one that it lies in, on engines where accounts do.
	Database string `json:"database,omitempty"`
	// Role: a group without login.
	Role        bool `json:"role,omitempty"`
	IfNotExists bool `json:"if_not_exists,omitempty"`
	IfExists    bool `json:"if_exists,omitempty"`
	// NewName and NewHost are for RenameAccount.
	NewName string `json:"new_name,omitempty"`
	NewHost string `json:"new_host,omitempty"`
	// KeepDays is how long SetAsideAccount keeps it; 0 leaves it to the environment.
	KeepDays int            `json:"keep_days,omitempty"`
	Password PasswordSource `json:"password,omitempty"`
	// Bits is the estimated strength of a given password.
	Bits float64 `json:"bits,omitempty"`
	// Options are what is asked for of the engine's own fields, by their names.
	Options catalog.Values `json:"options,omitempty"`
}

// Principal is whom the spec is about.
func (a AccountSpec) Principal() catalog.Principal {
	return catalog.Principal{Name: a.Name, Host: a.Host, Database: a.Database, Role: a.Role}
}

func (a AccountSpec) check(k Kind) error {
	if err := checkKeep(a.KeepDays); err != nil {
		return err
	}
	switch {
	case k == RenameAccount && a.NewName == "" && a.NewHost == "":
		return errors.New("account.rename needs a new name or a new host")
	case k == SetPassword && a.Password != Generated && a.Password != Given:
		return errors.New("account.password needs a password, generated or given")
	case k == AlterAccount && len(a.Options) == 0:
		return errors.New("account.alter needs something to alter: a limit, an expiry, a lock, a comment")
	case k == CreateAccount && a.Role && (a.Password == Generated || a.Password == Given):
		return errors.New("a role has no password: nobody signs in as it")
	}
	return nil
}

// MemberSpec asks for a membership to be given or taken.
type MemberSpec struct {
	Role string `json:"role"`
	// To is the member.
	To catalog.Principal `json:"to"`
	// Admin: the member may give the role on.
	Admin bool `json:"admin,omitempty"`
	// Options are what is asked for of the engine's own fields, by their names.
	Options catalog.Values `json:"options,omitempty"`
}

// GrantSpec asks for privileges on one database, or on something in it, to be
// given or taken.
type GrantSpec struct {
	Database string            `json:"database"`
	To       catalog.Principal `json:"to"`
	// Bundle to give; when taking, the bundle that is to remain.
	Bundle access.Bundle `json:"bundle,omitempty"`
	// Privileges single out what is given or taken, on On.
	Privileges []string       `json:"privileges,omitempty"`
	On         catalog.Object `json:"on"`
	// GrantOption: with the right to give them on.
	GrantOption bool `json:"grant_option,omitempty"`
	// Options are what is asked for of the engine's own fields, by their names.
	Options catalog.Values `json:"options,omitempty"`
}

func (g GrantSpec) check(k Kind) error {
	if g.Bundle != "" && !slices.Contains(access.Bundles, g.Bundle) {
		return fmt.Errorf("there is no bundle %q; there are read, write, build and own", g.Bundle)
	}
	if g.Bundle != "" && len(g.Privileges) > 0 {
		return errors.New("give either a bundle or single privileges")
	}
	if g.On.Database != "" && g.On.Database != g.Database {
		return errors.New("the object is in another database than the grant")
	}
	if len(g.Privileges) == 0 && !plain(g.On) {
		return errors.New("an object below the database goes with single privileges: a bundle, or everything, is of the whole database")
	}
	if k == GrantPrivilege && g.Bundle == "" && len(g.Privileges) == 0 {
		return errors.New("privilege.grant needs a bundle or privileges")
	}
	return nil
}

// Object is what single privileges are about: the database when nothing else is named.
func (g GrantSpec) Object() catalog.Object {
	o := g.On
	o.Database = g.Database
	if o.Scope == "" {
		o.Scope = catalog.ScopeDatabase
	}
	return o
}

// TeamSpec asks for what a team needs on a new database: a role that owns it
// and cannot sign in, an account for the application, an account that reads.
type TeamSpec struct {
	Name string `json:"name"`
	// Host is where the accounts come from (MariaDB); empty: from everywhere.
	Host string `json:"host,omitempty"`
}

// Owner, App and Reader are the names that a team's role and accounts get.
func (t TeamSpec) Owner() catalog.Principal { return catalog.Principal{Name: t.Name + "_owner"} }

// App is the account that writes.
func (t TeamSpec) App() catalog.Principal {
	return catalog.Principal{Name: t.Name + "_app", Host: t.Host}
}

// Reader is the account that reads.
func (t TeamSpec) Reader() catalog.Principal {
	return catalog.Principal{Name: t.Name + "_read", Host: t.Host}
}

// SecretOf is one password that a change needs.
type SecretOf struct {
	Account catalog.Principal
	// Given: the operator chose it, and so has no need to be shown it.
	Given bool
}

// Secrets lists the passwords that the intent needs.
func (in Intent) Secrets() []SecretOf {
	var out []SecretOf
	switch in.Kind {
	case CreateAccount, SetPassword:
		if a := in.Account; a != nil && (a.Password == Generated || a.Password == Given) {
			out = append(out, SecretOf{a.Principal(), a.Password == Given})
		}
	case CreateDatabase:
		if d := in.Database; d != nil && d.Team != nil {
			t := d.Team
			for _, p := range []catalog.Principal{t.App(), t.Reader()} {
				out = append(out, SecretOf{Account: p})
			}
		}
	}
	return out
}

// CheckTeam says why a name cannot be a team's: its role and accounts are made
// of it. lim are the engine's limits for the names of accounts.
func (t TeamSpec) CheckTeam(rule naming.Rule, lim naming.Limits) []naming.Problem {
	rule.Suffix, rule.MaxLength = "", 0
	problems := rule.Check(t.Name, lim)
	if len(problems) == 0 {
		problems = rule.Check(t.Owner().Name, lim)
	}
	for i := range problems {
		problems[i].Text = strings.Replace(problems[i].Text, "the name", "the team's name", 1)
	}
	return problems
}
