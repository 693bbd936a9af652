package mariadb

import (
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"

	"example.com/genarch/core/access"
	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/naming"
	"example.com/genarch/core/privilege"
	"example.com/genarch/engine"
)

// The kinds of steps that this engine carries out.
const (
	stepCreate       = "create_database"
	stepMarkDatabase = "create_marker_database"
	stepMarkTable    = "create_marker_table"
	stepMarkRow      = "write_marker"
	stepMarkVerify   = "verify_marker"
)

// Plan briefs an intent. It is pure.
func (Engine) Plan(in change.Intent, snap catalog.Snapshot) (change.Brief, error) {
	if err := in.Check(); err != nil {
		return change.Brief{}, err
	}
	b := engine.NewBrief(in, snap)
	switch in.Kind {
	case change.CreateDatabase:
		planCreate(&b, *in.Database, snap)
	case change.DropDatabase:
		planDropDatabase(&b, in, snap)
	case change.RenameDatabase, change.MoveDatabase:
		planCannot(&b, in, snap)
	case change.EndSessions:
		planEndSessions(&b, in, snap)
	case change.MarkServer:
		planMark(&b, in.Mark, snap)
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
	}
	return b.Seal(), nil
}

func planCreate(b *change.Brief, spec change.DatabaseSpec, snap catalog.Snapshot) {
	b.Summary = "create database " + naming.Show(spec.Name) + " on " + snap.Server.Name
	spec.Name = folded(spec.Name, snap.FoldsCase)
	planOptions(b, spec)
	if engine.PlanName(b, spec, snap, limits) {
		compareExisting(b, spec, *snap.Target)
		return
	}
	planSpace(b, spec.Name)
	engine.PlanRights(b, snap)
	encoding, collation := planCollation(b, spec, snap)
	if n := utf8.RuneCountInString(spec.Comment); n > maxComment {
		b.Find(change.Stop, change.OptionInvalid, "shorten it", "the comment has %d characters; at most %d fit", n, maxComment)
	}
	planLeftover(b, spec, snap)
	if spec.Team != nil {
		planTeam(b, spec, snap)
	}
	user, host := planOwner(b, spec, snap)
	describe(b, spec, snap, encoding, collation)

	b.Steps = append(b.Steps, change.Step{
		Kind: stepCreate, Title: "create database " + naming.Show(spec.Name),
		Statement: createDatabase(spec.Name, encoding, collation, spec.Comment), Undo: dropDatabase(spec.Name),
		Args: map[string]string{"name": spec.Name},
	})
	want := map[string]string{"name": spec.Name, "encoding": encoding, "collation": collation, "comment": spec.Comment}
	if user != "" {
		to := catalog.Principal{Name: user, Host: host}
		b.Steps = append(b.Steps, giveStep("give "+to.String()+" the bundle own on it", to, catalog.Object{Scope: catalog.ScopeDatabase, Database: spec.Name}, ownPrivileges, 0, false, false))
		want["owner"] = user + "@" + host
	}
	if spec.Team != nil {
		b.Steps = append(b.Steps, teamGrants(b, spec)...)
	}
	b.Steps = append(b.Steps, change.Step{Kind: change.Verify, Title: "read back and compare", ReadOnly: true, Args: want})
	if spec.Team != nil {
		proveTeam(b, spec, snap)
	}
}

// ownPrivileges is the bundle own: everything that can be given on one
// database. DROP is among them, for tables cannot be dropped without it; so its
// holder could drop the database itself, which the brief says.
var ownPrivileges = access.BundleOwn.On(catalog.MariaDB, catalog.ScopeDatabase)

const (
	maxComment = 1024
	// maxPattern is the width of the database column of the grant tables.
	maxPattern = 64
	// maxDirectory is the longest name of a folder, in bytes.
	maxDirectory = 255
)

// planOptions refuses what MariaDB does not have, instead of leaving it out.
func planOptions(b *change.Brief, spec change.DatabaseSpec) {
	has := Engine{}.Traits().Options
	for _, o := range spec.Asked() {
		if !slices.Contains(has, o) {
			b.Find(change.Stop, change.OptionUnsupported, "leave it out", "MariaDB databases have no %s", optionTitles[o])
		}
	}
}

var optionTitles = map[string]string{
	"ctype": "character type of their own: it follows the collation", "provider": "locale provider", "locale": "locale: the collation says it all",
	"template": "template: a new database is always empty", "tablespace": "tablespace", "strategy": "copy strategy",
	"connection_limit": "connection limit: only accounts have one", "allow_connections": "switch for connections",
	"is_template": "template flag", "private": "access for everybody: an account sees what it was given", "allow": "access for everybody, so nobody has to be allowed",
}

// planSpace checks what the engine needs of a name beside its length.
func planSpace(b *change.Brief, name string) {
	if n := directoryLength(name); n > maxDirectory {
		b.Find(change.Stop, "name.length", "shorten it, or use letters, digits and _ only", "the folder for this name would need %d bytes; the system takes %d", n, maxDirectory)
	}
	if n := utf8.RuneCountInString(access.Escaped(name)); n > maxPattern {
		b.Find(change.Stop, "name.length", "shorten it, or use fewer _", "no privileges could be given on this name: escaped it has %d characters, and %d fit", n, maxPattern)
	}
	if strings.HasPrefix(name, "#mysql50#") {
		b.Find(change.Stop, "name.reserved", "choose another name", "the beginning #mysql50# means something else to the server")
	}
}

// planCollation settles character set and collation; both are always written,
// so that the server's defaults cannot come in between.
func planCollation(b *change.Brief, spec change.DatabaseSpec, snap catalog.Snapshot) (encoding, collation string) {
	encoding, collation = snap.Instance.Encoding, snap.Instance.Collation
	server := snap.Server.Name
	if spec.Encoding != "" {
		i := slices.IndexFunc(snap.Choices.Encodings, func(e catalog.Encoding) bool { return strings.EqualFold(e.Name, spec.Encoding) })
		if i < 0 {
			f := b.Find(change.Stop, change.EncodingUnknown, "choose one of: genarch encoding list "+server, "there is no character set %q", spec.Encoding)
			if n := strings.ToLower(spec.Encoding); strings.HasPrefix(strings.ReplaceAll(n, "-", ""), "utf8") {
				f.Suggestion, f.Next = "utf8mb4", "say utf8mb4 (all of Unicode) or utf8mb3 (the old form without emoji): plain utf8 means one or the other, depending on the server"
			}
			return encoding, collation
		}
		encoding, collation = snap.Choices.Encodings[i].Name, snap.Choices.Encodings[i].Collation
	}
	if spec.Collation == "" {
		return encoding, collation
	}
	var homes []string
	for _, l := range snap.Choices.Collations {
		if strings.EqualFold(l.Name, spec.Collation) {
			homes = append(homes, l.Encoding)
			collation = l.Name
		}
	}
	switch {
	case len(homes) == 0:
		f := b.Find(change.Stop, change.CollationUnknown, "choose one of: genarch collation list "+server, "there is no collation %q", spec.Collation)
		if strings.Contains(spec.Collation, "0900") {
			f.Next = "that one belongs to another engine; the nearest here is utf8mb4_uca1400_ai_ci"
			f.Suggestion = "utf8mb4_uca1400_ai_ci"
		}
	case slices.Contains(homes, encoding):
	case spec.Encoding == "" && len(homes) == 1:
		encoding = homes[0]
	default:
		f := b.Find(change.Stop, change.CollationMismatch, "take that character set, or leave the collation out", "the collation %s belongs to the character set %s, not to %s", spec.Collation, strings.Join(homes, ", "), encoding)
		for _, e := range snap.Choices.Encodings {
			if e.Name == encoding {
				f.Suggestion = e.Collation
				f.Next = fmt.Sprintf("take the character set %s, or a collation of %s, for example %s", homes[0], encoding, e.Collation)
			}
		}
	}
	return encoding, collation
}

// planLeftover points out grants that come alive with the name.
func planLeftover(b *change.Brief, spec change.DatabaseSpec, snap catalog.Snapshot) {
	if spec.ClearLeftovers && snap.Access != nil {
		clearLeftovers(b, spec.Name, snap)
	}
	if len(snap.Leftover) > 0 && !spec.ClearLeftovers {
		shown := snap.Leftover
		more := ""
		if len(shown) > 10 {
			more = fmt.Sprintf(" and %d more", len(shown)-10)
			shown = shown[:10]
		}
		b.Find(change.Caution, change.GrantsLeftover, "have them taken first by the same change: --clear-leftovers; or look at each: genarch grant list",
			"grants on this name exist already and open the new database at once: %s%s", strings.Join(shown, "; "), more)
	}
	if !snap.Instance.Login.May("read_grants") {
		b.Find(change.Note, change.GrantsLeftover, snap.Instance.Login.Remedy("read_grants"), "whether old grants on this name exist cannot be seen by Genarch's login")
	}
}

// planOwner settles which account gets the bundle own.
func planOwner(b *change.Brief, spec change.DatabaseSpec, snap catalog.Snapshot) (user, host string) {
	if spec.Owner == "" {
		return "", ""
	}
	login := snap.Instance.Login
	switch found := snap.OwnerFound; len(found) {
	case 0:
		b.Find(change.Stop, change.OwnerAbsent, "create the account first, or leave the owner out", "there is no account %s on %s", naming.Show(spec.Owner), snap.Server.Name)
		return "", ""
	case 1:
		user, host = splitAccount(found[0])
	default:
		b.Find(change.Stop, change.OwnerAmbiguous, "say which: "+strings.Join(found, ", "), "%s exists at %d hosts, and each is an account of its own", spec.Owner, len(found)).Suggestion = found[0]
		return "", ""
	}
	if !login.May("give_bundles") {
		b.Find(change.Stop, change.OwnerDenied, login.Remedy("give_bundles"), "Genarch's login %s may not give the privileges of the bundle own", login.Name)
	}
	b.Find(change.Note, change.OwnerConcept, "", "MariaDB has no owners: %s@%s gets all privileges on this one database instead, without the right to pass them on. They include DROP, so the account could drop the database outside Genarch", user, host)
	return user, host
}

func describe(b *change.Brief, spec change.DatabaseSpec, snap catalog.Snapshot, encoding, collation string) {
	set := func(name, value string, asked bool, source, decides string, fixed bool) {
		b.Set(change.Setting{Name: name, Value: value, Asked: asked, Source: engine.Source(asked, source), Decides: decides, Fixed: fixed})
	}
	set("name", spec.Name, true, "", "how every client finds it", true)
	set("encoding", encoding, spec.Encoding != "", "the server", "which characters its new tables can store; a later change does not touch tables that exist", false)
	from := "the server"
	if spec.Encoding != "" || spec.Collation != "" {
		from = "default of " + encoding
	}
	set("collation", collation, spec.Collation != "", from, "how text in its new tables is sorted and compared; a later change does not touch tables that exist", false)
	owner := spec.Owner
	if len(snap.OwnerFound) == 1 {
		owner = snap.OwnerFound[0]
	}
	if owner == "" {
		owner = "nobody"
	}
	if spec.Team == nil {
		set("owner", owner, spec.Owner != "", "MariaDB has no owners", "which account gets all privileges on it (bundle own)", false)
	}
	set("comment", spec.Comment, spec.Comment != "", "none", "a remark that everybody who sees the database can read", false)
}

// facts writes a database's properties under the names that verify uses.
func facts(d catalog.Database) map[string]string {
	return map[string]string{"name": d.Name, "encoding": d.Encoding, "collation": d.Collation, "comment": d.Comment, "owner": strings.Join(d.Owners, ", ")}
}

func compareExisting(b *change.Brief, spec change.DatabaseSpec, d catalog.Database) {
	asked := map[string]string{}
	for name, value := range map[string]string{"encoding": spec.Encoding, "collation": spec.Collation, "comment": spec.Comment, "owner": spec.Owner} {
		if value != "" {
			asked[name] = value
		}
	}
	engine.PlanExisting(b, asked, facts(d), func(name, want, have string) bool {
		if name == "owner" {
			user, host := splitAccount(want)
			return slices.ContainsFunc(d.Owners, func(o string) bool {
				u, h := splitAccount(o)
				return u == user && (host == "" || strings.EqualFold(h, host))
			})
		}
		return want == have || name != "comment" && strings.EqualFold(want, have)
	})
}

// planMark briefs writing the marker row by which this server is known for
// certain from then on.
func planMark(b *change.Brief, mark string, snap catalog.Snapshot) {
	b.Summary = "mark " + snap.Server.Name
	if key := snap.Instance.Identity.Marks["marker"]; key != "" {
		b.Find(change.Stop, change.ServerHasIdentity, "nothing has to be done", "%s is marked already: %s", snap.Server.Name, key)
		return
	}
	engine.PlanRights(b, snap)
	b.Find(change.Note, change.ServerHasIdentity, "", "MariaDB tells nothing by which a copy could be told from the original. A small database %s with one random number makes it certain; a copy that is restored elsewhere is then recognised by its address and folder", markerDatabase)
	table := quoteIdent(markerDatabase) + "." + quoteIdent(markerTable)
	b.Steps = []change.Step{
		{Kind: stepMarkDatabase, Title: "create database " + markerDatabase, Args: map[string]string{"name": markerDatabase},
			Statement: createDatabase(markerDatabase, "utf8mb4", "utf8mb4_bin", "by this Genarch knows the server; leave it"), Undo: dropDatabase(markerDatabase)},
		{Kind: stepMarkTable, Title: "create its table", Args: map[string]string{"name": markerDatabase},
			Statement: "CREATE TABLE " + table + " (\n  id CHAR(36) CHARACTER SET ascii NOT NULL PRIMARY KEY,\n  made TIMESTAMP NOT NULL DEFAULT CURRENT_TIMESTAMP\n)", Undo: "DROP TABLE " + table},
		{Kind: stepMarkRow, Title: "write the mark", Args: map[string]string{"mark": mark},
			Statement: "INSERT INTO " + table + " (id) VALUES (" + quoteText(mark) + ")", Undo: "DELETE FROM " + table + " WHERE id = " + quoteText(mark)},
		{Kind: stepMarkVerify, Title: "read the mark back", ReadOnly: true, Args: map[string]string{"mark": mark}},
	}
}

// clearLeftovers takes, before the database is made, the grants that would come
// alive with its name. A pattern that fits others too is left, and told.
func clearLeftovers(b *change.Brief, name string, snap catalog.Snapshot) {
	var kept []string
	for _, g := range snap.Access.Grants {
		plain := g.Scope != catalog.ScopeDatabase && g.Database == name || g.Scope == catalog.ScopeDatabase && !access.IsPattern(g.Database) && access.Plain(g.Database) == name
		switch {
		case plain:
			if step, any := takeStep(g, privilege.All, true); any {
				b.Steps = append(b.Steps, step)
			}
		case g.Scope == catalog.ScopeDatabase && access.Matches(g.Database, name):
			kept = append(kept, fmt.Sprintf("%s through the pattern %s", g.Grantee, g.Database))
		}
	}
	if len(kept) > 0 {
		b.Find(change.Caution, change.GrantsLeftover, "take the pattern by itself: genarch grant take --pattern", "patterns that fit other databases too stay, and open the new one: %s", engine.Shorten(kept))
	}
}
