package engine

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"example.com/genarch/core/change"
	"example.com/genarch/core/lexical"
	"example.com/genarch/core/naming"
	"example.com/genarch/core/script"
)

// ScriptError says in words what is wrong with a script: at is what was read last, st the
// statement that it belongs to.
func ScriptError(at lexical.Token, st script.Statement, err error) error {
	switch {
	case errors.Is(err, lexical.ErrUnended):
		what := map[lexical.Kind]string{lexical.Comment: "comment", lexical.Name: "quoted name"}[at.Kind]
		return &script.Error{Line: at.Line, Column: at.Column,
			Text: "the " + cmp.Or(what, "quoted text") + " that begins here has no end"}
	case errors.Is(err, lexical.ErrTooLong):
		return &script.Error{Line: max(st.Line, 1), Column: max(st.Column, 1),
			Text: fmt.Sprintf("a statement is longer than %d MiB", script.MaxStatement>>20)}
	}
	return err
}

// Ran is what a script has done that ran to its end: how many statements, in words, in how long,
// and what it has made of the tables; after is nil where they were not counted.
func Ran(taken string, begun time.Time, before, after Counted) []change.Message {
	out := []change.Message{{Severity: "DONE", Text: taken + " in " +
		time.Since(begun).Round(time.Millisecond).String()}}
	if after == nil {
		return out
	}
	return append(out, grown(before, after)...)
}

// CountBelow is how large a table may be whose rows are counted, in bytes: a large one is not
// read for the sake of a figure.
const CountBelow = 100 << 20

// Counted are the rows of tables; nil: they were not counted.
type Counted map[string]*int64

// maxGrown is how many tables are told one by one.
const maxGrown = 50

// grown says what a script has made of a database: each table with its rows before and after,
// where they differ.
func grown(before, after Counted) []change.Message {
	var out []change.Message
	same, more := 0, 0
	names := maps.Clone(after)
	maps.Copy(names, before)
	for _, name := range slices.Sorted(maps.Keys(names)) {
		was, there := before[name]
		is, stays := after[name]
		text := ""
		switch {
		case there && stays && (was == nil && is == nil || was != nil && is != nil && *was == *is):
			same++
			continue
		case !there:
			text = "new, with " + rowsText(is)
		case !stays:
			text = "gone, it had " + rowsText(was)
		default:
			text = rowsText(was) + " before, " + rowsText(is) + " now"
		}
		if len(out) == maxGrown {
			more++
			continue
		}
		out = append(out, change.Message{Severity: "TABLE", Text: naming.Show(name) + ": " + text})
	}
	if more > 0 {
		out = append(out, change.Message{Severity: "TABLE", Text: fmt.Sprintf("%d more that differ", more)})
	}
	return append(out, change.Message{Severity: "TABLES", Text: fmt.Sprintf(
		"%d before, %d now; %d with as many rows as before, or too large to be counted",
		len(before), len(after), same)})
}

// Missing says that tables have not grown by as many rows as the server said that it wrote,
// where all of them were counted and nothing took rows away.
func Missing(written int64, before, after Counted) []change.Message {
	var rows [2]int64
	for i, list := range []Counted{before, after} {
		for _, n := range list {
			if n == nil {
				return nil
			}
			rows[i] += *n
		}
	}
	if grown := rows[1] - rows[0]; grown < written {
		return []change.Message{{Severity: "LOOK", Text: fmt.Sprintf(
			"the server said that %s were written, and there are %d more than before. Look whether its disk is full, "+
				"and at its error log.", naming.Count(written, "row"), grown)}}
	}
	return nil
}

func rowsText(n *int64) string {
	if n == nil {
		return "rows that were not counted"
	}
	return naming.Count(*n, "row")
}

// OpenScript opens the script of a step that runs one.
func OpenScript(ctx context.Context, step change.Step) (io.ReadCloser, error) {
	if step.Script == nil {
		return nil, UnknownStep(step)
	}
	file, err := step.Script(ctx)
	if err != nil {
		return nil, &Error{Op: step.Title, Kind: NotSent, Err: err, Text: "the script cannot be read: " + err.Error(),
			Next: "Send it again, and ask for a new change."}
	}
	return file, nil
}

// Unreadable says that a script that was begun could not be read on.
func Unreadable(step change.Step, err error) error {
	if broken, is := errors.AsType[*script.Error](err); is {
		return &Error{Op: step.Title, Kind: Refused, Text: broken.Error()}
	}
	return &Error{Op: step.Title, Kind: Refused, Err: err, Text: "the script could not be read on: " + err.Error()}
}

// RefusedAt says where in the script the server refused what, and what to do; nothing: not a statement took
// effect. shape is the statement without its texts, which are not kept.
func RefusedAt(e *Error, st script.Statement, line, column int, nothing bool, shape func(string) string) *Error {
	e.Err, e.Passing, e.Actions = nil, false, nil
	e.Text = fmt.Sprintf("line %d, column %d, %s: %s", line, column, st.Kind, e.Text)
	e.Next = "Mend the script, and run what follows: what was before this line took effect."
	if nothing {
		e.Next = "Mend the script, and run it again: nothing of it took effect."
	}
	if st.Text != "" {
		e.Detail = strings.TrimPrefix(e.Detail+"; the statement: "+script.Excerpt(shape(st.Text)), "; ")
	}
	return e
}

// AnswerLost says at which line of a script the answer of the server was lost.
func AnswerLost(step change.Step, err error, st script.Statement) error {
	e := Classify(step.Title, err, true)
	e.Text = fmt.Sprintf("%s, at line %d", cmp.Or(e.Text, "the connection was lost"), st.Line)
	return e
}

// FilledMark is what is noted with a script's account, or beside it, when the script has run to its end. It is how
// a lost answer is found again, in another process too.
func FilledMark(t Target, step change.Step) string {
	text := "filled by " + step.Args["account"]
	if t.Sealer == nil {
		return text
	}
	seal, err := t.Sealer.Seal(text)
	if err != nil {
		return text
	}
	return seal
}

// NothingRan is the report of a script of which not a statement was sent.
func NothingRan() Report { return Report{Learned: map[string]string{"taken": "0"}} }

// StaysNext is what to do about a script of which something stays.
const StaysNext = "Look at the tables, and run what is left; or set the database aside and begin anew."

// Stays says what stays of a script that did not run to its end, and was not in one
// transaction; nil: nothing does. The step knows how many pieces took effect (taken), up to which
// line, and, where pieces have several statements, at which line the one is that broke off (broke).
func Stays(step change.Step, of Script) error {
	taken, err := strconv.Atoi(step.Args["taken"])
	broke := step.Args["broke"]
	text := fmt.Sprintf("%s up to line %s took effect, and %s", of.Count(taken), step.Args["line"],
		map[bool]string{true: "stays", false: "stay"}[taken == 1])
	rest := fmt.Sprintf("of the %s at line %s what stood before the error may have taken effect", of.Piece, broke)
	switch {
	case err != nil:
		text = "its answer was lost: how far the script ran is not known"
	case taken == 0 && broke == "":
		return nil
	case taken == 0:
		text = rest + ", and stays"
	case broke != "":
		text += "; " + rest + " too"
	}
	return &Error{Op: "take the script back", Kind: Refused, Text: text,
		Next: StaysNext}
}

// Progress tells how far a script is, while a statement works long too.
type Progress struct {
	step change.Step
	size int64
	mu   sync.Mutex // guards at
	at   change.Work
	quit chan struct{}
	over chan struct{}
}

// tellEvery is how often it is told.
const tellEvery = 200 * time.Millisecond

// Follow begins to tell how far a script of so many bytes is. Its user closes it.
func Follow(step change.Step, size int64) *Progress {
	p := &Progress{step: step, size: size, quit: make(chan struct{}), over: make(chan struct{})}
	go func() {
		defer close(p.over)
		tick := time.NewTicker(tellEvery)
		defer tick.Stop()
		for {
			select {
			case <-p.quit:
				return
			case <-tick.C:
			}
			p.mu.Lock()
			at := p.at
			p.mu.Unlock()
			if at != (change.Work{}) {
				step.Worked(at) // again, though it is the same: not every time is passed on
			}
		}
	}()
	return p
}

// At says which statement runs now, and how many bytes of the script were passed.
func (p *Progress) At(line int, kind string, offset int64) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.at = change.Work{What: fmt.Sprintf("line %d, %s", line, cmp.Or(kind, "?")), Done: offset, Total: p.size,
		Unit: "bytes"}
}

// Close ends it.
func (p *Progress) Close() {
	close(p.quit)
	<-p.over
}
