package policy

import (
	"slices"
	"strings"
	"testing"
)

func TestParseRemits(t *testing.T) {
	for text, want := range map[string][]Remit{"see": {See}, "see, run,see": {See, Run}, "all": Remits} {
		if got, err := ParseRemits(text); err != nil || !slices.Equal(got, want) {
			t.Errorf("ParseRemits(%q) = %v, %v; want %v", text, got, err, want)
		}
	}
	for _, bad := range []string{"", "sea", "see;run", "ALL"} {
		if got, err := ParseRemits(bad); err == nil {
			t.Errorf("ParseRemits(%q) = %v", bad, got)
		}
	}
}

func TestMay(t *testing.T) {
	o := Operator{Remits: []Remit{See, Ask}}
	if !o.May(Ask) || o.May(Run) || o.May(Govern) {
		t.Errorf("%+v may ask %v, run %v", o, o.May(Ask), o.May(Run))
	}
	o.Disabled = true
	if o.May(See) {
		t.Error("a disabled operator may see")
	}
}

func TestCheckOperatorName(t *testing.T) {
	for name, ok := range map[string]bool{"keeper": true, "first.mate@ossavik": true, "": false, "Keeper": false, "a b": false, "a'b": false, strings.Repeat("x", 65): false} {
		if err := CheckOperatorName(name); (err == nil) != ok {
			t.Errorf("CheckOperatorName(%q): %v", name, err)
		}
	}
}
