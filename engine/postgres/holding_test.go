package postgres

import (
	"net/url"
	"slices"
	"strings"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/engine/enginetest"
)

// carried plans and carries an intent out, and fails the test if it cannot.
func (k taker) carried(in change.Intent) []change.Step {
	k.t.Helper()
	done, err := enginetest.Carry(k.t, k.s, k.brief(in))
	if err != nil {
		k.t.Fatalf("%s: %v", in.Kind, err)
	}
	return done
}

// waits finds the database that was set aside under this name.
func (k taker) waits(name string) catalog.Database {
	k.t.Helper()
	list, err := k.s.Databases(k.t.Context())
	if err != nil {
		k.t.Fatal(err)
	}
	i := slices.IndexFunc(list.Held, func(d catalog.Database) bool { return d.Held.Name == name })
	if i < 0 {
		k.t.Fatalf("%s does not wait: %+v", name, list.Held)
	}
	if slices.ContainsFunc(list.Databases, func(d catalog.Database) bool { return d.Name == list.Held[i].Name }) {
		k.t.Errorf("%s is among the ordinary databases", list.Held[i].Name)
	}
	return list.Held[i]
}

// testHolding sets databases aside, hostile names among them, and brings each back as it was.
func testHolding(k taker) {
	k.exec("CREATE ROLE keeps_dev LOGIN PASSWORD 'x'")
	for _, name := range []string{"aside_dev", `as"ide; --`, strings.Repeat("é", 31),
		`{"set_aside_by":"Genarch"}`} {
		k.exec("CREATE DATABASE "+quoteIdent(name)+" CONNECTION LIMIT 7",
			"COMMENT ON DATABASE "+quoteIdent(name)+" IS 'it''s \\ ours'",
			"GRANT CREATE ON DATABASE "+quoteIdent(name)+" TO keeps_dev",
			"ALTER DATABASE "+quoteIdent(name)+" SET work_mem = '8MB'")
		k.connect(url.PathEscape(name))
		before := k.fingerprint(name)
		aside := k.carried(
			taking(change.SetAside, change.DatabaseSpec{Name: name}, &change.ClearingSpec{AcceptLoss: true}))
		d := k.waits(name)
		if !d.Closed || !d.Held.Open || d.Held.Comment != `it's \ ours` || d.Size == nil {
			k.t.Errorf("%q waits as %+v, %+v", name, d, d.Held)
		}
		if a, err := k.s.Access(k.t.Context(), catalog.AccessQuery{}); err != nil ||
			slices.ContainsFunc(a.Databases, func(x catalog.AccessDatabase) bool { return x.Name == d.Name }) {
			k.t.Errorf("%q counts in the matrix: %v", name, err)
		}
		for _, step := range slices.Backward(aside) {
			if took, err := k.s.Probe(k.t.Context(), step); !took || err != nil {
				k.t.Errorf("Probe(%s) = %v, %v", step.Kind, took, err)
			}
		}
		for _, other := range []change.Intent{taking(change.DropDatabase, change.DatabaseSpec{Name: d.Name}, nil),
			taking(change.RenameDatabase, change.DatabaseSpec{Name: d.Name, NewName: "mine_dev"}, nil),
			taking(change.AlterDatabase, change.DatabaseSpec{Name: d.Name,
				Options: catalog.Values{"comment": "x"}}, nil)} {
			if b := k.brief(other); !slices.Contains(b.Codes(change.Stop), change.DatabaseHeld) {
				k.t.Errorf("%s of what waits: %+v", other.Kind, b.Findings)
			}
		}
		k.carried(
			change.Intent{
				Kind:    change.KeepHolding,
				Holding: &change.HoldingSpec{ID: d.Name, Until: "2199-12-31", Hold: "it's for the audit"},
			},
		)
		if d = k.waits(name); d.Held.Hold != "it's for the audit" || d.Held.Until.Year() != 2199 ||
			d.Held.Comment != `it's \ ours` {
			k.t.Errorf("%q is kept as %+v", name, d.Held)
		}
		back := k.carried(change.Intent{Kind: change.BringBack, Holding: &change.HoldingSpec{ID: d.Name}})
		if after := k.fingerprint(name); after != before {
			k.t.Errorf("%q came back as\n%s\nand was\n%s", name, after, before)
		}
		for _, step := range slices.Backward(back) { // a change that reverts puts it back where it waited
			if step.Undo == "" {
				continue
			}
			for range 2 {
				if _, err := k.s.Undo(k.t.Context(), step); err != nil {
					k.t.Errorf("Undo(%s): %v", step.Kind, err)
				}
			}
		}
		if d = k.waits(name); d.Held.Hold == "" {
			k.t.Errorf("rolled back: %+v", d.Held)
		}
	}
	d := k.waits("aside_dev")
	k.exec("CREATE DATABASE aside_dev")
	in := change.Intent{Kind: change.BringBack, Holding: &change.HoldingSpec{ID: d.Name}}
	if b := k.brief(in); !slices.Contains(b.Codes(change.Stop), change.NameTaken) {
		k.t.Errorf("its name is taken: %+v", b.Findings)
	}
	in.Holding.NewName = "aside_again_dev"
	k.exec("ALTER DATABASE " + quoteIdent(d.Name) + " ALLOW_CONNECTIONS true") // somebody looks into it
	k.connect(url.PathEscape(d.Name))
	if b := k.brief(in); !slices.Contains(b.Codes(change.Caution), change.HoldingOpened) {
		k.t.Errorf("somebody is in it: %+v", b.Findings)
	}
	k.carried(in)
	if d, err := k.s.Database(k.t.Context(), "aside_again_dev"); err != nil || d.Held != nil || d.Closed {
		k.t.Errorf("under another name: %+v, %v", d, err)
	}
	odd := k.waits(`as"ide; --`)
	discard := change.Intent{Kind: change.Discard, Holding: &change.HoldingSpec{ID: odd.Name}}
	if b := k.brief(discard); !slices.Contains(b.Codes(change.Stop), change.HoldingStopped) {
		k.t.Errorf("a hold: %+v", b.Findings)
	}
	k.carried(change.Intent{Kind: change.KeepHolding, Holding: &change.HoldingSpec{ID: odd.Name, Release: true}})
	if b := k.brief(discard); b.Confirm != odd.Held.Name || b.Impact == nil || !b.Impact.Final {
		k.t.Errorf("discarding: %+v", b)
	}
	k.carried(discard)
	list, err := k.s.Databases(k.t.Context())
	if err != nil || slices.ContainsFunc(list.Held, func(d catalog.Database) bool { return d.Name == odd.Name }) {
		k.t.Errorf("discarded: %+v, %v", list.Held, err)
	}
}

// fingerprint is everything that the catalogue says of a database by its name.
func (k taker) fingerprint(name string) string {
	k.t.Helper()
	var text string
	err := k.admin.QueryRow(
		k.t.Context(),
		`SELECT row_to_json(d)::text || coalesce(shobj_description(d.oid, 'pg_database'), '') ||
		(SELECT coalesce(json_agg(x ORDER BY x.setrole)::text, '') FROM pg_db_role_setting x
			WHERE x.setdatabase = d.oid)
		FROM pg_database d WHERE datname::text = $1::text`,
		name,
	).Scan(&text)
	if err != nil {
		k.t.Fatal(err)
	}
	return text
}

// testAccountHolding sets accounts aside, hostile names among them, and brings each back as it was.
func testAccountHolding(k taker) {
	all := func(key string) (text string) {
		k.t.Helper()
		if err := k.admin.QueryRow(k.t.Context(), `SELECT row_to_json(r)::text ||
			coalesce(shobj_description(r.oid, 'pg_authid'), '') ||
			(SELECT coalesce(json_agg(m ORDER BY m.roleid)::text, '') FROM pg_auth_members m WHERE m.member = r.oid)
			FROM pg_authid r WHERE oid::text = $1`, key).
			Scan(&text); err != nil {
			k.t.Fatal(err)
		}
		return text
	}
	waits := func(name string) catalog.Account {
		k.t.Helper()
		list, err := k.s.Databases(k.t.Context())
		i := slices.IndexFunc(list.HeldAccounts, func(a catalog.Account) bool { return a.Held.Name == name })
		if err != nil || i < 0 {
			k.t.Fatalf("%q does not wait: %+v, %v", name, list.HeldAccounts, err)
		}
		return list.HeldAccounts[i]
	}
	k.exec("CREATE ROLE aside_desk")
	for _, name := range []string{"aside_mate", `as"ide; --`, strings.Repeat("é", 31), `{"set_aside_by":"Genarch"}`} {
		k.exec("CREATE ROLE "+quoteIdent(name)+" LOGIN CONNECTION LIMIT 7 PASSWORD 'x' IN ROLE aside_desk",
			"COMMENT ON ROLE "+quoteIdent(name)+" IS 'it''s \\ ours'")
		var key string
		if err := k.admin.QueryRow(k.t.Context(), "SELECT oid::text FROM pg_roles WHERE rolname::text = $1::text",
			name).Scan(&key); err != nil {
			k.t.Fatal(err)
		}
		before := all(key)
		k.carried(change.Intent{Kind: change.SetAsideAccount, Account: &change.AccountSpec{Name: name}})
		a := waits(name)
		if a.Login || a.Held.Opened || !a.Held.Open || a.Held.Comment != `it's \ ours` || a.Key != key {
			k.t.Errorf("%q waits as %+v, %+v", name, a, a.Held)
		}
		spec := change.HoldingSpec{ID: a.Name, Account: true}
		kept := spec
		kept.Hold = "it's for the audit"
		k.carried(change.Intent{Kind: change.KeepHolding, Holding: &kept})
		if a = waits(name); a.Held.Hold != kept.Hold {
			k.t.Errorf("%q is kept as %+v", name, a.Held)
		}
		back := k.carried(change.Intent{Kind: change.BringBack, Holding: &spec})
		if after := all(key); after != before {
			k.t.Errorf("%q came back as\n%s\nand was\n%s", name, after, before)
		}
		for _, step := range slices.Backward(back) { // a change that reverts puts it back where it waited
			if step.Undo == "" {
				continue
			}
			if _, err := k.s.Undo(k.t.Context(), step); err != nil {
				k.t.Errorf("Undo(%s): %v", step.Title, err)
			}
		}
		if a = waits(name); a.Held.Hold != kept.Hold || a.Held.Opened {
			k.t.Errorf("rolled back: %+v", a.Held)
		}
	}
}
