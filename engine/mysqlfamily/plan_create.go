package mysqlfamily

import (
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/naming"
	"example.com/genarch/core/privilege"
	"example.com/genarch/core/remedy"
	"example.com/genarch/engine/planning"
)

// equal compares two values of an option as the server does.
func equal(option string, want, have any) bool {
	x, y := catalog.WriteValue(want), catalog.WriteValue(have)
	switch option {
	case "encoding", "collation":
		return strings.EqualFold(x, y)
	case "owner":
		// What is there may be several; an account without a host is any of its name.
		user, host := splitAccount(x)
		return slices.ContainsFunc(strings.Split(y, ", "), func(o string) bool {
			u, h := splitAccount(o)
			return u == user && (host == "" || strings.EqualFold(h, host))
		})
	}
	return x == y
}

func planCreate(p *planning.Draft) {
	b, snap := &p.Brief, p.Snap
	spec := *p.In.Database
	p.Summary = "create database " + naming.Show(spec.Name) + " on " + snap.Server.Name
	spec.Name = folded(spec.Name, detailsOf(snap.Details).FoldsCase)
	p.In.Database = &spec
	if planning.Name(b, spec, snap, productOf(snap).limits) {
		p.Existing()
		return
	}
	planSpace(b, spec.Name)
	planning.Rights(b, snap)
	encoding, collation, source := snap.Instance.Encoding, snap.Instance.Collation, "the server"
	if d := snap.Source; d != nil {
		encoding, collation, source = d.Encoding, d.Collation, "template "+d.Name
		p.Default("comment", d.Comment, source)
		p.Summary += " as a copy of " + naming.Show(d.Name)
	}
	planCollation(p, encoding, collation, source)
	planLeftover(p)
	if spec.Team != nil {
		planTeam(p)
	}
	owner := planOwner(p)
	content := planCopy(p)
	grants, err := copyGrants(p)
	if err != nil {
		p.Find(change.Stop, change.OptionUnusable, "Leave copy_grants out, and grant what is needed.",
			"The grants on the template cannot be written again: %v.", err)
	}
	want := p.Settings(true)
	want["comment"] = p.Settled.Text("comment")
	if spec.Team != nil {
		p.Drop("owner")
	}
	p.Step(change.Step{
		Kind: stepCreate, Title: "create database " + naming.Show(spec.Name),
		Statement: createDatabase(spec.Name, p.Settled.Text("encoding"), p.Settled.Text("collation"),
			p.Settled.Text("comment")), Undo: dropDatabase(spec.Name),
		Args: map[string]string{"name": spec.Name},
	})
	p.Step(content...)
	p.Step(grants...)
	if owner.Name != "" {
		p.Step(ownStep(spec.Name, owner, productOf(p.Snap).own(), privilege.Set{}))
	}
	if spec.Team != nil {
		p.Step(teamGrants(p)...)
	}
	p.Step(change.Step{Kind: change.Verify, Title: "read back and compare", ReadOnly: true, Args: want})
	if spec.Team != nil {
		proveTeam(b, spec, snap)
	}
}

// ownStep gives an account the bundle own on a database; had is what it holds there.
func ownStep(database string, to catalog.Principal, own, had privilege.Set) change.Step {
	return giveStep("grant "+to.String()+" the bundle own on it", to,
		catalog.Object{Scope: catalog.ScopeDatabase, Database: database}, own, had, false, false)
}

const (
	maxComment = 1024
	// maxPattern is the width of the database column of the grant tables.
	maxPattern = 64
	// maxDirectory is the longest name of a folder, in bytes.
	maxDirectory = 255
)

// planSpace checks what the engine needs of a name beside its length.
func planSpace(b *change.Brief, name string) {
	if n := directoryLength(name); n > maxDirectory {
		b.Find(change.Stop, "name.length", "Shorten it, or use letters, digits and _ only.",
			"The folder for this name would need %d bytes; the system takes %d.", n, maxDirectory)
	}
	if n := utf8.RuneCountInString(escaped(name)); n > maxPattern {
		b.Find(change.Stop, "name.length", "Shorten it, or use fewer _.",
			"No privileges could be granted on this name: escaped, it has %d characters, and at most %d fit.", n,
			maxPattern)
	}
	if strings.HasPrefix(name, "#mysql50#") {
		b.Find(change.Stop, "name.reserved", "Choose another name.",
			"A name that begins with #mysql50# means something else to the server.")
	}
}

// planCollation settles character set and collation; both are always written, so that
// the server's defaults cannot come in between. What is not asked for is as given.
func planCollation(p *planning.Draft, encoding, collation, source string) {
	server, asked := p.Snap.Server.Name, p.Asked.Text("encoding")
	if w := p.Finding("encoding", change.OptionAbsent); w != nil {
		if n := strings.ToLower(asked); strings.HasPrefix(strings.ReplaceAll(n, "-", ""), "utf8") {
			w.Suggestion = "utf8mb4"
			w.Next = "Say utf8mb4 (all of Unicode) or utf8mb3 (the old form without emoji): plain utf8 means one or the other, depending on the server."
		}
		return
	}
	if found, ok := p.Snap.Choices.Find("encodings", p.Settled.Text("encoding"), nil); ok {
		encoding, collation, source = found.Name, found.Properties.Text("collation"), "default of "+found.Name
	}
	wanted := p.Settled.Text("collation")
	if w := p.Finding("collation", change.OptionAbsent); w != nil &&
		strings.Contains(p.Asked.Text("collation"), "0900") {
		w.Next, w.Suggestion = "That one belongs to another engine; the nearest here is utf8mb4_uca1400_ai_ci.", "utf8mb4_uca1400_ai_ci"
	}
	if wanted == "" {
		p.Default("encoding", encoding, strings.TrimPrefix(source, "default of "+encoding))
		p.Default("collation", collation, source)
		return
	}
	var homes []string
	for _, l := range p.Snap.Choices["collations"] {
		if strings.EqualFold(l.Name, wanted) {
			homes = append(homes, l.For)
		}
	}
	switch {
	case slices.Contains(homes, encoding):
	case asked == "" && len(homes) == 1:
		encoding = homes[0]
		p.Default("encoding", encoding, "the collation")
	default:
		w := p.About("collation", change.Stop, change.CollationMismatch,
			"Take that character set, or leave the collation out.",
			"The collation %s belongs to the character set %s, not to %s.", wanted, strings.Join(homes, ", "), encoding)
		if own, ok := p.Snap.Choices.Find("encodings", encoding, nil); ok && len(homes) > 0 {
			w.Suggestion = own.Properties.Text("collation")
			w.Next = fmt.Sprintf("Take the character set %s, or a collation of %s, for example %s.", homes[0], encoding,
				w.Suggestion)
			w.Offer(remedy.Choices(server, "collations"))
		}
	}
	p.Default("encoding", encoding, "the server")
}

// planLeftover points out grants that take effect again with the name.
func planLeftover(p *planning.Draft) {
	b, snap, clears := &p.Brief, p.Snap, p.Asked.Bool("clear_leftovers")
	if clears && snap.Access != nil {
		clearLeftovers(p)
	}
	if len(detailsOf(snap.Details).Leftover) > 0 && !clears {
		shown := detailsOf(snap.Details).Leftover
		more := ""
		if len(shown) > 10 {
			more = fmt.Sprintf(" and %d more", len(shown)-10)
			shown = shown[:10]
		}
		b.Find(change.Caution, change.GrantsLeftover,
			"Have them revoked first by the same change; or look at each.",
			"Grants on this name exist already and apply to the new database at once: %s%s.", strings.Join(shown, "; "),
			more).
			Offer(remedy.Option("options.clear_leftovers", remedy.Yes), remedy.Command("privilege.list", b.Target))
	}
	if !snap.Instance.Login.May("read_grants") {
		b.Find(change.Note, change.GrantsLeftover, snap.Instance.Login.Remedy("read_grants"),
			"Genarch's login cannot see whether old grants on this name exist.")
	}
}

// planOwner settles which account gets the bundle own; none: nobody was asked for.
func planOwner(p *planning.Draft) (owner catalog.Principal) {
	asked, login := p.Asked.Text("owner"), p.Snap.Instance.Login
	if asked == "" || p.In.Database.Team != nil {
		return owner
	}
	switch found := p.Snap.OwnerFound; len(found) {
	case 0:
		p.About("owner", change.Stop, change.OptionAbsent, "Create the account first, or leave the owner out.",
			"There is no account %s on %s.", naming.Show(asked), p.Snap.Server.Name)
		return owner
	case 1:
		owner.Name, owner.Host = splitAccount(found[0])
		p.Settle("owner", found[0])
	default:
		p.About("owner", change.Stop, change.OwnerAmbiguous, "Say which: "+strings.Join(found, ", "),
			"%s exists at %d hosts, and each is an account of its own.", asked, len(found)).Suggestion = found[0]
		return owner
	}
	if !login.May("give_bundles") {
		p.About("owner", change.Stop, change.OwnerDenied, login.Remedy("give_bundles"),
			"Genarch's login %s may not grant the privileges of the bundle own.", login.Name)
	}
	p.About("owner", change.Note, change.OwnerConcept, "",
		"%s has no owners: %s gets all privileges on this one database instead, without the right to pass them "+
			"on. They include DROP, so the account could drop the database outside Genarch.",
		productOf(p.Snap).description.Title, owner)
	return owner
}

// facts writes a database's properties under the names that verify uses.
func facts(d catalog.Database) map[string]string {
	out := map[string]string{"name": d.Name, "comment": d.Comment}
	for name, value := range d.Values() {
		out[name] = catalog.WriteValue(value)
	}
	return out
}

// clearLeftovers takes, before the database is made, the grants that would come
// alive with its name. A pattern that fits others too is left, and told.
func clearLeftovers(p *planning.Draft) {
	name := p.In.Database.Name
	var kept []string
	for _, g := range p.Snap.Access.Grants {
		plain := g.Scope != catalog.ScopeDatabase && g.Database == name ||
			g.Scope == catalog.ScopeDatabase && !isPattern(g.Database) && plain(g.Database) == name
		switch {
		case plain:
			if step, any := takeStep(g, table.All(), true); any {
				p.Step(step)
			}
		case g.Scope == catalog.ScopeDatabase && matches(g.Database, name):
			kept = append(kept, fmt.Sprintf("%s through the pattern %s", g.Grantee, g.Database))
		}
	}
	if len(kept) > 0 {
		p.Find(change.Caution, change.GrantsLeftover,
			"Revoke the grant on the pattern by itself.",
			"Grants on patterns that match other databases too stay, and apply to the new one: %s.",
			planning.Shorten(kept)).Offer(remedy.Command("privilege.revoke", p.Target).With("options.pattern", ""))
	}
}
