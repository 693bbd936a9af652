package blueprint

import (
	"encoding/json"
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strings"
	"testing"
	"unicode/utf8"
)

const good = `format: 1
title: A team's database
environments: [staging, development]
parameters:
  team: {title: Team, pattern: "[a-z][a-z0-9]{1,8}"}
  limit: {default: 40}
  size: {values: [small, large], default: small}
name: "{team}_staging"
options:
  comment: "{size} database of {team}"
engines:
  postgresql:
    options: {connection_limit: "{limit}", private: true, allow: ["{team}_app", reports]}
  mariadb:
    options: {collation: utf8mb4_bin}
    script: "CREATE TABLE a (b INT); -- {this} stays as it is"
team: {name: "{team}", host: 10.%}
`

func TestFill(t *testing.T) {
	b, problems := Parse([]byte(good))
	if len(problems) > 0 {
		t.Fatal(problems)
	}
	if got := b.Scripts["mariadb"]; got != "CREATE TABLE a (b INT); -- {this} stays as it "+
		"is" || b.Scripts["postgresql"] != "" {
		t.Errorf("the scripts are %q", b.Scripts)
	}
	for _, tt := range []struct {
		engine, env string
		with        map[string]string
		want        string // what it comes to, or part of the error
	}{
		{"postgresql", "staging", map[string]string{"team": "lounges"},
			"lounges_staging map[allow:[lounges_app reports] comment:small database of lounges connection_limit:40" +
				" private:true] &{lounges 10.%}"},
		{"mariadb", "development", map[string]string{"team": "decks", "size": "large"},
			"decks_staging map[collation:utf8mb4_bin comment:large database of decks] &{decks 10.%}"},
		{"elsewhere", "staging", map[string]string{"team": "a1", "limit": "{team}"},
			"a1_staging map[comment:small database of a1] &{a1 10.%}"},
		{"mariadb", "production", map[string]string{"team": "decks"}, "it is for staging, development"},
		{"mariadb", "staging", nil, "team has to be given"},
		{"mariadb", "staging", map[string]string{"team": "Lounges"}, "does not match [a-z][a-z0-9]{1,8}"},
		{"mariadb", "staging", map[string]string{"team": "decks\n"}, "does not match"},
		{"mariadb", "staging", map[string]string{"team": "decks", "size": "huge"}, "none of small, large"},
		{"mariadb", "staging", map[string]string{"team": "decks", "deck": "7"}, "no parameter deck"},
	} {
		f, err := b.Fill(tt.engine, tt.env, tt.with)
		got := fmt.Sprint(f.Name, " ", f.Options, " ", f.Team)
		if err != nil {
			got = err.Error()
		}
		if !strings.Contains(got, tt.want) {
			t.Errorf("%v: %s; want %s", tt, got, tt.want)
		}
	}
	f, _ := b.Fill("postgresql", "staging", map[string]string{"team": "a1", "limit": "{team}"})
	if f.Options["connection_limit"] != "{team}" {
		t.Errorf("a value was looked at again: %v", f.Options)
	}
}

func TestProblems(t *testing.T) {
	for _, tt := range [][2]string{
		{"", "line 1, column 1: there is nothing in it"},
		{"title: x", "line 1, column 1: it does not say format: 1"},
		{"format: 2", "line 1, column 9: format is 1 here, not 2"},
		{"format: 1\nnmae: x", "line 2, column 1: a blueprint has no nmae; there are format, title"},
		{"format: 1\nname: {a: b}", "line 2, column 7: name is a text"},
		{"format: 1\nname: x\nname: y", "line 3"},
		{"format: 1\nname: '{team}'", "line 2, column 7: there is no parameter team"},
		{"format: 1\noptions:\n  a:\n    - '{x}'", "line 4, column 7: there is no parameter x"},
		{"format: 1\nenvironments: [staging, moon]", "line 2, column 25: moon is no environment"},
		{"format: 1\nparameters: {Team: }", "line 2, column 14: a parameter's name"},
		{"format: 1\nparameters: {team: {pattern: '('}}", "line 2, column 30: the pattern cannot be read"},
		{"format: 1\nparameters: {team: {values: [a], default: b}}",
			"line 2, column 20: the default of team does not go"},
		{"format: 1\nteam: {host: x}", "line 2, column 1: a team has a name"},
		{"format: 1\nengines: {mariadb: {collation: x}}",
			"line 2, column 21: an engine has no collation; there are options"},
		{"format: 1\noptions: &a {x: y}\nengines: {mariadb: {options: *a}}", "anchors and aliases"},
		{"format: 1\noptions: {x: }", "line 2, column 14: there is no value"},
		{"format: 1\n\tname: x", "line 2, column 1: this is no YAML"},
		{"format: 1\nname: \xff", "the text is not UTF-8"},
		{"- format: 1", "line 1, column 1: a blueprint has keys with values"},
		{"format: 1\noptions: {comment: " + strings.Repeat("x", MaxText) + "}", "at most 65536 bytes"},
	} {
		_, problems := Parse([]byte(tt[0]))
		if len(problems) == 0 || !strings.Contains(problems[0].Error(), tt[1]) {
			t.Errorf("%.60q: %v; want %s", tt[0], problems, tt[1])
		}
	}
}

// What options can be, as in JSON; a day and a number with a nought stay texts.
func TestOptions(t *testing.T) {
	b, problems := Parse([]byte("format: 1\noptions: {n: 40, y: true, t: 'true', day: 2027-01-31, list: [a, b], " +
		"rows: [{name: work_mem, value: 8MB}]}"))
	want := map[string]any{"n": 40.0, "y": true, "t": "true", "day": "2027-01-31", "list": []any{"a", "b"},
		"rows": []any{map[string]any{"name": "work_mem", "value": "8MB"}}}
	if len(problems) > 0 || !reflect.DeepEqual(b.Options, want) {
		t.Errorf("%v, %v", b.Options, problems)
	}
}

// The schema that ships has the keys that are read.
func TestSchema(t *testing.T) {
	var s struct {
		Properties map[string]struct {
			Properties           map[string]any
			AdditionalProperties json.RawMessage
		}
	}
	if err := json.Unmarshal(Schema, &s); err != nil {
		t.Fatal(err)
	}
	inner := func(key string) []string {
		var x struct{ Properties map[string]any }
		_ = json.Unmarshal(s.Properties[key].AdditionalProperties, &x)
		return slices.Sorted(maps.Keys(x.Properties))
	}
	for title, pair := range map[string][2][]string{
		"top":        {slices.Sorted(maps.Keys(s.Properties)), topKeys},
		"parameters": {inner("parameters"), parameterKeys}, "engines": {inner("engines"), engineKeys},
		"team": {slices.Sorted(maps.Keys(s.Properties["team"].Properties)), teamKeys},
	} {
		if !slices.Equal(pair[0], slices.Sorted(slices.Values(pair[1]))) {
			t.Errorf("%s: the schema has %v, the reader %v", title, pair[0], pair[1])
		}
	}
}

// Whatever is written, it is read or said to be wrong, at a place that is there.
func FuzzParse(f *testing.F) {
	f.Add(good)
	f.Add("format: 1\nparameters: {a: {default: '{a}'}}\nname: '{a}{a}'")
	f.Fuzz(func(t *testing.T, text string) {
		b, problems := Parse([]byte(text))
		for _, p := range problems {
			if p.Line < 0 || p.Line > strings.Count(text, "\n")+strings.Count(text, "\r")+2 || p.Text == "" {
				t.Errorf("%q: %+v", text, p)
			}
		}
		if len(problems) > 0 {
			return
		}
		with := map[string]string{}
		for _, p := range b.Parameters {
			with[p.Name] = "x"
		}
		filled, err := b.Fill("mariadb", "staging", with)
		if err == nil && (!utf8.ValidString(filled.Name) || b.Name != "" && len(b.Parameters) == 0 &&
			filled.Name != b.Name) {
			t.Errorf("%q fills %q", b.Name, filled.Name)
		}
	})
}
