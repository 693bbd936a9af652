package engine

import (
	"context"
	"errors"
	"fmt"
	"net"
	"strings"
	"syscall"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/remedy"
)

// ErrNotFound: what was asked for is not there, as far as the login can see.
var ErrNotFound = errors.New("not found")

// Kind says what is known after an error.
type Kind string

// The kinds.
const (
	// NotSent: the server never received the statement.
	NotSent Kind = "not_sent"
	// Refused: the server answered with an error; nothing took effect.
	Refused Kind = "refused"
	// Unknown: it was sent and the answer is missing. Probe.
	Unknown Kind = "unknown"
	// Differs: what was read back is not what was asked.
	Differs Kind = "differs"
)

// Error is a failed operation on a server.
type Error struct {
	Op   string // what was tried: "create database"
	Kind Kind
	// Code, Text, Detail and Hint are the engine's own.
	Code, Text, Detail, Hint string
	// Next says what a person can do about it.
	Next string
	// Actions are ways to do that; a command without an address is about the server itself.
	Actions []remedy.Action
	// Passing: what stood in the way is of the moment (a lock, a conflict with
	// somebody else's statement), and the same may succeed a little later.
	Passing bool
	Err     error
}

// Error says what was tried and why it failed.
func (e *Error) Error() string {
	text := e.Text
	if text == "" && e.Err != nil {
		text = e.Err.Error()
	}
	if e.Detail != "" {
		text += "; " + e.Detail
	}
	if e.Code != "" {
		text += " [" + e.Code + "]"
	}
	if e.Op == "" {
		return text
	}
	return e.Op + ": " + text
}

// Unwrap gives the driver's error.
func (e *Error) Unwrap() error { return e.Err }

// IdentityError: another instance answers at a server's address.
type IdentityError struct {
	Server       string
	Known, Found catalog.Identity
}

// Error shows both identities and the way out.
func (e *IdentityError) Error() string {
	return fmt.Sprintf("another instance answers as %s: known is [%s], found is [%s] (different: %s)",
		e.Server, e.Known, e.Found, strings.Join(e.Known.Differences(e.Found), ", "))
}

// Wrapped finds an error of this package in what a driver passed on; an engine's
// own wrapping leaves it as it is.
func Wrapped(err error) (error, bool) {
	if e, ok := errors.AsType[*IdentityError](err); ok {
		return e, true
	}
	e, ok := errors.AsType[*Error](err)
	return e, ok
}

// Verified turns the outcome of a verifying step into that of a probe: what
// differs did not take effect.
func Verified(err error) (took bool, _ error) {
	if e, ok := errors.AsType[*Error](err); ok && e.Kind == Differs {
		return false, nil
	}
	return err == nil, err
}

// Checked turns what a check found, each difference in words, into the outcome
// of a verifying step.
func Checked(bad []string, err error) error {
	if err != nil || len(bad) == 0 {
		return err
	}
	return &Error{Op: "verify", Kind: Differs, Text: strings.Join(bad, "; ")}
}

// UnknownStep is the error of a step that an engine does not know: a newer
// Genarch has planned it.
func UnknownStep(s change.Step) error {
	return &Error{Op: s.Kind, Kind: NotSent, Text: "this version of Genarch does not know such a step",
		Next: "Run it with the version that planned it."}
}

// NeverSent marks an error that came before the statement could be sent.
func NeverSent(err error) error {
	if e, ok := errors.AsType[*Error](err); ok {
		e.Kind = NotSent
	}
	return err
}

// Failure turns any error of an engine into what a change records.
func Failure(err error) *change.Failure {
	if e, ok := errors.AsType[*Error](err); ok {
		f := &change.Failure{Kind: string(e.Kind), Code: e.Code, Text: strings.TrimSuffix(e.Error(), " ["+e.Code+"]"),
			Next: e.Next, Actions: e.Actions, Passing: e.Passing}
		if e.Hint != "" && f.Next == "" {
			f.Next = e.Hint
		}
		return f
	}
	if e, ok := errors.AsType[*IdentityError](err); ok {
		return &change.Failure{Kind: string(NotSent), Code: "identity", Text: e.Error(),
			Next:    "If this is intended, have an operator accept the new instance.",
			Actions: []remedy.Action{remedy.Command("server.accept", e.Server)}}
	}
	return &change.Failure{Kind: string(Unknown), Text: err.Error()}
}

// Classify wraps what went wrong on the way to a server: it tells a connection
// that could not be made, a deadline, and a line that was cut. The engines ask
// it for whatever is not the server's own answer.
func Classify(op string, err error, sent bool) *Error {
	e := &Error{Op: op, Kind: Unknown, Err: err}
	if !sent {
		e.Kind = NotSent
	}
	opErr, isNet := errors.AsType[*net.OpError](err)
	if isNet && opErr.Op == "dial" {
		e.Kind = NotSent
	}
	switch timeout := net.Error(nil); {
	case e.Kind == NotSent && isNet && opErr.Op == "dial" && !opErr.Timeout():
		e.Text = "cannot connect: " + opErr.Err.Error()
		if errno, ok := errors.AsType[syscall.Errno](err); ok {
			e.Text = "cannot connect: " + errno.Error()
		}
		e.Next = "Check that the server runs and that the address is right."
	case isNet && opErr.Op == "dial":
		e.Text = "nothing answers at that address within the time allowed"
		e.Next = "Check the address, the network and the server."
	case errors.Is(err, context.DeadlineExceeded), errors.As(err, &timeout) && timeout.Timeout():
		e.Text = "no answer within the time allowed"
		e.Next = "Something takes the connection there and then says nothing; look at the server itself."
	case errors.Is(err, context.Canceled):
		e.Text = "given up before the server answered"
	case e.Kind == Unknown:
		e.Text = "the connection was lost before the server answered: " + err.Error()
	}
	return e
}
