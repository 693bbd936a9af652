// Package record holds what Genarch keeps of its own beside changes, servers
// and the journal, and the errors that keeping it can give.
package record

import (
	"context"
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
	// ErrSecretNeeded: the way to a server is altered without its secret.
	ErrSecretNeeded = errors.New("host, port, login, database, TLS and the certificate's key are altered only together with the login's password")
	// ErrMoved: another change of the same target ended since the server was
	// read, so what was read may not be so any more.
	ErrMoved = errors.New("another change of the same target has just ended; look again")
	// ErrSealed is wrapped where a secret cannot be opened: the key file is not the
	// one that it was sealed with, or the row is not the one that it belongs to.
	ErrSealed = errors.New("a secret cannot be opened with this key file")
	// ErrUnavailable: the store does not answer.
	ErrUnavailable = errors.New("Genarch's own records cannot be reached just now; try again in a moment")
	// ErrFull: the store has no room. It is an [ErrUnavailable] too.
	ErrFull = fmt.Errorf("%w: their disk or a table of theirs is full", ErrUnavailable)
)

type tokenKey struct{}

// WithToken notes by which token a call is made: its entries in the journal name it.
func WithToken(ctx context.Context, id uint64) context.Context {
	if id == 0 {
		return ctx
	}
	return context.WithValue(ctx, tokenKey{}, id)
}

// TokenOf is the token by which a call is made; 0: by none.
func TokenOf(ctx context.Context) uint64 {
	id, _ := ctx.Value(tokenKey{}).(uint64)
	return id
}

// Busy: another change works on the same target.
type Busy struct {
	Target   string
	Change   uint64
	Operator string
	Since    time.Time
}

// Error says who is at it and since when.
func (b *Busy) Error() string {
	return fmt.Sprintf("%s is being worked on: change %d by %s since %s", b.Target, b.Change, b.Operator,
		b.Since.UTC().Format("15:04:05 UTC"))
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
	// Login: a person got it by signing in with a password, and it ends with that.
	Login bool
	// Permissions narrow what its operator may do; none: everything that they may.
	Permissions []string
	// From are the only addresses or networks that it is taken from; none: all.
	From []string
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
	ID      uint64
	Created time.Time
	Used    time.Time
	Expires time.Time
	// Address is where it was signed in from.
	Address string
}

// Notice is something that happened to a person's account and that they have not
// been told of yet.
type Notice struct {
	At   time.Time
	Text string
}

// ErrLastAdmin: nobody would be left who can manage Genarch.
var ErrLastAdmin = errors.New("nobody would be left with a password and the permission admin")
