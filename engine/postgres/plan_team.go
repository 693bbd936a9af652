package postgres

import (
	"slices"
	"strings"

	"example.com/genarch/core/access"
	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/naming"
	"example.com/genarch/core/remedy"
	"example.com/genarch/engine"
	"example.com/genarch/engine/planning"
)

// proofTable is made in a new database to try the accounts on, and removed.
const proofTable = "genarch_proof"

// planTeam puts before the database the role that will own it and the accounts
// that will use it. The database is asked for then as it is made for them.
func planTeam(p *planning.Draft) {
	b, snap, t := &p.Brief, p.Snap, *p.In.Database.Team
	planning.Team(b, t, snap, accountLimits)
	if t.Host != "" {
		b.Find(change.Stop, change.OptionUnsupported, "Leave it out.",
			"PostgreSQL roles have no host. Where a role may sign in from is set in the server's pg_hba.conf.")
	}
	if p.Asked.Has("owner") {
		p.About("owner", change.Stop, change.OptionInvalid, "Leave the owner out.",
			"The team gets an owner role of its own, %s.", t.Owner())
	}
	if p.Asked.Has("allow_connections") && !p.Asked.Bool("allow_connections") {
		p.About("allow_connections", change.Stop, change.OptionInvalid, "Let it allow connections.",
			"A team cannot use a database that allows no connections.")
	}
	owner := t.Owner().Name
	b.Steps = append(b.Steps, createRoleStep(change.AccountSpec{Name: owner, Role: true}, ""))
	if login := snap.Instance.Login; !login.Superuser {
		text := "GRANT " + quoteIdent(owner) + " TO " + quoteIdent(login.Name)
		if snap.Instance.Number >= 160000 {
			text += " WITH SET TRUE, INHERIT TRUE"
		}
		b.Steps = append(b.Steps, change.Step{Kind: engine.StepStatement,
			Title: "let Genarch make the database for " + owner, Statement: text,
			Undo: "REVOKE " + quoteIdent(owner) + " FROM " + quoteIdent(login.Name),
			Args: map[string]string{"check": "member", "role": owner, "member": login.Name, "present": "yes"}})
	}
	for _, a := range []catalog.Principal{t.App(), t.Reader()} {
		b.Steps = append(b.Steps, createRoleStep(change.AccountSpec{Name: a.Name, Password: change.Generated}, ""))
	}
	p.Asked = p.Asked.With("owner", owner).With("private", true)
	p.Settle("owner", owner)
	p.Settle("private", true)
}

// planPrivate says what everybody may do on the new database, and takes it away
// where that is asked for.
func planPrivate(p *planning.Draft) []change.Step {
	b, spec, snap := &p.Brief, *p.In.Database, p.Snap
	allow := p.Asked.List("allow")
	if !p.Asked.Bool("private") {
		b.Find(change.Note, change.PublicAccess,
			"Ask for a private one, or for what a team needs.",
			"Every account of the server may connect to the new database and create temporary tables in it: PostgreSQL grants CONNECT and TEMPORARY to PUBLIC.").
			Offer(remedy.Option("options.private", remedy.Yes), remedy.Option("team", ""))
		return nil
	}
	db := "DATABASE " + quoteIdent(spec.Name)
	give := []string{"REVOKE CONNECT, TEMPORARY ON " + db + " FROM PUBLIC"}
	take := []string{"GRANT CONNECT, TEMPORARY ON " + db + " TO PUBLIC"}
	grantees := []string{catalog.Public.Name}
	for _, name := range allow {
		if snap.Access != nil {
			if _, ok := planning.FindAccount(b, role(name), snap, change.AccountAbsent); !ok {
				continue
			}
		}
		give = append(give, "GRANT CONNECT ON "+db+" TO "+quoteIdent(name))
		take = append(take, "REVOKE CONNECT ON "+db+" FROM "+quoteIdent(name))
		grantees = append(grantees, name)
	}
	who := "its owner and superusers"
	if len(allow) > 0 {
		who += ", and " + strings.Join(allow, ", ")
	}
	title := "make it private"
	if t := spec.Team; t != nil {
		who += ", " + t.App().Name + " and " + t.Reader().Name
		title += " to the team"
		fresh := contents(p)
		for _, a := range []struct {
			to     catalog.Principal
			bundle access.Bundle
		}{{t.App(), access.BundleWrite}, {t.Reader(), access.BundleRead}} {
			x := bundleStatements(a.bundle, fresh, a.to, false)
			give, take = append(give, x.give...), append(take, x.take...)
			grantees = append(grantees, a.to.Name)
		}
	}
	b.Set(change.Setting{Name: "access", Title: "Who may connect", Value: "private", Asked: true,
		Decides: who + "; nobody else"})
	slices.Reverse(take)
	step := accessStep(title, spec.Name, give, take, grantees...)
	step.Args["check"], step.Args["database"] = "private", spec.Name
	return []change.Step{step}
}

// contents is what a new database will hold: one schema, public, and nothing
// else, unless it is a copy of a template that holds more.
func contents(p *planning.Draft) catalog.AccessDatabase {
	name := p.In.Database.Name
	d := catalog.AccessDatabase{Name: name, Owner: p.Settled.Text("owner"), Interior: &catalog.ObjectGrants{
		Classes: []catalog.Class{{Object: catalog.Object{Scope: catalog.ScopeSchema, Database: name,
			Schema: "public"}}}}}
	for _, t := range p.Snap.Access.Databases {
		switch {
		case t.Name != p.Asked.Text("template"):
		case t.Interior != nil:
			d.Interior = t.Interior
		default:
			p.Find(change.Caution, change.CatalogueHidden,
				"Grant the bundles again afterwards.",
				"The objects in the template %s cannot be read (%s), so only its schema public is opened to the team.",
				naming.Show(t.Name), t.Why).Offer(remedy.Command("privilege.grant", p.Target))
		}
	}
	return d
}

// teamSettings tells which role and accounts the team gets.
func teamSettings(b *change.Brief, t change.TeamSpec, database string) {
	b.Set(change.Setting{Name: "owner role", Value: t.Owner().Name, Asked: true,
		Decides: "owns the database and what is made as it; nobody signs in as it, who alters tables gets the bundle own"})
	b.Set(change.Setting{Name: "application account", Value: t.App().Name, Asked: true,
		Decides: "bundle write: " + description.BundleDecides(access.BundleWrite)})
	b.Set(change.Setting{Name: "reader account", Value: t.Reader().Name, Asked: true,
		Decides: "bundle read: " + description.BundleDecides(access.BundleRead)})
	b.Find(change.Note, change.PasswordMethod, "",
		"Both accounts get generated passwords, shown once when the change is done. The server gets only their SCRAM-SHA-256 verifiers.")
	b.Find(change.Note, change.GrantEffect, "",
		"Tables that are made as %s (SET ROLE %s) open by themselves to both accounts.", t.Owner().Name,
		naming.Show(t.Owner().Name))
}

// proveStep tries the team's accounts on the new database.
func proveStep(t change.TeamSpec, database string) change.Step {
	app, reader := t.App().Name, t.Reader().Name
	return change.Step{Kind: engine.StepProve, Title: "sign in as both accounts and try what they may and may not do",
		ReadOnly: true, Seconds: 60,
		Args: map[string]string{"accounts": engine.EncodeList([]string{app, reader}), "database": database,
			"owner": t.Owner().Name, "bundles": engine.EncodeList([]string{"write", "read"})}}.NeedsSecrets(app, reader)
}
