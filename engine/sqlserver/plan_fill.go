package sqlserver

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
	stepFiller = "fill_account"
	stepFill   = "fill"
	stepUnfill = "fill_account_gone"
)

// filling is what planning needs of the database that a script is to run in.
type filling struct {
	// Tables are its tables and views, with their schemas.
	Tables []relation
	// OwnerSuper: its owner is a member of sysadmin.
	OwnerSuper bool
}

// relation is a table or a view.
type relation struct{ Schema, Name string }

// defaultSchema is where a name without a schema is looked for.
const defaultSchema = "dbo"

// fillerRights are what the user has as which a script runs: to make, alter and use what lies in the
// database. Not to alter people, files, options or the database itself, nor to back it up or drop it, as its
// owners may; nor to make triggers that would run with the rights of whoever alters it later.
var fillerRights = []string{"SELECT", "INSERT", "UPDATE", "DELETE", "EXECUTE", "REFERENCES", "VIEW DEFINITION",
	"CREATE TABLE", "CREATE VIEW", "CREATE PROCEDURE", "CREATE FUNCTION", "CREATE TYPE", "CREATE SYNONYM",
	"CREATE DEFAULT", "CREATE RULE", "CREATE XML SCHEMA COLLECTION", "CREATE SCHEMA", "ALTER ANY SCHEMA",
	"ALTER ANY DATASPACE"}

// makeFillerSQL makes the login, which nobody can sign in as until it gets a password, and its user.
func makeFillerSQL(account, database string) []string {
	login, user := fillerOf(account, database)
	return []string{
		onPrincipal("CREATE", login, " WITH PASSWORD = 0x"+nobody+" HASHED, CHECK_POLICY = OFF"),
		onPrincipal("CREATE", user, " FOR LOGIN "+quoteIdent(account)+" WITH DEFAULT_SCHEMA = "+defaultSchema),
		inDatabase(database, "GRANT "+strings.Join(fillerRights, ", ")+" TO "+quoteIdent(account)),
	}
}

func dropUserSQL(account, database string) string {
	return inDatabase(database, "DROP USER IF EXISTS "+quoteIdent(account))
}

func dropLoginSQL(account string) string {
	return onPrincipal("DROP", catalog.Principal{Name: account}, "")
}

// fillerOf are the login of a script and its user.
func fillerOf(account, database string) (login, user catalog.Principal) {
	return catalog.Principal{Name: account}, catalog.Principal{Name: account, Database: database}
}

// planFill briefs the run of a script: as a login of its own with a user in this one database, both of
// which are dropped afterwards.
func planFill(p *planning.Draft) {
	b, snap := &p.Brief, p.Snap
	more := detailsOf(snap.Details)
	has := func(n script.Named) bool {
		schema := n.Schema
		if schema == "" {
			schema = defaultSchema
		}
		return slices.ContainsFunc(more.Filling.Tables, func(r relation) bool {
			return strings.EqualFold(r.Schema, schema) && strings.EqualFold(r.Name, n.Text)
		})
	}
	if !planning.Fill(p, has) {
		return
	}
	d, k := *snap.Target, *snap.Script
	atOnce := planning.FillAtOnce(p, k.Summary)
	planFillable(p, d)
	planFillReach(b, d, more.Filling)
	planFillGiven(b, k.Summary)
	filler := planning.Filler(k.ID)
	b.Find(change.Note, change.FillAccount, "",
		"The script runs as the login %s with a user in this database alone, made for it and dropped afterwards. What "+
			"it makes belongs to dbo.", filler)
	args := func() map[string]string {
		return map[string]string{"name": d.Name, "account": filler, change.ArgScript: k.ID}
	}
	do := makeFillerSQL(filler, d.Name)
	gone := []string{dropUserSQL(filler, d.Name), dropLoginSQL(filler)}
	first, last := args(), args()
	first["do"], first["undo"], last["do"] = engine.EncodeList(do), engine.EncodeList(gone), engine.EncodeList(gone)
	drop := strings.Join(gone, ";\n")
	// In one transaction too: what runs as a text can end it.
	run := change.Step{Kind: stepFill, Title: planning.FillTitle(p, k), Halts: true, Seconds: planning.FillSeconds,
		Repair: planning.StaysText, Args: args()}
	run.Args["size"], run.Args["at_once"] = fmt.Sprint(k.Summary.Size), catalog.WriteValue(atOnce)
	p.Step(change.Step{Kind: stepFiller, Title: "make the login as which it runs", Statement: strings.Join(do, ";\n"),
		Undo: drop, Repair: drop, Seconds: 120, Args: first}, run,
		change.Step{Kind: stepUnfill, Title: "drop the login again", Statement: drop, Seconds: 300, Args: last},
		change.Step{Kind: change.Verify, Title: "read back and compare", ReadOnly: true,
			Args: map[string]string{"name": d.Name}})
}

// planFillable finds what keeps the login of a script, or Genarch's, from working in the database.
func planFillable(p *planning.Draft, d catalog.Database) {
	b, login, more := &p.Brief, p.Snap.Instance.Login, detailsOf(p.Snap.Details)
	alter := remedy.Command("database.alter", b.Target)
	switch {
	case d.Closed:
		b.Find(change.Stop, change.DatabaseClosed, "Bring it online.", "%s is not online.", shown(d.Name)).Offer(alter)
	case d.Properties.Bool("read_only"):
		b.Find(change.Stop, change.DatabaseReadOnly, "Make it writable.", "Nothing can be written to %s.",
			shown(d.Name)).Offer(alter)
	case d.Properties.Text("access") != "multi_user":
		b.Find(change.Stop, change.DatabaseClosed, "Let everybody with a user in: --set access=multi_user",
			"Only owners and administrators, or one session, get into %s, and the script runs as neither.",
			shown(d.Name)).Offer(alter)
	}
	if !login.May("manage_accounts") {
		b.Find(change.Stop, change.RightsMissing, login.Remedy("manage_accounts"),
			"A script runs as a login of its own, which Genarch's login %s may not make.", shown(login.Name))
	}
	if !more.Controls && !d.Closed {
		mayNot(p, d.Name)
	}
}

// planFillReach says what a script could reach beyond the database.
func planFillReach(b *change.Brief, d catalog.Database, x filling) {
	if !d.Properties.Bool("trustworthy") {
		return
	}
	alter := remedy.Command("database.alter", b.Target).With("options.trustworthy", remedy.Off)
	if x.OwnerSuper {
		b.Find(change.Stop, change.FillOwner, "Set trustworthy off, or give the database another owner.",
			"The database is trustworthy, and its owner %s is a sysadmin: a procedure of the script that runs as its "+
				"owner could do anything on the server.", shown(d.Owner)).Offer(alter)
		return
	}
	b.Find(change.Caution, change.FillReaches, "Read the script's procedures, or set trustworthy off.",
		"The database is trustworthy: a procedure of the script that runs as its owner has what %s may do on the "+
			"server.", shown(d.Owner)).Offer(alter)
}

// planFillGiven says what becomes of statements that give schemas to others, or privileges.
func planFillGiven(b *change.Brief, s script.Summary) {
	if s.Has(script.GivesAway) {
		var owners []string
		for _, n := range s.Names[script.Owner].List {
			owners = append(owners, shown(n.Text))
		}
		b.Find(change.Caution, change.ScriptOwners, "Give them away afterwards: ALTER AUTHORIZATION ON SCHEMA::… TO …",
			"The script makes schemas for %s, at %s. Whom they are for is left out: they belong to dbo.",
			planning.Shorten(owners), planning.Places(s, script.GivesAway))
	}
	if n := s.Marks[script.Grants].N; n > 0 {
		b.Find(change.Stop, change.ScriptGrants, "Take these lines out, and grant by Genarch afterwards.",
			"%s that grant, revoke or deny, which the account of a script may not: %s.",
			naming.Count(n, "batch has statements", "batches have statements"), planning.Places(s, script.Grants)).
			Offer(remedy.Command("privilege.grant", b.Target))
	}
}
