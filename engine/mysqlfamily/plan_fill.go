package mysqlfamily

import (
	"fmt"
	"slices"
	"strings"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/naming"
	"example.com/genarch/core/remedy"
	"example.com/genarch/core/script"
	"example.com/genarch/engine"
	"example.com/genarch/engine/planning"
)

// The kinds of steps by which a script is run.
const (
	stepFiller  = "fill_account"
	stepFill    = "fill"
	stepDefiner = "fill_definers"
	stepUnfill  = "fill_account_gone"
)

// runAs is the option that says as which account runs what the script makes.
const runAs = "definer"

// filling is what planning needs of the database that a script is to run in.
type filling struct {
	Tables []string // with its views and sequences
	// MaxPacket is the longest statement that the server takes, in bytes.
	MaxPacket int64
}

// planFill briefs the run of a script: as an account of its own that has the bundle own on
// this one database, and is dropped afterwards.
//
// Long: its findings stand in the order in which they are read.
func planFill(p *planning.Draft) {
	b, snap := &p.Brief, p.Snap
	more := detailsOf(snap.Details)
	has := func(n script.Named) bool {
		return (n.Schema == "" || n.Schema == p.In.Database.Name) &&
			slices.ContainsFunc(more.Filling.Tables, func(t string) bool { return strings.EqualFold(t, n.Text) })
	}
	if !planning.Fill(p, has) {
		return
	}
	d, k := *snap.Target, *snap.Script
	planReadOnly(b, d)
	atOnce := planning.FillAtOnce(p, k.Summary)
	if s := k.Summary; more.Filling.MaxPacket > 0 && int64(s.Longest) >= more.Filling.MaxPacket {
		b.Find(change.Stop, change.ScriptLong, "Raise max_allowed_packet of the server, or write shorter statements.",
			"The statement at line %d has %s; the server takes %s (max_allowed_packet).", s.LongestAt,
			naming.SizeText(int64(s.Longest)), naming.SizeText(more.Filling.MaxPacket))
	}
	if login := snap.Instance.Login; !login.May("manage_accounts") {
		b.Find(change.Stop, change.RightsMissing, login.Remedy("manage_accounts"),
			"A script runs as an account of its own, which Genarch's login %s may not make.", login.Name)
	}
	planGivable(b, p.In.Database.Name, snap)
	if more.Strict != "" {
		b.Find(change.Stop, change.OptionUnsupported,
			"SET GLOBAL strict_password_validation=0, so that the server takes a verifier that it cannot check itself",
			"The server checks passwords with %s and refuses a verifier, by which the account of the script "+
				"would sign in.",
			more.Strict)
	}
	definer, of := planDefiner(p, d, k.Summary), productOf(snap)
	filler := catalog.Principal{Name: planning.Filler(k.ID), Host: more.Client}
	b.Find(change.Note, change.FillAccount, "",
		"The script runs as the account %s, made for it and dropped afterwards, which has all privileges on "+
			"this database and none elsewhere.",
		naming.Show(filler.String()))
	args := func() map[string]string {
		return map[string]string{"name": d.Name, "account": filler.Name, "host": filler.Host, change.ArgScript: k.ID}
	}
	drop := "DROP USER IF EXISTS " + quoteAccount(filler.Name, filler.Host)
	do := []string{"CREATE USER " + quoteAccount(filler.Name, filler.Host) + " " + of.credential(of.plainMethod) +
		quoteText(of.nobody) + " ACCOUNT LOCK",
		grantSQL(columnText(of.own(), ""),
			onSQL(catalog.Object{Scope: catalog.ScopeDatabase, Database: d.Name}), filler, false)}
	first := args()
	first["do"], first["undo"] = engine.EncodeList(do), engine.EncodeList([]string{drop})
	run := change.Step{Kind: stepFill, Title: planning.FillTitle(p, k), Halts: true, Seconds: planning.FillSeconds,
		Repair: planning.StaysText, Args: args()}
	run.Args["size"], run.Args["at_once"] = fmt.Sprint(k.Summary.Size), catalog.WriteValue(atOnce)
	p.Step(change.Step{Kind: stepFiller, Title: "make the account as which it runs", Statement: strings.Join(do, ";\n"),
		Undo: drop, Repair: drop, Args: first}, run)
	if k.Summary.Has(script.Defines) && definer != "" {
		last := args()
		last[runAs] = definer
		p.Step(change.Step{Kind: stepDefiner, Title: "have what the script made run as " + naming.Show(definer),
			Seconds: dropSeconds, Args: last})
	}
	p.Step(change.Step{Kind: stepUnfill, Title: "drop the account again", Statement: drop, Seconds: 120, Args: args()},
		change.Step{Kind: change.Verify, Title: "read back and compare", ReadOnly: true,
			Args: map[string]string{"name": d.Name}})
}

// planDefiner settles as which account runs what the script makes.
func planDefiner(p *planning.Draft, d catalog.Database, s script.Summary) string {
	if !s.Has(script.Defines) {
		return ""
	}
	if productOf(p.Snap).onlyTables {
		p.Find(change.Stop, change.ScriptDefiners, "Make these by the engine's own client, as the account that is to stay.",
			"The script makes views, routines, triggers or events (%s), which would run with the rights of its account; "+
				"%s cannot give them to another one without dropping them first.", planning.Places(s, script.Defines),
			productOf(p.Snap).description.Title)
		return ""
	}
	found := p.Snap.OwnerFound
	asked := p.Asked.Text(runAs)
	var named []string
	for _, n := range s.Names[script.Definer].List {
		named = append(named, naming.Show(n.Text))
	}
	says := ""
	if len(named) > 0 {
		says = "; the script names " + planning.Shorten(named) + ", which is left out"
	}
	switch {
	case asked == "" && d.Owner != "" && !strings.Contains(d.Owner, ", "):
		found = []string{d.Owner}
	case asked == "":
		p.About(runAs, change.Stop, change.ScriptDefiners, "Say as which.",
			"The script makes views, routines, triggers or events (%s): each runs with the rights of an "+
				"account that stays%s.",
			planning.Places(s, script.Defines), says).
			Offer(remedy.Choices(p.Snap.Server.Name, "owners"))
		return ""
	case len(found) == 0:
		p.About(runAs, change.Stop, change.OptionAbsent, "Choose one of the list.", "There is no account %s on %s.",
			naming.Show(asked), p.Snap.Server.Name).Offer(remedy.Choices(p.Snap.Server.Name, "owners"))
		return ""
	case len(found) > 1:
		p.About(runAs, change.Stop, change.OwnerAmbiguous, "Write it with its host.", "%s is several accounts: %s.",
			naming.Show(asked), planning.Shorten(found))
		return ""
	}
	if login := p.Snap.Instance.Login; !login.May("set_definers") {
		p.Find(change.Stop, change.RightsMissing, login.Remedy("set_definers"),
			"What the script makes is to run as %s, and Genarch's login %s may not set that.", naming.Show(found[0]),
			login.Name)
	}
	p.Find(change.Note, change.ScriptDefiners, "",
		"The views, routines, triggers and events that the script makes run with the rights of "+
			"%s%s.", naming.Show(found[0]), says)
	p.Set(change.Setting{Name: runAs, Title: "Runs as", Value: found[0], Asked: asked != "",
		Source:  map[bool]string{true: "", false: "the owner"}[asked != ""],
		Decides: "with whose rights views, routines, triggers and events run"})
	return found[0]
}
