package mysqlfamily

import (
	"slices"
	"strings"
	"testing"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/script"
	"example.com/genarch/engine/enginetest"
)

// sent gives a snapshot a script, and the details that a run of it is planned by.
func sent(t *testing.T, s *catalog.Snapshot, text string) {
	t.Helper()
	sum, err := script.Summarise(strings.NewReader(text), maria{}.Script)
	if err != nil {
		t.Fatal(err)
	}
	s.Script = &script.Kept{ID: "abcdefghijklmnop", Server: "quay", File: "seed.sql", Summary: sum}
	d := more(s)
	d.Filling, d.Client = filling{MaxPacket: 16 << 20, Tables: []string{"crates"}}, "127.0.0.1"
}

func withScript(options catalog.Values) change.Intent {
	in := taking(change.FillDatabase, change.DatabaseSpec{Name: "cargo_prod", Script: "abcdefghijklmnop",
		Options: options}, nil)
	in.Server = "quay"
	return in
}

func TestPlanFillFindings(t *testing.T) {
	fill := withScript(nil)
	nobody := func(s *catalog.Snapshot) { s.Target.Owner = "" }
	for _, tt := range []struct {
		title, text string
		in          change.Intent
		alter       func(*catalog.Snapshot)
		want        string // level:code … that must be among the findings
	}{
		{"rows alone", "INSERT INTO a VALUES (1);", fill, nil, "note:script.one_transaction note:fill.account"},
		{"a dump", "CREATE TABLE a (b int);", fill, nil, "note:script.one_transaction"},
		{"a dump, all or nothing", "CREATE TABLE a (b int);", withScript(catalog.Values{"one_transaction": true}), nil,
			"stop:script.one_transaction"},
		{"a table that is there", "CREATE TABLE Crates (b int);", fill, nil, "caution:script.existing"},
		{"another database", "INSERT INTO ledger_prod.fares VALUES (1);", fill, nil, "stop:script.outside"},
		{"this database", "USE cargo_prod\nINSERT INTO cargo_prod.fares VALUES (1);", fill, nil, "note:fill.account"},
		{"files of our machine", "LOAD DATA LOCAL INFILE 'x' INTO TABLE y;", fill, nil, "stop:script.refused"},
		{"what runs with rights", "CREATE DEFINER=root@localhost VIEW v AS SELECT 1;", fill, nil,
			"note:script.definers"},
		{"as nobody", "CREATE VIEW v AS SELECT 1;", fill, nobody, "stop:script.definers"},
		{"as one that is not there", "CREATE VIEW v AS SELECT 1;", withScript(catalog.Values{runAs: "nobody"}),
			func(s *catalog.Snapshot) { s.OwnerFound = nil },
			"stop:option.absent"},
		{"as one of several", "CREATE VIEW v AS SELECT 1;", withScript(catalog.Values{runAs: "gate"}),
			func(s *catalog.Snapshot) { s.OwnerFound = []string{"gate@a", "gate@b"} }, "stop:owner.ambiguous"},
		{"as one that was asked for", "CREATE VIEW v AS SELECT 1;", withScript(catalog.Values{runAs: "gate"}),
			func(s *catalog.Snapshot) { s.OwnerFound = []string{"gate@a"} }, "note:script.definers"},
		{"without the right to set that", "CREATE VIEW v AS SELECT 1;", fill, func(s *catalog.Snapshot) {
			s.Instance.Login.Abilities = slices.DeleteFunc(slices.Clone(s.Instance.Login.Abilities),
				func(a catalog.Ability) bool { return a.Code == "set_definers" })
		}, "stop:rights.missing note:script.definers"},
		{"too long", "INSERT INTO a VALUES ('" + strings.Repeat("x", 1<<10) + "');", fill,
			func(s *catalog.Snapshot) { detailsOf(s.Details).Filling.MaxPacket = 1 << 10 },
			"stop:script.long_statement"},
		{"passwords are checked", "INSERT INTO a VALUES (1);", fill,
			func(s *catalog.Snapshot) { detailsOf(s.Details).Strict = "simple_password_check" },
			"stop:option.unsupported"},
	} {
		t.Run(tt.title, func(t *testing.T) {
			snap := doomed()
			sent(t, &snap, tt.text)
			if tt.alter != nil {
				tt.alter(&snap)
			}
			b := plan(t, tt.in, snap)
			enginetest.CheckFindings(t, b, tt.want, true)
		})
	}
}

func TestPlanFill(t *testing.T) {
	snap := doomed()
	sent(t, &snap, "CREATE TABLE a (b int); CREATE VIEW v AS SELECT 1;")
	b := plan(t, withScript(nil), snap)
	if got := strings.Join(b.Kinds(), " "); got != "fill_account fill fill_definers fill_account_gone verify" {
		t.Errorf("steps: %s", got)
	}
	if !strings.Contains(b.Steps[0].Statement, "ON `cargo\\_prod`.*") ||
		!strings.HasPrefix(b.Steps[0].Statement, "CREATE USER 'genarch_fill_abcdefghijkl'@'127.0.0.1'") {
		t.Errorf("the account: %s", b.Steps[0].Statement)
	}
	if run := b.Steps[1]; run.Repair == "" || !run.Halts || run.Args["at_once"] != "no" {
		t.Errorf("statement by statement: %+v", run)
	}
	if as := b.Steps[2].Args[runAs]; as != "cargo_app@10.0.0.%" {
		t.Errorf("what it makes runs as %s", as)
	}
}

func TestRunningAs(t *testing.T) {
	d := definition{Kind: "view", Mode: "ANSI_QUOTES",
		Body: []byte(`CREATE ALGORITHM=UNDEFINED DEFINER="fill"@"a" SQL SECURITY DEFINER ` +
			`VIEW "v" AS SELECT 'DEFINER="fill"@"a"'`)}
	got := string(d.runningAs("fill@a", "mate@%").Body)
	want := `CREATE OR REPLACE ALGORITHM=UNDEFINED DEFINER="mate"@"%" SQL SECURITY DEFINER ` +
		`VIEW "v" AS SELECT 'DEFINER="fill"@"a"'`
	if got != want {
		t.Errorf("%s\nwant %s", got, want)
	}
}
