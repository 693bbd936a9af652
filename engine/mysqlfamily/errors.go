package mysqlfamily

import (
	"database/sql/driver"
	"errors"
	"strconv"
	"strings"

	"github.com/go-sql-driver/mysql"

	"example.com/genarch/core/remedy"
	"example.com/genarch/engine"
)

// wrap turns a driver's error into an [*engine.Error], keeping the number. The
// number is read together with the operation: one number can mean two things.
func wrap(op string, err error) error {
	if err == nil {
		return nil
	}
	if e, ok := engine.Wrapped(err); ok {
		return e
	}
	if me, ok := errors.AsType[*mysql.MySQLError](err); ok {
		e := &engine.Error{Op: op, Kind: engine.Refused, Code: strconv.Itoa(int(me.Number)), Text: me.Message, Err: err,
			Next: next(op, me.Number), Actions: actions(me.Number)}
		switch me.Number {
		case 1180, 1317, 1969, 1927:
			// Cut off in the middle: on MariaDB that does not mean that
			// nothing happened.
			e.Kind = engine.Unknown
		case 1040, 1045, 1226, 4151, 1129, 1130, 1203, 1524, 1862, 3032, 3118, 3159, 3955:
			e.Kind = engine.NotSent
		}
		e.Passing = passing(me.Number)
		return e
	}
	e := engine.Classify(op, err, !errors.Is(err, driver.ErrBadConn))
	if errors.Is(err, mysql.ErrNoTLS) || strings.Contains(err.Error(), "tls:") ||
		strings.Contains(err.Error(), "x509:") {
		e.Kind, e.Text = engine.NotSent, "the server does not speak TLS, or its certificate is not accepted: "+
			err.Error()
		e.Next = "Set the TLS mode: off, required or verified."
		e.Actions = []remedy.Action{remedy.Command("server.edit", "").With("tls", "")}
	}
	return e
}

// passing: a lock (1205), a deadlock or conflict (1213, 1020), a full server.
func passing(number uint16) bool {
	switch number {
	case 1205, 1213, 1020, 1040, 1203, 1226:
		return true
	}
	return false
}

// next says what to do about an error.
func next(op string, number uint16) string {
	switch number {
	case 1045, 1698:
		return "Check the login and its password."
	case 1130:
		return "The server lets no login in from this host: create the account for it."
	case 1007:
		return "Somebody made a database of this name a moment ago: look at it, or choose another name."
	case 1044, 1142, 1227, 1410:
		return "The login lacks a right for this; a check of the server tells which, and the statement that grants it."
	case 1040:
		return "The server is full: wait, or raise its max_connections."
	case 1205:
		return "Something holds a lock there: look at the sessions, then try again."
	case 3955:
		return "It is blocked for a time after too many failed sign-ins: wait, or unlock it."
	case 1290:
		return "The server was started with an option that forbids it (read_only?)."
	case 3989:
		return "Somebody made the database read only: make it writable first, if it is not so on purpose."
	case 1021:
		return "The server's disk is full."
	case 1133, 1396:
		if strings.Contains(op, "grant") {
			return "The account is not there (any more)."
		}
	}
	return ""
}

// actions are ways to do what next says.
func actions(number uint16) []remedy.Action {
	switch number {
	case 1045, 1698:
		return []remedy.Action{remedy.Command("server.edit", "").With("admin", "")}
	case 1044, 1142, 1227, 1410:
		return []remedy.Action{remedy.Command("server.check", "")}
	case 1205:
		return []remedy.Action{remedy.Command("session.list", "").With("tree", remedy.Yes)}
	}
	return nil
}
