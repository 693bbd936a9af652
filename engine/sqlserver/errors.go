package sqlserver

import (
	"database/sql/driver"
	"errors"
	"strconv"
	"strings"

	mssql "github.com/microsoft/go-mssqldb"

	"example.com/genarch/core/remedy"
	"example.com/genarch/engine"
)

// wrap turns a driver's error into an [*engine.Error]. The server sends several for one statement,
// of which the first says what happened, and the last only that the statement failed.
func wrap(op string, err error) error {
	if err == nil {
		return nil
	}
	if e, ok := engine.Wrapped(err); ok {
		return e
	}
	if me, ok := errors.AsType[mssql.Error](err); ok {
		if len(me.All) > 0 {
			me = me.All[0]
		}
		e := &engine.Error{Op: op, Kind: engine.Refused, Code: strconv.Itoa(int(me.Number)), Text: me.Message, Err: err,
			Next: next(me.Number), Actions: actions(me.Number), Passing: passing(me.Number)}
		switch {
		case me.Class >= 20: // the line is cut
			e.Kind = engine.Unknown
		case signIn(me.Number):
			e.Kind = engine.NotSent
		}
		return e
	}
	e := engine.Classify(op, err, !errors.Is(err, driver.ErrBadConn))
	switch said := err.Error(); {
	case strings.Contains(said, "TLS Handshake "+
		"failed"), strings.Contains(said, "tls:"), strings.Contains(said, "x509:"),
		strings.Contains(said, "encryption"):
		e.Kind, e.Text = engine.NotSent, "the server does not speak TLS, or its certificate is not accepted: "+said
		e.Next = "Set the TLS mode: required or verified."
		e.Actions = []remedy.Action{remedy.Command("server.edit", "").With("tls", "")}
	case strings.HasPrefix(said, "unable to open tcp connection"):
		e.Kind, e.Next = engine.NotSent, "Check that the server runs and that the address is right."
		if !strings.Contains(e.Text, "no answer") {
			e.Text = "cannot connect: " + said[strings.LastIndex(said, ": ")+2:]
		}
	}
	return e
}

// signIn reports whether an error is of signing in, before anything could be sent.
func signIn(number int32) bool {
	switch number {
	case 18456, 18470, 18486, 18487, 18488, 18452, 4060, 4064, 17809, 17892:
		return true
	}
	return false
}

// passing: a lock (1222), a deadlock (1205), the database model in use (1807), somebody in the
// database (5030, 5070, 3702, 5064, 924), a full server (17809).
func passing(number int32) bool {
	switch number {
	case 1205, 1222, 1807, 3702, 5030, 5061, 5064, 5070, 924, 17809:
		return true
	}
	return false
}

// next says what to do about an error.
func next(number int32) string {
	switch number {
	case 18456:
		return "Check the login and its password; the server's own log tells more than it says here."
	case 18470:
		return "The login is disabled: enable it on the server."
	case 18486, 18487, 18488:
		return "The login is locked out, or its password has expired: look at it on the server."
	case 4060, 4064:
		return "The login may not use that database, or it is not there."
	case 262, 15247, 300, 297, 229, 5011:
		return "The login lacks a right for this; a check of the server tells which, and the statement that grants it."
	case 1801:
		return "Somebody made a database of this name a moment ago: look at it, or choose another name."
	case 1807:
		return "Somebody uses the database model, which each new one is a copy of: look at the sessions, then try " +
			"again."
	case 5170:
		return "A file of that name lies on the server already: choose another path."
	case 5133, 5123:
		return "The server cannot write there: choose another folder."
	case 1105, 1101, 9002:
		return "The disk of the server, or the log, is full."
	case 3702, 5030, 5064, 5070, 924:
		return "Somebody is in the database: look at the sessions, then try again."
	case 1222, 1205:
		return "Something holds a lock there: look at the sessions, then try again."
	}
	return ""
}

// actions are ways to do what next says.
func actions(number int32) []remedy.Action {
	switch number {
	case 18456:
		return []remedy.Action{remedy.Command("server.edit", "").With("admin", "")}
	case 262, 15247, 300, 297, 229, 5011:
		return []remedy.Action{remedy.Command("server.check", "")}
	case 3702, 5030, 5064, 5070, 924, 1222, 1205, 1807:
		return []remedy.Action{remedy.Command("session.list", "").With("tree", remedy.Yes)}
	}
	return nil
}
