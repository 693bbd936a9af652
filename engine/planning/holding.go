package planning

import (
	"time"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/naming"
	"example.com/genarch/core/policy"
	"example.com/genarch/core/remedy"
)

// dayText writes a day as people read it.
func dayText(day time.Time) string { return day.Format("2 January 2006") }

// HoldingOf is what is kept with a database that is set aside. It holds days and no times: a
// brief is made twice, and has to come out the same.
func HoldingOf(in change.Intent, snap catalog.Snapshot) catalog.Holding {
	d := *snap.Target
	h := newHolding(snap, in.Database.KeepDays)
	h.Name, h.Open, h.Comment = d.Name, !d.Closed, d.Comment
	for i, c := range snap.DropImpact.Objects {
		if c.What == "tables" {
			h.Tables = &snap.DropImpact.Objects[i].N
		}
	}
	return h
}

// AccountHolding is what is kept with an account that is set aside.
func AccountHolding(a catalog.Account, keepDays int, snap catalog.Snapshot) catalog.Holding {
	h := newHolding(snap, keepDays)
	h.Name, h.Open, h.Comment = a.Name, a.Login, a.Comment
	return h
}

// newHolding is one that begins today. keepDays is what was asked for; 0: nothing was.
func newHolding(snap catalog.Snapshot, keepDays int) catalog.Holding {
	since := catalog.Day(snap.Instance.Read)
	return catalog.Holding{Since: since, Until: since.AddDate(0, 0, policy.KeepDays(snap.Server, keepDays)),
		Discard: snap.Server.Keeping.Discard}
}

// SetAside says what setting a database aside takes from whom, what it frees, for how
// long it is kept, and how it comes back. waits is the name under which it waits; frees
// says what is freed and what is not.
func SetAside(b *change.Brief, in change.Intent, snap catalog.Snapshot, h catalog.Holding, waits, frees string) {
	impact := snap.DropImpact
	b.Impact = &change.Impact{Objects: impact.Objects, Rows: impact.Rows, Size: snap.Target.Size,
		Dependents: len(impact.Dependents), KeptUntil: &h.Until}
	kept(b, in.Database.KeepDays > 0, snap, h, waits, frees)
	Dependents(b, impact.Dependents, impact.PossibleDependents)
	Use(b, change.DropLastUse, "connected to this database", IsConnected(snap), snap.Use)
}

// SetAsideAccount says for how long an account that is set aside is kept, and how it comes back.
func SetAsideAccount(b *change.Brief, in change.Intent, snap catalog.Snapshot, h catalog.Holding, waits, frees string) {
	b.Impact = accountImpact(in.Account.Principal(), snap)
	b.Impact.KeptUntil = &h.Until
	kept(b, in.Account.KeepDays > 0, snap, h, waits, frees)
	if h.Open {
		Use(b, change.AccountSeen, "signed in as this account", len(snap.Sessions) > 0, snap.Use)
	}
}

// accountImpact counts the account, the roles that it belongs to, and its members.
func accountImpact(who catalog.Principal, snap catalog.Snapshot) *change.Impact {
	out, roles := &change.Impact{}, 0
	for _, m := range snap.Access.Memberships {
		switch who {
		case m.Member:
			roles++
		case m.Role:
			out.Dependents++
		}
	}
	out.Objects = []catalog.Count{{What: "accounts", N: 1}, {What: "memberships", N: roles}}
	return out
}

// kept says for how long something is kept, under which name, and what is free meanwhile.
func kept(b *change.Brief, asked bool, snap catalog.Snapshot, h catalog.Holding, waits, frees string) {
	source := ""
	switch {
	case asked:
	case snap.Server.Keeping.Days > 0:
		source = snap.Server.Name
	default:
		source = string(snap.Server.Environment)
	}
	b.Set(change.Setting{Name: "keep_days", Title: "kept until", Value: h.Until.Format(time.DateOnly), Asked: asked,
		Source: source, Decides: "until when it can be brought back for certain"})
	b.Set(change.Setting{Name: change.WaitsAs, Title: "waits as", Value: waits,
		Decides: "its name on the server meanwhile"})
	then := "and longer, until somebody discards it"
	if snap.Server.Keeping.Discard {
		then = "and is discarded then, as is the rule on " + snap.Server.Name
	}
	b.Find(change.Note, change.HoldingKept, "Bring it back with one command.",
		"%s is kept whole until %s, %s.", b.Target, dayText(h.Until), then).
		Offer(remedy.Command("holding.bring-back", b.Target))
	b.Find(change.Note, change.HoldingFrees, "", "%s", frees)
}

// waiting is something that was set aside.
type waiting struct {
	catalog.Holding
	// names are those that others have.
	names []string
	size  *int64
	// rule is that for its name; zero: the server's.
	rule *naming.Rule
}

// waitingOf finds what the intent is about; false: nothing waits under that name.
func waitingOf(in change.Intent, snap catalog.Snapshot) (waiting, bool) {
	if !in.Holding.Account {
		if snap.Target == nil || snap.Target.Held == nil {
			return waiting{}, false
		}
		return waiting{Holding: *snap.Target.Held, names: snap.Names, size: snap.Target.Size}, true
	}
	a, found := HeldAccount(in, snap)
	if !found {
		return waiting{}, false
	}
	w := waiting{Holding: *a.Held, rule: &naming.Rule{Free: true}}
	for _, x := range snap.Access.Accounts {
		w.names = append(w.names, x.Name)
	}
	return w, true
}

// HeldAccount is the account that an intent for a holding is about; false: none waits there.
func HeldAccount(in change.Intent, snap catalog.Snapshot) (catalog.Account, bool) {
	for _, a := range snap.Access.Accounts {
		if a.Name == in.Holding.ID && a.Held != nil {
			return a, true
		}
	}
	return catalog.Account{}, false
}

// noun is what waits.
func noun(in change.Intent) string {
	if in.Holding.Account {
		return "account"
	}
	return "database"
}

// HoldingThere looks what was set aside up, and reports whether to go on.
func HoldingThere(b *change.Brief, in change.Intent, snap catalog.Snapshot, action string) bool {
	if _, there := waitingOf(in, snap); !there {
		b.Find(change.Stop, change.HoldingAbsent, "List what was set aside.",
			"Nothing that was set aside waits as %s on %s.", naming.Show(in.Holding.ID), snap.Server.Name).
			Offer(remedy.Command("holding.list", snap.Server.Name))
		return false
	}
	if in.Holding.Account {
		Manage(b, snap)
		return true
	}
	if impact := snap.DropImpact; !impact.MayDrop {
		b.Find(change.Stop, change.DatabaseDenied, impact.Remedy,
			"%s waits there, and Genarch's login %s may not have it %s: %s.", b.Target, snap.Instance.Login.Name,
			action, impact.Denied)
	}
	return true
}

// BackAs is the name under which it comes back, with what speaks against it.
func BackAs(b *change.Brief, in change.Intent, snap catalog.Snapshot, lim naming.Limits) string {
	h, _ := waitingOf(in, snap)
	name, rule := h.Name, snap.Server.NameRule
	if h.rule != nil {
		rule = *h.rule
	}
	if in.Holding.NewName != "" {
		name = in.Holding.NewName
		for _, p := range rule.Check(name, lim) {
			b.Find(change.Stop, p.Code, "Choose another name.", "%s", p.Text)
		}
	}
	taken := func(n string) bool { _, _, found := naming.Clashes(n, h.names); return found }
	if with, how, found := naming.Clashes(name, h.names); found {
		level, code := change.Stop, change.NameTaken
		if how != naming.SameName && how != naming.SameButCase {
			level, code = change.Caution, change.NameLookalike
		}
		noun := "a database"
		if in.Holding.Account {
			noun = "an account or role"
		}
		f := b.Find(level, code, "Rename that one first, or bring this one back under another name.",
			"There is %s %s on %s already.", noun, naming.Show(with), snap.Server.Name)
		f.Suggestion = rule.Suggest(name, lim, taken)
		f.Offer(remedy.Option("new_name", f.Suggestion))
	}
	with := "contents, owner, grants and settings"
	if in.Holding.Account {
		with = "its memberships, its grants, and what it owns"
	}
	b.Find(change.Note, change.HoldingBack, "", "%s comes back as it was set aside on %s: %s.",
		naming.Show(h.Name), dayText(h.Since), with)
	b.Set(change.Setting{Name: "name", Value: name, Asked: in.Holding.NewName != "", Source: "what it was",
		Decides: "how every client finds it"})
	return name
}

// Discard says what would be lost for good, and what speaks against it.
func Discard(b *change.Brief, in change.Intent, snap catalog.Snapshot) {
	h, _ := waitingOf(in, snap)
	b.Summary = "discard " + noun(in) + " " + naming.Show(h.Name) + ", which was set aside on " + snap.Server.Name
	b.Confirm = h.Name
	b.Impact = &change.Impact{Size: h.size}
	if in.Holding.Account {
		b.Impact = accountImpact(catalog.Principal{Name: in.Holding.ID}, snap)
	}
	b.Impact.Final = true
	if h.Tables != nil {
		b.Impact.Objects = []catalog.Count{{What: "tables", N: *h.Tables}}
	}
	next := "Make a backup first, and test that it can be restored."
	if in.Holding.Account {
		next = ""
	}
	b.Find(change.Note, change.DropFinal, next,
		"Discarding is final: Genarch cannot bring %s back afterwards.", naming.Show(h.Name))
	if h.Hold != "" {
		b.Find(change.Stop, change.HoldingStopped, "Release the hold first, if its reason is over.",
			"%s must not be discarded: %s.", naming.Show(h.Name), naming.Show(h.Hold)).
			Offer(remedy.Command("holding.release", b.Target))
	}
	if !h.Due(snap.Instance.Read) {
		b.Find(change.Caution, change.HoldingEarly, "Wait until then, or accept that it can come back no more.",
			"%s is to be kept until %s.", naming.Show(h.Name), dayText(h.Until))
	}
	if snap.DropImpact != nil {
		b.Impact.Dependents = len(snap.DropImpact.Dependents)
		Dependents(b, snap.DropImpact.Dependents, snap.DropImpact.PossibleDependents)
	}
}

// KeepHolding is what is kept with a holding afterwards; false: it is like that already.
func KeepHolding(b *change.Brief, in change.Intent, snap catalog.Snapshot) (catalog.Holding, bool) {
	w, _ := waitingOf(in, snap)
	was, will, spec := w.Holding, w.Holding, in.Holding
	if day, err := spec.Day(); err == nil {
		will.Until = day
		if day.Before(catalog.Day(snap.Instance.Read)) {
			f := b.Find(change.Stop, change.OptionInvalid, "Give a day that is to come.", "%s is over.", dayText(day))
			f.Option = "until"
		}
	}
	if spec.Hold != "" || spec.Release {
		will.Hold = spec.Hold
	}
	set := func(name, title, before, after, decides string) {
		if before != after {
			b.Set(change.Setting{Name: name, Title: title, Was: &before, Value: after, Asked: true, Decides: decides})
		}
	}
	set("until", "kept until", was.Until.Format(time.DateOnly), will.Until.Format(time.DateOnly),
		"until when it can be brought back for certain")
	set("hold", "must not be discarded", was.Hold, will.Hold,
		"why it is kept whatever the day; nothing: no such reason")
	if len(b.Settings) == 0 && !b.Stopped() {
		Done(b, change.HoldingSame, "%s is kept like that already.", b.Target)
		return will, false
	}
	b.Summary = "keep " + naming.Show(was.Name) + ", which was set aside on " + snap.Server.Name + ", until " +
		dayText(will.Until)
	if will.Hold != "" {
		b.Summary += ", and longer: " + naming.Show(will.Hold)
	}
	return will, true
}
