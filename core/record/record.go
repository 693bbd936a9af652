// Package record holds what Genarch keeps of its own beside changes, servers
// and the journal, and the errors that keeping it can give.
package record

import (
	"errors"
	"fmt"
	"time"
)

// The errors of the store that callers branch on.
var (
	// ErrNotFound: there is no such record.
	ErrNotFound = errors.New("there is none of this name")
	// ErrExists: a record of that name is there already.
	ErrExists = errors.New("there is one of this name already")
	// ErrStale: the record was altered by somebody else since it was read.
	ErrStale = errors.New("it was altered by somebody else meanwhile; read it again")
	// ErrInvalid is wrapped by everything that is wrong with a registration.
	ErrInvalid = errors.New("the registration is not right")
	// ErrMoved: another change of the same target ended since the server was
	// read, so what was read may not be so any more.
	ErrMoved = errors.New("another change of the same target has just ended; look again")
	// ErrUnavailable: the store does not answer.
	ErrUnavailable = errors.New("Genarch's own records cannot be reached just now; try again in a moment")
)

// Busy: another change works on the same target.
type Busy struct {
	Target   string
	Change   uint64
	Operator string
	Since    time.Time
}

// Error says who is at it and since when.
func (b *Busy) Error() string {
	return fmt.Sprintf("%s is being worked on: change %d by %s since %s", b.Target, b.Change, b.Operator, b.Since.UTC().Format("15:04:05 UTC"))
}

// Token lets a program sign in. Only its hash is kept.
type Token struct {
	ID       uint64
	Operator string
	Title    string
	Created  time.Time
	Expires  time.Time // zero: never
	LastUsed time.Time // zero: never
	Revoked  time.Time // zero: not
}

// Valid reports whether the token can still be used.
func (t Token) Valid(now time.Time) bool {
	return t.Revoked.IsZero() && (t.Expires.IsZero() || now.Before(t.Expires))
}

// Session is a person signed in to the console. Only the hash of its cookie is
// kept.
type Session struct {
	Operator string
	// CSRF must come back in a header with everything that alters something.
	CSRF    string
	Created time.Time
	Expires time.Time
}
