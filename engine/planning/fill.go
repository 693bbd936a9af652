package planning

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"example.com/genarch/core/change"
	"example.com/genarch/core/naming"
	"example.com/genarch/core/remedy"
	"example.com/genarch/core/script"
	"example.com/genarch/engine"
)

// FillSeconds bounds the run of a script: half a day.
const FillSeconds = 12 * 3600

// StaysText is what undoing a script comes to that did not run in one transaction.
const StaysText = "SELECT 'what had taken effect stays'"

// OneTransaction is the option by which a script takes effect as a whole or not at all.
const OneTransaction = "one_transaction"

// TransactionField is the option; but says what it does not hold for.
func TransactionField(but string) engine.Field {
	return engine.Field{Name: OneTransaction, Title: "In one transaction", Type: engine.Yes,
		In: []change.Kind{change.FillDatabase}, Show: engine.Nowhere, Default: "yes, where the script can run in one",
		Decides: "whether all of the script takes effect, or none" + but}
}

// Filler is the name of the account as which a script runs.
func Filler(id string) string { return "genarch_fill_" + id[:min(12, len(id))] }

// Fill says what a script holds, and what speaks against running it in the database. It
// reports false where there is nothing to plan. has reports whether a table is there that the
// script speaks of.
//
// Long: a list of what can be wrong with a script.
func Fill(p *Draft, has func(script.Named) bool) bool {
	b, name := &p.Brief, p.In.Database.Name
	b.Summary = "run a script in database " + naming.Show(name) + " on " + p.Snap.Server.Name
	d := p.Snap.Target
	switch {
	case d == nil:
		b.Find(change.Stop, change.DatabaseAbsent, "Create it first, or look for its name.", "There is no "+
			"database %s on %s.",
			naming.Show(name), p.Snap.Server.Name).Offer(remedy.Command("database.create", b.Target),
			remedy.Command("database.list", p.Snap.Server.Name))
	case d.Held != nil:
		b.Find(change.Stop, change.DatabaseHeld, "Bring it back first.",
			"%s is what %s was set aside as, and cannot be filled.", naming.Show(name), naming.Show(d.Held.Name)).
			Offer(remedy.Command("holding.bring-back", b.Target))
	case d.System:
		b.Find(change.Stop, change.DatabaseKept, "Choose another database.",
			"%s belongs to the server itself, or to Genarch, and cannot be filled.",
			naming.Show(name))
	}
	if p.Snap.Script == nil {
		b.Find(change.Stop, change.ScriptAbsent, "Send the script again.",
			"There is no such script; one that no change asks for is kept for a day.")
		return false
	}
	k := *p.Snap.Script
	s := k.Summary
	b.Summary = "run " + naming.Show(cmp.Or(k.File, "a script")) + " in database " + naming.Show(name) + " on " +
		p.Snap.Server.Name
	fillSettings(p, k)
	fillForm(p, k)
	if k.Of != "" {
		return false // nothing of it means what it seems to
	}
	places := func(m script.Mark) string { return placesText(s.Marks[m]) }
	if s.Has(script.Refused) {
		b.Find(change.Stop, change.ScriptRefused, "Take these lines out.",
			"The script has what Genarch does not run: commands of the engine's own client, or what reads or "+
				"writes files or runs programs: %s.",
			places(script.Refused))
	}
	outside(p, s)
	if s.Has(script.Placeholder) {
		b.Find(change.Caution, change.ScriptPlaceholder, "Fill them in, and send the script again.",
			"Something that was to be filled in is not: %s.", places(script.Placeholder))
	}
	if s.Has(script.Typographic) {
		b.Find(change.Caution, change.ScriptTypographic, "Put plain quotes there.",
			"Typographic quotes stand where quotes are meant: %s.", places(script.Typographic))
	}
	if there := present(s.Names[script.Makes], has, s); len(there) > 0 {
		b.Find(change.Caution, change.ScriptExisting, "Run it in an empty database, or let the script drop them first.",
			"The script creates tables that are there already, and would fail: %s.", Shorten(there))
	}
	var lost []string
	for _, role := range []script.Role{script.Drops, script.Replaces} {
		for _, n := range s.Names[role].List {
			if has(n) {
				lost = append(lost, fmt.Sprintf("%s (line %d)", naming.Show(shownName(n)), n.Line))
			}
		}
	}
	if len(lost) > 0 {
		b.Find(change.Caution, change.ScriptDrops, "Make sure that nobody needs what is in them.",
			"The script drops tables that are there, with their rows: %s.", Shorten(lost))
	}
	return d != nil
}

// present are the tables that are there already and that the script makes without dropping
// them first.
func present(made script.Names, has func(script.Named) bool, s script.Summary) []string {
	var out []string
	for _, n := range made.List {
		dropped := slices.ContainsFunc(append(s.Names[script.Replaces].List, s.Names[script.Drops].List...),
			func(d script.Named) bool { return d.Text == n.Text && d.Line <= n.Line })
		if has(n) && !dropped {
			out = append(out, fmt.Sprintf("%s (line %d)", naming.Show(shownName(n)), n.Line))
		}
	}
	return out
}

func shownName(n script.Named) string {
	if n.Schema != "" {
		return n.Schema + "." + n.Text
	}
	return n.Text
}

// fillSettings says what the script is.
func fillSettings(p *Draft, k script.Kept) {
	b, s := &p.Brief, k.Summary
	set := func(name, title, value, decides string) {
		b.Set(change.Setting{Name: name, Title: title, Value: value, Asked: true, Decides: decides})
	}
	set("script", "Script", fmt.Sprintf("%s, %s, %s", cmp.Or(k.File, "from standard input"), naming.SizeText(s.Size),
		naming.Count(s.Lines, "line")), "what is run")
	set(change.ScriptHash, "Hash (SHA-256)", s.SHA256, "by which it is told that it is the one that you mean")
	encoding := s.Encoding
	if s.BOM {
		encoding += ", with a byte order mark, which is passed over"
	}
	if s.CRLF {
		encoding += ", with line ends as on Windows"
	}
	set("encoding", "Characters", encoding, "how its bytes are read")
	var kinds []string
	for _, c := range s.Kinds[:min(len(s.Kinds), 12)] {
		kinds = append(kinds, fmt.Sprintf("%d × %s", c.N, c.Kind))
	}
	if len(s.Kinds) > 12 {
		kinds = append(kinds, "and others")
	}
	set("statements", "Statements", p.D.Script.Count(s.Statements)+": "+strings.Join(kinds, ", "), "what it holds")
	if made := s.Names[script.Makes]; made.N > 0 {
		var names []string
		for _, n := range made.List {
			names = append(names, naming.Show(shownName(n)))
		}
		set("tables", "Tables", Shorten(names), "what it creates")
	}
}

// fillForm finds what is wrong with the script as a file.
func fillForm(p *Draft, k script.Kept) {
	b, s := &p.Brief, k.Summary
	if k.Of != "" {
		b.Find(change.Stop, change.ScriptForeign, "Run it on such a server.",
			"The script says of itself that it is a dump of %s: %s.", k.Of, naming.Show(s.Begins))
	}
	switch {
	case s.Encoding == "UTF-16" && !(p.D.Script.Wide && s.BOM):
		b.Find(change.Stop, change.ScriptEncoding, "Save it as UTF-8.",
			"The script is written in UTF-16, which the server does not read.")
		return
	case strings.HasPrefix(s.Begins, "PGDMP") || s.Invalid == 1 && s.Statements <= 1 && s.Broken != nil:
		b.Find(change.Stop, change.ScriptEncoding, "Write it as a plain script, not as an archive; unpack what "+
			"is packed.",
			"The file is no text.")
		return
	case s.Broken != nil:
		b.Find(change.Stop, change.ScriptBroken, "Look there; the file may have been cut off.",
			"The script cannot be taken apart: in line %d, column %d, "+
				"%s.", s.Broken.Line, s.Broken.Column, s.Broken.Text)
	case s.Statements == 0 && !s.Has(script.Refused):
		b.Find(change.Stop, change.ScriptEmpty, "Look whether it is the right file.", "The script has no statement.")
	}
	switch {
	case s.Invalid == 0:
	case p.D.Script.Wide:
		b.Find(change.Stop, change.ScriptEncoding, "Save it as UTF-8, or as UTF-16 with a byte order mark.",
			"From line %d on the script has bytes that are no UTF-8, and would be lost.", s.Invalid)
	default:
		b.Find(change.Caution, change.ScriptEncoding,
			"Save it as UTF-8, unless the script itself says what its characters are.",
			"From line %d on the script has bytes that are no UTF-8.", s.Invalid)
	}
}

// outside stops at what is about more than this one database. What is about this very
// database is let pass.
func outside(p *Draft, s script.Summary) {
	var others []string
	for _, n := range s.Names[script.Database].List {
		if !sameDatabase(p, n.Text) {
			others = append(others, fmt.Sprintf("%s (line %d)", naming.Show(n.Text), n.Line))
		}
	}
	if len(others) > 0 {
		p.Find(change.Stop, change.ScriptOutside, "Take that out; dump one database without a name for it.",
			"The script is about other databases too: %s.", Shorten(others))
	}
	if s.Has(script.Outside) {
		p.Find(change.Stop, change.ScriptOutside, "Take these lines out, and make such changes by themselves.",
			"The script is about more than this database (other databases, accounts, the server): %s.",
			placesText(s.Marks[script.Outside]))
	}
}

// sameDatabase reports whether a script that speaks of a database means the one that it is to run in.
func sameDatabase(p *Draft, name string) bool {
	mine := p.In.Database.Name
	return name == mine || p.D.Script.AnyCase && strings.EqualFold(name, mine) && !slices.Contains(p.Snap.Names, name)
}

// placesText lists places: "line 12 (CREATE ROLE), line 40 (SET) and 3 more".
func placesText(p script.Places) string {
	var out []string
	for _, x := range p.First {
		out = append(out, fmt.Sprintf("line %d (%s)", x.Line, x.Text))
		if len(out) == 6 {
			break
		}
	}
	text := strings.Join(out, ", ")
	if more := p.N - len(out); more > 0 {
		text += fmt.Sprintf(" and %d more", more)
	}
	return text
}

// Places says where a mark stands.
func Places(s script.Summary, m script.Mark) string { return placesText(s.Marks[m]) }

// FillAtOnce settles whether the script runs in one transaction: by default where it can.
func FillAtOnce(p *Draft, s script.Summary) (atOnce bool) {
	var why []string
	if s.Has(script.Alone) {
		why = append(why, "the server does not take these in one: "+Places(s, script.Alone))
	}
	if s.Has(script.Transaction) {
		why = append(why, "it has transactions of its own: "+Places(s, script.Transaction))
	}
	possible := len(why) == 0
	p.Default(OneTransaction, possible, "the script")
	atOnce = p.Settled.Bool(OneTransaction)
	value := "no"
	if atOnce {
		value = "yes"
	}
	source := "the script"
	if p.Asked.Has(OneTransaction) {
		source = ""
	}
	p.Set(change.Setting{Name: OneTransaction, Title: "In one transaction", Value: value,
		Asked: p.Asked.Has(OneTransaction), Source: source, Decides: "whether all of it takes effect, or none"})
	switch {
	case atOnce && !possible:
		p.About(OneTransaction, change.Stop, change.ScriptAtOnce, "Run it without.",
			"It cannot run in one transaction: %s.", strings.Join(why, "; ")).
			Offer(remedy.Option("options."+OneTransaction, remedy.Off))
	case atOnce:
		p.Find(change.Note, change.ScriptAtOnce, "",
			"All of it takes effect at the end, or, at the first error or when it is stopped, nothing.")
	default:
		text := "At the first error, or when it is stopped, it ends there, and what took effect before stays."
		if !possible {
			text += " One transaction is not possible: " + strings.Join(why, "; ") + "."
		}
		p.Find(change.Note, change.ScriptAtOnce, "", "%s", text)
	}
	return atOnce
}

// FillTitle is the title of the step that runs the script.
func FillTitle(p *Draft, k script.Kept) string {
	return "run " + p.D.Script.Count(k.Summary.Statements) + " of " + naming.Show(cmp.Or(k.File, "the script"))
}
