package api

import (
	"testing"
	"time"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/clearing"
)

// The figures of a brief say what becomes of sessions as the steps do it.
func TestImpact(t *testing.T) {
	if renderImpact(change.Brief{}) != nil {
		t.Error("nothing is lost and nobody is connected, and there are figures")
	}
	rows := int64(7)
	b := change.Brief{AffectedCount: 3, Affected: []change.Affected{{Class: clearing.Written}, {Class: clearing.Hidden},
		{Class: clearing.Idle}}, Impact: &change.Impact{Rows: &rows, Dependents: 2, Final: true}}
	for how, rules := range map[string]clearing.Rules{"ended": {Grace: time.Second}, "waited": {WhenEmpty: time.Minute},
		"stopped": {How: catalog.EndStatement}} {
		b.Steps = []change.Step{{Kind: "close_gate"}, {Kind: change.ClearSessions, Clear: &rules}}
		got := renderImpact(b)
		if got.How != how || got.Sessions != 3 || got.Writing != 1 || got.Hidden != 1 {
			t.Errorf("%s: %+v", how, got)
		}
		if !got.Lost || *got.Rows != 7 || got.Dependents != 2 || !got.Final {
			t.Errorf("what is lost: %+v", got)
		}
	}
}
