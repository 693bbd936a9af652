package engine_test

import (
	"errors"
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strings"
	"testing"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/engine"
	"example.com/genarch/engine/mariadb"
	"example.com/genarch/engine/postgres"
)

// copyOf is a description that can be spoiled.
func copyOf(from *engine.Description) *engine.Description {
	d := *from
	d.Fields, d.Intents = maps.Clone(d.Fields), maps.Clone(d.Intents)
	d.Fields[change.PartDatabase] = slices.Clone(d.Fields[change.PartDatabase])
	d.Bundles, d.Principals = slices.Clone(d.Bundles), slices.Clone(d.Principals)
	return &d
}

func TestValidateFinds(t *testing.T) {
	field := func(d *engine.Description, name string) *engine.Field {
		i := slices.IndexFunc(d.Fields[change.PartDatabase], func(f engine.Field) bool { return f.Name == name })
		return &d.Fields[change.PartDatabase][i]
	}
	for title, tt := range map[string]struct {
		spoil func(*engine.Description)
		want  string
	}{
		"a name twice": {func(d *engine.Description) { field(d, "ctype").Name = "locale" },
			"locale is there twice"},
		"a kind without a form": {func(d *engine.Description) { delete(d.Intents, change.DropDatabase) },
			"database.drop has neither a form nor a reason"},
		"both a form and a reason": {func(d *engine.Description) { d.Intents[change.DropDatabase] = engine.Form{Says: "A.", Why: "B."} }, "needs either a form or a reason"},
		"an option of nothing":     {func(d *engine.Description) { d.Intents[change.AlterDatabase] = engine.Form{Why: "No."} }, "is for database.alter, which is not possible"},
		"settled, and says it not": {func(d *engine.Description) { field(d, "encoding").Fixed = "" },
			"database.encoding is settled once and its Fixed is no sentence"},
		"fixed, and can be altered": {func(d *engine.Description) { field(d, "owner").Fixed = "No." },
			"database.owner is fixed and can be altered"},
		"a choice from nowhere": {func(d *engine.Description) { field(d, "owner").From = "moon" },
			"picked from moon"},
		"a common word misused": {func(d *engine.Description) { field(d, "collation").Type = engine.Yes },
			"means the same everywhere"},
		"an unknown release": {func(d *engine.Description) { field(d, "strategy").Since = "2030" },
			"of the release 2030"},
		"a bundle too wide": {func(d *engine.Description) { d.Bundles[0].On = map[catalog.Scope][]string{"schema": {"SELECT"}} }, "read has SELECT on schema"},
		"a bundle too few":  {func(d *engine.Description) { d.Bundles = d.Bundles[1:] }, "the bundles are"},
		"an ambiguous address": {func(d *engine.Description) {
			d.Principals = append(d.Principals,
				d.Principals[0])
		}, "an address cannot tell account from account"},
		"a leak that is not told": {func(d *engine.Description) { d.Gate.Keeps = engine.KeepsRights },
			"says not whom it does not"},
		"half a sentence": {func(d *engine.Description) { d.Granting.Later = "later ones too" },
			"is no sentence"},
	} {
		d := copyOf(postgres.Engine{}.Describe())
		if err := d.Validate(); err != nil {
			t.Fatal(err)
		}
		tt.spoil(d)
		if err := d.Validate(); err == nil || !strings.Contains(err.Error(), tt.want) {
			t.Errorf("%s: %v; want %q", title, err, tt.want)
		}
	}
}

func TestParse(t *testing.T) {
	size := engine.Field{Name: "size", Type: engine.Size, Values: engine.Titled("unlimited")}
	number := engine.Field{Name: "n", Type: engine.Number, Min: engine.N(0), Values: engine.Titled("none")}
	table := engine.Field{Name: "t", Type: engine.Table, Key: "name",
		Columns: []engine.Field{{Name: "name", Type: engine.Text, Required: true}, {Name: "size", Type: engine.Size}}}
	pick := engine.Field{Name: "p", Type: engine.Pick, Values: engine.Titled("wal_log", "file_copy")}
	short := engine.Field{Name: "s", Type: engine.Text, Max: engine.N(3)}
	rows := func(r ...catalog.Values) []catalog.Values { return r }
	for _, tt := range []struct {
		field       engine.Field
		value, want any
	}{
		{size, "64 MB", int64(64 << 20)}, {size, "1.5GiB", int64(1536 << 20)}, {size, int64(8192), int64(8192)},
		{size, "unlimited", "unlimited"}, {size, "8192", int64(8192)},
		{number, "5", int64(5)}, {number, "none", "none"}, {engine.Field{Type: engine.Yes}, "off", false},
		{engine.Field{Type: engine.List}, "a,b", []string{"a", "b"}},
		{pick, "FILE_COPY", "file_copy"}, {short, "äöü", "äöü"},
		{table, rows(catalog.Values{"name": "x", "size": "1 KB"}),
			rows(catalog.Values{"name": "x", "size": int64(1024)})}, {table, []string{}, []catalog.Values{}},
	} {
		got, err := tt.field.Parse(tt.value)
		if err != nil || !reflect.DeepEqual(got, tt.want) {
			t.Errorf("%s: Parse(%v) = %#v, %v; want %#v", tt.field.Name, tt.value, got, err, tt.want)
		}
	}
	for _, bad := range []struct {
		field engine.Field
		value any
		says  string
	}{
		{number, "64 XB", "no number"}, {number, "a lot", "no number"}, {number, true, "no number"},
		{number, "-1", "at least 0; or none"}, {size, "9999999 PB", "no size"},
		{pick, "magic", "there are wal_log, file_copy"}, {short, "four", "4 characters; at most 3"},
		{short, int64(1), "no text"}, {engine.Field{Type: engine.Yes}, "maybe", "neither yes nor no"},
		{table, "x", "no table"}, {table, rows(catalog.Values{"size": int64(1)}), "row 1 needs name"},
		{table, rows(catalog.Values{"name": "x", "speed": "y"}), "row 1 has no column speed"},
		{table, rows(catalog.Values{"name": "x"}, catalog.Values{"name": "x"}), "two rows have the name x"},
	} {
		if got, err := bad.field.Parse(bad.value); err == nil || !strings.Contains(err.Error(), bad.says) {
			t.Errorf("Parse(%v) = %v, %v; want an error with %q", bad.value, got, err, bad.says)
		}
	}
}

func TestCheckIntent(t *testing.T) {
	create := func(options catalog.Values) change.Intent {
		return change.Intent{Kind: change.CreateDatabase, Server: "harbour",
			Database: &change.DatabaseSpec{Name: "tides_dev", Options: options}}
	}
	alter := create(catalog.Values{"encoding": "UTF8"})
	alter.Kind = change.AlterDatabase
	for _, tt := range []struct {
		d          *engine.Description
		in         change.Intent
		says, next string
	}{
		{postgres.Engine{}.Describe(), create(catalog.Values{"conection_limit": "5"}),
			"PostgreSQL has no option conection_limit for database.create", "Did you mean connection_limit?"},
		{postgres.Engine{}.Describe(), create(catalog.Values{"strategy": "magic"}),
			`strategy: there is no "magic"; there are wal_log, file_copy`, "engine.show postgresql"},
		{postgres.Engine{}.Describe(), create(catalog.Values{"connection_limit": int64(-7)}),
			"connection_limit: -7 is out of bounds; at least 0", "engine.show"},
		{postgres.Engine{}.Describe(), create(catalog.Values{"allow": []string{"mate"}}),
			"allow means nothing without private", "Give both"},
		{postgres.Engine{}.Describe(), create(catalog.Values{"collation_version": "1"}),
			"collation_version can be read and not be set", "engine.show"},
		{postgres.Engine{}.Describe(), create(catalog.Values{"clear_leftovers": true}),
			"PostgreSQL has no option clear_leftovers", "engine.show"},
		{postgres.Engine{}.Describe(), alter, "encoding is fixed once the database is made", "make a new database"},
		{mariadb.Engine{}.Describe(), create(catalog.Values{"tablespace": "fast"}),
			"MariaDB has no option tablespace for database.create", "engine.show mariadb"},
		{mariadb.Engine{}.Describe(), create(catalog.Values{"comment": strings.Repeat("x", 1025)}),
			"it has 1025 characters; at most 1024 fit", ""},
	} {
		_, err := engine.CheckIntent(tt.in, tt.d)
		e, ok := errors.AsType[*engine.OptionError](err)
		if !ok || !errors.Is(err, change.ErrIntent) || !strings.Contains(e.Text, tt.says) ||
			!strings.Contains(fmt.Sprint(e.Next, e.Actions), tt.next) {
			t.Errorf("%v: %+v; want %q and %q", tt.in.Database.Options, err, tt.says, tt.next)
		}
	}
	account := func(role bool, options catalog.Values) change.Intent {
		return change.Intent{Kind: change.AlterAccount, Server: "quay",
			Account: &change.AccountSpec{Name: "mate", Role: role, Options: options}}
	}
	hold := change.Intent{Kind: change.DropDatabase, Server: "harbour", Database: &change.DatabaseSpec{Name: "x"},
		Clearing: &change.ClearingSpec{Options: catalog.Values{"lock_accounts": true}}}
	for _, tt := range []struct {
		d    *engine.Description
		in   change.Intent
		says string
	}{
		{mariadb.Engine{}.Describe(), account(true, catalog.Values{"locked": true}),
			"locked is nothing that roles have"},
		{mariadb.Engine{}.Describe(), account(false, catalog.Values{"comment": "x"}),
			"MariaDB has no option comment for account.alter"},
		{mariadb.Engine{}.Describe(), account(false, catalog.Values{"connection_limit": int64(-5)}), "out of bounds"},
		{postgres.Engine{}.Describe(), account(false, catalog.Values{"tls": true}),
			"PostgreSQL has no option tls for account.alter"},
		{postgres.Engine{}.Describe(), hold, "PostgreSQL has no option lock_accounts for database.drop"},
	} {
		if _, err := engine.CheckIntent(tt.in, tt.d); err == nil || !strings.Contains(err.Error(), tt.says) {
			t.Errorf("%v; want %q", err, tt.says)
		}
	}
	in := create(catalog.Values{"connection_limit": "7", "is_template": "yes", "allow": "a,b", "private": "on"})
	out, err := engine.CheckIntent(in, postgres.Engine{}.Describe())
	want := catalog.Values{"connection_limit": int64(7), "is_template": true, "allow": []string{"a", "b"},
		"private": true}
	if err != nil || !reflect.DeepEqual(out.Database.Options, want) || in.Database.Options["private"] != "on" {
		t.Errorf("checked: %v, %v; the intent itself: %v", out.Database.Options, err, in.Database.Options)
	}
	if again, err := engine.CheckIntent(out, postgres.Engine{}.Describe()); err != nil ||
		!reflect.DeepEqual(again, out) {
		t.Errorf("checked twice: %v, %v", again.Database.Options, err)
	}
}

// Every option of an engine is refused, by name, in each kind of intent that does not
// have it.
func TestOptionsAreRefusedWhereTheyAreNot(t *testing.T) {
	tried := 0
	for _, d := range []*engine.Description{postgres.Engine{}.Describe(), mariadb.Engine{}.Describe()} {
		for _, k := range change.Kinds() {
			if change.PartOf(k) != change.PartDatabase || d.Intents[k].Why != "" || k == change.RenameDatabase {
				continue // a rename has no options at all, which its row says
			}
			for _, f := range d.Fields[change.PartDatabase] {
				in := change.Intent{Kind: k, Server: "harbour",
					Database: &change.DatabaseSpec{Name: "x", Options: catalog.Values{f.Name: "yes"}}}
				if k == change.FillDatabase {
					in.Database.Script = "x"
				}
				_, err := engine.CheckIntent(in, d)
				e, refused := errors.AsType[*engine.OptionError](err)
				if has := slices.Contains(f.In, k); !has && (!refused || !strings.Contains(e.Text, f.Name)) {
					t.Errorf("%s: %s with %s: %v", d.ID, k, f.Name, err)
				}
				tried++
			}
		}
	}
	if tried < 60 {
		t.Errorf("only %d were tried", tried)
	}
}
