// Package journal holds the form of the journal: an append-only list in which
// each entry carries the hash of the one before, so that nobody can take one
// out or alter one without it showing.
package journal

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"strconv"
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
	Prev     string    // the hash of the entry before; "" for the first
	Hash     string
}

// Sum computes the hash that the entry must carry: SHA-256 over all its fields
// and the hash of the entry before, each with its length in front of it, so
// that no two different entries have the same text.
func (e Entry) Sum() string {
	h := sha256.New()
	for _, field := range []string{
		strconv.FormatUint(e.Seq, 10), e.At.UTC().Format("2006-01-02T15:04:05.000000Z"),
		e.Operator, e.Action, e.Subject, strconv.FormatUint(e.Change, 10), e.Detail, e.Prev,
	} {
		fmt.Fprintf(h, "%d:%s", len(field), field)
	}
	return hex.EncodeToString(h.Sum(nil))
}

// Next completes an entry that follows prev (the zero Entry for the first).
func (e Entry) Next(prev Entry) Entry {
	e.Seq, e.Prev = prev.Seq+1, prev.Hash
	e.At = e.At.UTC().Truncate(time.Microsecond)
	e.Hash = e.Sum()
	return e
}

// Check says where a chain is broken: entries must follow prev without a gap.
func Check(prev Entry, entries []Entry) error {
	for _, e := range entries {
		switch {
		case e.Seq != prev.Seq+1:
			return fmt.Errorf("journal: entry %d follows entry %d: one is missing between them", e.Seq, prev.Seq)
		case e.Prev != prev.Hash:
			return fmt.Errorf("journal: entry %d does not carry the hash of entry %d", e.Seq, prev.Seq)
		case e.Hash != e.Sum():
			return fmt.Errorf("journal: entry %d was altered: its hash does not fit its content", e.Seq)
		}
		prev = e
	}
	return nil
}

// ErrCutShort: entries at the end of the journal are missing.
var ErrCutShort = errors.New("journal: its end is missing: the last entry is not the one that was written last")

// Filter narrows a reading of the journal; zero fields do not.
type Filter struct {
	Change uint64
	Before uint64 // entries with a smaller number
	After  uint64 // entries with a greater number, the oldest first
	Limit  int
}
