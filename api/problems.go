package api

import (
	"context"
	"encoding/json"
	"errors"
	"net/http"
	"reflect"
	"strings"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gin-gonic/gin"

	"example.com/genarch/api/wire"
	"example.com/genarch/core/change"
	"example.com/genarch/core/record"
	"example.com/genarch/core/remedy"
	"example.com/genarch/engine"
)

// Problem is an error as the API answers it.
type Problem wire.Problem

// Error is the problem's text.
func (p *Problem) Error() string { return p.Detail }

// GetStatus is the HTTP status, for huma.
func (p *Problem) GetStatus() int { return p.Status }

// ContentType names the standard's media type, for huma.
func (p *Problem) ContentType(string) string { return "application/problem+json" }

// Schema describes a problem by its wire type, for huma.
func (p *Problem) Schema(r huma.Registry) *huma.Schema {
	return r.Schema(reflect.TypeFor[wire.Problem](), true, "")
}

// newError makes huma's own errors problems. The offending value is left out:
// for an unexpected field that would be the whole body, passwords included.
func newError(status int, text string, errs ...error) huma.StatusError {
	p := &Problem{Status: status, Title: http.StatusText(status), Detail: text, Code: "request.invalid"}
	switch status {
	case http.StatusRequestEntityTooLarge:
		p.Code = "request.too_large"
	case http.StatusUnsupportedMediaType:
		p.Code = "request.media_type"
	case http.StatusInternalServerError:
		p.Code = "internal"
	}
	for _, err := range errs {
		if d, ok := err.(huma.ErrorDetailer); ok {
			detail := d.ErrorDetail()
			p.Errors = append(p.Errors, wire.ProblemDetail{Location: detail.Location, Message: detail.Message})
		}
	}
	if len(p.Errors) > 0 {
		var texts []string
		for _, e := range p.Errors {
			texts = append(texts, strings.TrimSpace(e.Location+": "+e.Message))
		}
		p.Detail = "the request does not fit: " + strings.Join(texts, "; ")
	}
	return p
}

// optionProblem tells of every option that the engine does not take, and what to do
// about each.
func optionProblem(err error, p *Problem) bool {
	wrong := optionErrors(err)
	if len(wrong) == 0 {
		return false
	}
	var texts []string
	for _, e := range wrong {
		texts = append(texts, e.Text)
		p.Errors = append(p.Errors, wire.ProblemDetail{Location: optionPlace(e), Message: e.Text, Next: e.Next})
		if p.Next == "" {
			p.Next, p.Actions = e.Next, renderActions(e.Actions)
		}
	}
	p.Status, p.Code, p.Detail = http.StatusUnprocessableEntity, "option.invalid", strings.Join(texts, "; ")
	return true
}

// optionPlace is where in the body an option stands.
func optionPlace(e *engine.OptionError) string {
	if e.Part == engine.PartServer {
		return "body.options." + e.Option
	}
	return "body." + string(e.Part) + ".options." + e.Option
}

// optionErrors lists those among the errors that were joined into one.
func optionErrors(err error) []*engine.OptionError {
	if e, ok := err.(*engine.OptionError); ok {
		return []*engine.OptionError{e}
	}
	var out []*engine.OptionError
	switch x := err.(type) {
	case interface{ Unwrap() []error }:
		for _, e := range x.Unwrap() {
			out = append(out, optionErrors(e)...)
		}
	case interface{ Unwrap() error }:
		out = optionErrors(x.Unwrap())
	}
	return out
}

// do is a command as the way to do something about a problem.
func do(command, at string) []wire.Action { return []wire.Action{{Do: command, At: at}} }

func renderActions(list []remedy.Action) []wire.Action {
	var out []wire.Action
	for _, a := range list {
		out = append(out, wire.Action(a))
	}
	return out
}

func writeProblem(c *gin.Context, p *Problem) {
	p.Title = http.StatusText(p.Status)
	text, err := json.Marshal(p)
	if err != nil {
		text = []byte(`{"status":500,"code":"internal"}`)
	}
	c.Data(p.Status, "application/problem+json", text)
	c.Abort()
}

// problem turns any error into what the API answers. What it does not know is
// an internal error: its text goes to the log, not to the caller.
func (h *Handler) problem(ctx context.Context, err error) *Problem {
	if p, ok := errors.AsType[*Problem](err); ok {
		return titled(p)
	}
	p := &Problem{Detail: err.Error()}
	set := func(status int, code, next string) {
		p.Status, p.Code = status, code
		if p.Next == "" {
			p.Next = next
		}
	}
	if h.engineProblem(err, p) || changeProblem(err, p) || optionProblem(err, p) {
		return titled(p)
	}
	switch {
	case errors.Is(err, engine.ErrNotFound):
		set(http.StatusNotFound, "not_found", "List what is there; names are compared letter by letter.")
	case errors.Is(err, record.ErrNotFound):
		set(http.StatusNotFound, "not_found", "")
	case errors.Is(err, record.ErrExists):
		set(http.StatusConflict, "exists", "Choose another name.")
	case errors.Is(err, record.ErrStale):
		set(http.StatusConflict, "stale", "Read it again and repeat what you did.")
	case errors.Is(err, record.ErrUnavailable):
		h.Log.ErrorContext(ctx, "the store is away", "error", err)
		p.Detail = record.ErrUnavailable.Error()
		if errors.Is(err, record.ErrFull) {
			p.Detail = record.ErrFull.Error()
		}
		set(http.StatusServiceUnavailable, "store.unavailable", "Try again in a moment.")
	case errors.Is(err, record.ErrSealed):
		set(http.StatusConflict, "secret.sealed", "")
	case errors.Is(err, record.ErrSecretNeeded):
		set(http.StatusUnprocessableEntity, "secret.needed", "Give the password of the login too.")
		p.Actions = []wire.Action{{Option: "secret"}}
	case errors.Is(err, record.ErrInvalid), errors.Is(err, change.ErrIntent):
		p.Detail = strings.ReplaceAll(p.Detail, "\n", ": ")
		set(http.StatusUnprocessableEntity, "request.invalid", "")
	case errors.Is(err, context.DeadlineExceeded):
		set(http.StatusGatewayTimeout, "timeout", "Try again; if it lasts, look at the server.")
	case errors.Is(err, context.Canceled):
		set(499, "cancelled", "")
	default:
		h.Log.ErrorContext(ctx, "internal error", "error", err)
		p.Detail = "something went wrong inside Genarch; its log says what"
		set(http.StatusInternalServerError, "internal", "Look at the service's log.")
	}
	return titled(p)
}

func titled(p *Problem) *Problem {
	if p.Title = http.StatusText(p.Status); p.Title == "" {
		p.Title = "Problem"
	}
	return p
}

// engineProblem renders what a database server answered, or did not.
func (h *Handler) engineProblem(err error, p *Problem) bool {
	if e, ok := errors.AsType[*engine.IdentityError](err); ok {
		p.Status, p.Code = http.StatusConflict, "identity.changed"
		p.Next = "Find out which one is right; if it is the new one, accept it."
		p.Actions = do("server.accept", e.Server)
		known, found := wire.Identity(e.Known), wire.Identity(e.Found)
		p.Known, p.Found = &known, &found
		return true
	}
	if e, ok := errors.AsType[*engine.Error](err); ok {
		f := engine.Failure(e)
		p.Status, p.Code, p.EngineCode = http.StatusBadGateway, "server."+string(e.Kind), e.Code
		p.Detail, p.Next, p.Actions = f.Text, f.Next, renderActions(f.Actions)
		return true
	}
	return false
}

// changeProblem renders why a change cannot be made or let run.
func changeProblem(err error, p *Problem) bool {
	if e, ok := errors.AsType[*record.Busy](err); ok {
		p.Status, p.Code, p.Next = http.StatusConflict, "target.busy", "Wait until that change has ended, then look again."
		p.Detail = e.Error()
		return true
	}
	if e, ok := errors.AsType[*change.Unaccepted](err); ok {
		p.Status, p.Code, p.Cautions, p.Next = http.StatusConflict, "cautions.open", e.Codes, "Read each of them, and accept it by its code."
		return true
	}
	if e, ok := errors.AsType[*change.Unconfirmed](err); ok {
		p.Status, p.Code, p.Next = http.StatusConflict, "confirm.missing", "Type the name."
		p.Actions = []wire.Action{{Option: "confirm", Value: e.Name}}
		p.Detail = e.Error()
		return true
	}
	if e, ok := errors.AsType[*change.Outdated](err); ok {
		c := renderChange(e.Change)
		p.Status, p.Code, p.Differences, p.Change = http.StatusConflict, "brief.outdated", e.Differences, &c
		p.Next = "Nothing has run; read the new brief and decide again."
		return true
	}
	if e, ok := errors.AsType[*change.NotYours](err); ok {
		p.Status, p.Code, p.Next = http.StatusForbidden, "passwords.not_yours", "Have them show it, or set another password."
		p.Detail = e.Error()
		return true
	}
	for _, k := range []struct {
		err    error
		status int
		code   string
		next   string
	}{
		{change.ErrStopped, http.StatusConflict, "brief.stopped", "Put right what the findings say, then ask again."},
		{change.ErrExpired, http.StatusConflict, "change.expired", "Ask for it again."},
		{change.ErrState, http.StatusConflict, "change.state",
			"Look at the change as it is now; to do it once more, create a new change."},
		{change.ErrTooLate, http.StatusConflict, "change.too_late", "Wait for its end."},
		{change.ErrKeyReused, http.StatusConflict, "idempotency.reused", "Use another key for another request."},
		{change.ErrClosing, http.StatusServiceUnavailable, "closing", "Try again in a moment."},
		{change.ErrFull, http.StatusServiceUnavailable, "full", "Try again in a moment."},
	} {
		if errors.Is(err, k.err) {
			p.Status, p.Code, p.Next = k.status, k.code, k.next
			return true
		}
	}
	return false
}
