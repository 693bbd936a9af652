package change

import (
	"reflect"
	"strings"
	"testing"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/clearing"
)

// least is the smallest intent of each kind that is understood.
func least() map[Kind]Intent {
	yes := true
	database := func(d DatabaseSpec) Intent { return Intent{Database: &d} }
	account := func(a AccountSpec) Intent { return Intent{Account: &a} }
	to := catalog.Principal{Name: "mate"}
	out := map[Kind]Intent{
		CreateDatabase: database(DatabaseSpec{Name: "tides_dev"}),
		DropDatabase:   database(DatabaseSpec{Name: "tides_dev"}),
		AlterDatabase:  database(DatabaseSpec{Name: "tides_dev", Options: catalog.Values{"comment": "x"}}),
		RenameDatabase: database(DatabaseSpec{Name: "tides_dev", NewName: "ebbs_dev"}),
		FillDatabase:   database(DatabaseSpec{Name: "tides_dev", Script: "s"}),
		SetAside:       database(DatabaseSpec{Name: "tides_dev"}),
		BringBack:      {Holding: &HoldingSpec{ID: "held_tides"}},
		Discard:        {Holding: &HoldingSpec{ID: "held_tides"}},
		KeepHolding:    {Holding: &HoldingSpec{ID: "held_tides", Until: "2027-01-31"}},
		EndSessions:    {Sessions: &SessionsSpec{Filter: clearing.Filter{Account: "mate"}}}, MarkServer: {Mark: "m"},
		CreateAccount:   account(AccountSpec{Name: "mate"}),
		AlterAccount:    account(AccountSpec{Name: "mate", Options: catalog.Values{"locked": yes}}),
		RenameAccount:   account(AccountSpec{Name: "mate", NewName: "bosun"}),
		SetPassword:     account(AccountSpec{Name: "mate", Password: Generated}),
		DropAccount:     account(AccountSpec{Name: "mate"}),
		SetAsideAccount: account(AccountSpec{Name: "mate"}),
		GrantRole:       {Member: &MemberSpec{Role: "crew", To: to}},
		RevokeRole:      {Member: &MemberSpec{Role: "crew", To: to}},
		GrantPrivilege:  {Grant: &GrantSpec{Database: "tides_dev", To: to, Bundle: "read"}},
		RevokePrivilege: {Grant: &GrantSpec{Database: "tides_dev", To: to}},
	}
	for k, in := range out {
		in.Kind, in.Server = k, "harbour"
		out[k] = in
	}
	return out
}

// full gives every field of a part a value.
func full(v reflect.Value) {
	switch v.Kind() {
	case reflect.String:
		v.SetString("x")
	case reflect.Bool:
		v.SetBool(true)
	case reflect.Int, reflect.Int64:
		v.SetInt(1)
	case reflect.Float64:
		v.SetFloat(1)
	case reflect.Pointer:
		v.Set(reflect.New(v.Type().Elem()))
		full(v.Elem())
	case reflect.Map:
		v.Set(reflect.MakeMap(v.Type()))
		v.SetMapIndex(reflect.ValueOf("x"), reflect.ValueOf("x"))
	case reflect.Slice:
		v.Set(reflect.MakeSlice(v.Type(), 1, 1))
		full(v.Index(0))
	case reflect.Struct:
		for i := range v.NumField() {
			full(v.Field(i))
		}
	}
}

// For every kind, whatever is not in its row is refused, by name: parts and fields.
func TestIntentsRefuseWhatTheyDoNotHave(t *testing.T) {
	all := least()
	if len(all) != len(kinds) {
		t.Fatalf("%d kinds are tried, there are %d", len(all), len(kinds))
	}
	refused := 0
	for kind, in := range all {
		if err := in.Check(); err != nil {
			t.Errorf("%s, the least of it: %v", kind, err)
			continue
		}
		target := in.Target()
		row := kinds[kind]
		for _, other := range []string{"Database", "Account", "Member", "Grant", "Sessions", "Clearing", "Mark"} {
			more := in
			field := reflect.ValueOf(&more).Elem().FieldByName(other)
			if !field.IsZero() || other == "Clearing" && row.clears {
				continue
			}
			full(field)
			if err := more.Check(); err == nil ||
				!strings.Contains(err.Error(), "has no part "+strings.ToLower(other)) {
				t.Errorf("%s with a part %s beside it: %v", kind, other, err)
			}
			if more.Target() == target && kind != MarkServer && target.Name != "" {
				t.Errorf("%s with a part %s beside it has the target %s", kind, other, more.Target())
			}
			refused++
		}
		if row.part == PartMark {
			continue
		}
		part := reflect.ValueOf(in).FieldByName(strings.ToUpper(string(row.part[:1])) + string(row.part[1:]))
		eachField(part.Elem().Type(), func(index []int, name string) {
			more := in
			copied := reflect.New(part.Elem().Type())
			copied.Elem().Set(part.Elem())
			field := copied.Elem().FieldByIndex(index)
			full(field)
			reflect.ValueOf(&more).Elem().FieldByName(strings.ToUpper(string(row.part[:1])) + string(row.part[1:])).
				Set(copied)
			err := more.Check()
			has := false
			for _, f := range row.fields {
				has = has || f == name
			}
			if says := err != nil && strings.Contains(err.Error(), "has no "+string(row.part)+"."+name); says == has {
				t.Errorf("%s with %s.%s, which it has: %v, says %v", kind, row.part, name, has, err)
			}
			if !has {
				refused++
			}
		})
	}
	if refused < 120 {
		t.Errorf("only %d superfluous things were tried", refused)
	}
}

func eachField(t reflect.Type, f func(index []int, name string)) {
	for i := range t.NumField() {
		x := t.Field(i)
		if x.Anonymous {
			eachField(x.Type, func(index []int, name string) { f(append([]int{i}, index...), name) })
			continue
		}
		name, _, _ := strings.Cut(x.Tag.Get("json"), ",")
		f([]int{i}, name)
	}
}

// What was accepted once: an account's drop under a database's address, passwords
// for accounts that would never exist, an object beside a bundle.
func TestIntentsMeanWhatTheySay(t *testing.T) {
	for title, in := range map[string]Intent{
		"a drop with a team": {Kind: DropDatabase, Server: "harbour",
			Database: &DatabaseSpec{Name: "x", Team: &TeamSpec{Name: "t"}}},
		"an account and a database": {Kind: DropAccount, Server: "harbour", Account: &AccountSpec{Name: "mate"},
			Database: &DatabaseSpec{Name: "tickets_prod"}},
		"a bundle on a table": {Kind: GrantPrivilege, Server: "harbour",
			Grant: &GrantSpec{Database: "x", To: catalog.Principal{Name: "mate"}, Bundle: "read",
				On: catalog.Object{Scope: catalog.ScopeTable, Name: "t"}}},
		"a role without a member": {Kind: GrantRole, Server: "harbour", Member: &MemberSpec{Role: "crew"}},
		"an object of another place": {Kind: GrantPrivilege, Server: "harbour",
			Grant: &GrantSpec{Database: "x", To: catalog.Principal{Name: "mate"}, Privileges: []string{"SELECT"},
				On: catalog.Object{Scope: catalog.ScopeTable, Database: "y", Name: "t"}}},
		"no such kind": {Kind: "database.flood", Server: "harbour"},
	} {
		if err := in.Check(); err == nil {
			t.Errorf("%s is accepted", title)
		}
	}
	drop := Intent{Kind: DropDatabase, Server: "harbour",
		Database: &DatabaseSpec{Name: "x", Team: &TeamSpec{Name: "t"}}}
	if n := len(drop.Secrets()); n != 0 {
		t.Errorf("a drop needs %d passwords", n)
	}
}
