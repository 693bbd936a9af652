package mysqlfamily

import (
	"fmt"
	"slices"
	"strings"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/clearing"
	"example.com/genarch/core/naming"
	"example.com/genarch/core/remedy"
	"example.com/genarch/engine"
	"example.com/genarch/engine/planning"
)

// gate is what keeps new sessions out of one database, as far as MariaDB has
// means: nothing closes a database, so rights are taken for the time, and put
// back exactly. Each do has its undo at the same place.
type gate struct {
	do, undo []string
	// again are those of do that show in no grant, and can be done again.
	again []string
	// after is what is left to do once the database is gone: without clearing
	// leftovers, rights on the database are put back as the engine would leave
	// them; what only shadowed a pattern goes in either case.
	after []string
	// kept are those whose grants stay, so that it does not keep them out, in words.
	kept []string
	// refused are accounts with privileges on all databases that it keeps out of this one, by
	// partial revokes.
	refused map[catalog.Principal]bool
	// tables counts grants on tables and columns, which end with the database.
	tables int
}

func (g *gate) add(do, undo string) { g.do, g.undo = append(g.do, do), append(g.undo, undo) }

// onName reports whether a grant is on exactly the database of a name, or on
// something in it; a pattern that fits it is not.
func onName(g catalog.Grant, name string) bool {
	if g.Scope == catalog.ScopeDatabase {
		return !isPattern(g.Database) && plain(g.Database) == name
	}
	return g.Database == name
}

// planGate works the gate of a database out of all grants that reach it.
//
// Long: its cases stand in the order in which their findings are read.
func planGate(name string, snap catalog.Snapshot, clearLeftovers bool) gate {
	var g gate
	for _, event := range dropDetailsOf(snap.DropImpact.Details).Events {
		alter := alterEvent(name, event)
		g.add(alter+" DISABLE", alter+" ENABLE")
		g.again = append(g.again, alter+" DISABLE")
	}
	exact, patterns := map[catalog.Principal]catalog.Grant{}, map[catalog.Principal]string{}
	var whom []catalog.Principal
	unreached := above(snap)
	plainNames := detailsOf(snap.Details).PlainNames
	for _, x := range snap.Access.Grants {
		reaches := onName(x, name) || x.Scope == catalog.ScopeDatabase && matches(x.Database, name)
		switch {
		case x.Grantee == snap.Self:
			continue
		case reaches && (unreached[x.Grantee] ||
			plainNames && x.Scope == catalog.ScopeDatabase && isPattern(x.Database)):
			if who := x.Grantee.String(); !slices.Contains(g.kept, who) {
				g.kept = append(g.kept, who)
			}
			continue
		}
		switch {
		case x.Scope == catalog.ScopeDatabase && onName(x, name):
			exact[x.Grantee] = x
		case x.Scope == catalog.ScopeDatabase && isPattern(x.Database) && matches(x.Database, name):
			patterns[x.Grantee] = x.Database
		case onName(x, name): // on something in it
			if step, any := takeStep(x, table.All(), true); any {
				g.add(step.Statement, step.Undo)
				g.tables++
			}
			continue
		default:
			continue
		}
		if !slices.Contains(whom, x.Grantee) {
			whom = append(whom, x.Grantee)
		}
	}
	on := quoteIdent(escaped(name)) + ".*"
	for _, p := range whom {
		x, has := exact[p]
		_, shadow := patterns[p]
		give := ""
		if shadow && !x.Privileges.Has(productOf(snap).placeholder) {
			take := revokeSQL(setText(productOf(snap).placeholder), on, p)
			g.add(grantSQL(setText(productOf(snap).placeholder), on, p, false), take)
			g.after = append(g.after, take)
		}
		if has {
			gone := x.Privileges
			if shadow {
				gone = gone.Minus(productOf(snap).placeholder)
			}
			var words []string
			if !gone.Empty() {
				words = append(words, setText(gone))
			}
			if !x.Grantable.Empty() {
				words = append(words, "GRANT OPTION")
			}
			if len(words) > 0 {
				give = grantSQL(setText(gone), on, p, !x.Grantable.Empty())
				g.add(revokeSQL(strings.Join(words, ", "), on, p), give)
			}
		}
		if give != "" && !clearLeftovers {
			g.after = append([]string{give}, g.after...)
		}
	}
	if plainNames && escaped(name) == name {
		g.refuse(name, on, whom, unreached, snap)
	}
	return g
}

// refuse keeps accounts and roles with privileges on all databases out of one, where the server
// has partial revokes. Whoever was granted something on it too is left: whether the server then
// takes that or refuses has not been tried.
func (g *gate) refuse(name, on string, whom []catalog.Principal, unreached map[catalog.Principal]bool,
	snap catalog.Snapshot) {
	g.refused = map[catalog.Principal]bool{}
	for _, a := range snap.Access.Accounts {
		if a.Principal == snap.Self || a.System || a.Locked || unreached[a.Principal] ||
			slices.Contains(whom, a.Principal) {
			continue
		}
		taken := a.Global.And(productOf(snap).own())
		for _, d := range snap.Access.Denials {
			if d.Grantee.Name == a.Name && d.Grantee.Host == a.Host && d.Database == name {
				taken = taken.Minus(d.Denied)
			}
		}
		if !taken.Empty() {
			g.refused[a.Principal] = true
			back := grantSQL(setText(taken), on, a.Principal, false)
			g.add(revokeSQL(setText(taken), on, a.Principal), back)
			g.after = append(g.after, back)
		}
	}
}

// leaks are the accounts that a gate does not keep out.
func (g *gate) leaks(snap catalog.Snapshot) (people, exempt []catalog.Account) {
	people, exempt = globalAccounts(snap)
	out := func(a catalog.Account) bool { return g.refused[a.Principal] }
	return slices.DeleteFunc(people, out), slices.DeleteFunc(exempt, out)
}

// alterEvent begins an alteration of an event. Without its definer being said, the event
// would run with the privileges of whoever altered it from then on: Genarch's.
func alterEvent(database string, e scheduled) string {
	return "ALTER DEFINER=" + quoteDefiner(e.Definer) + " EVENT " + quoteIdent(database) + "." + quoteIdent(e.Name)
}

// foreignDefiners are the definers of events that are not Genarch's own login.
func foreignDefiners(events []scheduled, self catalog.Principal) []string {
	var out []string
	for _, e := range events {
		if e.Definer != self.String() && !slices.Contains(out, e.Definer) {
			out = append(out, e.Definer)
		}
	}
	return out
}

// globalAccounts are accounts that the gate does not keep out: they hold rights on
// every database. exempt are those that are never locked: the server's own, and
// its administrator on its own machine, and those that the login may not alter.
func globalAccounts(snap catalog.Snapshot) (people, exempt []catalog.Account) {
	reach, unreached := productOf(snap).own(), above(snap)
	for _, a := range snap.Access.Accounts {
		if a.Principal == snap.Self || a.Locked || !a.Login && !a.Role || !a.Global.Any(reach) {
			continue
		}
		if a.System || a.Role || a.Super && a.Host == "localhost" ||
			unreached[a.Principal] {
			exempt = append(exempt, a)
		} else {
			people = append(people, a)
		}
	}
	return people, exempt
}

// planLeaks says who could come back while the gate is closed, and, when asked,
// locks them out for the time.
//
// Long: its cases stand in the order in which their findings are read.
func planLeaks(
	b *change.Brief,
	in change.Intent,
	people, exempt []catalog.Account,
	present []catalog.Session,
	snap catalog.Snapshot,
	g *gate,
) {
	var names []string
	for _, a := range people {
		names = append(names, a.Principal.String())
	}
	if in.Clearing.Asks("lock_accounts") {
		for _, a := range people {
			user := "ALTER USER " + quotePrincipal(a.Principal)
			g.add(user+" ACCOUNT LOCK", user+" ACCOUNT UNLOCK")
			g.again = append(g.again, user+" ACCOUNT LOCK")
			g.after = append(g.after, user+" ACCOUNT UNLOCK")
		}
		if len(names) > 0 {
			b.Find(
				change.Caution,
				change.GateEffect,
				"Without that lock they may come back meanwhile.",
				"While the change runs these accounts cannot sign in at all, to any database: %s. Their open sessions elsewhere go on.",
				planning.Shorten(names),
			).
				Offer(remedy.Option("clearing.options.lock_accounts", "no"))
		}
		names = nil
	}
	for _, a := range exempt {
		names = append(names, a.Principal.String())
	}
	if len(g.refused) > 0 {
		b.Find(change.Note, change.GateEffect, "",
			"Partial revokes keep those with privileges on all databases out of this one meanwhile: %s.",
			planning.Shorten(principals(g.refused)))
	}
	for _, who := range g.kept {
		if !slices.Contains(names, who) {
			names = append(names, who)
		}
	}
	if len(names) > 0 {
		// Who could is told; it is a caution when one of them is there now.
		level, next := change.Note, ""
		keep, offer := "Keep them out of everything meanwhile, or accept it",
			[]remedy.Action{remedy.Option("clearing.options.lock_accounts", remedy.Yes)}
		if in.Clearing.Asks("lock_accounts") || len(people) == 0 {
			keep, offer = "These are never locked: have them leave, or accept it", nil
		}
		if slices.ContainsFunc(present,
			func(s catalog.Session) bool { return slices.Contains(names, s.Account.String()) }) {
			level, next = change.Caution, keep+
				": a session that comes back and holds no lock does not stop the drop, and is told of "+
				"and ended afterwards."
		} else {
			offer = nil
		}
		b.Find(level, change.GateIncomplete, next,
			"%s cannot keep everybody out of a database; accounts with privileges on all databases could come "+
				"back meanwhile: %s.",
			productOf(snap).description.Title, planning.Shorten(names)).
			Offer(offer...).Passing = true
	}
}

// incomplete reports whether somebody could come back while it is closed.
func (g *gate) incomplete(people, exempt []catalog.Account, in change.Intent) bool {
	return len(g.kept) > 0 || len(exempt) > 0 || len(people) > 0 && !in.Clearing.Asks("lock_accounts")
}

// planUnreached stops where grants have to be revoked for good that cannot be.
func planUnreached(b *change.Brief, g gate) {
	if len(g.kept) > 0 {
		b.Find(change.Stop, change.RightsMissing, "Have an administrator revoke them first.",
			"Genarch may not revoke the grants on it of administrators, nor can it tell grants on names with _ or %% "+
				"apart under partial_revokes: %s.", planning.Shorten(g.kept))
	}
}

// principals lists who is in a set, in order.
func principals(set map[catalog.Principal]bool) []string {
	var out []string
	for p := range set {
		out = append(out, p.String())
	}
	slices.Sort(out)
	return out
}

// gateStep closes the gate with all its statements; a try that failed halfway is
// put right by the same statements that open it again.
func gateStep(g gate, name string, self catalog.Principal) change.Step {
	undo := slices.Clone(g.undo)
	slices.Reverse(undo)
	open := strings.Join(undo, ";\n")
	return change.Step{Kind: stepGate,
		Title: "close the gate: revoke, for the time of the change, the privileges that let anybody into " +
			naming.Show(name),
		Statement: strings.Join(g.do, ";\n"), Undo: open, Restores: len(undo) > 1, Repair: open,
		Seconds: 60 + len(g.do), Args: map[string]string{"name": name, "self": self.String(),
			"do":   engine.EncodeList(g.do),
			"undo": engine.EncodeList(undo), "again": engine.EncodeList(g.again), "kept": engine.EncodeList(g.kept)}}
}

// restoreStep is what is left to do after the drop.
func restoreStep(g gate, name string, cleared bool) change.Step {
	title := "put the grants on the name back, as the engine leaves them"
	if cleared {
		title = "remove what is left over of the gate"
	}
	return change.Step{Kind: stepRestore, Title: title, Statement: strings.Join(g.after, ";\n"), Irreversible: true,
		Seconds: 60 + len(g.after), Args: map[string]string{"name": name, "do": engine.EncodeList(g.after)}}
}

// planDropDatabase briefs a drop: MariaDB refuses nothing and takes nothing back,
// so whatever could make it fail halfway is looked for before.
func planDropDatabase(b *change.Brief, in change.Intent, snap catalog.Snapshot) {
	spec := *in.Database
	spec.Name = folded(spec.Name, detailsOf(snap.Details).FoldsCase)
	shown := naming.Show(spec.Name)
	b.Summary, b.Confirm = "drop database "+shown+" on "+snap.Server.Name, spec.Name
	if !planning.DatabaseThere(b, spec, snap, "dropped") || b.Stopped() {
		return
	}
	d, impact, clears := *snap.Target, *snap.DropImpact, spec.Options.Bool("clear_leftovers")
	planBlockers(b, d, impact, productOf(snap))
	g := planGate(d.Name, snap, clears)
	people, exempt := g.leaks(snap)
	rules := in.Clearing.Rules(clearing.Target{Database: d.Name})
	rules.GateIncomplete = g.incomplete(people, exempt, in)
	planning.Lost(b, snap)
	clear := planning.Clearing(b, snap, rules, shown, productOf(snap).killEach())
	planning.Manage(b, snap)
	if login := snap.Instance.Login; !login.May("give_bundles") {
		b.Find(
			change.Stop,
			change.RightsMissing,
			login.Remedy("give_bundles"),
			"Privileges are revoked for the time of the change and granted again afterwards, which Genarch's login %s may not do.",
			login.Name,
		)
	}
	planDefiners(b, dropDetailsOf(impact.Details).Events, snap)
	b.Set(change.Setting{Name: "name", Value: spec.Name, Asked: true, Decides: "which database"})
	planning.SessionPolicy(b, in.Clearing)
	if clears {
		planUnreached(b, g)
	}
	planLeaks(b, in, people, exempt, rules.Target.Of(snap.Connected), snap, &g)
	planLeft(b, g, spec, snap)
	before, between := planWritable(b, d, impact)
	b.Steps = append(b.Steps, before...)
	if len(g.do) > 0 {
		b.Steps = append(b.Steps, gateStep(g, d.Name, snap.Self))
	}
	planning.Unseen(b, snap)
	drop := change.Step{Kind: stepDrop, Title: "check once more, and drop database " + shown,
		Statement: dropDatabase(d.Name), Repair: alterDatabase(d), Uncut: true, Seconds: dropSeconds,
		Args: map[string]string{"name": d.Name, "objects": fmt.Sprint(total(impact.Objects))}}
	if productOf(snap).atomicDrop {
		drop.Repair = ""
	}
	b.Steps = append(append(append(b.Steps, clear), between...), drop)
	if len(g.after) > 0 {
		b.Steps = append(b.Steps, restoreStep(g, d.Name, clears))
	}
	verify := change.Step{Kind: change.Verify, Title: "read back that it is gone", ReadOnly: true,
		Args: map[string]string{"check": "database_gone", "name": d.Name}}
	if clears {
		verify.Title, verify.Args["leftovers"] = "read back that it is gone, and that no grant names it", "none"
	}
	b.Steps = append(b.Steps, verify)
}

// planDefiners stops when events could not be altered without their running with the
// privileges of Genarch's login afterwards.
func planDefiners(b *change.Brief, events []scheduled, snap catalog.Snapshot) {
	others := foreignDefiners(events, snap.Self)
	if login := snap.Instance.Login; len(others) > 0 && !login.May("set_definers") {
		b.Find(change.Stop, change.RightsMissing, login.Remedy("set_definers"),
			"Events run with the privileges of others (%s), and Genarch's login %s may not leave it at that when it "+
				"switches them off and on.", planning.Shorten(others), login.Name)
	}
}

// planBlockers stops at whatever would make the drop fail after it has begun.
func planBlockers(b *change.Brief, d catalog.Database, impact catalog.DropImpact, of *product) {
	if dropDetailsOf(impact.Details).Cluster {
		b.Find(
			change.Stop,
			change.OptionUnsupported,
			"Drop it with the cluster's own tools.",
			"The server is a node of a cluster. %s, so Genarch does not do it.", of.clusterText,
		)
	}
	if len(dropDetailsOf(impact.Details).OutsideKeys) > 0 {
		b.Find(change.Stop, change.KeysOutside, "Drop those keys first, or the tables that have them.",
			"Foreign keys of other databases point into %s, and the drop would stop halfway: %s.", naming.Show(d.Name),
			planning.Shorten(dropDetailsOf(impact.Details).OutsideKeys))
	}
	planning.Prepared(b, impact.Prepared,
		"find out whose it is, then XA COMMIT or XA ROLLBACK it; the server does not tell which database it is of")
	if dropDetailsOf(impact.Details).Detached > 0 {
		b.Find(change.Stop, change.PreparedWaiting, "Look at SHOW ENGINE INNODB STATUS and XA RECOVER.",
			"%s without a session hold locks on this server. One of them in this database would leave it partially dropped.", naming.Count(dropDetailsOf(impact.Details).Detached, "transaction")).Passing = true
	}
	if impact.Backup != "" {
		b.Find(change.Stop, change.BackupRunning, "Let the backup finish, then ask again.",
			"%s A drop would wait for it, or break it.", impact.Backup).Passing = true
	}
}

// planLeft says which grants the drop leaves behind.
func planLeft(b *change.Brief, g gate, spec change.DatabaseSpec, snap catalog.Snapshot) {
	var left, wide []string
	clears := spec.Options.Bool("clear_leftovers")
	for _, x := range snap.Access.Grants {
		if x.Scope != catalog.ScopeDatabase {
			continue
		}
		switch {
		case isPattern(x.Database) && matches(x.Database, spec.Name):
			wide = append(wide, fmt.Sprintf("%s through the pattern %s", x.Grantee, x.Database))
		case plain(x.Database) == spec.Name:
			left = append(left, x.Grantee.String())
		}
	}
	switch {
	case len(left) > 0 && clears:
		b.Find(change.Note, change.GrantsLeftover, "", "The grants on this name are revoked for good: %s.",
			planning.Shorten(left))
	case len(left) > 0:
		b.Find(change.Note, change.GrantsLeftover, "Have them revoked too.",
			"Grants on this name remain, and apply again at once if a database of the name is re-created: %s.",
			planning.Shorten(left)).Offer(remedy.Option("options.clear_leftovers", remedy.Yes))
	}
	if len(wide) > 0 {
		b.Find(change.Note, change.GrantsLeftover, "",
			"Grants on patterns that match other databases too stay as they are: %s.", planning.Shorten(wide))
	}
	if g.tables > 0 {
		b.Find(change.Note, change.GrantsLeftover, "",
			"The grants on its tables, columns and routines (%d) are revoked for good.", g.tables)
	}
	if clears {
		b.Set(change.Setting{Name: "leftovers", Value: "revoked", Asked: true,
			Decides: "whether the grants on the name stay, as the engine leaves them"})
	}
}

func total(counts []catalog.Count) int {
	n := 0
	for _, c := range counts {
		n += c.N
	}
	return n
}

// planEndSessions briefs ending sessions.
func planEndSessions(b *change.Brief, in change.Intent, snap catalog.Snapshot) {
	statement := productOf(snap).killEach()
	if in.Sessions.StatementOnly {
		statement = productOf(snap).killRunning()
	}
	planning.EndSessions(b, in, snap, statement)
}
