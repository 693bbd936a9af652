package sqlserver

import (
	"slices"
	"strings"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/naming"
	"example.com/genarch/core/remedy"
	"example.com/genarch/engine/planning"
)

// wordOf is what a kind of principal is called in statements: logins and server roles are of the
// server, users and roles of a database.
func wordOf(p catalog.Principal) string {
	switch {
	case p.Database == "" && p.Role:
		return "SERVER ROLE"
	case p.Database == "":
		return "LOGIN"
	case p.Role:
		return "ROLE"
	}
	return "USER"
}

func titleOf(p catalog.Principal) string { return strings.ToLower(wordOf(p)) }

// inDatabase has a statement run in a database without leaving the session's own; none: on the server.
// Source: sys.sp_executesql.
func inDatabase(database, text string) string {
	if database == "" {
		return text
	}
	return "EXEC " + quoteIdent(database) + ".sys.sp_executesql " + quoteText(text)
}

// onPrincipal is a verb on a principal, with what follows its name.
func onPrincipal(verb string, p catalog.Principal, rest string) string {
	return inDatabase(p.Database, verb+" "+wordOf(p)+" "+quoteIdent(p.Name)+rest)
}

// ofMember adds a member to a role, or drops it.
func ofMember(verb string, role catalog.Principal, member string) string {
	return onPrincipal("ALTER", role, " "+verb+" MEMBER "+quoteIdent(member))
}

// checkOf are the arguments by which a principal is looked for.
func checkOf(check string, p catalog.Principal) map[string]string {
	return map[string]string{"check": check, "name": p.Name, "database": p.Database, "role": catalog.WriteValue(p.Role)}
}

// principalIn is the one that arguments name.
func principalIn(args map[string]string) catalog.Principal {
	return catalog.Principal{Name: args["name"], Database: args["database"], Role: args["role"] == "yes"}
}

// exact finds the one of exactly this name and place.
func exact(a *catalog.Access, p catalog.Principal) (catalog.Account, bool) {
	i := slices.IndexFunc(a.Accounts, func(x catalog.Account) bool { return x.Principal == p })
	if i < 0 {
		return catalog.Account{}, false
	}
	return a.Accounts[i], true
}

// there finds one, or adds the finding that there is none.
func there(p *planning.Draft, who catalog.Principal, code string) (catalog.Account, bool) {
	if a, ok := exact(p.Snap.Access, who); ok {
		return a, true
	}
	f := p.Find(change.Stop, code, "List them.", "There is no %s %s on %s.", titleOf(who), shown(who.String()),
		p.Snap.Server.Name).Offer(remedy.Command("account.list", p.Snap.Server.Name))
	var elsewhere, names []string
	for _, a := range p.Snap.Access.Accounts {
		if a.Name == who.Name {
			elsewhere = append(elsewhere, "the "+titleOf(a.Principal)+" "+shown(a.Principal.String()))
		} else if a.Database == who.Database && a.Role == who.Role {
			names = append(names, a.Name)
		}
	}
	if with, _, like := naming.Clashes(who.Name, names); like {
		f.Next, f.Suggestion = "Did you mean "+shown(with)+"?", with
	}
	if len(elsewhere) > 0 {
		f.Next, f.Suggestion = "There is one of that name elsewhere: "+planning.Shorten(elsewhere), ""
	}
	return catalog.Account{}, false
}

// usersOf are the users that a login acts as, one in each database, that of the owner not among them.
func usersOf(a *catalog.Access, login string) (out []catalog.Principal) {
	for _, m := range a.Memberships {
		if m.Grantor == actsAs && m.Member.Name == login && m.Role.Name != "dbo" {
			out = append(out, m.Role)
		}
	}
	slices.SortFunc(out, func(x, y catalog.Principal) int { return strings.Compare(x.Database, y.Database) })
	return out
}

// place looks at the database that somebody lies in; on the server there is nothing to look at.
func place(p *planning.Draft, who catalog.Principal) bool {
	if who.Database == "" {
		return true
	}
	_, ok := openDatabase(p, who.Database)
	return ok
}

// openDatabase finds a database in which something is to be altered, or says why nothing can be.
func openDatabase(p *planning.Draft, name string) (catalog.AccessDatabase, bool) {
	i := slices.IndexFunc(p.Snap.Access.Databases, func(d catalog.AccessDatabase) bool { return d.Name == name })
	if i < 0 {
		p.Find(change.Stop, change.DatabaseAbsent, "List them.", "There is no database %s on %s.", shown(name),
			p.Snap.Server.Name).Offer(remedy.Command("database.list", p.Snap.Server.Name))
		return catalog.AccessDatabase{}, false
	}
	d := p.Snap.Access.Databases[i]
	switch {
	case d.System:
		p.Find(change.Stop, change.GrantInvalid, "Do that in the databases of the team.",
			"%s belongs to the server itself.", shown(name))
		return d, false
	case d.Closed:
		p.Find(change.Stop, change.DatabaseClosed, "Bring it online first.",
			"%s is not online, so nothing in it can be altered.", shown(name)).
			Offer(remedy.Command("database.alter", p.Snap.Server.Name+"/"+name).With("options.offline", "no"))
		return d, false
	case d.Interior == nil:
		p.Find(change.Stop, change.CatalogueHidden, "Let Genarch's login look into every database.",
			"What is in %s cannot be read: %s.", shown(name), d.Why)
		return d, false
	}
	more, grants := detailsOf(p.Snap.Details), p.In.Grant != nil
	if grants && !more.Controls || !grants && !more.Alters {
		mayNot(p, name)
	}
	return d, true
}

// mayNot stops where Genarch's login has too few rights in a database.
func mayNot(p *planning.Draft, database string) {
	login := p.Snap.Instance.Login.Name
	p.Find(change.Stop, change.RightsMissing, "Have an administrator run it: "+
		ofMember("ADD", catalog.Principal{Name: owners, Database: database, Role: true}, login)+
		", once the login has a user there; or have the login be a sysadmin.",
		"Genarch's login %s may not alter people in %s, or what they may do there.", shown(login), shown(database))
}
