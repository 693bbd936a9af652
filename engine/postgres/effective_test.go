package postgres

import (
	"fmt"
	"math/rand/v2"
	"testing"

	"github.com/jackc/pgx/v5"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/privilege"
	"example.com/genarch/engine/enginetest"
	"example.com/genarch/localdb"
)

// testEffective makes random role graphs with random grants, and compares what
// core/access works out with the server's own answers.
func testEffective(t *testing.T, running *localdb.Server) {
	admin, err := pgx.Connect(t.Context(), running.DSN("postgres"))
	if err != nil {
		t.Fatal(err)
	}
	defer admin.Close(t.Context())
	try := func(c *pgx.Conn, format string, args ...any) bool {
		_, err := c.Exec(t.Context(), fmt.Sprintf(format, args...))
		return err == nil
	}
	var number int
	if err := admin.QueryRow(t.Context(), "SELECT current_setting('server_version_num')::int").
		Scan(&number); err != nil {
		t.Fatal(err)
	}
	const roles, tables = 14, 6
	for seed := range uint64(3) { // other graphs for each version
		random := rand.New(rand.NewPCG(seed, uint64(number)))
		db := fmt.Sprintf("graph_%d", seed)
		name := func(i int) string { return fmt.Sprintf("g%d_%d", seed, i) }
		for i := range roles {
			word := []string{"", "LOGIN", "NOINHERIT", "LOGIN"}[random.IntN(4)]
			if i == 13 {
				word = "SUPERUSER"
			}
			try(admin, "CREATE ROLE %s %s", name(i), word)
		}
		try(admin, "CREATE DATABASE %s OWNER %s", db, name(random.IntN(roles)))
		conn, err := pgx.Connect(t.Context(), running.DSN(db))
		if err != nil {
			t.Fatal(err)
		}
		for range 24 { // circles are refused by the server
			option := ""
			if number >= 160000 && random.IntN(3) == 0 {
				option = " WITH INHERIT FALSE"
			}
			try(admin, "GRANT %s TO %s%s", name(random.IntN(roles)), name(random.IntN(roles)), option)
		}
		try(admin, "GRANT %s TO %s", []string{"pg_read_all_data", "pg_write_all_data"}[random.IntN(2)],
			name(random.IntN(roles)))
		for i := range tables {
			schema := []string{"public", "freight"}[i%2]
			try(conn, "CREATE SCHEMA IF NOT EXISTS %s AUTHORIZATION %s", schema, name(random.IntN(roles)))
			if !try(conn, "CREATE TABLE %s.t%d (a int, b int); ALTER TABLE %s.t%d OWNER TO %s", schema, i, schema, i,
				name(random.IntN(roles))) {
				t.Fatal("no table")
			}
			try(conn, "CREATE SEQUENCE %s.s%d", schema, i)
		}
		anybody := func() string {
			if random.IntN(6) == 0 {
				return "PUBLIC"
			}
			return name(random.IntN(roles))
		}
		for range 40 {
			i := random.IntN(tables)
			schema := []string{"public", "freight"}[i%2]
			word := []string{"SELECT", "INSERT", "UPDATE, DELETE", "ALL", "TRUNCATE"}[random.IntN(5)]
			switch random.IntN(7) {
			case 0:
				try(conn, "REVOKE %s ON %s.t%d FROM %s", word, schema, i, anybody())
			case 1:
				try(conn, "GRANT %s ON SCHEMA %s TO %s", []string{"USAGE", "CREATE", "ALL"}[random.IntN(3)], schema,
					anybody())
			case 2:
				try(conn, "GRANT %s ON DATABASE %s TO %s", []string{"CONNECT", "CREATE", "TEMPORARY"}[random.IntN(3)],
					db, anybody())
			case 3:
				try(conn, "GRANT %s ON SEQUENCE %s.s%d TO %s", []string{"USAGE", "SELECT", "UPDATE"}[random.IntN(3)],
					schema, i, anybody())
			case 4:
				try(conn, "GRANT SELECT (a), UPDATE (b) ON %s.t%d TO %s", schema, i, anybody())
			default:
				try(conn, "GRANT %s ON %s.t%d TO %s", word, schema, i, anybody())
			}
		}
		if random.IntN(2) == 0 {
			try(conn, "REVOKE CONNECT ON DATABASE %s FROM PUBLIC", db)
		}
		s := enginetest.Open(t, Engine{}, enginetest.Target(Engine{}, running, "harbour"))
		// compare asks the server for all roles and privileges on one object at once.
		compare := func(o catalog.Object, ask string, privileges ...privilege.Set) {
			a, err := s.Access(t.Context(), catalog.AccessQuery{Inside: []string{db}, Object: &o})
			if err != nil {
				t.Fatal(err)
			}
			g := graph(a)
			var who, what []string
			for i := range roles {
				who = append(who, name(i))
			}
			for _, p := range privileges {
				what = append(what, p.String())
			}
			rows, err := conn.Query(t.Context(), "SELECT r, p, "+ask+" FROM unnest($1::text[]) r, unnest($2::text[]) p",
				who, what)
			if err != nil {
				t.Fatal(err)
			}
			var r, word string
			var answer bool
			n := 0
			if _, err := pgx.ForEachRow(rows, []any{&r, &word, &answer}, func() error {
				n++
				want, _ := table.Named(word)
				if have := g.Effective(catalog.Principal{Name: r}, o); have.Has(want) != answer {
					t.Errorf("seed %d: %s %s on %v: computed %v, the server says %v", seed, r, word, o, have.Has(want),
						answer)
				}
				return nil
			}); err != nil || n != roles*len(privileges) {
				t.Fatalf("%s: %d answers, %v", ask, n, err)
			}
		}
		o := catalog.Object{Scope: catalog.ScopeDatabase, Database: db}
		compare(o, "has_database_privilege(r, '"+db+"', p)", may.Connect, may.Create, may.Temporary)
		for i := range tables {
			schema := []string{"public", "freight"}[i%2]
			o := catalog.Object{Scope: catalog.ScopeTable, Database: db, Schema: schema, Name: fmt.Sprintf("t%d", i)}
			table := fmt.Sprintf("%s.t%d", schema, i)
			compare(o, "has_table_privilege(r, '"+table+"', p)", may.Select, may.Insert, may.Update, may.Delete,
				may.Truncate)
			o.Scope, o.Column = catalog.ScopeColumn, "a"
			compare(o, "has_column_privilege(r, '"+table+"', 'a', p)", may.Select, may.Insert)
			o = catalog.Object{Scope: catalog.ScopeSequence, Database: db, Schema: schema, Name: fmt.Sprintf("s%d", i)}
			compare(o, fmt.Sprintf("has_sequence_privilege(r, '%s.s%d', p)", schema, i), may.Usage, may.Select,
				may.Update)
		}
		for _, schema := range []string{"public", "freight"} {
			compare(catalog.Object{Scope: catalog.ScopeSchema, Database: db, Schema: schema},
				"has_schema_privilege(r, '"+schema+"', p)", may.Usage, may.Create)
		}
		conn.Close(t.Context())
	}
}
