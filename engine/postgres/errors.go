package postgres

import (
	"crypto/tls"
	"errors"
	"strings"

	"github.com/jackc/pgx/v5/pgconn"

	"example.com/genarch/core/remedy"
	"example.com/genarch/engine"
)

// wrap turns a driver's error into an [*engine.Error], keeping the SQLSTATE
// and what the server sent beside it.
func wrap(op string, err error) error {
	if err == nil {
		return nil
	}
	if e, ok := engine.Wrapped(err); ok {
		return e
	}
	connecting, isConnect := errors.AsType[*pgconn.ConnectError](err)
	if pe, ok := errors.AsType[*pgconn.PgError](err); ok {
		e := &engine.Error{Op: op, Kind: engine.Refused, Code: pe.Code, Text: pe.Message, Detail: pe.Detail,
			Hint: pe.Hint, Err: err}
		if isConnect {
			e.Kind = engine.NotSent
		} else if cutOff(pe.Code) {
			// The session was ended from outside while it worked.
			e.Kind = engine.Unknown
		}
		e.Passing = passing(pe.Code)
		e.Next, e.Actions = next(pe.Code), actions(pe.Code)
		return e
	}
	if isConnect {
		e := engine.Classify(op, err, false)
		if strings.Contains(err.Error(), "require_auth") || strings.Contains(err.Error(), "channel binding") ||
			strings.Contains(err.Error(), "SCRAM-SHA-256-PLUS") {
			e.Text = "the server does not sign Genarch in by SCRAM (scram-sha-256), which gives the password away to nobody; nothing was sent"
			e.Next = "On the server: password_encryption = 'scram-sha-256', set the login's password " +
				"anew, and scram-sha-256 in pg_hba.conf; or let a server that cannot sign Genarch in by a weaker method."
			e.Actions = []remedy.Action{remedy.Command("server.edit", "").With("options.weak_sign_in", remedy.Yes)}
			return e
		}
		// The driver has no type of its own for a server without TLS.
		_, badCertificate := errors.AsType[*tls.CertificateVerificationError](err)
		if badCertificate || strings.Contains(connecting.Error(), "tls error") {
			e.Text = "the server does not speak TLS, or its certificate is not accepted: " + lastLine(connecting)
			e.Next = "Set the TLS mode: off, required or verified."
			e.Actions = []remedy.Action{remedy.Command("server.edit", "").With("tls", "")}
		} else if e.Text == "" {
			e.Text = lastLine(connecting)
		}
		return e
	}
	return engine.Classify(op, err, !pgconn.SafeToRetry(err))
}

// lastLine is the innermost cause of a failed connection: the driver's own text
// repeats the whole configuration in front of it.
func lastLine(err error) string {
	for {
		inner := errors.Unwrap(err)
		if inner == nil {
			return err.Error()
		}
		err = inner
	}
}

// passing: a conflict with a statement of somebody else (XX000 is how PostgreSQL
// says that a row of its catalogue was altered meanwhile, 40001 and 40P01 are
// conflicts of transactions), a lock, somebody who is there, a full server.
func passing(code string) bool {
	switch code {
	case "XX000", "40001", "40P01", "55P03", "55006", "57014", "53300":
		return true
	}
	return false
}

// cutOff: the server ended the session, by command, crash or shutdown.
func cutOff(code string) bool { return strings.HasPrefix(code, "57P0") }

// next says what to do about an error, by its code (and, where one code means
// two things, in words that fit both).
func next(code string) string {
	switch code {
	case "28P01", "28000":
		return "Check the login and its password."
	case "42P04":
		return "Somebody made a database of this name a moment ago: look at it, or choose another name."
	case "42501":
		return "The login lacks a right for this; a check of the server tells which, and the statement that grants it."
	case "53300":
		return "The server is full: wait, or raise its max_connections."
	case "55006":
		return "Somebody is connected to it; wait until they have left."
	case "3D000":
		return "There is no database of this name (any more)."
	case "55P03":
		return "Something holds a lock there: look who blocks whom."
	case "25006":
		return "The server is a standby or set to read only: go to the primary."
	case "53100":
		return "The server's disk is full."
	}
	return ""
}

// actions are ways to do what next says.
func actions(code string) []remedy.Action {
	switch code {
	case "28P01", "28000":
		return []remedy.Action{remedy.Command("server.edit", "").With("admin", "")}
	case "42501":
		return []remedy.Action{remedy.Command("server.check", "")}
	case "55P03":
		return []remedy.Action{remedy.Command("session.list", "").With("tree", remedy.Yes)}
	}
	return nil
}
