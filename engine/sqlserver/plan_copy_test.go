package sqlserver

import (
	"testing"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/naming"
	"example.com/genarch/engine/enginetest"
)

// copying is a server on which cargo can be copied.
func copying() catalog.Snapshot {
	snap := berthed()
	d := *snap.Target
	tables, size := 2, int64(16<<20)
	d.Tables, d.Size = &tables, &size
	files := append(d.Properties.Rows("files"), catalog.Values{"name": "cold", "kind": "data", "filegroup": "archive",
		"path": "/cold/cold.ndf", "size": int64(1 << 20)}, catalog.Values{"name": "more", "kind": "data",
		"filegroup": "PRIMARY", "path": "/data/more.ndf", "size": int64(1 << 20)})
	d.Properties = d.Properties.With("files", files).With("data_size", int64(9<<20))
	snap.Source, snap.Target = &d, nil
	more := detailsOf(snap.Details)
	more.Copied = copied{MayBackUp: true, MayEmpty: true, Folder: "/backup/"}
	snap.Choices["templates"] = []catalog.Choice{{Name: "cargo"}}
	return snap
}

func copyAs(name string, options catalog.Values) change.Intent {
	return database(change.CreateDatabase, change.DatabaseSpec{Name: name, Options: options.With(template, "cargo")})
}

func TestCopyStatements(t *testing.T) {
	enginetest.Golden(t, *update, "copy", planned(t, copyAs("freight", nil), copying()))
	free := copying()
	free.Server.NameRule = naming.Rule{Free: true}
	enginetest.Golden(t, *update, "copy_otherwise", planned(t, copyAs("odd/name", catalog.Values{"owner": "mate",
		"recovery": "simple"}), free))
}

// TestEachCopyStatementIsOneCommand: whatever databases, files and owners are called.
func TestEachCopyStatementIsOneCommand(t *testing.T) {
	snap := copying()
	snap.Server.NameRule = naming.Rule{Free: true}
	in := copyAs("freight", catalog.Values{"owner": "mate"})
	in.Server = "customs"
	all := map[string]change.Intent{"copy": in}
	names := []string{"cargo", "cargo_log", "cold", "archive", "more", "freight", "mate"}
	if n := enginetest.OneCommand(t, Engine{}, dialect.Commands, names, snap, all); n < 50 {
		t.Errorf("only %d statements were looked at", n)
	}
	enginetest.EachKnown(t, Engine{}, steps, snap, all)
}

func TestCopyFindings(t *testing.T) {
	plain := copyAs("freight", nil)
	for _, tt := range []struct {
		title string
		in    change.Intent
		alter func(*catalog.Snapshot)
		want  string
	}{
		{"a copy", plain, nil, "note:copy.what note:copy.people note:copy.file"},
		{"of none", database(change.CreateDatabase, change.DatabaseSpec{Name: "freight",
			Options: catalog.Values{template: "nowhere"}}), func(s *catalog.Snapshot) { s.Source = nil },
			"stop:option.absent"},
		{"another collation", copyAs("freight", catalog.Values{"collation": "Finnish_Swedish_CI_AS"}), nil,
			"stop:option.unusable"},
		{"no right to back it up", plain, func(s *catalog.Snapshot) {
			detailsOf(s.Details).Copied.MayBackUp = false
		}, "stop:rights.missing"},
		{"no right to write over it", plain, func(s *catalog.Snapshot) {
			detailsOf(s.Details).Copied.MayEmpty = false
		}, "caution:copy.file"},
		{"its name in a view", plain, func(s *catalog.Snapshot) {
			detailsOf(s.Details).Copied.Naming = []string{"cheap"}
		}, "caution:copy.names"},
		{"a team that is in the template", database(change.CreateDatabase, change.DatabaseSpec{Name: "freight",
			Team: &change.TeamSpec{Name: "crews"}, Options: catalog.Values{template: "cargo"}}),
			func(s *catalog.Snapshot) {
				s.Access = &catalog.Access{Accounts: []catalog.Account{{Principal: user("crews_app")}}}
			}, "stop:account.exists"},
		{"trustworthy", plain, func(s *catalog.Snapshot) {
			s.Source.Properties = s.Source.Properties.With("trustworthy", true)
		}, "note:option.unusable"},
		{"an owner who is a user", copyAs("freight", catalog.Values{"owner": "mate"}), func(s *catalog.Snapshot) {
			detailsOf(s.Details).OwnerUser = true
		}, "stop:owner.denied"},
		{"no room", plain, func(s *catalog.Snapshot) {
			detailsOf(s.Details).Volumes = []volume{{"/", 17 << 20}}
		}, "stop:disk.full"},
	} {
		t.Run(tt.title, func(t *testing.T) {
			snap := copying()
			if tt.alter != nil {
				tt.alter(&snap)
			}
			enginetest.CheckFindings(t, planned(t, tt.in, snap), tt.want, true)
		})
	}
}
