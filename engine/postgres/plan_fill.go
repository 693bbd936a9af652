package postgres

import (
	"fmt"
	"slices"

	"example.com/genarch/core/change"
	"example.com/genarch/core/naming"
	"example.com/genarch/core/remedy"
	"example.com/genarch/core/script"
	"example.com/genarch/engine/planning"
)

// The kinds of steps by which a script is run.
const (
	stepFiller  = "fill_account"
	stepFill    = "fill"
	stepUnfill  = "fill_account_gone"
	skipOwners  = "skip_owners"
	skipGrants  = "skip_grants"
	publicNamed = "public"
)

// filling is what planning needs of the database that a script is to run in.
type filling struct {
	// Tables are its tables, views and sequences, with their schemas.
	Tables []relation
	// Of its owner: what it may do beyond the database.
	Superuser, MakesDatabases, MakesRoles, Replicates, PassesRows bool
	// Roles are those of the server that it is a member of and that reach the server's machine.
	Roles []string
	// Others are databases that it owns beside this one.
	Others []string
	// Lendable: Genarch's login may make another role a member of the owner.
	Lendable bool
}

// relation is a table, a view or a sequence.
type relation struct{ Schema, Name string }

// planFill briefs the run of a script: as an account of its own that is a member of the
// owner, acts as it from the beginning, and is dropped afterwards.
func planFill(p *planning.Draft) {
	b, snap := &p.Brief, p.Snap
	details := detailsOf(snap.Details).Filling
	if details == nil {
		details = &filling{}
	}
	has := func(n script.Named) bool {
		schema := n.Schema
		if schema == "" {
			schema = publicNamed
		}
		return slices.Contains(details.Tables, relation{schema, n.Text})
	}
	if !planning.Fill(p, has) {
		return
	}
	d, k := *snap.Target, *snap.Script
	atOnce := planning.FillAtOnce(p, k.Summary)
	if d.Closed {
		b.Find(change.Stop, change.DatabaseClosed, "Let it allow connections.",
			"Nobody can connect to %s.", naming.Show(d.Name)).Offer(remedy.Command("database.alter", b.Target))
	}
	if login := snap.Instance.Login; !login.May("manage_accounts") {
		b.Find(change.Stop, change.RightsMissing, login.Remedy("manage_accounts"),
			"A script runs as an account of its own, which Genarch's login %s may not make.", login.Name)
	} else if !details.Lendable && !details.Superuser {
		b.Find(change.Stop, change.RightsMissing,
			"GRANT "+quoteIdent(d.Owner)+" TO "+quoteIdent(login.Name)+" WITH ADMIN OPTION",
			"A script runs as a member of the owner %s, and Genarch's login %s may not make one.",
			naming.Show(d.Owner), login.Name)
	}
	planReach(b, d.Owner, *details)
	planGiven(p, d.Owner, k.Summary)
	filler := planning.Filler(k.ID)
	b.Find(change.Note, change.FillAccount, "",
		"The script runs as the account %s, made for it and dropped afterwards: a member of the owner %s, who "+
			"owns what is made.",
		filler, naming.Show(d.Owner))
	args := map[string]string{"name": d.Name, "owner": d.Owner, "account": filler, change.ArgScript: k.ID}
	run := change.Step{Kind: stepFill, Title: planning.FillTitle(p, k), Halts: true, Seconds: planning.FillSeconds,
		Args: map[string]string{"name": d.Name, "owner": d.Owner, "account": filler, change.ArgScript: k.ID,
			"size": fmt.Sprint(k.Summary.Size), "at_once": yesNo(atOnce),
			skipOwners: yesNo(p.Settled.Bool(skipOwners)), skipGrants: yesNo(p.Settled.Bool(skipGrants))}}
	if !atOnce {
		run.Repair = planning.StaysText
	}
	drop := "DROP ROLE " + quoteIdent(filler)
	p.Step(change.Step{Kind: stepFiller, Title: "make the account as which it runs",
		Statement: "CREATE ROLE " + quoteIdent(filler) + " NOLOGIN IN ROLE " + quoteIdent(d.Owner), Undo: drop,
		Args: args},
		run,
		change.Step{Kind: stepUnfill, Title: "drop the account again", Statement: drop, Seconds: 120, Args: args},
		readBackStep(d, d.Name, yesNo(d.Closed)))
}

// planReach says what the owner may do that is more than this database.
func planReach(b *change.Brief, owner string, x filling) {
	if x.Superuser {
		b.Find(change.Stop, change.FillOwner, "Give the database an owner that is no superuser.",
			"%s, who owns the database, is a superuser: a script that runs with its rights could do anything "+
				"on the server.",
			naming.Show(owner)).Offer(remedy.Command("database.alter", b.Target))
		return
	}
	var may []string
	if x.MakesDatabases {
		may = append(may, "create databases")
	}
	if x.MakesRoles {
		may = append(may, "create roles")
	}
	if x.Replicates {
		may = append(may, "replicate")
	}
	if x.PassesRows {
		may = append(may, "pass row security")
	}
	for _, r := range x.Roles {
		may = append(may, "do what "+r+" may")
	}
	if n := len(x.Others); n > 0 {
		may = append(may, "alter "+naming.Count(n, "other database", "other databases")+" that it owns ("+
			planning.Shorten(x.Others)+")")
	}
	if len(may) > 0 {
		b.Find(change.Caution, change.FillReaches,
			"Read the script's own code (DO blocks, functions), which is not looked into; or give the database "+
				"an owner of its own.",
			"The script has the rights of %s, who may also: %s.", naming.Show(owner), planning.Shorten(may))
	}
}

// planGiven says what becomes of statements that give objects to others, or privileges.
func planGiven(p *planning.Draft, owner string, s script.Summary) {
	p.Default(skipOwners, false, "PostgreSQL")
	p.Default(skipGrants, false, "PostgreSQL")
	var others []string
	for _, n := range s.Names[script.Owner].List {
		if n.Text != owner {
			others = append(others, naming.Show(n.Text))
		}
	}
	skips := p.Settled.Bool(skipOwners)
	switch {
	case !s.Has(script.GivesAway):
	case skips:
		p.Find(change.Note, change.ScriptOwners, "", "%s with OWNER TO are left out; all belongs to %s.",
			naming.Count(s.Marks[script.GivesAway].N, "statement"), naming.Show(owner))
	case len(others) > 0:
		p.About(skipOwners, change.Caution, change.ScriptOwners, "Leave these statements out.",
			"The script gives objects to %s, at %s. The server lets it only where %s is a member of them.",
			planning.Shorten(others), planning.Places(s, script.GivesAway), naming.Show(owner)).
			Offer(remedy.Option("options."+skipOwners, remedy.Yes))
	}
	switch n := s.Marks[script.Grants].N; {
	case n == 0:
	case p.Settled.Bool(skipGrants):
		p.Find(change.Note, change.ScriptGrants, "", "%s that grant or revoke are left "+
			"out.", naming.Count(n, "statement"))
	default:
		p.About(skipGrants, change.Caution, change.ScriptGrants, "Look at them, or leave them out.",
			"The script grants or revokes privileges: %s.", planning.Places(s, script.Grants)).
			Offer(remedy.Option("options."+skipGrants, remedy.Yes))
	}
}
