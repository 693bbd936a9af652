package planning

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/naming"
	"example.com/genarch/core/remedy"
)

// NewBrief starts a brief with what it says for every engine and intent: the
// target, the identity, and whether the server can be altered at all.
func NewBrief(in change.Intent, snap catalog.Snapshot) change.Brief {
	b := change.Brief{
		Target: in.Target().String(), Engine: snap.Instance.Engine, Environment: snap.Server.Environment,
		Identity: snap.Instance.Identity.String(), Read: snap.Instance.Read,
		Settings: []change.Setting{}, Findings: []change.Finding{}, Steps: []change.Step{},
	}
	if in.Database != nil && in.Database.Blueprint != nil {
		use := in.Database.Blueprint
		b.Set(change.Setting{Name: "blueprint", Value: use.Name + ", version " + strconv.Itoa(use.Version), Asked: true,
			Decides: "which recipe the rest is taken from, where nothing else is asked for"})
	}
	if snap.Instance.ReadOnly != "" {
		b.Find(change.Stop, change.ServerReadOnly, "Register the primary as a server of its own and ask there.",
			"Nothing can be altered on %s: %s.", snap.Server.Name, snap.Instance.ReadOnly)
	}
	return b
}

// Rights adds the finding that the login may not create databases.
func Rights(b *change.Brief, snap catalog.Snapshot) {
	if login := snap.Instance.Login; !login.May("create_database") {
		b.Find(change.Stop, change.RightsMissing, login.Remedy("create_database"),
			"Genarch's login %s may not create databases on %s.", login.Name, snap.Server.Name)
	}
}

// Name adds what speaks against the name: the server's rule, and names
// that exist. It reports whether the database is there already and the intent
// asks to create it only if absent: then there is nothing to make.
func Name(b *change.Brief, spec change.DatabaseSpec, snap catalog.Snapshot, lim naming.Limits) (exists bool) {
	rule := snap.Server.NameRule
	taken := func(name string) bool {
		_, _, found := naming.Clashes(name, snap.Names)
		return found
	}
	if snap.Target != nil && spec.IfNotExists {
		return true
	}
	suggestion := rule.Suggest(spec.Name, lim, taken)
	next := "Choose another name."
	if suggestion != "" {
		next = "For example: " + suggestion
	}
	for _, p := range rule.Check(spec.Name, lim) {
		b.Find(change.Stop, p.Code, next, "%s", p.Text).Suggestion = suggestion
	}
	with, how, found := naming.Clashes(spec.Name, snap.Names)
	if !found {
		return false
	}
	var f *change.Finding
	switch how {
	case naming.SameName:
		f = b.Find(change.Stop, change.NameTaken, next+"; or let it be, if it is there.",
			"There is a database %s on %s already.", naming.Show(with), snap.Server.Name).
			Offer(remedy.Option("if_not_exists", remedy.Yes))
	case naming.SameButCase:
		f = b.Find(change.Stop, change.NameTakenByCase, next,
			"There is a database %s on %s, which differs only in upper and lower case.", naming.Show(with),
			snap.Server.Name)
	default:
		f = b.Find(change.Caution, change.NameLookalike, next,
			"There is a database %s on %s, which is easily mistaken for this one.", naming.Show(with), snap.Server.Name)
	}
	f.Suggestion = suggestion
	return false
}

// Existing ends a brief for a database that is there: nothing to do, and
// every property in which it is not as asked.
func Existing(b *change.Brief, asked, have map[string]string, same func(name, want, have string) bool) {
	b.Outcome = change.Nothing
	for _, name := range slices.Sorted(maps.Keys(asked)) {
		if !same(name, asked[name], have[name]) {
			b.Differences = append(b.Differences, change.Difference{Name: name, Asked: asked[name], Actual: have[name]})
		}
	}
	if len(b.Differences) == 0 {
		b.Find(change.Note, change.ExistsAsAsked, "", "%s exists already, as asked, so nothing will be done.", b.Target)
		b.Summary = b.Target + " is there already, as asked"
		return
	}
	var words []string
	for _, d := range b.Differences {
		words = append(words, d.Name+" is "+naming.Show(d.Actual)+", asked "+naming.Show(d.Asked))
	}
	b.Summary = b.Target + " is there already, but not as asked"
	b.Find(change.Note, change.ExistsDifferent, "", "%s exists already and differs: %s. Nothing will be done.",
		b.Target, strings.Join(words, "; "))
}

// Source is where a default comes from; empty for what was asked.
func Source(asked bool, source string) string {
	if asked {
		return ""
	}
	return source
}

// Shorten joins a list for a sentence, at most ten of it.
func Shorten(list []string) string {
	if n := len(list); n > 10 {
		return strings.Join(list[:10], ", ") + fmt.Sprintf(" and %d more", n-10)
	}
	return strings.Join(list, ", ")
}
