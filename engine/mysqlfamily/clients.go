package mysqlfamily

import (
	"cmp"
	"slices"

	"example.com/genarch/core/catalog"
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
