package mysqlfamily

import (
	"context"
	"database/sql"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/naming"
)

// byMandatory is the grantor of memberships that every account has because the server's settings
// say so.
const byMandatory = "mandatory_roles"

// mysqlMandatory lists the roles that everybody has: nobody can revoke or drop them. Source:
// information_schema.APPLICABLE_ROLES, which names those of the login, these among them.
func mysqlMandatory(ctx context.Context, s *server) (out []catalog.Principal, err error) {
	err = s.query(ctx, "read mandatory roles", `SELECT DISTINCT ROLE_NAME, ROLE_HOST
		FROM information_schema.APPLICABLE_ROLES WHERE IS_MANDATORY = 'YES'`, func(r *sql.Rows) error {
		p := catalog.Principal{Role: true}
		err := r.Scan(&p.Name, &p.Host)
		out = append(out, p)
		return err
	})
	return out, err
}

// everybodyIn adds what every account is a member of.
func everybodyIn(mandatory []catalog.Principal, accounts []catalog.Principal, have []catalog.Membership,
	inherit bool) []catalog.Membership {
	is := map[catalog.Principal]bool{}
	for _, r := range mandatory {
		is[r] = true
	}
	at := map[[2]catalog.Principal]int{}
	for i, m := range have {
		at[[2]catalog.Principal{m.Role, m.Member}] = i
	}
	for _, p := range accounts {
		for _, r := range mandatory {
			if i, there := at[[2]catalog.Principal{r, p}]; there {
				have[i].Grantor = byMandatory
			} else if !is[p] {
				have = append(have, catalog.Membership{Role: r, Member: p, Set: true, Inherit: inherit,
					Grantor: byMandatory})
			}
		}
	}
	return have
}

// planMandatory stops where a role is to be taken away that everybody has.
func planMandatory(b *change.Brief, role catalog.Principal, access *catalog.Access) {
	for _, m := range access.Memberships {
		if m.Role == role && m.Grantor == byMandatory {
			b.Find(change.Stop, change.RoleHeld, "Take it out of the server's setting mandatory_roles first.",
				"The role %s is mandatory on this server: everybody has it, and it can be neither revoked nor dropped.",
				naming.Show(role.Name))
			return
		}
	}
}
