package policy

import (
	"slices"
	"strings"
	"testing"
)

func TestParsePermissions(t *testing.T) {
	for text, want := range map[string][]Permission{"view": {View}, "view, run,view": {View, Run}, "all": Permissions} {
		if got, err := ParsePermissions(text); err != nil || !slices.Equal(got, want) {
			t.Errorf("ParsePermissions(%q) = %v, %v; want %v", text, got, err, want)
		}
	}
	for _, bad := range []string{"", "sea", "view;run", "ALL"} {
		if got, err := ParsePermissions(bad); err == nil {
			t.Errorf("ParsePermissions(%q) = %v", bad, got)
		}
	}
}

func TestMay(t *testing.T) {
	o := Operator{Permissions: []Permission{View, Request}}
	if !o.May(Request) || o.May(Run) || o.May(Admin) {
		t.Errorf("%+v may ask %v, run %v", o, o.May(Request), o.May(Run))
	}
	o.Disabled = true
	if o.May(View) {
		t.Error("a disabled operator may see")
	}
}

func TestCheckOperatorName(t *testing.T) {
	for name, ok := range map[string]bool{"keeper": true, "first.mate@ossavik": true, "": false, "Keeper": false,
		"a b": false, "a'b": false, strings.Repeat("x", 65): false} {
		if err := CheckOperatorName(name); (err == nil) != ok {
			t.Errorf("CheckOperatorName(%q): %v", name, err)
		}
	}
}
