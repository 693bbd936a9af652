package sqlserver

import (
	"flag"
	"slices"
	"strings"
	"testing"
	"time"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/naming"
	"example.com/genarch/engine/enginetest"
	"example.com/genarch/engine/planning"
)

var update = flag.Bool("update", false, "write the golden files anew")

// berthed is a server with a database cargo, whose owner is somebody else than Genarch.
func berthed() catalog.Snapshot {
	login := catalog.Login{Name: "genarch", Superuser: true}
	for _, a := range abilities {
		login.Abilities = append(login.Abilities, catalog.Ability{Code: a.code, Allowed: true})
	}
	standard := catalog.Values{"recovery": "full", "compatibility": "160", "containment": "none",
		"snapshot_isolation": false, "read_committed_snapshot": false, "auto_create_statistics": true,
		"auto_update_statistics": true, "auto_update_statistics_async": false, "auto_close": false,
		"auto_shrink": false,
		"page_verify": "checksum", "trustworthy": false, "access": "multi_user", "read_only": false, "offline": false,
		"state": "online"}
	rows := int64(4300)
	return catalog.Snapshot{Server: catalog.Server{Name: "customs", Engine: ID, Environment: catalog.Production},
		Instance: catalog.Instance{Engine: ID, Version: "16.0.4125.3", Number: 16004125, Login: login,
			Collation: "SQL_Latin1_General_CP1_CI_AS", Read: time.Date(2026, 11, 28, 9, 0, 0, 0, time.UTC)},
		Names: []string{"master", "tempdb", "model", "msdb", "cargo"},
		Self:  catalog.Principal{Name: "genarch"},
		Target: &catalog.Database{Name: "cargo", Owner: "cargo_owner", Collation: "Finnish_Swedish_CI_AS",
			Key: "5 2026-11-01T08:00:00.123", Properties: standard.With("files", []catalog.Values{
				{"name": "cargo", "kind": "data", "filegroup": "PRIMARY", "path": "/data/cargo.mdf",
					"size": int64(8 << 20), "max_size": "unlimited", "growth": "64 MB"},
				{"name": "cargo_log", "kind": "log", "path": "/data/cargo_log.ldf", "size": int64(8 << 20),
					"max_size": "unlimited", "growth": "10%"}})},
		Choices: catalog.Choices{"owners": {{Name: "sa"}, {Name: "mate"}, {Name: "cargo_owner"}},
			"collations": {{Name: "SQL_Latin1_General_CP1_CI_AS", Default: true}, {Name: "Finnish_Swedish_CI_AS"}}},
		DropImpact: &catalog.DropImpact{Objects: []catalog.Count{{What: "tables", N: 2}}, Rows: &rows, MayDrop: true},
		Details:    &details{DataPath: "/data/", LogPath: "/log/", Model: standard}}
}

// waiting is the same with cargo set aside.
func waiting() catalog.Snapshot {
	snap := berthed()
	d := *snap.Target
	d.Name, d.Closed = heldName(d), true
	d.Properties = d.Properties.With("offline", true).With("access", "single_user")
	day := catalog.Day(snap.Instance.Read)
	d.Held = &catalog.Holding{Name: "cargo", Since: day, Until: day, Open: true,
		Kept: map[string]string{"access": "multi_user"}}
	snap.Target, snap.Names = &d, append(snap.Names[:4:4], d.Name)
	return snap
}

// intents are one of each way of going. Names that tenants choose are those in named.
func intentsOf() map[string]change.Intent {
	files := []catalog.Values{{"name": "berth", "size": int64(64 << 20), "max_size": int64(1 << 30), "growth": "64 MB"},
		{"name": "cold", "filegroup": "archive", "path": "/cold/cold.ndf"}, {"name": "trail", "kind": "log"}}
	out := map[string]change.Intent{
		"create": database(change.CreateDatabase, change.DatabaseSpec{Name: "berths"}),
		"create_all": database(change.CreateDatabase, change.DatabaseSpec{Name: "berths", Options: catalog.Values{
			"owner": "mate", "collation": "Finnish_Swedish_CI_AS", "recovery": "simple", "compatibility": "150",
			"read_committed_snapshot": true, "auto_update_statistics_async": true, "files": files}}),
		"alter": altering("cargo", catalog.Values{"owner": "mate", "recovery": "simple", "files": []catalog.Values{
			{"name": "cargo", "size": int64(16 << 20), "growth": "32 MB"}, {"name": "cold", "filegroup": "archive"},
			{"name": "trail", "kind": "log"}}}),
		"alter_alone": altering("cargo", catalog.Values{"read_only": true, "collation": "SQL_Latin1_General_CP1_CI_AS",
			"access": "restricted_user"}),
		"offline":   altering("cargo", catalog.Values{"offline": true}),
		"drop":      database(change.DropDatabase, change.DatabaseSpec{Name: "cargo"}),
		"rename":    database(change.RenameDatabase, change.DatabaseSpec{Name: "cargo", NewName: "freight"}),
		"set_aside": database(change.SetAside, change.DatabaseSpec{Name: "cargo"}),
		"mark":      {Kind: change.MarkServer, Mark: "222d11d3-fc39-48bf-8c14-a8d0f59f9d52"},
	}
	for name, in := range out {
		in.Server = "customs"
		out[name] = in
	}
	return out
}

func heldIntents() map[string]change.Intent {
	id := heldName(*berthed().Target)
	return map[string]change.Intent{
		"bring_back": {Kind: change.BringBack, Server: "customs", Holding: &change.HoldingSpec{ID: id}},
		"bring_back_as": {Kind: change.BringBack, Server: "customs", Holding: &change.HoldingSpec{ID: id,
			NewName: "freight"}},
		"discard": {Kind: change.Discard, Server: "customs", Holding: &change.HoldingSpec{ID: id}},
		"keep":    {Kind: change.KeepHolding, Server: "customs", Holding: &change.HoldingSpec{ID: id, Hold: "remark"}},
	}
}

func planned(t *testing.T, in change.Intent, snap catalog.Snapshot) change.Brief {
	t.Helper()
	if in.Server = "customs"; in.Kind == change.CreateDatabase {
		snap.Target = nil
	}
	b, err := Engine{}.Plan(in, snap)
	if err != nil {
		t.Fatal(err)
	}
	return b
}

func TestStatements(t *testing.T) {
	for name, in := range intentsOf() {
		t.Run(name, func(t *testing.T) { enginetest.Golden(t, *update, name, planned(t, in, berthed())) })
	}
	for name, in := range heldIntents() {
		t.Run(name, func(t *testing.T) { enginetest.Golden(t, *update, name, planned(t, in, waiting())) })
	}
}

// named are the names that tenants choose.
var named = []string{"berths", "berth", "cold", "archive", "trail", "cargo", "mate", "cargo_owner", "freight", "remark"}

// TestEachStatementIsOneCommand: whatever a tenant's names are.
func TestEachStatementIsOneCommand(t *testing.T) {
	snap, held := berthed(), waiting()
	snap.Server.NameRule, held.Server.NameRule = naming.Rule{Free: true}, naming.Rule{Free: true}
	made, others := map[string]change.Intent{}, intentsOf()
	for _, name := range []string{"create", "create_all"} {
		made[name] = others[name]
		delete(others, name)
	}
	delete(others, "mark")
	fresh := snap
	fresh.Target = nil
	n := enginetest.OneCommand(t, Engine{}, dialect.Commands, named, snap, others)
	n += enginetest.OneCommand(t, Engine{}, dialect.Commands, named, fresh, made)
	n += enginetest.OneCommand(t, Engine{}, dialect.Commands, named, held, heldIntents())
	if n < 500 {
		t.Errorf("only %d statements were looked at", n)
	}
	enginetest.EachKnown(t, Engine{}, steps, snap, others)
	enginetest.EachKnown(t, Engine{}, steps, fresh, made)
	enginetest.EachKnown(t, Engine{}, steps, held, heldIntents())
	for _, end := range enginetest.Hostile {
		enginetest.QuotedWhole(t, dialect.Commands, quoteIdent("x"+end))
		enginetest.QuotedWhole(t, dialect.Commands, quoteText("x"+end))
	}
}

// TestFindings: what speaks against an intent, and what is said beside it.
func TestFindings(t *testing.T) {
	all := intentsOf()
	option := func(name string, value any) change.Intent {
		return database(change.CreateDatabase, change.DatabaseSpec{Name: "berths",
			Options: catalog.Values{name: value}})
	}
	disks := func(s *catalog.Snapshot) {
		detailsOf(s.Details).Volumes = []volume{{"/", 100 << 30}, {"/data", 40 << 30}, {"/cold/", 1 << 40}}
	}
	for _, tt := range []struct {
		title string
		in    change.Intent
		alter func(*catalog.Snapshot)
		want  string
	}{
		{"auto close", option("auto_close", true), nil, "caution:option.risky"},
		{"a share of itself", option("files", []catalog.Values{{"name": "a", "growth": "10%"}}), nil,
			"caution:option.risky"},
		{"no growth", option("files", []catalog.Values{{"name": "a", "growth": "much"}}), nil, "stop:option.invalid"},
		{"no primary", option("files", []catalog.Values{{"name": "a", "filegroup": "b"}}), nil, "stop:option.invalid"},
		{"no room", option("files", []catalog.Values{{"name": "a", "size": int64(30 << 30)}, {"name": "b",
			"path": "/data/b.ndf", "size": int64(11 << 30)}, {"name": "c", "path": "/database/c.ndf",
			"size": int64(50 << 30)}}), disks, "stop:disk.full"},
		{"room on the other disk", option("files", []catalog.Values{{"name": "a", "path": "/cold/a.mdf",
			"size": int64(90 << 30)}}), disks, ""},
		{"no room to grow", altering("cargo", catalog.Values{"files": []catalog.Values{{"name": "cargo",
			"size": int64(41 << 30)}}}), disks, "stop:disk.full"},
		{"contained", option("containment", "partial"), nil, "stop:option.unusable"},
		{"a later level", option("compatibility", "160"), func(s *catalog.Snapshot) { s.Instance.Number = 15_000_100 },
			"stop:option.unsupported"},
		{"for itself alone", altering("cargo", catalog.Values{"access": "single_user"}), nil, "stop:option.unusable"},
		{"offline, and more", altering("cargo", catalog.Values{"offline": true, "recovery": "simple"}), nil,
			"stop:option.invalid"},
		{"smaller", altering("cargo", catalog.Values{"files": []catalog.Values{{"name": "cargo",
			"size": int64(1 << 20)}}}), nil, "stop:option.invalid"},
		{"its user", altering("cargo", catalog.Values{"owner": "mate"}),
			func(s *catalog.Snapshot) { detailsOf(s.Details).OwnerUser = true }, "stop:owner.denied"},
		{"in a group", all["drop"], func(s *catalog.Snapshot) {
			detailsOf(s.Details).Joined = []string{"an availability group"}
		}, "stop:replication.running"},
		{"offline already", all["rename"], func(s *catalog.Snapshot) { s.Target.Closed = true },
			"stop:database.closed"},
		{"not for Genarch", all["drop"], func(s *catalog.Snapshot) { s.DropImpact.MayDrop = false },
			"stop:database.denied"},
		{"no administrator", all["set_aside"], func(s *catalog.Snapshot) { s.Instance.Login.Superuser = false },
			"stop:rights.missing"},
		{"a job", all["rename"], func(s *catalog.Snapshot) {
			s.DropImpact.Dependents = []string{"the job nightly"}
		}, "caution:drop.breaks"},
		{"statistics aside", all["drop"], func(s *catalog.Snapshot) {
			s.Target.Properties = s.Target.Properties.With("auto_update_statistics_async", true)
		}, "note:gate.effect"},
		{"a temporary name", database(change.CreateDatabase, change.DatabaseSpec{Name: "#berths"}),
			func(s *catalog.Snapshot) { s.Server.NameRule.Free = true }, "stop:name.start"},
	} {
		t.Run(tt.title, func(t *testing.T) {
			snap := berthed()
			d := *snap.Target
			snap.Target = &d
			if tt.alter != nil {
				tt.alter(&snap)
			}
			b := planned(t, tt.in, snap)
			level, code, _ := strings.Cut(tt.want, ":")
			if tt.want == "" && !b.Stopped() {
				return
			}
			if !slices.Contains(b.Codes(change.Level(level)), code) {
				t.Errorf("findings %+v; want %s", b.Findings, tt.want)
			}
		})
	}
}

// TestHeldName: however long a name is, that under which it waits fits, and so does its note's.
func TestHeldName(t *testing.T) {
	d := catalog.Database{Name: strings.Repeat("⛴", 61) + "x", Key: "70000 2026"}
	n := len([]rune(notePrefix + heldName(d)))
	if n > 128 || !strings.HasPrefix(heldName(d), planning.HeldPrefix+"70000_⛴") {
		t.Errorf("%d: %s", n, heldName(d))
	}
}
