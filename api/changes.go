package api

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"example.com/genarch/api/wire"
	"example.com/genarch/core/change"
	"example.com/genarch/core/policy"
	"example.com/genarch/core/record"
	"example.com/genarch/core/secret"
	"example.com/genarch/engine"
)

// ChangePath is the number of a change in an address.
type ChangePath struct {
	ID uint64 `path:"id"`
}

func (h *Handler) registerChanges() {
	register(h, op{method: "POST", path: "/briefs", id: "brief",
		summary: "What an intent would do, without asking for it: nothing is kept", permission: policy.Request},
		h.brief)
	register(h, op{method: "GET", path: "/changes", id: "list-changes", summary: "List changes, the newest first",
		permission: policy.View}, h.listChanges)
	register(h, op{method: "POST", path: "/changes", id: "ask",
		summary:    "Ask for a change: the answer is its brief, nothing on the server is altered",
		permission: policy.Request, status: http.StatusCreated}, h.ask)
	register(h, op{method: "GET", path: "/changes/{id}", id: "show-change",
		summary: "One change with its brief, steps and messages", permission: policy.View}, h.showChange)
	register(h, op{method: "POST", path: "/changes/{id}/run", id: "run-change", summary: "Let a change run",
		permission: policy.Run}, h.runChange)
	register(h, op{method: "POST", path: "/changes/{id}/withdraw", id: "withdraw-change",
		summary: "Withdraw a change that has not begun", permission: policy.Request}, h.withdrawChange)
	register(h, op{method: "POST", path: "/changes/{id}/stop", id: "stop-change",
		summary: "Stop a running change, and have what it did rolled back", permission: policy.Run}, h.stopChange)
	register(h, op{method: "POST", path: "/changes/{id}/submit", id: "submit-change",
		summary: "Ask others to let a change run: it waits for them", permission: policy.Request}, h.submitChange)
	register(h, op{method: "POST", path: "/changes/{id}/decline", id: "decline-change",
		summary: "End a change that waits, with the reason", permission: policy.Run}, h.declineChange)
	register(h, op{method: "POST", path: "/changes/{id}/passwords", id: "reveal-passwords",
		summary:    "The handover sheet with the generated passwords: once, for who asked for the change",
		permission: policy.Request}, h.revealPasswords)
	script := h.describe(op{method: "GET", path: "/changes/{id}/script", id: "show-script",
		summary: "The statements of a change, as a script to keep", permission: policy.View})
	script.Responses = map[string]*huma.Response{
		"200": {
			Description: "The statements, in the form of the engine's own client: its media type is another one where that is no SQL.",
			Content:     map[string]*huma.MediaType{"application/sql": {Schema: &huma.Schema{Type: huma.TypeString}}},
		},
	}
	huma.Register(h.api, script, h.showScript)
}

func (h *Handler) brief(ctx context.Context, in *struct{ Body wire.Intent }) (*body[wire.Brief], error) {
	intent, _, err := h.intentOf(ctx, in.Body)
	if err != nil {
		return nil, err
	}
	if err := intent.Check(); err != nil {
		return nil, err
	}
	b, err := h.Changes.Brief(ctx, intent)
	if err != nil {
		return nil, h.noServer(ctx, intent.Server, err)
	}
	c := change.Change{Brief: b}
	c.Prepare()
	return answer(renderBrief(c)), nil
}

type made struct {
	Location string `header:"Location"`
	Body     wire.Change
}

func (h *Handler) ask(ctx context.Context, in *struct {
	Key  string `header:"Idempotency-Key" maxLength:"200" doc:"The same key gives the same change again, instead of a second one."`
	Body wire.Intent
}) (*made, error) {
	intent, given, err := h.intentOf(ctx, in.Body)
	if err != nil {
		return nil, err
	}
	if intent.Kind == change.MarkServer && !from(ctx).May(policy.Admin) {
		return nil, forbidden(from(ctx), policy.Admin)
	}
	c, err := h.Changes.Draft(ctx, from(ctx).Name, in.Key, intent, given)
	if err != nil {
		return nil, h.noServer(ctx, intent.Server, err)
	}
	out, err := h.withKept(ctx, c)
	return &made{fmt.Sprintf("%s/changes/%d", prefix, c.ID), out}, err
}

// Period is a time in a query.
type Period struct {
	Since time.Time `query:"since" doc:"Not before this time."`
	Until time.Time `query:"until" doc:"Before this time."`
}

func (h *Handler) listChanges(ctx context.Context, in *struct {
	Server   string `query:"server" maxLength:"40"`
	Target   string `query:"target" maxLength:"1000" doc:"The address of what they are about."`
	State    string `query:"state" enum:"draft,waiting,ready,running,done,reverted,stuck,declined,withdrawn,expired"`
	Operator string `query:"operator" maxLength:"64" doc:"Who asked for them or let them run."`
	Kind     string `query:"kind" maxLength:"40" doc:"Of an intent: database.drop."`
	Period
	Before uint64 `query:"before" doc:"Read on: changes with a smaller number."`
	Limit  int    `query:"limit" minimum:"1" maximum:"500" default:"100"`
}) (*body[wire.ChangeList], error) {
	list, err := h.Records.Changes(ctx,
		change.Filter{Server: in.Server, Target: in.Target, State: change.State(in.State), Operator: in.Operator,
			Kind: change.Kind(in.Kind), Since: in.Since, Until: in.Until, Before: in.Before, Limit: in.Limit + 1})
	if err != nil {
		return nil, err
	}
	out := wire.ChangeList{}
	if len(list) > in.Limit {
		list = list[:in.Limit]
		out.Next = list[in.Limit-1].ID
	}
	out.Changes = each(list, renderChangeLine)
	return answer(out), nil
}

func (h *Handler) change(ctx context.Context, id uint64) (change.Change, error) {
	c, err := h.Records.Change(ctx, id)
	if errors.Is(err, record.ErrNotFound) {
		err = noChange(id)
	}
	if live, ok := h.Changes.Live(id); ok && err == nil && c.State == change.Running {
		live.StopBy = c.StopBy
		return live, nil
	}
	return c, err
}

func noChange(id uint64) *Problem {
	return &Problem{Status: http.StatusNotFound, Code: "not_found", Detail: fmt.Sprintf("There is no change %d.", id),
		Next: "List them.", Actions: do("change.list", "")}
}

func (h *Handler) showChange(ctx context.Context, in *ChangePath) (*body[wire.Change], error) {
	c, err := h.change(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	out, err := h.withKept(ctx, c)
	return answer(out), err
}

// withKept adds whose passwords can still be shown.
func (h *Handler) withKept(ctx context.Context, c change.Change) (wire.Change, error) {
	out := renderChange(c)
	if len(c.Intent.Secrets()) == 0 || c.State != change.Done {
		return out, nil
	}
	kept, err := h.Records.Kept(ctx, c.ID)
	out.PendingPasswords = orEmpty(kept)
	return out, err
}

func (h *Handler) runChange(ctx context.Context, in *struct {
	ChangePath
	Body wire.Run
}) (*body[wire.Change], error) {
	if who := from(ctx); !who.May(policy.Admin) {
		c, err := h.change(ctx, in.ID)
		if err != nil {
			return nil, err
		}
		if c.Intent.Kind == change.MarkServer {
			return nil, forbidden(who, policy.Admin)
		}
	}
	c, err := h.Changes.Run(ctx, from(ctx).Name, in.ID,
		change.Decision{Fingerprint: in.Body.Fingerprint, Accepted: in.Body.Accept, Confirm: in.Body.Confirm})
	if errors.Is(err, record.ErrNotFound) {
		return nil, noChange(in.ID)
	}
	if err != nil {
		return nil, err
	}
	if in.Body.Wait > 0 {
		ctx, cancel := context.WithTimeout(ctx, time.Duration(in.Body.Wait)*time.Second)
		defer cancel()
		if c, err = h.Changes.Wait(ctx, in.ID); err != nil {
			return nil, err
		}
	}
	out, err := h.withKept(ctx, c)
	return answer(out), err
}

// submitChange hands a change over to those who may run it.
func (h *Handler) submitChange(ctx context.Context, in *ChangePath) (*body[wire.Change], error) {
	c, err := h.change(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	if who := from(ctx); c.Operator != who.Name {
		return nil, &Problem{Status: http.StatusForbidden, Code: "change.not_yours",
			Detail: fmt.Sprintf("Change %d was asked for by %s.", c.ID, c.Operator), Next: "Ask for it yourself."}
	}
	c, err = h.Changes.Submit(ctx, from(ctx).Name, in.ID)
	return answer(renderChange(c)), err
}

func (h *Handler) declineChange(ctx context.Context, in *struct {
	ChangePath
	Body wire.Decline
}) (*body[wire.Change], error) {
	c, err := h.Changes.Decline(ctx, from(ctx).Name, in.ID, in.Body.Reason)
	if errors.Is(err, record.ErrNotFound) {
		return nil, noChange(in.ID)
	}
	return answer(renderChange(c)), err
}

func (h *Handler) withdrawChange(ctx context.Context, in *ChangePath) (*body[wire.Change], error) {
	who := from(ctx)
	c, err := h.change(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	if c.Operator != who.Name && !who.May(policy.Run) {
		return nil, forbidden(who, policy.Run)
	}
	c, err = h.Changes.Withdraw(ctx, who.Name, in.ID)
	return answer(renderChange(c)), err
}

func (h *Handler) stopChange(ctx context.Context, in *struct {
	ChangePath
	Body wire.Stop
}) (*body[wire.Change], error) {
	c, err := h.Changes.Stop(ctx, from(ctx).Name, in.ID)
	if errors.Is(err, record.ErrNotFound) {
		return nil, noChange(in.ID)
	}
	if err == nil && in.Body.Wait > 0 {
		ctx, cancel := context.WithTimeout(ctx, time.Duration(in.Body.Wait)*time.Second)
		defer cancel()
		c, err = h.Changes.Wait(ctx, in.ID)
	}
	return answer(renderChange(c)), err
}

type scriptAnswer struct {
	ContentType string `header:"Content-Type"`
	Body        []byte
}

// showScript writes the statements one after the other, ready to be run by the
// engine's own client, with what they are and what they were made from.
func (h *Handler) showScript(ctx context.Context, in *ChangePath) (*scriptAnswer, error) {
	c, err := h.change(ctx, in.ID)
	if err != nil {
		return nil, h.problem(ctx, err)
	}
	eng, err := h.Fleet.Engine(c.Brief.Engine)
	if err != nil {
		return nil, err
	}
	form := eng.Describe().Script
	return &scriptAnswer{form.Media + "; charset=utf-8", []byte(scriptOf(c, form))}, nil
}

// scriptOf writes the statements of a change as a file for the engine's own client.
func scriptOf(c change.Change, form engine.Script) string {
	var b strings.Builder
	comment := func(format string, args ...any) {
		b.WriteString(form.Comment + fmt.Sprintf(format, args...) + "\n")
	}
	comment("Genarch change %d: %s", c.ID, oneLine(c.Brief.Summary))
	comment("%s, %s, read %s", c.Brief.Engine, oneLine(c.Brief.Identity), c.Brief.Read.UTC().Format(time.RFC3339))
	if form.Head != "" && len(c.Brief.Steps) > 0 {
		b.WriteString("\n" + form.Head)
	}
	for _, s := range c.Brief.Steps {
		if s.Statement == "" {
			continue
		}
		b.WriteString("\n")
		comment("%s", oneLine(s.Title))
		switch {
		case len(s.SecretsNeeded()) > 0:
			// The mask would be taken for the password.
			comment(
				"Not run: it needs a password, and none is kept. Put it in place of '%s', and take the comment marks away:",
				secret.Mask,
			)
			for line := range strings.SplitSeq(strings.ReplaceAll(s.Statement, "\r", " ")+form.End, "\n") {
				comment("  %s", line)
			}
		case s.Clear != nil:
			comment("for each session: %s", oneLine(s.Statement))
		default:
			if name := s.Args["database"]; name != "" && form.Connect != nil {
				b.WriteString(form.Connect(name))
			}
			b.WriteString(s.Statement + form.End + "\n")
		}
	}
	if len(c.Brief.Statements()) == 0 {
		b.WriteString("\n")
		comment("nothing would run")
	}
	return b.String()
}

// oneLine keeps a name with a newline from ending a comment.
func oneLine(text string) string { return strings.NewReplacer("\n", " ", "\r", " ").Replace(text) }
