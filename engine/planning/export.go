package planning

import (
	"slices"
	"strconv"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/policy"
	"example.com/genarch/core/remedy"
	"example.com/genarch/engine"
)

// ExportFirst is the option by which a database is exported before it is dropped.
const ExportFirst = "export_first"

// ExportField is the option.
func ExportField(program string) engine.Field {
	return engine.Field{Name: ExportFirst, Title: "Export it first", Type: engine.Yes,
		In: []change.Kind{change.DropDatabase}, Show: engine.Nowhere, Default: "no",
		Decides: "whether " + program + " writes all of it to a file first, which is kept beside Genarch's records"}
}

// Export puts before everything else the step that exports the database, where that is asked
// for. why says why it cannot be; empty: program does it.
func Export(p *Draft, program engine.Program, name, why string) {
	if i := slices.IndexFunc(p.Findings, func(f change.Finding) bool { return f.Code == change.DropFinal }); i >= 0 {
		if p.Asked.Bool(ExportFirst) {
			p.Findings[i].Next = "Put the export back somewhere once, to see that it can be."
		} else {
			p.Findings[i].Offer(remedy.Option("options."+ExportFirst, remedy.Yes))
		}
	}
	if !p.Asked.Bool(ExportFirst) || p.Snap.Target == nil || p.Outcome == change.Nothing {
		return
	}
	if why != "" {
		p.About(ExportFirst, change.Stop, change.ExportImpossible, "Put that right, or drop it without an export.",
			"It cannot be exported: %s.", why)
		return
	}
	days := policy.KeepDays(p.Snap.Server, 0)
	until := catalog.Day(p.Snap.Instance.Read).AddDate(0, 0, days)
	title := name + " " + program.Version
	p.About(ExportFirst, change.Note, change.ExportFirst, "",
		"It is exported first by %s, read once more, and kept until %s; if that fails, nothing is touched.", title,
		dayText(until))
	step := change.Step{Kind: change.StepExport, Title: "export it by " + title + ", and read that once more",
		ReadOnly: true, Halts: true, Seconds: FillSeconds, Args: map[string]string{"name": p.Snap.Target.Name,
			"program": program.Path, "number": strconv.Itoa(program.Number), "by": title,
			"days": catalog.WriteValue(int64(days))}}
	p.Steps = append([]change.Step{step}, p.Steps...)
}
