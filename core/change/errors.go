package change

import (
	"errors"
	"fmt"
)

// The errors of deciding on a change.
var (
	// ErrStopped: the brief has a stop finding.
	ErrStopped = errors.New("the change cannot run: its brief has findings that stop it")
	// ErrExpired: the draft is too old.
	ErrExpired = errors.New("the draft has expired: ask again")
	// ErrKeyReused: an idempotency key that stood for another request.
	ErrKeyReused = errors.New("this idempotency key was used for another request")
	// ErrClosing: the service is stopping.
	ErrClosing = errors.New("the service is stopping; the change stays as it is, run it when the service is back")
	// ErrTooLate: a running change has done what cannot be rolled back.
	ErrTooLate = errors.New("it is too late to stop it: what runs now cannot be rolled back, so it goes on to its end")
	// ErrFull: too many changes run at once.
	ErrFull = errors.New("too many changes run at this moment; try again when one has ended")
)

// Unaccepted: cautions that were not accepted.
type Unaccepted struct{ Codes []string }

// Error names the codes.
func (u *Unaccepted) Error() string {
	return fmt.Sprintf("cautions have to be accepted by name: %v", u.Codes)
}

// Unconfirmed: what is final is confirmed by typing the name.
type Unconfirmed struct{ Name string }

// Error names what is to be typed.
func (u *Unconfirmed) Error() string {
	return fmt.Sprintf("this is final; it is confirmed by its name: %s", u.Name)
}

// NotYours: passwords are shown to the operator who asked for the change.
type NotYours struct {
	Change   uint64
	Operator string
}

// Error names whose change it is.
func (n *NotYours) Error() string {
	return fmt.Sprintf("the passwords of change %d are for %s, who asked for it", n.Change, n.Operator)
}

// Outdated: what the brief was made from is not so any more. The change has the
// new brief now and can be decided on again.
type Outdated struct {
	Change      Change
	Differences []string
}

// Error says that something changed.
func (o *Outdated) Error() string {
	return fmt.Sprintf("the server is not as it was when this was decided: %v", o.Differences)
}
