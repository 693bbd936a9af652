package postgres

import (
	"testing"

	"github.com/jackc/pgx/v5"

	"example.com/genarch/core/catalog"
	"example.com/genarch/engine/enginetest"
	"example.com/genarch/testutil"
)

// BenchmarkAccess reads 5,000 roles and 20,000 memberships beside the same
// catalogues by the same driver; the goal is 1.5 times.
func BenchmarkAccess(b *testing.B) {
	running := testutil.Postgres(b)
	conn, err := pgx.Connect(b.Context(), running.DSN("postgres"))
	if err != nil {
		b.Fatal(err)
	}
	defer conn.Close(b.Context())
	// Rows put there by hand: five thousand statements would take minutes.
	if _, err := conn.Exec(b.Context(), `SET allow_system_table_mods = on;
		INSERT INTO pg_authid SELECT 20000 + i, 'acc_' || i, false, true, false, false, i >= 300, false, false, -1, NULL, NULL FROM generate_series(0, 4999) i;
		INSERT INTO pg_auth_members SELECT DISTINCT 20000 + i % 300, 20300 + (i + i / 14100) % 4700, 10, false FROM generate_series(0, 19999) i`, pgx.QueryExecModeSimpleProtocol); err != nil {
		b.Fatal(err)
	}
	s := enginetest.Open(b, Engine{}, enginetest.Target(Engine{}, running, "harbour"))
	bare := func() {
		for _, text := range []string{`SELECT oid, rolname::text, rolsuper, rolinherit, rolcreaterole, rolcreatedb, rolcanlogin, rolreplication, rolbypassrls, rolconnlimit, rolvaliduntil, coalesce(rolpassword, '') FROM pg_authid`,
			`SELECT r.rolname::text, u.rolname::text, g.rolname::text, m.admin_option FROM pg_auth_members m JOIN pg_roles r ON r.oid = m.roleid JOIN pg_roles u ON u.oid = m.member LEFT JOIN pg_roles g ON g.oid = m.grantor`,
			`SELECT datname::text, datdba, datacl::text[] FROM pg_database`,
			`SELECT usesysid, count(*) FROM pg_stat_activity GROUP BY 1`} {
			rows, err := conn.Query(b.Context(), text)
			if err != nil {
				b.Fatal(err)
			}
			for rows.Next() {
				if _, err := rows.Values(); err != nil {
					b.Fatal(err)
				}
			}
			rows.Close()
		}
	}
	testutil.Beside(b, 15, func(int) { bare() }, func(int) {
		a, err := s.Access(b.Context(), catalog.AccessQuery{})
		if err != nil || len(a.Accounts) < 5000 || len(a.Memberships) < 19000 {
			b.Fatal(err, len(a.Accounts), len(a.Memberships))
		}
	})
}
