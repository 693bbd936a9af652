package cli

import (
	"fmt"
	"strings"

	"charm.land/lipgloss/v2"

	"example.com/genarch/api/wire"
	"example.com/genarch/core/naming"
)

// showBrief writes a brief to standard error: what will happen, the settings
// with the values of the defaults, what cannot be changed later, the findings,
// and the exact statements.
func (a app) showBrief(b wire.Brief) {
	a.say("%s  %s  %s", bold.Render(visible(b.Summary)), environmentText(b.Environment),
		faint.Render("read "+timeText(b.Read)))
	a.say("%s", faint.Render("instance: "+visible(b.Identity)))
	a.showImpact(b)
	if len(b.Findings) > 0 {
		a.say("")
		var unseen []string
		for _, f := range b.Findings {
			if f.Unseen {
				unseen = append(unseen, visible(f.Text))
				continue
			}
			a.showFinding(f)
		}
		if len(unseen) > 0 {
			a.sayWrapped("      ", faint.Render("not visible from here: "+strings.Join(unseen, " ")))
		}
	}
	a.showAffected(b)
	if len(b.Steps) > 0 {
		a.say("")
		for i, s := range b.Steps {
			a.sayWrapped("        ", fmt.Sprintf("step %d  %s%s", i+1, visible(s.Title), undoText(s)))
			for line := range strings.Lines(s.Statement) {
				a.say("          %s", visible(strings.TrimRight(line, "\n")))
			}
		}
	}
	if len(b.Settings) > 0 {
		a.say("")
		wide := 0
		for _, s := range b.Settings {
			wide = max(wide, lipgloss.Width(settingTitle(s)))
		}
		for _, s := range b.Settings {
			a.showSetting(s, wide)
		}
	}
	a.say("")
}

// showImpact writes first, in figures, what would be lost or set aside, who would be disconnected,
// what else needs it, and whether it comes back.
func (a app) showImpact(b wire.Brief) {
	i := b.Impact
	if i == nil {
		return
	}
	var lines [][2]string
	if i.Lost {
		var lost []string
		for _, c := range i.Objects {
			if c.N > 0 {
				lost = append(lost, naming.CountWord(c.N, c.What))
			}
		}
		if i.Rows != nil && *i.Rows > 0 {
			lost = append(lost, "about "+naming.Count(*i.Rows, "row"))
		}
		if len(lost) == 0 {
			lost = append(lost, "nothing")
		}
		if i.Size != nil {
			lost = append(lost, sizeText(*i.Size))
		}
		what := "would be lost"
		if !i.Final {
			what = "is set aside"
		}
		lines = append(lines, [2]string{what, strings.Join(lost, ", ")})
	}
	who := "nobody at present"
	if i.Sessions > 0 {
		who = naming.Count(i.Sessions, "session") + ", none with uncommitted work"
		if i.Writing > 0 {
			who = naming.Count(i.Sessions, "session") + ", " +
				wrong.Render(fmt.Sprintf("%d with uncommitted work", i.Writing))
		}
		if i.Hidden > 0 {
			who += fmt.Sprintf(", %d that cannot be seen", i.Hidden)
		}
	}
	title := map[string]string{wire.SessionsEnded: "disconnected", wire.SessionsWaited: "waited for",
		wire.SessionsStopped: "stopped"}[i.How]
	lines = append(lines, [2]string{title, who})
	if i.Lost {
		depends := "nothing that is known"
		if i.Dependents > 0 {
			depends = caution.Render(naming.Count(i.Dependents, "object") + " elsewhere")
		}
		back := "yes, until " + i.KeptUntil + " for certain"
		if i.Final {
			back = wrong.Render("no, this is final")
		}
		lines = append(lines, [2]string{"depends on it", depends}, [2]string{"comes back", back})
	}
	a.say("")
	for _, l := range lines {
		a.say("  %-14s %s", l[0], l[1])
	}
}

func (a app) showSetting(s wire.Setting, wide int) {
	value := orNone(visible(s.Value))
	if s.Was != nil {
		value = orNone(visible(*s.Was)) + " → " + bold.Render(value)
	}
	notes := ""
	if !s.Asked {
		notes = "default"
		if s.Source != "" && s.Source != "none" {
			notes += ", from " + s.Source
		}
	}
	if s.Fixed {
		if notes != "" {
			notes += "; "
		}
		notes += "cannot be changed later"
	}
	if notes != "" {
		notes = faint.Render("  (" + notes + ")")
	}
	title := settingTitle(s)
	a.say("  %s%s  %s%s", title, strings.Repeat(" ", wide-lipgloss.Width(title)), value, notes)
}

func orNone(text string) string {
	if text == "" {
		return "none"
	}
	return text
}

func settingTitle(s wire.Setting) string {
	if s.Title != "" {
		return strings.ToLower(s.Title[:1]) + s.Title[1:]
	}
	return strings.ReplaceAll(s.Name, "_", " ")
}

func (a app) showFinding(f wire.Finding) {
	mark := map[string]string{wire.LevelStop: wrong.Render("STOP"), wire.LevelCaution: caution.Render("CAUTION"),
		wire.LevelNote: bold.Render("note")}[f.Level]
	a.sayWrapped("      ", fmt.Sprintf("%s  %s  %s", mark, visible(f.Text), faint.Render("["+f.Code+"]")))
	if next := a.nextText(f.Next, f.Actions); next != "" {
		a.sayWrapped("      ", "      next: "+visible(next))
	}
}

// sayWrapped writes a text that may be long: on a terminal it is broken between
// words, and its further lines are indented.
func (a app) sayWrapped(indent, text string) {
	if width := terminalWidth(a.Err); width > len(indent)+20 {
		text = strings.ReplaceAll(lipgloss.Wrap(text, width-len(indent), ""), "\n", "\n"+indent)
	}
	a.say("%s", text)
}

func undoText(s wire.Step) string {
	switch {
	case s.ReadOnly:
		return faint.Render("  (only reads)")
	case s.Irreversible && s.Clearing == nil && s.Kind == wire.StepClearSessions && s.Statement != "":
		return faint.Render("  (for each session; it cannot be rolled back)")
	case s.Restores:
		return faint.Render("  (if a later step fails, what was there before is put back)")
	case s.Undo != "":
		return faint.Render("  (if a later step fails, rolled back by: " +
			visible(strings.Join(strings.Fields(s.Undo), " ")) + ")")
	}
	return ""
}

// decide has the person agree to a brief: cautions by their codes, then the
// act. Without a terminal both must have been given as options.
func (a app) decide(b wire.Brief, agreed bool, accepted []string, confirm string) (wire.Run, error) {
	none := wire.Run{}
	for _, f := range b.Findings {
		if f.Level != wire.LevelCaution || contains(accepted, f.Code) {
			continue
		}
		if !a.Terminal {
			return none, &exitError{ExitUnconfirmed,
				fmt.Errorf("Nothing has run: the caution %s has to be accepted, with --accept %s", f.Code, f.Code)}
		}
		answer, err := a.ask(fmt.Sprintf("Accept the caution by typing %s: ", f.Code))
		if err != nil {
			return none, err
		}
		if answer != f.Code {
			return none, &exitError{ExitUnconfirmed,
				fmt.Errorf("Nothing has run: the caution %s was not accepted", f.Code)}
		}
		accepted = append(accepted, f.Code)
	}
	out := wire.Run{Fingerprint: b.Fingerprint, Accept: accepted, Confirm: confirm}
	if b.Confirm != "" && confirm != b.Confirm {
		final := "This is final. "
		if b.Impact != nil && b.Impact.KeptUntil != "" {
			final = ""
		}
		if confirm != "" || !a.Terminal {
			return none, &exitError{ExitUnconfirmed,
				fmt.Errorf("Nothing has run. %sConfirm it by its name, with --confirm %s", final, b.Confirm)}
		}
		answer, err := a.ask(fmt.Sprintf("%s%s%s (%s): type %s to confirm: ", final,
			strings.ToUpper(b.Summary[:1]), visible(b.Summary[1:]), b.Environment, visible(b.Confirm)))
		if err != nil {
			return none, err
		}
		if out.Confirm = answer; answer != b.Confirm {
			return none, &exitError{ExitUnconfirmed, fmt.Errorf("Nothing has run: %s was not typed", b.Confirm)}
		}
		return out, nil
	}
	if agreed || b.Confirm != "" {
		return out, nil
	}
	if !a.Terminal {
		return none, &exitError{ExitUnconfirmed,
			fmt.Errorf("Nothing has run: there is nobody to ask; agree to the brief above with --yes")}
	}
	answer, err := a.ask(fmt.Sprintf("%s%s (%s)? Type yes: ", strings.ToUpper(b.Summary[:1]), visible(b.Summary[1:]),
		b.Environment))
	if err != nil {
		return none, err
	}
	if answer != "yes" {
		return none, &exitError{ExitUnconfirmed, fmt.Errorf("Nothing has run.")}
	}
	return out, nil
}

func contains(list []string, word string) bool {
	for _, w := range list {
		if w == word {
			return true
		}
	}
	return false
}

func identityText(i wire.Identity) string {
	text := i.Key
	for _, k := range sortedKeys(i.Marks) {
		text += ", " + k + " " + i.Marks[k]
	}
	return text
}
