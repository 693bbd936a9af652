package planning

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/clearing"
	"example.com/genarch/core/naming"
	"example.com/genarch/core/remedy"
)

// Clearing adds what there is to say about the sessions of a target, and
// returns the step that clears it. what is what they are in the way of:
// "tickets_prod"; statement is what is sent for each of them.
func Clearing(b *change.Brief, snap catalog.Snapshot, r clearing.Rules, what, statement string) change.Step {
	in := r.Target.Of(snap.Connected)
	planSight(b, snap)
	ends := r.WhenEmpty == 0
	if ends {
		planMayEnd(b, snap, in)
	}
	if len(r.Target.IDs) == 0 {
		planBars(b, in, r)
	}
	if lost := pick(in, clearing.Written, clearing.Hidden); len(lost) > 0 && ends && r.How != catalog.EndStatement {
		level, next := change.Caution, "Let them finish with a grace or wait until they have left; or accept the loss."
		if r.AcceptLoss {
			level, next = change.Note, ""
		}
		b.Find(level, change.WorkLost, next, "Work that is written and not committed would be lost: %s.",
			lossText(lost)).Passing = true
		r.AcceptLoss = true // the change runs only once the caution was accepted
	}
	planPresent(b, in, r, what)
	b.Affect(in)
	title := "end the sessions of " + what + ", and look until nobody is left"
	switch {
	case !ends:
		title = fmt.Sprintf("wait up to %s until nobody is connected to %s", clearing.Span(int(r.WhenEmpty.Seconds())),
			what)
		statement = ""
	case r.Grace > 0:
		title = fmt.Sprintf("let work finish for %s, end the sessions of %s, and look until nobody is left",
			clearing.Span(int(r.Grace.Seconds())), what)
	}
	return change.Step{Kind: change.ClearSessions, Title: title, Statement: statement, Irreversible: true, Clear: &r,
		Seconds: int(r.Limit().Seconds())}
}

// Clears says which sessions are in the way of an intent: all that a snapshot
// reads of them; false: none are. source is the template that is to be cleared.
func Clears(in change.Intent, source *catalog.Database) (catalog.SessionQuery, bool) {
	switch {
	case in.Kind == change.CreateDatabase:
		if source == nil {
			return catalog.SessionQuery{}, false
		}
		return catalog.SessionQuery{Database: source.Name}, true
	case in.Database != nil:
		return catalog.SessionQuery{Database: in.Database.Name}, true
	case in.Holding != nil && in.Holding.Account:
		return catalog.SessionQuery{}, in.Kind == change.Discard
	case in.Holding != nil:
		return catalog.SessionQuery{Database: in.Holding.ID}, true
	}
	// Whose they are is picked out of all.
	return catalog.SessionQuery{},
		in.Kind == change.EndSessions || in.Kind == change.DropAccount || in.Kind == change.SetAsideAccount ||
			in.Account != nil && in.Clearing != nil
}

// planSight stops when nobody could tell whom the clearing would hit.
func planSight(b *change.Brief, snap catalog.Snapshot) {
	if login := snap.Instance.Login; !login.May("see_sessions") {
		b.Find(change.Stop, change.SessionsHidden, login.Remedy("see_sessions"),
			"Genarch's login %s cannot see what the sessions of others do, so it cannot tell an idle one from one that writes.", login.Name)
	}
}

// Unseen says, at the end of a brief, what could not be looked at. That can be
// otherwise at the next reading, of a busy server above all.
func Unseen(b *change.Brief, snap catalog.Snapshot) {
	find := func(code, text string) {
		f := b.Find(change.Note, code, "", "%s", text)
		f.Unseen, f.Passing = true, true
	}
	if snap.DropImpact != nil {
		for _, u := range snap.DropImpact.Unseen {
			find(change.CatalogueHidden, u)
		}
	}
	for _, u := range snap.SessionsUnseen {
		find(change.SessionsUnseen, u)
	}
}

// planMayEnd stops when a session could not be ended.
func planMayEnd(b *change.Brief, snap catalog.Snapshot, in []catalog.Session) {
	login := snap.Instance.Login
	if len(in) > 0 && !login.May("end_sessions") {
		b.Find(change.Stop, change.SessionsDenied, login.Remedy("end_sessions"),
			"Genarch's login %s may not end the sessions of others.", login.Name).Passing = true
	}
	supers := slices.DeleteFunc(slices.Clone(in), func(s catalog.Session) bool { return !s.Super })
	if len(supers) > 0 && !login.Superuser {
		b.Find(change.Stop, change.SessionsDenied, "Have them leave, or have an administrator end them.",
			"Genarch's login %s may not end the sessions of administrators: %s.", login.Name,
			whoText(supers)).Passing = true
	}
}

// remedies say how to get rid of what is never ended by itself.
var remedies = map[clearing.Class]struct {
	code, what, next string
	offer            []remedy.Action
}{
	clearing.Replication: {change.ReplicationRunning, "Replication is connected, and would reconnect by itself",
		"Stop it where it is set up (drop the subscription, or stop the receiver), then ask again.", nil},
	clearing.Backup: {change.BackupRunning, "A backup seems to run",
		"Let it finish: wait until nobody is connected; or stop it where it was started.",
		[]remedy.Action{remedy.Option("clearing.when_empty", "")}},
	clearing.Worker: {change.WorkerRunning,
		"A background worker of the server (of an extension, or a job) is connected, and would reconnect by itself",
		"Switch it off for this database, in the settings of the extension or the job, then ask again.", nil},
}

// planBars stops at sessions that must not be ended implicitly. A backup may be
// waited for.
func planBars(b *change.Brief, in []catalog.Session, r clearing.Rules) {
	for _, class := range []clearing.Class{clearing.Replication, clearing.Backup, clearing.Worker} {
		if list := pick(in, class); len(list) > 0 && (class != clearing.Backup || r.WhenEmpty == 0) {
			rem := remedies[class]
			b.Find(change.Stop, rem.code, rem.next, "%s: %s.", rem.what, whoText(list)).
				Offer(rem.offer...).Passing = true
		}
	}
}

func planPresent(b *change.Brief, in []catalog.Session, r clearing.Rules, what string) {
	groups := clearing.Groups(in)
	var words []string
	for _, g := range groups {
		words = append(words, g.String())
	}
	switch {
	case len(in) == 0:
		b.Find(change.Note, change.SessionsNone, "", "Nobody is connected to %s at present.", what).Passing = true
	case r.WhenEmpty > 0:
		b.Find(change.Note, change.SessionsWaited, "",
			"%s open at present, and the change waits for them: %s.", are(len(in)), semicolons(words)).
			Passing = true
	default:
		b.Find(change.Note, change.SessionsEnded, "", "%s open at present: %s.", are(len(in)),
			semicolons(words)).Passing = true
	}
}

// are begins a sentence about so many sessions.
func are(n int) string {
	if n == 1 {
		return "1 session is"
	}
	return naming.Count(n, "session") + " are"
}

func pick(in []catalog.Session, classes ...clearing.Class) []catalog.Session {
	return slices.DeleteFunc(slices.Clone(in),
		func(s catalog.Session) bool { return !slices.Contains(classes, clearing.Classify(s)) })
}

func whoText(list []catalog.Session) string {
	var out []string
	for _, s := range list {
		text := clearing.Who(s)
		if s.Progress != "" {
			text += ", " + s.Progress
		}
		out = append(out, text)
	}
	return semicolons(out)
}

func lossText(list []catalog.Session) string {
	var out []string
	for _, s := range list {
		text := clearing.Who(s)
		if much := clearing.Amount(s); much != "" {
			text += ", " + much
		}
		if !s.Transaction.IsZero() {
			text += ", since " + s.Transaction.UTC().Format("15:04:05 UTC")
		}
		out = append(out, text)
	}
	return semicolons(out)
}

// semicolons joins for a sentence what has commas in it, at most eight.
func semicolons(list []string) string {
	if n := len(list); n > 8 {
		return strings.Join(list[:8], "; ") + fmt.Sprintf("; and %d more", n-8)
	}
	return strings.Join(list, "; ")
}

// EndSessions briefs ending sessions chosen by their identity or by a filter.
// What is shown is what is ended: whoever comes later is left alone.
func EndSessions(b *change.Brief, in change.Intent, snap catalog.Snapshot, statement string) {
	spec := *in.Sessions
	b.Summary = "end " + sessionsText(spec) + " on " + snap.Server.Name
	if spec.StatementOnly {
		b.Summary = "stop what runs just now in " + sessionsText(spec) + " on " + snap.Server.Name
	}
	list := spec.Filter.Pick(snap.Connected, snap.Instance.Read)
	if len(spec.IDs) > 0 {
		list = named(b, spec.IDs, snap)
	}
	found := len(list)
	if spec.StatementOnly {
		list = slices.DeleteFunc(pick(list, clearing.Busy, clearing.Written),
			func(s catalog.Session) bool { return s.Activity != catalog.SessionActive })
		if found > len(list) {
			b.Find(change.Note, change.SessionsNone,
				"To end a session whatever it does, ask for the whole session to be ended.",
				"No statement runs in %s of them at present.", naming.Count(found-len(list), "session")).
				Offer(remedy.Option("statement_only", "no")).Passing = true
		}
	}
	if b.Stopped() {
		return
	}
	switch {
	case len(list) == 0 && found > 0:
		Done(b, change.SessionsNone, "There is nothing to stop: no statement runs there at present.")
		return
	case len(list) == 0:
		Done(b, change.SessionGone, "There is nothing to end: no such session is open any more.")
		return
	}
	if len(list) > change.MaxSessions {
		b.Find(change.Stop, change.OptionInvalid, "Narrow it down.", "%s fit, and one change ends at most %d.",
			naming.Count(len(list), "session"), change.MaxSessions).Passing = true
	}
	r := in.Clearing.Rules(clearing.Target{})
	for _, s := range list {
		r.Target.IDs = append(r.Target.IDs, s.ID)
		if rem, barred := remedies[clearing.Classify(s)]; barred {
			b.Find(change.Caution, rem.code, rem.next, "%s: %s.", rem.what, clearing.Who(s)).Passing = true
		}
	}
	what := "those shown"
	if r.How = catalog.EndSession; spec.StatementOnly {
		r.How = catalog.EndStatement
	}
	step := Clearing(b, snap, r, what, statement)
	if step.Title = "end each of them, and look until they are gone"; spec.StatementOnly {
		step.Title = "stop what runs in each of them, and look until it has ended"
	}
	b.Set(change.Setting{Name: "whom", Value: sessionsText(spec), Asked: true,
		Decides: "whose sessions; those shown are ended, each by its identity, and nobody who comes later"})
	b.Set(change.Setting{Name: "how",
		Value: map[bool]string{false: "the session ends; its open transaction is rolled back",
			true: "only the running statement stops; session and transaction stay"}[spec.StatementOnly],
		Asked: spec.StatementOnly, Decides: "what they lose"})
	b.Steps = []change.Step{step}
	Unseen(b, snap)
}

// named finds the sessions that were named, and says of each that cannot be
// ended why not.
func named(b *change.Brief, ids []catalog.SessionID, snap catalog.Snapshot) []catalog.Session {
	var out []catalog.Session
	for _, id := range ids {
		i := slices.IndexFunc(snap.Connected, func(s catalog.Session) bool { return s.ID == id })
		if i >= 0 {
			switch s := snap.Connected[i]; clearing.Classify(s) {
			case clearing.Own, clearing.Engine:
				b.Find(change.Stop, change.SessionKept, "Leave it out.", "%s is %s, and Genarch never ends it.",
					clearing.Who(s), map[clearing.Class]string{clearing.Own: "Genarch's own",
						clearing.Engine: "the server's own"}[clearing.Classify(s)])
			default:
				out = append(out, s)
			}
			continue
		}
		text := fmt.Sprintf("Session %s is not open any more", id)
		if j := slices.IndexFunc(snap.Connected,
			func(s catalog.Session) bool { return s.ID.Number == id.Number }); j >= 0 {
			text += fmt.Sprintf("; another session uses its number now, and is left alone: %s",
				clearing.Who(snap.Connected[j]))
		}
		b.Find(change.Note, change.SessionGone, "", "%s.", text).Passing = true
	}
	return out
}

func sessionsText(spec change.SessionsSpec) string {
	switch len(spec.IDs) {
	case 0:
		return "the sessions " + spec.Filter.String()
	case 1:
		return "session " + spec.IDs[0].String()
	}
	return fmt.Sprintf("%d sessions", len(spec.IDs))
}

// Altered is the action of an alteration that takes nothing away.
const Altered = "altered"

// DatabaseThere looks the database of an intent up, and says what forbids
// taking it away or moving it whatever the engine. It reports whether to go on.
func DatabaseThere(b *change.Brief, spec change.DatabaseSpec, snap catalog.Snapshot, action string) bool {
	if snap.Target == nil {
		if spec.IfExists {
			b.Outcome, b.Summary = change.Nothing, b.Target+" is not there"
			b.Find(change.Note, change.DatabaseGone, "", "There is no database %s on %s, so nothing will be done.",
				naming.Show(spec.Name), snap.Server.Name)
			return false
		}
		f := b.Find(change.Stop, change.DatabaseAbsent, "List them.",
			"There is no database %s on %s.", naming.Show(spec.Name), snap.Server.Name).
			Offer(remedy.Command("database.list", snap.Server.Name))
		if with, _, like := naming.Clashes(spec.Name, snap.Names); like {
			f.Next, f.Suggestion = "Did you mean "+naming.Show(with)+"?", with
		}
		if login := snap.Instance.Login; login.Remedy("see_databases") != "" {
			f.Text = fmt.Sprintf("Genarch's login %s sees no database %s on %s; it may be there all the same, for the login may not see all", login.Name, naming.Show(spec.Name), snap.Server.Name)
			f.Next = login.Remedy("see_databases")
		}
		return false
	}
	d, impact := snap.Target, snap.DropImpact
	switch {
	case d.Held != nil:
		b.Find(change.Stop, change.DatabaseHeld, "Bring it back first, or discard it.",
			"%s is what %s was set aside as, and cannot be %s.", naming.Show(d.Name), naming.Show(d.Held.Name), action).
			Offer(remedy.Command("holding.list", snap.Server.Name))
	case d.System:
		b.Find(change.Stop, change.DatabaseKept, "Leave it as it is.",
			"%s belongs to the server itself, or to Genarch, and cannot be %s.", naming.Show(d.Name), action)
	case impact.Own != "" && action != Altered:
		b.Find(change.Stop, change.DatabaseKept, "Leave it as it is.", "%s cannot be %s: %s.", naming.Show(d.Name),
			action, impact.Own)
	case !impact.MayDrop:
		b.Find(change.Stop, change.DatabaseDenied, impact.Remedy,
			"%s exists, and Genarch's login %s may not have it %s: %s.", b.Target, snap.Instance.Login.Name, action,
			impact.Denied)
	}
	return true
}

// Prepared stops at transactions that were prepared and wait.
func Prepared(b *change.Brief, list []catalog.Prepared, remedy string) {
	for _, p := range list {
		text := "A prepared transaction waits for its second phase: " + naming.Show(p.Name)
		if p.Owner != "" {
			text += ", of " + naming.Show(p.Owner)
		}
		if !p.Since.IsZero() {
			text += ", since " + p.Since.UTC().Format("2006-01-02 15:04:05 UTC")
		}
		b.Find(change.Stop, change.PreparedWaiting, remedy, "%s.", text).Passing = true
	}
}

// Lost says what a drop would lose.
func Lost(b *change.Brief, snap catalog.Snapshot) {
	d, impact := snap.Target, snap.DropImpact
	b.Impact = &change.Impact{Objects: impact.Objects, Rows: impact.Rows, Size: d.Size,
		Dependents: len(impact.Dependents),
		Final:      true}
	var parts []string
	for _, c := range impact.Objects {
		if c.N > 0 {
			parts = append(parts, naming.CountWord(c.N, c.What))
		}
	}
	if len(parts) == 0 {
		parts = append(parts, "nothing")
	}
	if impact.Rows != nil && *impact.Rows > 0 {
		parts = append(parts, "about "+naming.Count(*impact.Rows, "row")+" by the server's estimate")
	}
	if d.Size != nil {
		parts = append(parts, sizeText(*d.Size))
	}
	text := strings.Join(parts, ", ")
	if d.Owner != "" {
		text += ". Its owner is " + naming.Show(d.Owner)
	}
	if d.Comment != "" {
		text += ". Its comment is: " + naming.Show(d.Comment)
	}
	// Sizes and rows drift while one reads.
	b.Find(change.Note, change.DropLoses, "", "%s holds %s.", b.Target, text).Passing = true
	b.Find(change.Note, change.DropFinal, "Make a backup first, and test that it can be restored.",
		"A drop is final: Genarch cannot bring the database back.")
	if len(impact.ExclusiveAccounts) > 0 {
		b.Find(change.Note, change.DropOrphans,
			"Look at each afterwards, or drop it.",
			"Accounts that have privileges in no other database: %s.", Shorten(impact.ExclusiveAccounts)).
			Offer(remedy.Command("account.show", snap.Server.Name), remedy.Command("account.drop", snap.Server.Name))
	}
	Dependents(b, impact.Dependents, impact.PossibleDependents)
	if impact.Backup != "" {
		b.Find(change.Caution, change.BackupRunning, "Wait until it has ended, then look again.", "%s", impact.Backup).
			Passing = true
	}
	Use(b, change.DropLastUse, "connected to this database", IsConnected(snap), snap.Use)
}

// IsConnected reports whether somebody is in the database that the intent is about.
func IsConnected(snap catalog.Snapshot) bool {
	return len(clearing.Target{Database: snap.Target.Name}.Of(snap.Connected)) > 0
}

// Dependents cautions about what other databases have that needs this one
// under its name; perhaps is what may mean another server.
func Dependents(b *change.Brief, sure, perhaps []string) {
	if len(sure) > 0 {
		b.Find(change.Caution, change.DropBreaks, "Alter or drop them first.",
			"Objects elsewhere depend on it and would fail: %s.", Shorten(sure))
	}
	if len(perhaps) > 0 {
		b.Find(change.Note, change.DropBreaks, "Look whether that host is this server.",
			"Objects elsewhere name a database of this name: %s.", Shorten(perhaps))
	}
}

// Use says when a database or an account was last used, unless that is now.
// seen is how: "connected to this database".
func Use(b *change.Brief, code, seen string, now bool, use catalog.Use) {
	if now {
		return // who is connected is told beside it
	}
	const stamp = "2006-01-02 15:04:05 UTC"
	text := "The last use is not known: the server keeps no record of it, and Genarch has not watched it for long enough"
	switch {
	case !use.Last.IsZero():
		text = "Somebody was last seen " + seen + " at " + use.Last.UTC().Format(stamp)
	case !use.Since.IsZero():
		text = "Nobody was seen " + seen + " since " + use.Since.UTC().Format(stamp) +
			", when Genarch began to watch; what came and went between two looks is not seen"
	}
	if use.Unobserved >= time.Minute && !use.Since.IsZero() {
		text += fmt.Sprintf(". For %s in all since then nobody looked", clearing.Span(int(use.Unobserved.Seconds())))
	}
	b.Find(change.Note, code, "", "%s.", text).Passing = true
}

// SessionPolicy says how sessions are dealt with, as a setting.
func SessionPolicy(b *change.Brief, c *change.ClearingSpec) {
	b.Set(change.Setting{Name: "sessions", Value: c.SettingText(), Asked: c != nil && (c.Grace > 0 || c.WhenEmpty > 0),
		Decides: "what happens to whoever is connected"})
}

// sizeText writes bytes in binary units.
func sizeText(n int64) string {
	units := []string{"B", "KiB", "MiB", "GiB", "TiB"}
	v, i := float64(n), 0
	for v >= 1024 && i < len(units)-1 {
		v, i = v/1024, i+1
	}
	return fmt.Sprintf("%.3g %s", v, units[i])
}

// ClearAccount returns the step that ends the sessions of an account which
// cannot sign in any more: they would go on working after it was dropped.
func ClearAccount(b *change.Brief, in change.Intent, a catalog.Account, snap catalog.Snapshot,
	statement string) change.Step {
	SessionPolicy(b, in.Clearing)
	who := a.Principal
	return Clearing(b, snap, in.Clearing.Rules(clearing.Target{Account: &who}), naming.Show(who.String()), statement)
}

// OpenSessions cautions that a lock leaves open sessions alone.
func OpenSessions(b *change.Brief, a catalog.Account, snap catalog.Snapshot) {
	if n := len(snap.Sessions); n > 0 {
		b.Find(change.Caution, change.AccountSessions,
			"A lock alone only keeps new ones out; end them with the same change.",
			"%s keeps %s open: %s.", naming.Show(a.Principal.String()), naming.Count(n, "session"),
			strings.Join(snap.Sessions[:min(n, 5)], "; ")).Offer(remedy.Option("clearing", remedy.Yes)).Passing = true
	}
}
