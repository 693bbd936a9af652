package postgres

import (
	"slices"
	"strings"
	"testing"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/engine/enginetest"
)

func altering(options catalog.Values) change.Intent {
	return taking(change.AlterDatabase, change.DatabaseSpec{Options: options}, nil)
}

func rows(r ...catalog.Values) []catalog.Values { return r }

func TestPlanAlterFindings(t *testing.T) {
	busy := func(s *catalog.Snapshot) { s.Connected = []catalog.Session{connected(7, nil), connected(8, nil)} }
	stale := func(s *catalog.Snapshot) {
		s.Target.Properties["collation_version"], s.Target.Properties["system_collation_version"] = "2.36", "2.40"
	}
	cleared := altering(catalog.Values{"comment": "x"})
	cleared.Clearing = &change.ClearingSpec{Grace: 5}
	for _, tt := range []struct {
		title  string
		in     change.Intent
		alter  func(*catalog.Snapshot)
		want   string
		remedy string
	}{
		{"comment", altering(catalog.Values{"comment": "x"}), nil, "", ""},
		{"as it is", altering(catalog.Values{"comment": "bookings", "allow_connections": true,
			"connection_limit": "none"}), nil, "note:database.as_asked", ""},
		{"not there", altering(catalog.Values{"comment": "x"}), func(s *catalog.Snapshot) { s.Target = nil },
			"stop:database.absent", "did you mean"},
		{"not ours", altering(catalog.Values{"comment": "x"}),
			func(s *catalog.Snapshot) {
				s.DropImpact.MayDrop, s.DropImpact.Remedy = false, "GRANT tickets_owner TO keeper"
			},
			"stop:database.denied", "GRANT"},
		{"the server's own", altering(catalog.Values{"comment": "x"}),
			func(s *catalog.Snapshot) { s.Target.System = true }, "stop:database.kept", "leave it"},
		{"a leftover", altering(catalog.Values{"comment": "x"}), func(s *catalog.Snapshot) { s.Target.Broken = true },
			"stop:database.broken", "database.drop"},
		{"a clearing for nothing", cleared, nil, "stop:option.invalid", "leave it out"},
		{"no such owner", altering(catalog.Values{"owner": "moon"}), nil, "stop:option.absent", `CREATE ROLE "moon"`},
		{"an owner that is not ours", altering(catalog.Values{"owner": "crew"}),
			func(s *catalog.Snapshot) { s.OwnerAllowed, s.Instance.Login.Superuser = false, false },
			"stop:owner.denied", "GRANT"},
		{"closed with people in it", altering(catalog.Values{"allow_connections": false}), busy, "note:gate.effect",
			"session.end"},
		{"closed, where Genarch signs in", altering(catalog.Values{"allow_connections": false}),
			func(s *catalog.Snapshot) { s.DropImpact.Own = "Genarch's own login signs in to it" }, "stop:database.kept",
			"leave it open"},
		{"commented, where Genarch signs in", altering(catalog.Values{"comment": "x"}),
			func(s *catalog.Snapshot) { s.DropImpact.Own = "Genarch's own login signs in to it" }, "", ""},
		{"fewer than are there", altering(catalog.Values{"connection_limit": int64(1)}), busy, "note:gate.effect", ""},
		{"a template", altering(catalog.Values{"is_template": true}), nil, "caution:template.open", ""},
		{"moved and closed", altering(catalog.Values{"tablespace": "fast", "allow_connections": false}), nil,
			"stop:option.invalid note:gate.effect note:sessions.none note:gate.effect", "move it first"},
		{"moved", altering(catalog.Values{"tablespace": "fast"}), busy,
			"note:gate.effect note:sessions.ended note:gate.effect", ""},
		{"a setting refused", altering(catalog.Values{"settings": rows(catalog.Values{"name": "work_mem",
			"value": "lots"})}), func(s *catalog.Snapshot) {
			s.Details = &details{Refused: map[string]string{"work_mem": "invalid value"}}
		}, "stop:setting.refused", "server.choices harbour settings"},
		{"a setting that the server does not list",
			altering(catalog.Values{"settings": rows(catalog.Values{"name": "desk.mode", "value": "x"})}), nil, "", ""},
		{"a setting that is not there is taken away",
			altering(catalog.Values{"settings": rows(catalog.Values{"name": "work_mem"})}), nil,
			"note:database.as_asked", ""},
		{"given away and moved", altering(catalog.Values{"owner": "crew", "tablespace": "fast"}),
			func(s *catalog.Snapshot) { s.Instance.Login.Superuser = false },
			"stop:option.invalid note:gate.effect note:sessions.none note:gate.effect", "afterwards"},
		{"a version that is stale", altering(catalog.Values{"refresh_collation": true}), stale,
			"caution:collation.refresh", "REINDEX"},
		{"a version that is not", altering(catalog.Values{"refresh_collation": true}), nil, "note:database.as_asked",
			""},
	} {
		t.Run(tt.title, func(t *testing.T) {
			snap := doomed()
			if tt.alter != nil {
				tt.alter(&snap)
			}
			b := ask(t, tt.in, snap)
			enginetest.Findings(t, b, tt.want, tt.remedy)
			if (b.Stopped() || b.Outcome == change.Nothing) != (len(b.Steps) == 0) {
				t.Errorf("outcome %s, stopped %v, with %d steps", b.Outcome, b.Stopped(), len(b.Steps))
			}
		})
	}
}

func TestPlanAlterSaysWhatIsAndWillBe(t *testing.T) {
	snap := doomed()
	snap.Target.Properties["settings"] = rows(catalog.Values{"name": "work_mem", "value": "4MB"})
	b := ask(t, altering(catalog.Values{"connection_limit": int64(9),
		"settings": rows(catalog.Values{"name": "work_mem", "value": "64MB"},
			catalog.Values{"name": "search_path", "value": "desk"})}), snap)
	var got []string
	for _, s := range b.Settings {
		if s.Was != nil {
			got = append(got, s.Name+": "+*s.Was+" → "+s.Value)
		}
	}
	if want := []string{"connection_limit: none → 9", "work_mem: 4MB → 64MB",
		"search_path: the server's → desk"}; !slices.Equal(got, want) {
		t.Errorf("the brief says %q; want %q", got, want)
	}
	last := b.Steps[len(b.Steps)-1]
	if last.Args["settings"] != "name search_path, value desk; name work_mem, value 64MB" ||
		last.Args["connection_limit"] != "9" {
		t.Errorf("verifying compares %v", last.Args)
	}
}

func TestPlanAlterStatements(t *testing.T) {
	odd := `it's "odd" \ `
	for name, options := range map[string]catalog.Values{
		"alter": {"comment": odd, "connection_limit": int64(9), "allow_connections": false, "is_template": true,
			"owner": "crew", "refresh_collation": true,
			"settings": rows(catalog.Values{"name": "search_path", "value": `desk, "$user", "a, b"`},
				catalog.Values{"name": "work_mem"}, catalog.Values{"name": "desk.mode", "value": odd})},
		"alter_moved": {"tablespace": "fast", "owner": "crew", "connection_limit": "none"},
	} {
		t.Run(name, func(t *testing.T) {
			snap := doomed()
			snap.Target.Properties["connection_limit"] = int64(3)
			snap.Target.Properties["collation_version"], snap.Target.Properties["system_collation_version"] = "1", "2"
			snap.Target.Properties["settings"] = rows(catalog.Values{"name": "work_mem", "value": "4MB"})
			enginetest.Golden(t, *update, name, ask(t, altering(options), snap))
		})
	}
}

func TestSettingList(t *testing.T) {
	for text, want := range map[string][]string{
		"": nil, "a": {"a"}, " A , b": {"a", "b"}, `"A, b", c`: {"A, b", "c"}, `"say ""x""",d`: {`say "x"`, "d"},
		`"open`: {"open"}, `"$user", public`: {"$user", "public"},
	} {
		if got := settingList(text); !slices.Equal(got, want) {
			t.Errorf("settingList(%q) = %q; want %q", text, got, want)
		}
	}
}

func FuzzSettingValue(f *testing.F) {
	f.Add("search_path", `a, "b'c"`)
	f.Fuzz(func(t *testing.T, name, value string) {
		if strings.ContainsRune(value, 0) || strings.ContainsRune(name, 0) {
			return
		}
		for _, n := range []string{name, "search_path"} {
			text := setParameter("d", n, value, true)
			if commands, err := dialect.Commands(text); commands != 1 || err != nil {
				t.Errorf("%q: %d commands, %v", text, commands, err)
			}
		}
	})
}
