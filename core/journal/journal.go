// Package journal holds the form of the journal: an append-only list in which
// each entry carries a seal over itself and the entry before, made with a key
// that is not kept beside it, so that nobody who can only write to the list can
// take one out or alter one without it showing.
package journal

import (
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"
)

// Entry is one line of the journal.
type Entry struct {
	Seq      uint64
	At       time.Time // UTC, whole microseconds
	Operator string    // who; "genarch" for the service itself
	Action   string    // what: change.draft, change.run, step.begin, sign_in, …
	Subject  string    // the address or name it is about
	Change   uint64    // 0 when it belongs to none
	Detail   string    // JSON object, or empty
	Token    uint64    // by which token it was done; 0: by none
	Prev     string    // the seal of the entry before; "" for the first
	Hash     string    // its own seal
}

// Sealer makes and checks seals: a message authentication code under a key.
type Sealer interface {
	// Seal computes the seal of a text.
	Seal(text string) (string, error)
	// Sealed reports whether a seal is that of a text.
	Sealed(text, seal string) bool
}

// text is what the seal covers: all fields and the seal of the entry before, each
// with its length in front of it, so that no two different entries have the same.
func (e Entry) text() string {
	var b strings.Builder
	for _, field := range []string{
		strconv.FormatUint(e.Seq, 10), e.At.UTC().Format("2006-01-02T15:04:05.000000Z"),
		e.Operator, e.Action, e.Subject, strconv.FormatUint(e.Change, 10), e.Detail,
		strconv.FormatUint(e.Token, 10), e.Prev,
	} {
		fmt.Fprintf(&b, "%d:%s", len(field), field)
	}
	return b.String()
}

// Next completes an entry that follows prev (the zero Entry for the first).
func (e Entry) Next(prev Entry, s Sealer) (Entry, error) {
	e.Seq, e.Prev = prev.Seq+1, prev.Hash
	e.At = e.At.UTC().Truncate(time.Microsecond)
	var err error
	e.Hash, err = s.Seal(e.text())
	return e, err
}

// Check says where a chain is broken: entries must follow prev without a gap.
func Check(prev Entry, entries []Entry, s Sealer) error {
	for _, e := range entries {
		switch {
		case e.Seq != prev.Seq+1:
			return fmt.Errorf("journal: entry %d follows entry %d: one is missing between them", e.Seq, prev.Seq)
		case e.Prev != prev.Hash:
			return fmt.Errorf("journal: entry %d does not carry the seal of entry %d", e.Seq, prev.Seq)
		case !s.Sealed(e.text(), e.Hash):
			return fmt.Errorf("journal: entry %d was altered: its seal does not fit its content", e.Seq)
		}
		prev = e
	}
	return nil
}

// ErrCutShort: entries at the end of the journal are missing.
var ErrCutShort = errors.New("journal: its end is missing: the last entry is not the one that was written last")

// Checkpoint says what the last entry was at a time. It is sealed, so that one
// that was kept elsewhere (a log, a sheet of paper) proves later that nothing up
// to it was taken out or written anew.
type Checkpoint struct {
	Seq  uint64
	Hash string
	At   time.Time
	Seal string
}

// text is what the seal of a checkpoint covers.
func (c Checkpoint) text() string {
	return fmt.Sprintf("checkpoint %d %s %s", c.Seq, c.Hash, c.At.UTC().Format(time.RFC3339))
}

// Sign completes a checkpoint.
func (c Checkpoint) Sign(s Sealer) (Checkpoint, error) {
	c.At = c.At.UTC().Truncate(time.Second)
	var err error
	c.Seal, err = s.Seal(c.text())
	return c, err
}

// String writes it as ParseCheckpoint reads it, without blanks.
func (c Checkpoint) String() string {
	return fmt.Sprintf("%d:%s:%s:%s", c.Seq, c.Hash, c.At.UTC().Format("20060102T150405Z"), c.Seal)
}

// ErrCheckpoint is wrapped by what is wrong with the text of a checkpoint.
var ErrCheckpoint = errors.New("not a checkpoint of this journal")

// ParseCheckpoint reads what String wrote, and checks its seal.
func ParseCheckpoint(text string, s Sealer) (Checkpoint, error) {
	parts := strings.Split(strings.TrimSpace(text), ":")
	if len(parts) != 4 {
		return Checkpoint{}, fmt.Errorf("%w: it has four parts with colons between them, as the log and journal check show it", ErrCheckpoint)
	}
	seq, err := strconv.ParseUint(parts[0], 10, 64)
	if err != nil {
		return Checkpoint{}, fmt.Errorf("%w: its first part is no number", ErrCheckpoint)
	}
	at, err := time.Parse("20060102T150405Z", parts[2])
	if err != nil {
		return Checkpoint{}, fmt.Errorf("%w: its third part is no time", ErrCheckpoint)
	}
	c := Checkpoint{Seq: seq, Hash: parts[1], At: at, Seal: parts[3]}
	if !s.Sealed(c.text(), c.Seal) {
		return c, fmt.Errorf("%w: its seal was not made with this key", ErrCheckpoint)
	}
	return c, nil
}

// ErrNotReached: a journal has no such entry as a checkpoint tells of.
func ErrNotReached(c Checkpoint) error {
	return fmt.Errorf("journal: entry %d, which was there at %s, is missing or is another one: entries were taken out or written anew", c.Seq, c.At.UTC().Format("2006-01-02 15:04:05 UTC"))
}

// Filter narrows a reading of the journal; zero fields do not.
type Filter struct {
	Change   uint64
	Operator string
	// Action is what was done, or its first word: change for change.run too.
	Action string
	// Subject is an address; what lies beneath it belongs to it.
	Subject string
	// Since and Until are when it was done, the end not included.
	Since, Until time.Time
	Before       uint64 // entries with a smaller number
	After        uint64 // entries with a greater number, the oldest first
	Limit        int
}
