package postgres

import (
	"testing"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/engine"
	"example.com/genarch/engine/enginetest"
	"example.com/genarch/engine/planning"
)

func TestPlanExport(t *testing.T) {
	drop := taking(change.DropDatabase, change.DatabaseSpec{Options: catalog.Values{planning.ExportFirst: true}}, nil)
	snap := doomed()
	more(&snap).Program = engine.Program{Path: "/usr/bin/pg_dump", Version: "15.18", Number: 15}
	b := ask(t, drop, snap)
	enginetest.CheckFindings(t, b, "note:export.first note:drop.final", false)
	if first := b.Steps[0]; first.Kind != change.StepExport || !first.ReadOnly || !first.Halts {
		t.Errorf("before everything else: %+v", first)
	}
	more(&snap).NoProgram = "there is no pg_dump on the machine of the service"
	enginetest.CheckFindings(t, ask(t, drop, snap), "stop:export.impossible", false)
	// Without it, the note that a drop is final offers it.
	b = ask(t, taking(change.DropDatabase, change.DatabaseSpec{}, nil), doomed())
	for _, f := range b.Findings {
		if f.Code == change.DropFinal && (len(f.Actions) != 1 || f.Actions[0].Option != "options.export_first") {
			t.Errorf("a drop that is final offers %v", f.Actions)
		}
	}
}
