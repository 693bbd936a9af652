package naming

import (
	"strings"
	"testing"
)

func TestParseAddress(t *testing.T) {
	for _, tt := range []struct {
		text string
		want Address
	}{
		{"harbour", Address{Server: "harbour", Kind: KindServer}},
		{"harbour/tickets_prod", Address{"harbour", KindDatabase, "tickets_prod", "", ""}},
		{"harbour/a/b c", Address{"harbour", KindDatabase, "a/b c", "", ""}},
		{"harbour/database:role:x", Address{"harbour", KindDatabase, "role:x", "", ""}},
		{"quay/account:app@10.0.0.%", Address{"quay", KindAccount, "app", "10.0.0.%", ""}},
		{"quay/account:a@b@localhost", Address{"quay", KindAccount, "a@b", "localhost", ""}},
		{"quay/account:@127.0.0.1", Address{"quay", KindAccount, "", "127.0.0.1", ""}},
		{"harbour/role:crew", Address{"harbour", KindRole, "crew", "", ""}},
		{"jetty/tickets_prod/account:app", Address{"jetty", KindAccount, "app", "", "tickets_prod"}},
		{"jetty/a%2Fb%25c/role:x/account:y", Address{"jetty", KindRole, "x/account:y", "", "a/b%c"}},
		{"jetty/database:x/account:y", Address{"jetty", KindDatabase, "x/account:y", "", ""}},
		{"harbour/session:4711", Address{"harbour", KindSession, "4711", "", ""}},
	} {
		got, err := ParseAddress(tt.text)
		if err != nil || got != tt.want {
			t.Errorf("ParseAddress(%q) = %+v, %v; want %+v", tt.text, got, err, tt.want)
		}
		if got.String() != tt.text {
			t.Errorf("ParseAddress(%q).String() = %q", tt.text, got.String())
		}
	}
	for _, bad := range []string{"", "/x", "harbour/", "Harbour/x", "har bour", "1st/x", "harbour/role:",
		strings.Repeat("a", 41)} {
		if a, err := ParseAddress(bad); err == nil {
			t.Errorf("ParseAddress(%q) = %+v; want an error", bad, a)
		}
	}
}

func FuzzAddress(f *testing.F) {
	for _, s := range []string{"harbour", "a/b", "a/account:x@y@z", "a/database:session:1", "a/role:\x00",
		"a/b/account:x", "a/b/c/role:x", "a/b%2/account:x@y"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, text string) {
		a, err := ParseAddress(text)
		if err != nil {
			return
		}
		back, err := ParseAddress(a.String())
		if err != nil || back != a {
			t.Errorf("%q reads as %+v, written %q, read again as %+v (%v)", text, a, a.String(), back, err)
		}
	})
}

var pgLimits = Limits{MaxLength: 63, Counted: Bytes, Reserved: []string{"postgres", "template0", "template1"}}

func codes(ps []Problem) string {
	var out []string
	for _, p := range ps {
		out = append(out, p.Code)
	}
	return strings.Join(out, " ")
}

func TestRuleCheckAndSuggest(t *testing.T) {
	prod := Rule{Suffix: "_prod"}
	for _, tt := range []struct {
		title   string
		rule    Rule
		name    string
		want    string
		suggest string
	}{
		{"fits", prod, "tickets_prod", "", "tickets_prod"},
		{"empty", prod, "", "name.empty", ""},
		{"suffix missing", prod, "tickets", "name.suffix", "tickets_prod"},
		{"only the suffix", prod, "_prod", "name.start name.suffix", ""},
		{"blank and case", prod, "Crew Rota", "name.characters name.start name.suffix", "crew_rota_prod"},
		{"quote and semicolon", Rule{}, `a";drop`, "name.characters", "a_drop"},
		{"newline", Rule{}, "a\nb", "name.control name.characters", "a_b"},
		{"nul", Rule{}, "a\x00b", "name.control", "a_b"},
		{"right to left mark", Rule{}, "a\u200fb", "name.control name.characters", "ab"},
		{"accents", Rule{}, "cafés", "name.characters", "cafes"},
		{"cyrillic look-alike", Rule{}, "tіckets", "name.characters", "tickets"},
		{"digit first", Rule{}, "2nd_deck", "name.start", "nd_deck"},
		{"reserved", Rule{}, "postgres", "name.reserved", "postgres_2"},
		{"too long", Rule{}, strings.Repeat("x", 300), "name.length", strings.Repeat("x", 63)},
		{"shorter rule", Rule{MaxLength: 5}, "sailings", "name.length", "saili"},
		{"emoji", Rule{}, "⛴ferry", "name.characters name.start", "ferry"},
		{"free rule, hostile name", Rule{Free: true}, `A "b"; 日本`, "", `a_b`},
		{"free rule, blank at the edge", Rule{Free: true}, "postgres ", "name.edge", "postgres_2"},
	} {
		t.Run(tt.title, func(t *testing.T) {
			if got := codes(tt.rule.Check(tt.name, pgLimits)); got != tt.want {
				t.Errorf("Check(%q) = %q; want %q", tt.name, got, tt.want)
			}
			got := tt.rule.Suggest(tt.name, pgLimits, func(string) bool { return false })
			if got != tt.suggest {
				t.Errorf("Suggest(%q) = %q; want %q", tt.name, got, tt.suggest)
			}
		})
	}
	if got := (Rule{}).Check("⛴", Limits{BMPOnly: true, MaxLength: 64, Counted: Characters}); len(got) == 0 {
		t.Error("a character beyond U+FFFF passed for an engine that cannot store it")
	}
	taken := map[string]bool{"tickets_prod": true, "tickets_2_prod": true}
	if got := prod.Suggest("tickets", pgLimits, func(n string) bool { return taken[n] }); got != "tickets_3_prod" {
		t.Errorf("Suggest with two names taken = %q; want tickets_3_prod", got)
	}
}

// Whatever is suggested must itself pass the rule.
func FuzzSuggest(f *testing.F) {
	f.Add("Crew Rota", "_prod")
	f.Add(strings.Repeat("é", 100), "")
	f.Fuzz(func(t *testing.T, name, suffix string) {
		rule := Rule{Suffix: suffix}
		got := rule.Suggest(name, pgLimits, func(string) bool { return false })
		if ps := rule.Check(got, pgLimits); got != "" && len(ps) > 0 {
			t.Errorf("Suggest(%q) = %q, which breaks the rule: %v", name, got, ps)
		}
	})
}

func TestClashes(t *testing.T) {
	existing := []string{"tickets_prod", "Crew_Rota", "sailings", "tides01"}
	for _, tt := range []struct {
		name, with string
		how        Clash
	}{
		{"tickets_prod", "tickets_prod", SameName},
		{"TICKETS_prod", "tickets_prod", SameButCase},
		{"crew_rota", "Crew_Rota", SameButCase},
		{"crew-rota", "Crew_Rota", Confusable},
		{"sаilings", "sailings", Confusable}, // the second letter is Cyrillic
		{"sai\u200blings", "sailings", Confusable},
		{"tidesOl", "tides01", Confusable},
		{"salings", "", ""},
	} {
		with, how, found := Clashes(tt.name, existing)
		if with != tt.with || how != tt.how || found != (tt.with != "") {
			t.Errorf("Clashes(%q) = %q, %q, %v; want %q, %q", tt.name, with, how, found, tt.with, tt.how)
		}
	}
}

func TestShow(t *testing.T) {
	for name, want := range map[string]string{
		"tickets_prod": "tickets_prod", "crew rota": "crew rota", "": `""`, "x ": `"x "`,
		"a\nb": `"a\nb"`, "a\u202eb": `"a\u202eb"`, "\xff": `"\xff"`, "日本": "日本",
	} {
		if got := Show(name); got != want {
			t.Errorf("Show(%q) = %s; want %s", name, got, want)
		}
	}
}
