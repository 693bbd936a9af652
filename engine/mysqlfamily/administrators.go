package mysqlfamily

import (
	"slices"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
)

// administrators are the accounts and roles that the server keeps from all that are none: those
// that have the product's administrator's privilege, themselves or by a role. Whether a role that
// is not active counts, the manuals do not say; so it does.
func (p *product) administrators(accounts []catalog.Account,
	memberships []catalog.Membership) map[catalog.Principal]bool {
	if p.administrator == "" {
		return nil
	}
	out := map[catalog.Principal]bool{}
	for _, a := range accounts {
		if slices.Contains(a.Attributes, p.administrator) {
			out[a.Principal] = true
		}
	}
	return catalog.WithMembers(out, memberships)
}

// above are the administrators that Genarch's login may not alter, since it is none.
func above(snap catalog.Snapshot) map[catalog.Principal]bool {
	if snap.Instance.Login.Superuser || snap.Access == nil {
		return nil
	}
	return productOf(snap).administrators(snap.Access.Accounts, snap.Access.Memberships)
}

// planAbove stops where Genarch's login may not alter an account, nor grant it anything.
func planAbove(b *change.Brief, p catalog.Principal, snap catalog.Snapshot) {
	if above(snap)[p] {
		b.Find(change.Stop, change.RightsMissing, "Have an administrator do it.",
			"%s has %s, and Genarch's login %s, which has not, may not alter it.", p, productOf(snap).administrator,
			snap.Instance.Login.Name)
	}
}
