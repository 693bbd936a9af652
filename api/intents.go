package api

import (
	"errors"
	"fmt"

	"example.com/genarch/api/wire"
	"example.com/genarch/core/access"
	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/policy"
	"example.com/genarch/core/secret"
)

// intentOf reads what is asked for. Passwords are taken out of it: they come
// back beside it, and only their strength stays in the intent.
func intentOf(in wire.Intent) (change.Intent, map[string]secret.Text, error) {
	out := change.Intent{Kind: change.Kind(in.Kind), Server: in.Server}
	if d := in.Database; d != nil {
		options, err := optionsOf("database", d.Options)
		if err != nil {
			return out, nil, err
		}
		out.Database = &change.DatabaseSpec{Name: d.Name, IfNotExists: d.IfNotExists, IfExists: d.IfExists,
			NewName: d.NewName, KeepDays: d.KeepDays, Script: d.Script, Options: options}
		out.Database.Blueprint = (*change.Blueprint)(d.Blueprint)
		if d.Team != nil {
			out.Database.Team = &change.TeamSpec{Name: d.Team.Name, Host: d.Team.Host}
		}
	}
	var err error
	if c := in.Clearing; c != nil {
		out.Clearing = &change.ClearingSpec{Grace: c.Grace, WhenEmpty: c.WhenEmpty, AcceptLoss: c.AcceptLoss}
		if out.Clearing.Options, err = optionsOf("clearing", c.Options); err != nil {
			return out, nil, err
		}
	}
	out.Holding = (*change.HoldingSpec)(in.Holding)
	if out.Sessions, err = sessionsOf(in.Sessions); err != nil {
		return out, nil, err
	}
	given, err := accountOf(in, &out)
	if err != nil {
		return out, nil, err
	}
	if m := in.Member; m != nil {
		out.Member = &change.MemberSpec{Role: m.Role, To: catalog.Principal(m.To), Admin: m.Admin}
		if out.Member.Options, err = optionsOf("member", m.Options); err != nil {
			return out, nil, err
		}
	}
	if g := in.Grant; g != nil {
		out.Grant = &change.GrantSpec{Database: g.Database, To: catalog.Principal(g.To),
			Bundle: access.Bundle(g.Bundle), Privileges: g.Privileges,
			On: objectOf(g.On), GrantOption: g.GrantOption}
		if out.Grant.Options, err = optionsOf("grant", g.Options); err != nil {
			return out, nil, err
		}
	}
	if out.Kind == change.MarkServer {
		_, hash := newSecret()
		out.Mark = fmt.Sprintf("%s-%s-%s-%s-%s", hash[:8], hash[8:12], hash[12:16], hash[16:20], hash[20:32])
	}
	return out, given, nil
}

// optionsOf reads the options of a part, whose values can be of any type in JSON.
func optionsOf(part string, given map[string]any) (catalog.Values, error) {
	v, err := catalog.ValuesOf(given)
	if err != nil {
		return nil, errors.Join(change.ErrIntent, fmt.Errorf("%s.options.%w", part, err))
	}
	return v, nil
}

func objectOf(o wire.Object) catalog.Object {
	return catalog.Object{Scope: catalog.Scope(o.Scope), Database: o.Database, Schema: o.Schema, Name: o.Name,
		Column: o.Column}
}

// accountOf reads the account of an intent, and its password.
func accountOf(in wire.Intent, out *change.Intent) (map[string]secret.Text, error) {
	a := in.Account
	if a == nil {
		return nil, nil
	}
	spec := change.AccountSpec{Name: a.Name, Host: a.Host, Database: a.Database, Role: a.Role,
		IfNotExists: a.IfNotExists, IfExists: a.IfExists, KeepDays: a.KeepDays, NewName: a.NewName,
		NewHost: a.NewHost}
	var err error
	if spec.Options, err = optionsOf("account", a.Options); err != nil {
		return nil, err
	}
	out.Account = &spec
	if out.Kind != change.CreateAccount && out.Kind != change.SetPassword || a.Role {
		if a.Password != "" || a.PasswordFrom != "" && a.PasswordFrom != string(change.NoPassword) {
			return nil, errors.Join(change.ErrIntent, fmt.Errorf("%s has no password here", out.Kind))
		}
		return nil, nil
	}
	spec.Password = change.PasswordSource(a.PasswordFrom)
	if a.PasswordFrom == "" {
		spec.Password = change.Generated
		if a.Password != "" {
			spec.Password = change.Given
		}
	}
	if spec.Password != change.Given {
		if a.Password != "" {
			return nil, errors.Join(change.ErrIntent, errors.New("a password was given, but not asked to be used"))
		}
		return nil, nil
	}
	if err := policy.CheckGiven(a.Password); err != nil {
		return nil, errors.Join(change.ErrIntent, err)
	}
	spec.Bits = strength(a.Password, a.Name)
	return map[string]secret.Text{a.Name: secret.New(a.Password)}, nil
}

// renderIntent is what was asked for, as it can be asked for again; passwords are no
// part of an intent.
func renderIntent(in change.Intent) wire.Intent {
	out := wire.Intent{Kind: string(in.Kind), Server: in.Server}
	if d := in.Database; d != nil {
		out.Database = &wire.DatabaseSpec{Name: d.Name, IfNotExists: d.IfNotExists, IfExists: d.IfExists,
			NewName: d.NewName, KeepDays: d.KeepDays, Script: d.Script, Team: (*wire.TeamSpec)(d.Team),
			Blueprint: (*wire.BlueprintUse)(d.Blueprint), Options: d.Options}
	}
	out.Holding = (*wire.HoldingSpec)(in.Holding)
	if c := in.Clearing; c != nil {
		out.Clearing = &wire.ClearingSpec{Grace: c.Grace, WhenEmpty: c.WhenEmpty, AcceptLoss: c.AcceptLoss,
			Options: c.Options}
	}
	if s := in.Sessions; s != nil {
		out.Sessions = &wire.SessionsSpec{Database: s.Database, Account: s.Account, Application: s.Application,
			Client: s.Client, Class: string(s.Class), IdleLonger: s.IdleLonger, Older: s.Older,
			StatementOnly: s.StatementOnly}
		for _, id := range s.IDs {
			out.Sessions.IDs = append(out.Sessions.IDs, id.String())
		}
	}
	if a := in.Account; a != nil {
		out.Account = &wire.AccountSpec{Name: a.Name, Database: a.Database, Host: a.Host, Role: a.Role,
			IfNotExists: a.IfNotExists, IfExists: a.IfExists, KeepDays: a.KeepDays, NewName: a.NewName,
			NewHost: a.NewHost, PasswordFrom: string(a.Password), Options: a.Options}
	}
	if m := in.Member; m != nil {
		out.Member = &wire.MemberSpec{Role: m.Role, To: wire.Principal(m.To), Admin: m.Admin, Options: m.Options}
	}
	if g := in.Grant; g != nil {
		out.Grant = &wire.GrantSpec{Database: g.Database, To: wire.Principal(g.To), Bundle: string(g.Bundle),
			Privileges: g.Privileges, On: renderObject(g.On), GrantOption: g.GrantOption, Options: g.Options}
	}
	return out
}
