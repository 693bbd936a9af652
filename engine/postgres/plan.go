package postgres

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/naming"
	"example.com/genarch/engine"
)

const (
	// defaultTemplate is what the engine copies when nothing is said.
	defaultTemplate = "template1"
	// pristine is the template that any encoding and locale can be made from.
	pristine = "template0"

	strategyWAL  = "wal_log"
	strategyCopy = "file_copy"
)

// The kinds of steps that this engine carries out.
const (
	stepCreate  = "create_database"
	stepComment = "comment"
)

// Plan briefs an intent. It is pure.
func (Engine) Plan(in change.Intent, snap catalog.Snapshot) (change.Brief, error) {
	if err := in.Check(); err != nil {
		return change.Brief{}, err
	}
	b := engine.NewBrief(in, snap)
	switch in.Kind {
	case change.CreateDatabase:
		planCreate(&b, in, snap)
	case change.DropDatabase, change.RenameDatabase, change.MoveDatabase:
		planTakeAway(&b, in, snap)
	case change.EndSessions:
		planEndSessions(&b, in, snap)
	case change.CreateAccount:
		planCreateAccount(&b, *in.Account, snap)
	case change.AlterAccount:
		planAlterAccount(&b, in, snap)
	case change.RenameAccount:
		planRenameAccount(&b, *in.Account, snap)
	case change.SetPassword:
		planSetPassword(&b, *in.Account, snap)
	case change.DropAccount:
		planDropAccount(&b, in, snap)
	case change.GiveRole, change.TakeRole:
		planMember(&b, *in.Member, snap, in.Kind == change.GiveRole)
	case change.GiveGrant:
		planGive(&b, *in.Grant, snap)
	case change.TakeGrant:
		planTake(&b, *in.Grant, snap)
	default:
		b.Summary = "mark " + in.Server
		b.Find(change.Stop, change.ServerHasIdentity, "nothing has to be done",
			"PostgreSQL has a mark of its own, the system identifier: %s", snap.Instance.Identity.Key)
	}
	return b.Seal(), nil
}

// planCreate collects everything that speaks against the database as asked,
// settles each property, and lays out the steps.
func planCreate(b *change.Brief, in change.Intent, snap catalog.Snapshot) {
	spec := *in.Database
	b.Summary = "create database " + naming.Show(spec.Name) + " on " + snap.Server.Name
	if engine.PlanName(b, spec, snap, limits) {
		compareExisting(b, spec, *snap.Target)
		return
	}
	engine.PlanRights(b, snap)
	if spec.Team != nil {
		spec = planTeam(b, spec, snap)
	}
	c := creation{name: spec.Name, owner: spec.Owner, limit: spec.ConnectionLimit, allow: spec.AllowConnections, isTemplate: spec.IsTemplate}
	planOwner(b, spec, snap, &c)
	t := planTemplate(b, in, snap, &c)
	if snap.Template != nil {
		planLocale(b, spec, snap, t, &c)
	}
	planPlace(b, spec, snap, t, &c)
	describe(b, spec, snap, c, t)
	if spec.Team != nil {
		b.Summary += " for the team " + naming.Show(spec.Team.Name)
		teamSettings(b, *spec.Team, spec.Name)
	}

	var after []change.Step
	if in.Clearing != nil && snap.Source != nil {
		b.Steps, after = clearTemplate(b, in, snap)
	}
	create := change.Step{
		Kind: stepCreate, Title: "create database " + naming.Show(spec.Name),
		Statement: createDatabase(c), Undo: dropDatabase(spec.Name),
		Seconds: createSeconds, Args: map[string]string{"name": spec.Name, "template": c.template},
	}
	if spec.Team != nil {
		create.Args["owner_made"] = c.owner // by the same change: see evidence
	}
	b.Steps = append(b.Steps, create)
	b.Steps = append(b.Steps, after...)
	if spec.Comment != "" {
		b.Steps = append(b.Steps, change.Step{
			Kind: stepComment, Title: "set the comment", Statement: commentOnDatabase(spec.Name, spec.Comment),
			Undo: removeComment(spec.Name), Args: map[string]string{"name": spec.Name, "comment": spec.Comment},
		})
	}
	b.Steps = append(b.Steps, planPrivate(b, spec, snap)...)
	b.Steps = append(b.Steps, change.Step{
		Kind: change.Verify, Title: "read back and compare", ReadOnly: true, Args: expected(spec, c),
	})
	if spec.Team != nil {
		b.Steps = append(b.Steps, proveStep(*spec.Team, spec.Name))
	}
}

func planOwner(b *change.Brief, spec change.DatabaseSpec, snap catalog.Snapshot, c *creation) {
	if spec.Owner == "" {
		c.owner = snap.Instance.Login.Name
		return
	}
	switch login := quoteIdent(snap.Instance.Login.Name); {
	case spec.Team != nil: // made by the same change
	case len(snap.OwnerFound) == 0:
		b.Find(change.Stop, change.OwnerAbsent, "create the role first: CREATE ROLE "+quoteIdent(spec.Owner)+" NOLOGIN; or leave the owner out",
			"there is no role %s on %s", naming.Show(spec.Owner), snap.Server.Name)
	case !snap.OwnerAllowed && !snap.Instance.Login.Superuser:
		grant := "GRANT " + quoteIdent(spec.Owner) + " TO " + login
		if snap.Instance.Number >= 160000 {
			grant += " WITH SET TRUE, INHERIT TRUE"
		}
		b.Find(change.Stop, change.OwnerDenied, grant,
			"Genarch's login %s may not make a database for %s: it is not a member of that role", snap.Instance.Login.Name, spec.Owner)
	}
}

// planTemplate settles which database is copied. Encoding and locale can only
// differ from the template's when that is template0.
func planTemplate(b *change.Brief, in change.Intent, snap catalog.Snapshot, c *creation) catalog.Template {
	spec := *in.Database
	c.template = spec.Template
	if spec.Template == "" {
		c.template = defaultTemplate
	}
	if snap.Template == nil {
		b.Find(change.Stop, change.TemplateAbsent, "choose one of: genarch template list "+snap.Server.Name,
			"there is no database %s to copy from", naming.Show(c.template))
		return catalog.Template{Name: c.template}
	}
	t := *snap.Template
	if differs := localeDiffers(spec, t); len(differs) > 0 && t.Name != pristine {
		if spec.Template != "" {
			b.Find(change.Stop, change.TemplateMismatch, "leave out "+strings.Join(differs, " and ")+", or copy from template0",
				"a copy of %s has its encoding %s, collation %s and provider %s; only a copy of template0 can have others",
				t.Name, t.Encoding, t.Collation, t.Provider).Suggestion = pristine
			return t
		}
		for _, p := range snap.Choices.Templates {
			if p.Name == pristine {
				b.Find(change.Note, change.TemplateSwitched, "", "%s asked for is not that of template1, so the empty template0 is copied: what was added to template1 will not be in it",
					strings.Join(differs, " and "))
				t, c.template = p, pristine
			}
		}
	}
	switch {
	case !t.Usable && !snap.Instance.Login.Superuser:
		b.Find(change.Stop, change.TemplateDenied, "ALTER DATABASE "+quoteIdent(t.Name)+" IS_TEMPLATE true", "%s cannot be copied by Genarch's login: %s", t.Name, t.Why)
	case t.Sessions > 0 && in.Clearing == nil:
		who := strings.Join(snap.TemplateUsers, ", ")
		if who == "" {
			who = fmt.Sprintf("%d sessions", t.Sessions)
		}
		b.Find(change.Stop, change.TemplateInUse, "end their sessions with the same change: --clear-template; or copy from another template",
			"%s cannot be copied while somebody is connected to it: %s", t.Name, who)
	}
	return t
}

// localeDiffers names what was asked for and is not the template's.
func localeDiffers(spec change.DatabaseSpec, t catalog.Template) []string {
	var out []string
	if spec.Encoding != "" && normalEncoding(spec.Encoding) != normalEncoding(t.Encoding) {
		out = append(out, "the encoding")
	}
	if spec.Collation != "" && !sameLocale(spec.Collation, t.Collation) {
		out = append(out, "the collation")
	}
	if spec.CType != "" && !sameLocale(spec.CType, t.CType) {
		out = append(out, "the character type")
	}
	if spec.Provider != "" && spec.Provider != t.Provider {
		out = append(out, "the locale provider")
	}
	if spec.Locale != "" && spec.Locale != t.Locale {
		out = append(out, "the locale")
	}
	return out
}

// planLocale settles encoding, provider, collation, character type and locale,
// and says what of it does not fit together.
func planLocale(b *change.Brief, spec change.DatabaseSpec, snap catalog.Snapshot, t catalog.Template, c *creation) {
	server := snap.Server.Name
	c.encoding, c.collate, c.ctype, c.provider, c.locale = t.Encoding, t.Collation, t.CType, t.Provider, t.Locale
	if spec.Encoding != "" {
		i := slices.IndexFunc(snap.Choices.Encodings, func(e catalog.Encoding) bool {
			return normalEncoding(e.Name) == normalEncoding(spec.Encoding)
		})
		if i < 0 {
			b.Find(change.Stop, change.EncodingUnknown, "choose one of: genarch encoding list "+server,
				"PostgreSQL has no encoding %q for databases", spec.Encoding).Suggestion = snap.Instance.Encoding
			return
		}
		c.encoding = snap.Choices.Encodings[i].Name
	}
	if spec.Provider != "" {
		if !slices.Contains(snap.Choices.Providers, spec.Provider) {
			b.Find(change.Stop, change.ProviderUnknown, "choose one of: "+strings.Join(snap.Choices.Providers, ", "),
				"PostgreSQL %s has no locale provider %q", snap.Instance.Version, spec.Provider)
			return
		}
		if spec.Provider != t.Provider {
			c.locale = ""
		}
		c.provider = spec.Provider
	}
	planCollation(b, "collation", spec.Collation, snap, &c.collate)
	if spec.Collation != "" {
		c.ctype = c.collate
	}
	planCollation(b, "character type", spec.CType, snap, &c.ctype)
	switch c.provider {
	case providerLibc:
		if spec.Locale != "" {
			if spec.Collation != "" || spec.CType != "" {
				b.Find(change.Stop, change.OptionInvalid, "give either the locale or collation and character type",
					"with the provider libc a locale sets both collation and character type")
			}
			planCollation(b, "locale", spec.Locale, snap, &c.collate)
			c.ctype, c.locale = c.collate, ""
		}
	default:
		if spec.Locale != "" {
			c.locale = spec.Locale
		}
		planProviderLocale(b, snap, c)
	}
	planFit(b, c)
}

// planCollation looks a libc locale up. One that is not listed may still exist:
// only the server's own attempt proves it.
func planCollation(b *change.Brief, what, asked string, snap catalog.Snapshot, into *string) {
	if asked == "" {
		return
	}
	*into = asked
	for _, l := range snap.Choices.Collations {
		if l.Provider == providerLibc && sameLocale(l.Name, asked) {
			return
		}
	}
	b.Find(change.Caution, change.CollationUnlisted, "choose one of: genarch collation list "+snap.Server.Name,
		"the server does not list a %s %q; it may have been installed later, and then works, else the server refuses it and nothing happens", what, asked)
}

// planProviderLocale checks the locale of icu and builtin. PostgreSQL takes any
// nonsense for icu, so what it does not know is refused here.
func planProviderLocale(b *change.Brief, snap catalog.Snapshot, c *creation) {
	if c.locale == "" {
		b.Find(change.Stop, change.LocaleMissing, "add a locale, for example "+map[string]string{providerICU: "en", providerBuiltin: "C.UTF-8"}[c.provider],
			"the provider %s needs a locale", c.provider)
		return
	}
	known := c.locale == "und" || len(snap.Choices.Collations) == 0
	for _, l := range snap.Choices.Collations {
		if l.Provider != c.provider {
			continue
		}
		if l.Name == c.locale || c.provider == providerICU && language(l.Name) == language(c.locale) {
			known = true
		}
	}
	if c.provider == providerBuiltin && slices.Contains([]string{"C", "C.UTF-8", "PG_UNICODE_FAST"}, c.locale) {
		known = true
	}
	if !known {
		b.Find(change.Stop, change.CollationUnknown, "choose one of: genarch collation list "+snap.Server.Name,
			"the provider %s knows no locale %q; the server would take it and then sort in some other way", c.provider, c.locale)
	}
}

// planFit checks that encoding and locale fit each other, whichever template.
func planFit(b *change.Brief, c *creation) {
	switch c.provider {
	case providerICU:
		if slices.Contains([]string{"SQL_ASCII", "MULE_INTERNAL", "EUC_JIS_2004", "SHIFT_JIS_2004"}, c.encoding) {
			b.Find(change.Stop, change.CollationMismatch, "take encoding UTF8, or the provider libc", "the provider icu cannot handle the encoding %s", c.encoding).Suggestion = "UTF8"
		}
	case providerBuiltin:
		if c.locale != "C" && c.encoding != "UTF8" {
			b.Find(change.Stop, change.CollationMismatch, "take encoding UTF8, or the locale C", "the builtin locale %s needs the encoding UTF8, not %s", c.locale, c.encoding).Suggestion = "UTF8"
		}
	}
	for _, l := range []struct{ what, name string }{{"collation", c.collate}, {"character type", c.ctype}} {
		if c.encoding == "SQL_ASCII" && c.provider == providerLibc {
			return
		}
		if needs := localeEncoding(l.name); needs != "" && needs != c.encoding {
			b.Find(change.Stop, change.CollationMismatch, fmt.Sprintf("take collation and character type C, which fit every encoding, or the encoding %s", needs),
				"the %s %s belongs to the encoding %s, not to %s", l.what, l.name, needs, c.encoding).Suggestion = "C"
			return
		}
	}
}

// createSeconds bounds a creation: copying a large template takes minutes, and
// the server may wait for its disk first.
const createSeconds = 600

func planPlace(b *change.Brief, spec change.DatabaseSpec, snap catalog.Snapshot, t catalog.Template, c *creation) {
	if spec.Tablespace != "" {
		c.tablespace = spec.Tablespace
		if !slices.ContainsFunc(snap.Choices.Tablespaces, func(s catalog.Tablespace) bool { return s.Name == spec.Tablespace }) {
			b.Find(change.Stop, change.TablespaceAbsent, "choose one of: genarch tablespace list "+snap.Server.Name, "there is no tablespace %s", naming.Show(spec.Tablespace))
		}
	}
	if spec.Strategy != "" {
		c.strategy = strings.ToLower(spec.Strategy)
		if c.strategy != strategyWAL && c.strategy != strategyCopy {
			b.Find(change.Stop, change.OptionInvalid, "choose wal_log or file_copy", "there is no strategy %q", spec.Strategy)
		}
	}
	if l := spec.ConnectionLimit; l != nil && *l < -1 {
		b.Find(change.Stop, change.OptionInvalid, "give -1 for no limit, or a number from 0", "a connection limit of %d means nothing", *l)
	}
}

// describe lists every property of the new database with its value.
func describe(b *change.Brief, spec change.DatabaseSpec, snap catalog.Snapshot, c creation, t catalog.Template) {
	from := "template " + t.Name
	set := func(name, value string, asked bool, source, decides string, fixed bool) {
		b.Set(change.Setting{Name: name, Value: value, Asked: asked, Source: engine.Source(asked, source), Decides: decides, Fixed: fixed})
	}
	set("name", spec.Name, true, "", "how every client finds it; can be changed while nobody is connected", false)
	set("owner", c.owner, spec.Owner != "", "Genarch's login", "who may alter and drop it; gives no rights on tables that others own", false)
	set("encoding", c.encoding, spec.Encoding != "", from, "which characters can be stored", true)
	set("collation", c.collate, spec.Collation != "", from, "how text is sorted and compared", true)
	set("ctype", c.ctype, spec.CType != "", from, "what counts as a letter, and upper and lower case", true)
	set("provider", c.provider, spec.Provider != "", from, "whose rules for sorting are used", true)
	if c.provider != providerLibc {
		set("locale", c.locale, spec.Locale != "", from, "the locale at that provider", true)
	}
	set("template", c.template, spec.Template != "", "PostgreSQL", "what is in it from the start: a copy of that database's contents", true)
	place := c.tablespace
	if place == "" {
		place = t.Tablespace
	}
	set("tablespace", place, spec.Tablespace != "", from, "where on disk; moving it later copies all files and needs it empty of sessions", false)
	strategy := c.strategy
	if strategy == "" {
		strategy = strategyWAL
	}
	set("strategy", strategy, spec.Strategy != "", "PostgreSQL", "how the template is copied; for large templates file_copy is quicker but forces checkpoints", true)
	limit := "none"
	if spec.ConnectionLimit != nil && *spec.ConnectionLimit >= 0 {
		limit = strconv.Itoa(*spec.ConnectionLimit)
	}
	set("connection_limit", limit, spec.ConnectionLimit != nil, "PostgreSQL", "how many sessions at once; superusers are not held by it", false)
	set("allow_connections", yesNo(spec.AllowConnections == nil || *spec.AllowConnections), spec.AllowConnections != nil, "PostgreSQL", "whether anybody can connect", false)
	set("is_template", yesNo(spec.IsTemplate != nil && *spec.IsTemplate), spec.IsTemplate != nil, "PostgreSQL", "whether everybody who may create databases can copy it", false)
	set("comment", spec.Comment, spec.Comment != "", "none", "a remark that everybody on the server can read", false)
}

func yesNo(b bool) string {
	if b {
		return "yes"
	}
	return "no"
}

// expected is what verify compares: everything that the statement settled.
func expected(spec change.DatabaseSpec, c creation) map[string]string {
	want := map[string]string{
		"name": spec.Name, "owner": c.owner, "encoding": c.encoding, "collation": c.collate, "ctype": c.ctype,
		"provider": c.provider, "comment": spec.Comment, "connection_limit": "-1",
		"allow_connections": strconv.FormatBool(c.allow == nil || *c.allow),
		"is_template":       strconv.FormatBool(c.isTemplate != nil && *c.isTemplate),
	}
	if c.provider != providerLibc {
		want["locale"] = c.locale
	}
	if c.tablespace != "" {
		want["tablespace"] = c.tablespace
	}
	if c.limit != nil {
		want["connection_limit"] = strconv.Itoa(*c.limit)
	}
	return want
}

// facts writes a database's properties under the names that expected uses.
func facts(d catalog.Database) map[string]string {
	return map[string]string{
		"name": d.Name, "key": keyText(d), "owner": d.Owner, "encoding": d.Encoding, "collation": d.Collation, "ctype": d.CType,
		"provider": d.Provider, "locale": d.Locale, "tablespace": d.Tablespace, "comment": d.Comment,
		"connection_limit":  strconv.Itoa(d.ConnectionLimit),
		"allow_connections": strconv.FormatBool(d.AllowConnections), "is_template": strconv.FormatBool(d.IsTemplate),
	}
}

// compareExisting says whether the database that is there is as asked: only
// what was asked for counts. What decides only while it is made cannot be told.
func compareExisting(b *change.Brief, spec change.DatabaseSpec, d catalog.Database) {
	asked := map[string]string{}
	for name, value := range map[string]string{"owner": spec.Owner, "encoding": spec.Encoding, "collation": spec.Collation, "ctype": spec.CType,
		"provider": spec.Provider, "locale": spec.Locale, "tablespace": spec.Tablespace, "comment": spec.Comment} {
		if value != "" {
			asked[name] = value
		}
	}
	if spec.ConnectionLimit != nil {
		asked["connection_limit"] = strconv.Itoa(*spec.ConnectionLimit)
	}
	if spec.AllowConnections != nil {
		asked["allow_connections"] = strconv.FormatBool(*spec.AllowConnections)
	}
	if spec.IsTemplate != nil {
		asked["is_template"] = strconv.FormatBool(*spec.IsTemplate)
	}
	if d.Provider == providerLibc && spec.Locale != "" {
		delete(asked, "locale")
		asked["collation"], asked["ctype"] = spec.Locale, spec.Locale
	}
	engine.PlanExisting(b, asked, facts(d), func(name, want, have string) bool {
		switch name {
		case "encoding":
			return normalEncoding(want) == normalEncoding(have)
		case "collation", "ctype":
			return sameLocale(want, have)
		}
		return want == have
	})
}
