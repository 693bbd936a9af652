package postgres

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/naming"
	"example.com/genarch/core/remedy"
	"example.com/genarch/engine/planning"
)

const (
	// defaultTemplate is what the engine copies when nothing is said.
	defaultTemplate = "template1"
	// pristine is the template that any encoding and locale can be made from.
	pristine = "template0"

	strategyWAL  = "wal_log"
	strategyCopy = "file_copy"
)

// The kinds of steps that make and describe a database.
const (
	stepCreate  = "create_database"
	stepComment = "comment"
)

// createSeconds bounds a creation: copying a large template takes minutes, and
// the server may wait for its disk first.
const createSeconds = 600

// equal compares two values of an option as the server does.
func equal(option string, want, have any) bool {
	x, y := catalog.WriteValue(want), catalog.WriteValue(have)
	switch option {
	case "encoding":
		return normalEncoding(x) == normalEncoding(y)
	case "collation", "ctype":
		return sameLocale(x, y)
	case "settings":
		return settingsHold(want, have)
	}
	return x == y
}

// settingsHold reports whether all the settings that are asked for are so: one
// without a value is not there.
func settingsHold(want, have any) bool {
	rows, _ := have.([]catalog.Values)
	asked, _ := want.([]catalog.Values)
	return !slices.ContainsFunc(asked, func(row catalog.Values) bool {
		value, there := setting(rows, row.Text("name"))
		return there != row.Has("value") || !sameSetting(row.Text("name"), value, row.Text("value"))
	})
}

// planCreate collects everything that speaks against the database as asked,
// settles each property, and lays out the steps.
func planCreate(p *planning.Draft) {
	spec, snap := *p.In.Database, p.Snap
	p.Summary = "create database " + naming.Show(spec.Name) + " on " + snap.Server.Name
	if planning.Name(&p.Brief, spec, snap, limits) {
		planExisting(p)
		return
	}
	planning.Rights(&p.Brief, snap)
	if spec.Team != nil {
		planTeam(p)
	}
	settings := likeTemplate(p)
	planOwner(p)
	if t, ok := planTemplate(p); ok {
		planLocale(p, t)
		p.Default("tablespace", t.Properties["tablespace"], "template "+t.Name)
	}
	p.Default("strategy", strategyWAL, "PostgreSQL")
	p.Default("connection_limit", "none", "PostgreSQL")
	p.Default("allow_connections", true, "PostgreSQL")
	p.Default("is_template", false, "PostgreSQL")
	want := p.Settings(false)
	want["comment"] = p.Settled.Text("comment")
	if spec.Team != nil {
		p.Summary += " for the team " + naming.Show(spec.Team.Name)
		teamSettings(&p.Brief, *spec.Team, spec.Name)
	}

	var after []change.Step
	if p.In.Clearing != nil && snap.Source != nil {
		var before []change.Step
		before, after = clearTemplate(&p.Brief, p.In, snap)
		p.Step(before...)
	}
	said := p.Asked
	if limit, any := p.Settled.Int("connection_limit"); any {
		said = said.With("connection_limit", limit)
	}
	create := change.Step{
		Kind: stepCreate, Title: "create database " + naming.Show(spec.Name),
		Statement: createDatabase(spec.Name, said, p.Settled), Undo: dropDatabase(spec.Name),
		Seconds: createSeconds, Args: map[string]string{"name": spec.Name, "template": p.Settled.Text("template")},
	}
	if spec.Team != nil {
		create.Args["owner_made"] = p.Settled.Text("owner") // by the same change: see evidence
	}
	p.Step(create)
	p.Step(after...)
	if comment := p.Settled.Text("comment"); comment != "" {
		p.Step(commentDatabaseStep(spec.Name, comment, ""))
	}
	p.Step(settings...)
	p.Step(planPrivate(p)...)
	p.Step(grantsLikeTemplate(p)...)
	p.Step(change.Step{Kind: change.Verify, Title: "read back and compare", ReadOnly: true, Args: want})
	if spec.Team != nil {
		p.Step(proveStep(*spec.Team, spec.Name))
	}
}

// commentDatabaseStep sets the comment; its undo is the one that there was.
func commentDatabaseStep(name, comment, was string) change.Step {
	title := "set the comment"
	if comment == "" {
		title = "remove the comment"
	}
	return change.Step{Kind: stepComment, Title: title, Statement: commentOnDatabase(name, comment),
		Undo: commentOnDatabase(name, was),
		Args: map[string]string{"name": name, "comment": comment}}
}

// planExisting says whether the database that is there is as asked. With the
// provider libc a locale is both collation and character type.
func planExisting(p *planning.Draft) {
	if locale := p.Asked.Text("locale"); locale != "" && p.Snap.Target.Properties.Text("provider") == providerLibc {
		p.Asked = p.Asked.With("collation", locale).With("ctype", locale)
		delete(p.Asked, "locale")
		p.Settle("collation", locale)
		p.Settle("ctype", locale)
	}
	p.Existing()
}

func planOwner(p *planning.Draft) {
	login := p.Snap.Instance.Login
	p.Default("owner", login.Name, "Genarch's login")
	owner := p.Settled.Text("owner")
	if w := p.Finding("owner", change.OptionAbsent); w != nil {
		w.Next = "Create the role first: CREATE ROLE " + quoteIdent(p.Asked.Text("owner")) +
			" NOLOGIN; or leave the owner out"
		return
	}
	if owner == login.Name || p.In.Database.Team != nil || p.Snap.OwnerAllowed || login.Superuser {
		return
	}
	grant := "GRANT " + quoteIdent(owner) + " TO " + quoteIdent(login.Name)
	if p.Snap.Instance.Number >= 160000 {
		grant += " WITH SET TRUE, INHERIT TRUE"
	}
	p.About("owner", change.Stop, change.OwnerDenied, grant,
		"Genarch's login %s may not make a database for %s: it is not a member of that role.", login.Name, owner)
}

// planTemplate settles which database is copied. Encoding and locale can only
// differ from the template's when that is template0.
func planTemplate(p *planning.Draft) (catalog.Choice, bool) {
	p.Default("template", defaultTemplate, "PostgreSQL")
	t, ok := p.Snap.Choices.Find("templates", p.Settled.Text("template"), nil)
	if !ok {
		return t, false // said already, by the choice
	}
	if differs := localeDiffers(p, t); len(differs) > 0 && t.Name != pristine {
		if p.Asked.Has("template") {
			p.About("template", change.Stop, change.TemplateMismatch,
				"Leave out "+strings.Join(differs, " and ")+", or copy from template0",
				"A copy of %s has its encoding %s, collation %s and provider %s; only a copy of template0 can have others.", t.Name,
				t.Properties.Text("encoding"), t.Properties.Text("collation"), t.Properties.Text("provider")).
				Suggestion = pristine
			return t, false
		}
		if zero, found := p.Snap.Choices.Find("templates", pristine, nil); found {
			p.About("template", change.Note, change.TemplateSwitched, "",
				"%s asked for is not that of template1, so the empty template0 is copied: what was added to template1 will not be in it.", strings.Join(differs, " and "))
			t = zero
			p.Settle("template", pristine)
		}
	}
	if old := t.Properties.Text("collation_version"); old != "" {
		p.About("template", change.Stop, change.TemplateCollation,
			"Rebuild the indexes in it that sort text, and refresh its version; or copy from another template.",
			"%s sorts by version %s of its collation, and the system has %s: the server copies no such template.",
			t.Name, old, cmp.Or(t.Properties.Text("system_collation_version"), "none")).
			Offer(remedy.Command("database.alter", p.Snap.Server.Name+"/"+t.Name).With("options.refresh_collation",
				remedy.Yes))
	}
	sessions, _ := t.Properties.Int("sessions")
	switch denied := p.Finding("template", change.OptionUnusable); {
	case denied != nil:
		denied.Next = "ALTER DATABASE " + quoteIdent(t.Name) + " IS_TEMPLATE true"
	case t.Why != "" && !p.Snap.Instance.Login.Superuser:
		p.About("template", change.Stop, change.OptionUnusable,
			"ALTER DATABASE "+quoteIdent(t.Name)+" IS_TEMPLATE true",
			"%s cannot be copied by Genarch's login: %s.", t.Name, t.Why)
	case sessions > 0 && p.In.Clearing == nil:
		who := strings.Join(detailsOf(p.Snap.Details).TemplateUsers, ", ")
		if who == "" {
			who = fmt.Sprintf("%d sessions", sessions)
		}
		p.About("template", change.Stop, change.TemplateInUse,
			"End their sessions with the same change; or copy from another template.",
			"%s cannot be copied while somebody is connected to it: %s.", t.Name, who).
			Offer(remedy.Option("clearing", remedy.Yes))
	}
	return t, true
}

// localeDiffers names what was asked for and is not the template's.
func localeDiffers(p *planning.Draft, t catalog.Choice) []string {
	var out []string
	for _, o := range []struct{ option, words string }{{"encoding", "the encoding"}, {"collation", "the collation"},
		{"ctype", "the character type"},
		{"provider", "the locale provider"}, {"locale", "the locale"}} {
		if asked, ok := p.Asked[o.option]; ok && !equal(o.option, asked, t.Properties[o.option]) {
			out = append(out, o.words)
		}
	}
	return out
}

// planLocale settles encoding, provider, collation, character type and locale,
// and says what of it does not fit together.
func planLocale(p *planning.Draft, t catalog.Choice) {
	from := "template " + t.Name
	for _, o := range []string{"encoding", "provider", "collation"} {
		p.Default(o, t.Properties[o], from)
	}
	provider := p.Settled.Text("provider")
	if provider == "" || p.Settled.Text("encoding") == "" {
		return // said already
	}
	if provider == t.Properties.Text("provider") && provider != providerLibc {
		p.Default("locale", t.Properties["locale"], from)
	}
	if locale := p.Asked.Text("locale"); provider == providerLibc && locale != "" {
		planLibcLocale(p, locale)
	}
	if p.Asked.Has("collation") {
		p.Default("ctype", p.Settled["collation"], "the collation")
	}
	p.Default("ctype", t.Properties["ctype"], from)
	if provider != providerLibc {
		planProviderLocale(p, provider)
	}
	planFit(p, provider)
}

// planLibcLocale sets both collation and character type: that is what a locale
// means with the provider libc.
func planLibcLocale(p *planning.Draft, locale string) {
	if p.Asked.Has("collation") || p.Asked.Has("ctype") {
		p.About("locale", change.Stop, change.OptionInvalid, "Give either the locale or collation and character type.",
			"With the provider libc a locale sets both collation and character type.")
	}
	if _, listed := p.Snap.Choices.Find("collations", locale, sameLocale); !listed {
		p.About("locale", change.Caution, change.OptionUnlisted,
			"Choose one of the list.",
			"The server does not list a locale %s; it may have been installed later, and then works, else the server refuses it and nothing happens.", naming.Show(locale)).
			Offer(remedy.Choices(p.Snap.Server.Name, "collations"))
	}
	p.Settle("collation", locale)
	p.Settle("ctype", locale)
	delete(p.Settled, "locale")
}

// planProviderLocale checks the locale of icu and builtin. PostgreSQL takes any
// nonsense for icu, so what it does not know is refused here.
func planProviderLocale(p *planning.Draft, provider string) {
	locale := p.Settled.Text("locale")
	if locale == "" {
		p.About("locale", change.Stop, change.LocaleMissing,
			"Add a locale, for example "+map[string]string{providerICU: "en", providerBuiltin: "C.UTF-8"}[provider],
			"The provider %s needs a locale.", provider)
		return
	}
	listed := p.Snap.Choices["locales"]
	known := locale == "und" || len(listed) == 0 ||
		provider == providerBuiltin && slices.Contains([]string{"C", "C.UTF-8", "PG_UNICODE_FAST"}, locale) ||
		slices.ContainsFunc(listed, func(c catalog.Choice) bool {
			return c.For == provider && (c.Name == locale ||
				provider == providerICU && language(c.Name) == language(locale))
		})
	if !known {
		p.About("locale", change.Stop, change.CollationUnknown,
			"Choose one of the list.",
			"The provider %s knows no locale %q; the server would take it and then sort in some other way.", provider,
			locale).Offer(remedy.Choices(p.Snap.Server.Name, "locales"))
	}
}

// planFit checks that encoding and locale fit each other, whichever template.
func planFit(p *planning.Draft, provider string) {
	encoding, locale := p.Settled.Text("encoding"), p.Settled.Text("locale")
	switch {
	case provider == providerICU &&
		slices.Contains([]string{"SQL_ASCII", "MULE_INTERNAL", "EUC_JIS_2004", "SHIFT_JIS_2004"}, encoding):
		p.About("encoding", change.Stop, change.CollationMismatch, "Take encoding UTF8, or the provider libc.",
			"The provider icu cannot handle the encoding %s.", encoding).Suggestion = "UTF8"
	case provider == providerBuiltin && locale != "C" && encoding != "UTF8":
		p.About("encoding", change.Stop, change.CollationMismatch, "Take encoding UTF8, or the locale C.",
			"The builtin locale %s needs the encoding UTF8, not %s.", locale, encoding).Suggestion = "UTF8"
	}
	if encoding == "SQL_ASCII" && provider == providerLibc {
		return
	}
	for _, o := range []struct{ option, words string }{{"collation", "collation"}, {"ctype", "character type"}} {
		name := p.Settled.Text(o.option)
		if needs := localeEncoding(name); needs != "" && needs != encoding {
			p.About(o.option, change.Stop, change.CollationMismatch,
				"Take collation and character type C, which fit every encoding, or the encoding "+needs,
				"The %s %s belongs to the encoding %s, not to %s.", o.words, name, needs, encoding).Suggestion = "C"
			return
		}
	}
}

// limitNumber is a connection limit as the server writes it: -1 for none.
func limitNumber(limit any) string {
	if n, ok := limit.(int64); ok {
		return strconv.FormatInt(n, 10)
	}
	return "-1"
}

// facts writes a database's properties under the names that verifying uses.
func facts(d catalog.Database) map[string]string {
	out := map[string]string{"name": d.Name, "key": d.Key, "comment": d.Comment, "closed": yesNo(d.Closed)}
	if d.Held != nil {
		out["held_as"] = d.Held.Name
	}
	for name, value := range d.Values() {
		out[name] = catalog.WriteValue(value)
	}
	return out
}
