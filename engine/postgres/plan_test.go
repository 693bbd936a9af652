package postgres

import (
	"flag"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/naming"
	"example.com/genarch/engine/enginetest"
)

var update = flag.Bool("update", false, "write the golden files anew")

// snapshot is a small server as a planner sees it.
func snapshot() catalog.Snapshot {
	base := catalog.Choice{Name: "template1", Default: true,
		Properties: catalog.Values{"encoding": "UTF8", "collation": "C.UTF-8", "ctype": "C.UTF-8",
			"provider": "libc", "tablespace": "pg_default"}}
	zero := base
	zero.Name, zero.Default = "template0", false
	return catalog.Snapshot{
		Server: catalog.Server{Name: "harbour", Environment: catalog.Production,
			NameRule: naming.Rule{Suffix: "_prod"}},
		Instance: catalog.Instance{Engine: ID, Version: "18.4", Number: 180004,
			Identity: catalog.Identity{Key: "system identifier 7"}, Encoding: "UTF8", Collation: "C.UTF-8",
			Read: time.Unix(0, 0), Login: catalog.Login{Name: "keeper",
				Abilities: []catalog.Ability{{Code: "create_database", Allowed: true}}}},
		Names: []string{"postgres", "template0", "template1", "tickets_prod", "Crew_prod"},
		Choices: catalog.Choices{
			"templates": {base, zero}, "tablespaces": {{Name: "pg_default"}, {Name: "fast"}},
			"owners":     {{Name: "crew"}, {Name: "deck"}},
			"encodings":  {{Name: "UTF8", Default: true}, {Name: "LATIN1"}, {Name: "SQL_ASCII"}},
			"collations": {{Name: "C"}, {Name: "C.utf8", For: "UTF8"}, {Name: "de_DE.iso88591", For: "LATIN1"}},
			"locales":    {{Name: "de-DE", For: "icu"}, {Name: "en", For: "icu"}},
		},
		OwnerAllowed: true,
	}
}

// template1 is the one that is copied when nothing is said.
func template1(s *catalog.Snapshot) *catalog.Choice { return &s.Choices["templates"][0] }

func plan(t *testing.T, spec change.DatabaseSpec, snap catalog.Snapshot) change.Brief {
	t.Helper()
	b, err := Engine{}.Plan(change.Intent{Kind: change.CreateDatabase, Server: "harbour", Database: &spec}, snap)
	if err != nil {
		t.Fatal(err)
	}
	return b
}

func TestPlanFindings(t *testing.T) {
	for _, tt := range []struct {
		title  string
		spec   change.DatabaseSpec
		alter  func(*catalog.Snapshot)
		want   string // level:code …
		remedy string // part of what to do next
	}{
		{"plain", change.DatabaseSpec{Name: "a_prod"}, nil, "", ""},
		{"taken", change.DatabaseSpec{Name: "tickets_prod"}, nil, "stop:name.taken", "tickets_2_prod"},
		{"taken by case", change.DatabaseSpec{Name: "crew_prod"}, nil, "stop:name.taken_by_case", "crew_2_prod"},
		{"look-alike", change.DatabaseSpec{Name: "t1ckets_prod"}, nil, "caution:name.lookalike", ""},
		{"bad name", change.DatabaseSpec{Name: "A b"}, nil, "stop:name.characters stop:name.start stop:name.suffix",
			"a_b_prod"},
		{"no owner", change.DatabaseSpec{Name: "a_prod", Options: catalog.Values{"owner": "x"}},
			func(s *catalog.Snapshot) { s.Choices["owners"] = nil }, "stop:option.absent", `CREATE ROLE "x"`},
		{"owner not ours", change.DatabaseSpec{Name: "a_prod", Options: catalog.Values{"owner": "crew"}},
			func(s *catalog.Snapshot) { s.OwnerAllowed = false }, "stop:owner.denied",
			`GRANT "crew" TO "keeper" WITH SET TRUE`},
		{"no such encoding", change.DatabaseSpec{Name: "a_prod", Options: catalog.Values{"encoding": "utf-9"}}, nil,
			"stop:option.absent note:template.switched", "server.choices harbour encodings"},
		{"spelling of an encoding", change.DatabaseSpec{Name: "a_prod", Options: catalog.Values{"encoding": "utf-8"}},
			nil, "", ""},
		{"encoding without locale", change.DatabaseSpec{Name: "a_prod", Options: catalog.Values{"encoding": "latin1"}},
			nil, "stop:collation.mismatch note:template.switched", "character type C"},
		{"encoding with C", change.DatabaseSpec{Name: "a_prod",
			Options: catalog.Values{"encoding": "latin1", "collation": "C"}}, nil, "note:template.switched", ""},
		{"own template, other encoding",
			change.DatabaseSpec{Name: "a_prod",
				Options: catalog.Values{"template": "template1", "encoding": "LATIN1", "collation": "C"}}, nil,
			"stop:template.mismatch", "template0"},
		{"unlisted collation", change.DatabaseSpec{Name: "a_prod", Options: catalog.Values{"collation": "xx_XX.UTF-8"}},
			nil, "caution:option.unlisted note:template.switched", "server.choices harbour collations"},
		{"icu without locale", change.DatabaseSpec{Name: "a_prod", Options: catalog.Values{"provider": "icu"}}, nil,
			"stop:locale.missing note:template.switched", "add a locale"},
		{"icu", change.DatabaseSpec{Name: "a_prod",
			Options: catalog.Values{"provider": "icu", "locale": "de-u-co-phonebk"}}, nil, "note:template.switched",
			""},
		{"icu nonsense", change.DatabaseSpec{Name: "a_prod",
			Options: catalog.Values{"provider": "icu", "locale": "zz-nowhere"}}, nil,
			"stop:collation.unknown note:template.switched", ""},
		{"icu with SQL_ASCII", change.DatabaseSpec{Name: "a_prod",
			Options: catalog.Values{"provider": "icu", "locale": "en", "encoding": "SQL_ASCII", "collation": "C"}}, nil,
			"stop:collation.mismatch note:template.switched", "UTF8"},
		{"builtin on an old version", change.DatabaseSpec{Name: "a_prod",
			Options: catalog.Values{"provider": "builtin"}},
			func(s *catalog.Snapshot) { s.Instance.Number, s.Instance.Version = 150018, "15.18" },
			"stop:option.unsupported note:template.switched", "choose another"},
		{"no template", change.DatabaseSpec{Name: "a_prod", Options: catalog.Values{"template": "nope"}}, nil,
			"stop:option.absent", "server.choices harbour templates"},
		{"template in use", change.DatabaseSpec{Name: "a_prod"}, func(s *catalog.Snapshot) {
			template1(s).Properties["sessions"], more(s).TemplateUsers = int64(2), []string{"crew from 10.0.0.7"}
		}, "stop:template.in_use", "clearing=yes"},
		{"template of an older system", change.DatabaseSpec{Name: "a_prod"}, func(s *catalog.Snapshot) {
			template1(s).Properties["collation_version"] = "2.31"
		}, "stop:template.collation_version", "options.refresh_collation"},
		{"template not ours", change.DatabaseSpec{Name: "a_prod"},
			func(s *catalog.Snapshot) { template1(s).Why = "it is no template" }, "stop:option.unusable",
			"IS_TEMPLATE true"},
		{"no tablespace", change.DatabaseSpec{Name: "a_prod", Options: catalog.Values{"tablespace": "moon"}}, nil,
			"stop:option.absent", "server.choices harbour tablespaces"},
		{"two ways to say the locale",
			change.DatabaseSpec{Name: "a_prod", Options: catalog.Values{"locale": "C", "collation": "C"}}, nil,
			"stop:option.invalid note:template.switched", "either"},
		{"no rights", change.DatabaseSpec{Name: "a_prod"}, func(s *catalog.Snapshot) {
			s.Instance.Login.Abilities = []catalog.Ability{{Code: "create_database",
				Remedy: `ALTER ROLE "keeper" CREATEDB`}}
		}, "stop:rights.missing", "CREATEDB"},
		{"standby", change.DatabaseSpec{Name: "a_prod"},
			func(s *catalog.Snapshot) { s.Instance.ReadOnly = "it is a standby" }, "stop:server.read_only", "primary"},
		{"every reason is told", change.DatabaseSpec{Name: "postgres",
			Options: catalog.Values{"tablespace": "moon", "owner": "x"}}, nil,
			"stop:option.absent stop:option.absent stop:name.suffix stop:name.reserved stop:name.taken", ""},
	} {
		t.Run(tt.title, func(t *testing.T) {
			snap := snapshot()
			if tt.alter != nil {
				tt.alter(&snap)
			}
			b := plan(t, tt.spec, snap)
			var got []string
			remedies := ""
			for _, f := range b.Findings {
				if f.Code == change.PublicAccess {
					continue // told of every database that is not private; see TestPlanTeam
				}
				got = append(got, string(f.Level)+":"+f.Code)
				remedies += fmt.Sprintln(f.Next, f.Actions)
				if f.Level == change.Stop && f.Next == "" {
					t.Errorf("the stop %s says not what to do next", f.Code)
				}
			}
			if strings.Join(got, " ") != tt.want ||
				!strings.Contains(strings.ToLower(remedies), strings.ToLower(tt.remedy)) {
				t.Errorf("findings %v; want %q with the remedy %q; got %s", got, tt.want, tt.remedy, remedies)
			}
			if b.Stopped() != (len(b.Steps) == 0) {
				t.Errorf("stopped is %v with %d steps", b.Stopped(), len(b.Steps))
			}
		})
	}
}

// The statements of briefs are kept as golden files, so that a change of one is
// seen; the suite runs the same ones on real servers.
func TestPlanStatements(t *testing.T) {
	limit, yes, no := 5, true, false
	for name, spec := range map[string]change.DatabaseSpec{
		"plain":   {Name: "a_prod"},
		"hostile": {Name: `a"; DROP DATABASE x; --_prod`, Options: catalog.Values{"comment": `it's \ "so"`}},
		"full": {Name: "a_prod", Options: catalog.Values{"owner": "crew", "encoding": "LATIN1", "collation": "C",
			"tablespace": "fast", "strategy": "file_copy", "connection_limit": int64(limit), "allow_connections": no,
			"is_template": yes, "comment": "all of it"}},
		"icu":     {Name: "a_prod", Options: catalog.Values{"provider": "icu", "locale": "de-DE"}},
		"builtin": {Name: "a_prod", Options: catalog.Values{"provider": "builtin", "locale": "C.UTF-8"}},
	} {
		t.Run(name, func(t *testing.T) {
			snap := snapshot()
			snap.Server.NameRule.Free = true
			b := plan(t, spec, snap)
			enginetest.Golden(t, *update, name, b)
		})
	}
}

func TestPlanExisting(t *testing.T) {
	snap := snapshot()
	snap.Target = &catalog.Database{Name: "tickets_prod", Owner: "crew", Encoding: "UTF8", Collation: "C.UTF-8",
		Properties: catalog.Values{"ctype": "C.UTF-8", "provider": "libc", "connection_limit": int64(5)}}
	three := 3
	b := plan(t, change.DatabaseSpec{Name: "tickets_prod", IfNotExists: true,
		Options: catalog.Values{"encoding": "utf-8", "collation": "C.utf8", "owner": "deck",
			"connection_limit": int64(three)}}, snap)
	want := []change.Difference{{Name: "owner", Asked: "deck", Actual: "crew"},
		{Name: "connection_limit", Asked: "3", Actual: "5"}}
	if b.Outcome != change.Nothing || !slices.Equal(b.Differences, want) || b.Stopped() {
		t.Errorf("outcome %s, differences %+v; want %+v", b.Outcome, b.Differences, want)
	}
	same := plan(t, change.DatabaseSpec{Name: "tickets_prod", IfNotExists: true,
		Options: catalog.Values{"owner": "crew"}}, snap)
	for b, code := range map[*change.Brief]string{&b: change.ExistsDifferent, &same: change.ExistsAsAsked} {
		if !slices.Contains(b.Codes(change.Note), code) {
			t.Errorf("findings %+v; want %s", b.Findings, code)
		}
	}
}

func FuzzQuote(f *testing.F) {
	f.Add(`a"b'c\d`)
	f.Fuzz(func(t *testing.T, name string) {
		q := quoteIdent(name)
		if strings.ReplaceAll(q[1:len(q)-1], `""`, `"`) != name || strings.Count(q, `"`)%2 != 0 {
			t.Errorf("quoteIdent(%q) = %s", name, q)
		}
		text := strings.TrimSpace(quoteText(name))
		if strings.Contains(name, `\`) != strings.HasPrefix(text, "E") {
			t.Errorf("quoteText(%q) = %s", name, text)
		}
	})
}

// more lets a case alter what only the planner reads of a snapshot, and nobody else's.
func more(s *catalog.Snapshot) *details {
	d := *detailsOf(s.Details)
	s.Details = &d
	return &d
}

// impact is the same for a database that is taken away.
func impact(s *catalog.Snapshot) *dropDetails {
	d := *dropDetailsOf(s.DropImpact.Details)
	doomed := *s.DropImpact
	doomed.Details, s.DropImpact = &d, &doomed
	return &d
}
