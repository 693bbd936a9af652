package mysqlfamily

import (
	"cmp"
	"slices"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/clearing"
)

// signsInAs finds the account that a client gets who comes from a host
// and names itself user: the most specific host wins, and only then a name over
// no name, so that an anonymous account may catch a login meant for another.
func (h hosts) signsInAs(accounts []catalog.Account, user, client string) (catalog.Account, bool) {
	fits := slices.DeleteFunc(slices.Clone(accounts), func(a catalog.Account) bool {
		return a.Role || a.Name != user && a.Name != "" || !h.covers(a.Host, client)
	})
	if len(fits) == 0 {
		return catalog.Account{}, false
	}
	return slices.MinFunc(fits, h.compareAccounts), true
}

// compareAccounts orders accounts as the engine tries them.
func (h hosts) compareAccounts(a, b catalog.Account) int {
	return cmp.Or(h.compare(a.Host, b.Host), cmp.Compare(min(len(b.Name), 1), min(len(a.Name), 1)))
}

// rivals lists the accounts that share clients with p: some client could be
// meant for the one and get the other. before: they are tried before p.
func (h hosts) rivals(accounts []catalog.Account, p catalog.Principal) (before, after []catalog.Account) {
	me := catalog.Account{Principal: p}
	for _, a := range accounts {
		if a.Role || a.Principal == p || a.Name != p.Name && a.Name != "" ||
			!h.covers(a.Host, p.Host) && !h.covers(p.Host, a.Host) {
			continue
		}
		if h.compareAccounts(a, me) < 0 {
			before = append(before, a)
		} else if a.Name == p.Name {
			after = append(after, a)
		}
	}
	return before, after
}

// accountOf is the account that a session most probably signed in as.
func (h hosts) accountOf(accounts []catalog.Account, c connected) (catalog.Account, bool) {
	a, ok := h.signsInAs(accounts, c.user, c.client)
	if c.client == "localhost" {
		// A client that is shown as localhost may have come as 127.0.0.1.
		if b, also := h.signsInAs(accounts, c.user, "127.0.0.1"); also && (!ok || b.Host == "127.0.0.1") {
			return b, true
		}
	}
	return a, ok
}

// accountResolver finds the account that a session most probably signed in as. Sessions of
// a pool come by the hundred, so each answer is kept.
type accountResolver struct {
	hosts  hosts
	byName map[string][]catalog.Account
	known  map[connected]catalog.Principal
}

func newAccountResolver(h hosts, accounts []catalog.Account) accountResolver {
	w := accountResolver{h, map[string][]catalog.Account{}, map[connected]catalog.Principal{}}
	for _, a := range accounts {
		w.byName[a.Name] = append(w.byName[a.Name], a)
	}
	return w
}

func (w accountResolver) of(user, client string) catalog.Principal {
	c := connected{user: user, client: clearing.Address(client)}
	p, known := w.known[c]
	if !known {
		p = catalog.Principal{Name: user}
		if a, ok := w.hosts.accountOf(slices.Concat(w.byName[user], w.byName[""]), c); ok {
			p = a.Principal
		}
		w.known[c] = p
	}
	return p
}
