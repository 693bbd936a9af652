package change

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"slices"
	"time"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/clearing"
	"example.com/genarch/core/naming"
	"example.com/genarch/core/remedy"
	"example.com/genarch/core/secret"
)

// Level says how much a finding weighs.
type Level string

// The levels: a stop cannot run, a caution must be accepted by its code, a
// note is only told.
const (
	Stop    Level = "stop"
	Caution Level = "caution"
	Note    Level = "note"
)

// Finding is something that a brief points out.
type Finding struct {
	Code  string `json:"code"` // stable, see codes.go
	Level Level  `json:"level"`
	Text  string `json:"text"` // what and why
	// Next says what to do about it, in a sentence.
	Next string `json:"next,omitempty"`
	// Actions are ways to do that.
	Actions []remedy.Action `json:"actions,omitempty"`
	// Option is the option that it is about, where it is about one.
	Option string `json:"option,omitempty"`
	// Suggestion is a value that would do, for a form to offer.
	Suggestion string `json:"suggestion,omitempty"`
	// Passing: the finding is of the moment (who is connected just now). It is no
	// part of the fingerprint, but a new stop or caution of this kind makes the
	// brief another one ([Brief.Worse]).
	Passing bool `json:"passing,omitempty"`
	// Unseen: it tells of what cannot be looked at from here.
	Unseen bool `json:"unseen,omitempty"`
}

// Setting is one property that the object will have, asked for or by default.
type Setting struct {
	Name string `json:"name"`
	// Title is what people call it; empty: the name.
	Title string `json:"title,omitempty"`
	// Was is what it is now, where the change alters it.
	Was   *string `json:"was,omitempty"`
	Value string  `json:"value"`
	Asked bool    `json:"asked"`
	// Source says where a default comes from: "server", "template utf8_base".
	Source string `json:"source,omitempty"`
	// Decides is one line on what the setting decides.
	Decides string `json:"decides,omitempty"`
	// Fixed: it cannot be changed once the object exists.
	Fixed bool `json:"fixed"`
}

// Difference is a property in which what exists is not what was asked.
type Difference struct {
	Name   string `json:"name"`
	Asked  string `json:"asked"`
	Actual string `json:"actual"`
}

// Outcome says what a change comes to.
type Outcome string

// The outcomes of a brief.
const (
	// Acts: there are steps to run.
	Acts Outcome = "acts"
	// Nothing: what was asked is there already.
	Nothing Outcome = "nothing"
)

// Brief is what a change would do, made from an intent and a fresh reading.
type Brief struct {
	Target      string              `json:"target"`
	Engine      catalog.Engine      `json:"engine"`
	Environment catalog.Environment `json:"environment"`
	Identity    string              `json:"identity"`
	Summary     string              `json:"summary"`
	Outcome     Outcome             `json:"outcome"`
	Settings    []Setting           `json:"settings"`
	Findings    []Finding           `json:"findings"`
	Differences []Difference        `json:"differences,omitempty"`
	Steps       []Step              `json:"steps"`
	// Affected are the sessions that would be ended or waited for, at most
	// [MaxAffected] of AffectedCount, as they were at the reading. They come and
	// go, so they are no part of the fingerprint.
	Affected      []Affected `json:"affected,omitempty"`
	AffectedCount int        `json:"affected_count,omitempty"`
	// Impact is what would be lost; nil: nothing is. It drifts while one reads, so it is
	// no part of the fingerprint either.
	Impact *Impact `json:"impact,omitempty"`
	// Confirm is the name to be typed before it may run; empty: none.
	Confirm     string    `json:"confirm,omitempty"`
	Read        time.Time `json:"read"`
	Fingerprint string    `json:"fingerprint"`
}

// Impact is what a change would take away, in figures.
type Impact struct {
	// Objects counts what is lost, by the engine's words.
	Objects []catalog.Count `json:"objects,omitempty"`
	// Rows is the server's own estimate, Size is in bytes; nil: not known.
	Rows *int64 `json:"rows,omitempty"`
	Size *int64 `json:"size,omitempty"`
	// Dependents is how many objects elsewhere are known to need it.
	Dependents int `json:"dependents,omitempty"`
	// Final: Genarch cannot bring it back. Otherwise it can until the day KeptUntil, and
	// longer, until somebody discards it; nil: nothing is taken away.
	Final     bool       `json:"final,omitempty"`
	KeptUntil *time.Time `json:"kept_until,omitempty"`
}

// Step is one unit that runs: it is done, probed, and may be undone. It holds
// all that an engine needs for that, so that it can be picked up after a crash.
type Step struct {
	Kind  string `json:"kind"` // what the engine knows how to do
	Title string `json:"title"`
	// Statement is the exact text that is sent; empty for a step that only reads.
	Statement string `json:"statement,omitempty"`
	// Undo is the statement that takes the step back; empty where there is
	// nothing to roll back or no way to.
	Undo string `json:"undo,omitempty"`
	// Restores: Undo is several statements, which put back what was there before.
	Restores bool `json:"restores,omitempty"`
	// ReadOnly: the step alters nothing, so nothing has to be undone.
	ReadOnly bool `json:"read_only,omitempty"`
	// Irreversible: what the step did (sessions that were ended) cannot be rolled back,
	// and what comes before it can be rolled back all the same.
	Irreversible bool `json:"irreversible,omitempty"`
	// Repair is the statement that puts right what a try that failed may have
	// altered in part; empty where a failed step has altered nothing.
	Repair string `json:"repair,omitempty"`
	// Clear is set for a step of kind [ClearSessions].
	Clear *clearing.Rules `json:"clear,omitempty"`
	// Uncut: cut off while the server works at it, it would leave the object broken,
	// so the session that sent it is never ended before it is through.
	Uncut bool `json:"uncut,omitempty"`
	// Halts: a wish to stop cuts it off while it works; undoing it takes back what it did so far.
	Halts bool `json:"halts,omitempty"`
	// Seconds is how long it may take; 0 leaves it to the runner.
	Seconds int `json:"seconds,omitempty"`
	// Args are what doing, probing and undoing need to know.
	Args map[string]string `json:"args,omitempty"`
	// Secrets are the passwords that the step needs, by the account's name. They
	// are filled in when it is carried out, and are never kept with the step.
	Secrets map[string]secret.Text `json:"-"`
	// Script is filled in when a step is done that has one in its arguments, and never kept: it
	// opens the script, which the engine closes.
	Script func(context.Context) (io.ReadCloser, error) `json:"-"`
	// Keep is filled in when a step is done that exports, and never kept: it keeps what write
	// writes, and gives its number. nil: nobody keeps exports.
	Keep Keeper `json:"-"`
	// Ready is filled in when the step is done, probed or undone, and never kept: the
	// engine calls it right before it sends anything that alters, and sends nothing
	// when it returns an error. It is nil where nothing has to be on record first.
	Ready func(Sending) error `json:"-"`
	// Tell is filled in when the step is done, and never kept: the engine says how far it
	// is, from the time when it sends until it returns. It is nil where nobody listens.
	Tell func(Work) `json:"-"`
}

// Sending is what must be on record before a step is sent: without an answer, it
// is all that tells whether the server may still do it, and how to put it back.
type Sending struct {
	// Session is the session of Genarch's that sends.
	Session catalog.SessionID
	// Learned is kept with the step's arguments.
	Learned map[string]string
	// Undo, where it is set, is what takes the step back, now that it is known.
	Undo string
}

// Learn adds to the arguments, without altering those that others hold.
func (s *Step) Learn(learned map[string]string) {
	if len(learned) == 0 {
		return
	}
	args := maps.Clone(s.Args)
	if args == nil {
		args = map[string]string{}
	}
	maps.Copy(args, learned)
	s.Args = args
}

// Announce calls Ready, where there is one.
func (s Step) Announce(x Sending) error {
	if s.Ready == nil {
		return nil
	}
	return s.Ready(x)
}

// Worked says how far the step is, where somebody listens.
func (s Step) Worked(w Work) {
	if s.Tell != nil {
		s.Tell(w)
	}
}

// Keeper keeps what write writes as an export, encrypted, and gives its number. Where read is
// not nil, it reads what was kept once more; its error removes it again.
type Keeper func(ctx context.Context, x Export, write func(io.Writer) error,
	read func(io.Reader) (checked []string, err error)) (id string, err error)

// Export says what an export is.
type Export struct {
	// Database is what was exported, Program what wrote it: "pg_dump 15.18".
	Database string `json:"database"`
	Program  string `json:"program"`
	// File is the ending of a name for it: "dump", "sql". Restore says how it is put back.
	File    string `json:"file"`
	Restore string `json:"restore"`
	// SHA256 is of what was written, before it was encrypted. Checked is what was found when it
	// was read once more.
	SHA256  string   `json:"sha256"`
	Checked []string `json:"checked,omitempty"`
	// Days is for how long it is kept; Change is the change that made it.
	Days   int    `json:"days"`
	Change uint64 `json:"change,omitempty"`
}

// StepExport is the kind of step that exports a database.
const StepExport = "export"

// ArgScript is the argument of a step that names the script which it runs.
const ArgScript = "script"

// The kinds of steps that every engine has.
const (
	// Verify is the last step of every change: read back, compare.
	Verify = "verify"
	// ClearSessions waits for sessions to go, and ends those that stay, by the
	// rules in the step. The runner carries it out with a [clearing.Machine].
	ClearSessions = "clear_sessions"
)

// Affected is a session that a change would end, and what that would lose.
type Affected struct {
	Session catalog.Session `json:"session"`
	Class   clearing.Class  `json:"class"`
	Loses   string          `json:"loses"`
}

// MaxAffected bounds the sessions that a brief shows one by one.
const MaxAffected = 200

// maxStatement is how many characters of a session's statement a brief keeps.
const maxStatement = 300

// Affect adds the sessions that the change would end.
func (b *Brief) Affect(list []catalog.Session) {
	b.AffectedCount += len(list)
	list = slices.Clone(list)
	weight := func(s catalog.Session) int { return slices.Index(clearing.Classes, clearing.Classify(s)) }
	slices.SortStableFunc(list, func(x, y catalog.Session) int { return weight(y) - weight(x) })
	for _, s := range list[:min(len(list), MaxAffected-len(b.Affected))] {
		// A brief is kept, and those who read it need not be those who may read data.
		s.Statement, s.Shape = s.Shape, ""
		if text := []rune(s.Statement); len(text) > maxStatement {
			s.Statement = string(text[:maxStatement]) + " …"
		}
		b.Affected = append(b.Affected, Affected{s, clearing.Classify(s), clearing.Loss(s)})
	}
}

// Find adds a finding.
func (b *Brief) Find(level Level, code, next, format string, args ...any) *Finding {
	b.Findings = append(b.Findings, Finding{Code: code, Level: level, Next: next, Text: fmt.Sprintf(format, args...)})
	return &b.Findings[len(b.Findings)-1]
}

// Offer adds ways to do something about it.
func (f *Finding) Offer(ways ...remedy.Action) *Finding {
	f.Actions = append(f.Actions, ways...)
	return f
}

// Set adds a setting.
func (b *Brief) Set(s Setting) { b.Settings = append(b.Settings, s) }

// Stopped reports whether any finding forbids the change.
func (b Brief) Stopped() bool {
	return slices.ContainsFunc(b.Findings, func(f Finding) bool { return f.Level == Stop })
}

// Codes lists the codes of all findings of a level, in order, without repeats.
func (b Brief) Codes(level Level) []string {
	var out []string
	for _, f := range b.Findings {
		if f.Level == level && !slices.Contains(out, f.Code) {
			out = append(out, f.Code)
		}
	}
	return out
}

// Kinds lists the kinds of the steps, in order.
func (b Brief) Kinds() []string {
	var out []string
	for _, s := range b.Steps {
		out = append(out, s.Kind)
	}
	return out
}

// Statements lists what would be sent, in order.
func (b Brief) Statements() []string {
	var out []string
	for _, s := range b.Steps {
		if s.Statement != "" {
			out = append(out, s.Statement)
		}
	}
	return out
}

// Seal orders the findings (stops first), drops the steps of a brief that is
// stopped, and computes the fingerprint. Planners call it last.
func (b Brief) Seal() Brief {
	b.showHidden()
	weight := map[Level]int{Stop: 0, Caution: 1, Note: 2}
	slices.SortStableFunc(b.Findings, func(x, y Finding) int { return weight[x.Level] - weight[y.Level] })
	if b.Stopped() {
		b.Steps = nil
	}
	if b.Outcome == "" {
		b.Outcome = Acts
	}
	b.Fingerprint = b.fingerprint()
	return b
}

// showHidden cautions where a statement holds characters that do not show: what is
// read is not all that would run.
func (b *Brief) showHidden() {
	for i, s := range b.Steps {
		if naming.Hides(s.Statement) || naming.Hides(s.Undo) {
			b.Find(Caution, NameHidden, "Look at each \\u{…} in the statements: that is how such a character is shown.",
				"A name in step %d contains characters that are invisible, or that reverse the direction of reading.",
				i+1)
			return
		}
	}
}

// fingerprint covers everything that matters for the decision to run: not the
// time of reading, nor the order of anything that has none.
func (b Brief) fingerprint() string {
	b.Read, b.Fingerprint = time.Time{}, ""
	b.Affected, b.AffectedCount, b.Impact = nil, 0, nil
	b.Findings = slices.DeleteFunc(slices.Clone(b.Findings), func(f Finding) bool { return f.Passing })
	b.Steps = slices.Clone(b.Steps)
	for i, s := range b.Steps {
		if s.Clear != nil {
			// Whom the step ends is settled by the brief that was shown.
			rules := *s.Clear
			rules.Target.IDs, rules.AcceptLoss = nil, false
			b.Steps[i].Clear = &rules
		}
	}
	text, err := json.Marshal(b)
	if err != nil {
		panic("a brief is plain data: " + err.Error())
	}
	sum := sha256.Sum256(text)
	return hex.EncodeToString(sum[:12])
}

// Worse reports whether a later brief of the same fingerprint has a passing stop
// or caution that this one has not: somebody came, or began to write.
func (b Brief) Worse(later Brief) bool {
	return slices.ContainsFunc(later.Findings, func(f Finding) bool {
		return f.Passing && f.Level != Note &&
			!slices.ContainsFunc(b.Findings, func(o Finding) bool { return o.Code == f.Code && o.Level == f.Level })
	})
}

// Compare lists in words what a new brief has that matters and the one that
// was decided on had not, and the other way round.
func Compare(old, now Brief) []string {
	var out []string
	if old.Identity != now.Identity {
		out = append(out, fmt.Sprintf("another instance answers: %s was %s", now.Identity, old.Identity))
	}
	if old.Outcome != now.Outcome {
		out = append(out, fmt.Sprintf("the change now comes to %q, before to %q", now.Outcome, old.Outcome))
	}
	key := func(f Finding) string {
		if f.Passing {
			return f.Code
		}
		return f.Code + f.Text
	}
	for _, f := range now.Findings {
		if !slices.ContainsFunc(old.Findings, func(o Finding) bool { return key(o) == key(f) }) {
			out = append(out, fmt.Sprintf("new %s %s: %s", f.Level, f.Code, f.Text))
		}
	}
	for _, f := range old.Findings {
		if !slices.ContainsFunc(now.Findings, func(o Finding) bool { return key(o) == key(f) }) {
			out = append(out, fmt.Sprintf("no longer: %s (%s)", f.Code, f.Text))
		}
	}
	for _, s := range now.Settings {
		for _, o := range old.Settings {
			if o.Name == s.Name && o.Value != s.Value {
				out = append(out, fmt.Sprintf("%s is now %q, was %q", s.Name, s.Value, o.Value))
			}
		}
	}
	if !now.Stopped() && !slices.Equal(old.Statements(), now.Statements()) {
		out = append(out, "the statements differ")
	}
	return out
}
