package api

import (
	"strings"
	"time"

	"example.com/genarch/api/wire"
	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/clearing"
	"example.com/genarch/core/naming"
	"example.com/genarch/core/policy"
	"example.com/genarch/core/record"
)

// each renders a list; an empty one is [], never null.
func each[T, W any](list []T, f func(T) W) []W {
	out := make([]W, len(list))
	for i, v := range list {
		out[i] = f(v)
	}
	return out
}

// orEmpty gives [] for null.
func orEmpty[T any](list []T) []T {
	if list == nil {
		return []T{}
	}
	return list
}

func optional(t time.Time) *time.Time {
	if t.IsZero() {
		return nil
	}
	return &t
}

func (h *Handler) renderServer(s catalog.Server) wire.Server {
	labels := s.Labels
	if labels == nil {
		labels = map[string]string{}
	}
	return wire.Server{Name: s.Name, Engine: string(s.Engine), Host: s.Host, Port: s.Port, Admin: s.Admin,
		Options: orNone(s.Options), Clients: each(s.Clients, func(a string) string { return a }),
		Environment: string(s.Environment), Labels: labels, TLS: string(s.TLS),
		Cautions: append(s.Cautions(), h.engineOf(s).Careful(s)...), NameRule: wire.NameRule(s.NameRule),
		Keeping:  wire.Keeping(s.Keeping),
		Identity: wire.Identity(s.Identity), Version: s.Version, Created: s.Created, Updated: s.Updated}
}

func renderStatus(in catalog.Instance) *wire.Status {
	id := wire.Identity(in.Identity)
	return &wire.Status{Reachable: true, Version: in.Version, Identity: &id, ReadOnly: in.ReadOnly, Started: in.Started,
		Sessions: in.Sessions.Open, Allowed: in.Sessions.Allowed, Encoding: in.Encoding, Collation: in.Collation,
		Encrypted: in.TLS,
		Login:     in.Login.Name, Abilities: each(in.Login.Abilities,
			func(a catalog.Ability) wire.Ability { return wire.Ability(a) }), Read: in.Read}
}

func renderDatabase(server string, d catalog.Database) wire.Database {
	return wire.Database{Name: d.Name, Address: naming.DatabaseAddress(server, d.Name).String(), Owner: d.Owner,
		Encoding: d.Encoding, Collation: d.Collation, Comment: d.Comment, Closed: d.Closed, Broken: d.Broken,
		System: d.System, Trouble: d.Trouble,
		Properties: orNone(d.Properties), Size: d.Size, Tables: d.Tables, TablesRead: optional(d.TablesAt),
		Sessions: d.Sessions}
}

// orNone makes no properties an empty object.
func orNone(v catalog.Values) map[string]any {
	if v == nil {
		return map[string]any{}
	}
	return v
}

func renderChoices(s catalog.Server, c catalog.Choices) wire.Choices {
	out := wire.Choices{Server: s.Name, Engine: string(s.Engine), Choices: map[string][]wire.Choice{}}
	for key, list := range c {
		out.Choices[key] = each(list, func(c catalog.Choice) wire.Choice {
			return wire.Choice{Name: c.Name, Title: c.Title, Default: c.Default, For: c.For, Why: c.Why,
				Properties: c.Properties}
		})
	}
	return out
}

func renderBrief(c change.Change) wire.Brief {
	b := c.Brief
	return wire.Brief{Target: b.Target, Engine: string(b.Engine), Environment: string(b.Environment),
		Identity: b.Identity,
		Summary:  b.Summary, Outcome: string(b.Outcome), Stopped: b.Stopped(), Read: b.Read, Fingerprint: b.Fingerprint,
		Confirm:  b.Confirm,
		Settings: each(b.Settings, func(s change.Setting) wire.Setting { return wire.Setting(s) }),
		Findings: each(b.Findings, renderFinding),
		Affected: each(b.Affected, renderAffected(serverOf(b.Target))), AffectedAll: b.AffectedCount,
		Impact:      renderImpact(b),
		Differences: each(b.Differences, func(d change.Difference) wire.Difference { return wire.Difference(d) }),
		Steps:       each(c.Steps, renderStep)}
}

// renderImpact is nil where nothing is lost and nobody is disconnected.
func renderImpact(b change.Brief) *wire.Impact {
	if b.Impact == nil && b.AffectedCount == 0 {
		return nil
	}
	out := &wire.Impact{Objects: []wire.Count{}, Sessions: b.AffectedCount, How: "ended"}
	for _, s := range b.Steps {
		switch {
		case s.Clear == nil:
		case s.Clear.WhenEmpty > 0:
			out.How = "waited"
		case s.Clear.How == catalog.EndStatement:
			out.How = "stopped"
		}
	}
	for _, a := range b.Affected {
		switch a.Class {
		case clearing.Written:
			out.Writing++
		case clearing.Hidden:
			out.Hidden++
		}
	}
	if lost := b.Impact; lost != nil {
		out.Lost, out.Rows, out.Size = true, lost.Rows, lost.Size
		out.Dependents, out.Final = lost.Dependents, lost.Final
		if lost.KeptUntil != nil {
			out.KeptUntil = lost.KeptUntil.Format(time.DateOnly)
		}
		out.Objects = each(lost.Objects, func(c catalog.Count) wire.Count { return wire.Count(c) })
	}
	return out
}

// serverOf is the server's name in an address.
func serverOf(address string) string {
	name, _, _ := strings.Cut(address, "/")
	return name
}

func renderStep(s change.StepRun) wire.Step {
	return wire.Step{Kind: s.Kind, Title: s.Title, Statement: s.Statement, Undo: s.Undo, Restores: s.Restores,
		ReadOnly: s.ReadOnly, Irreversible: s.Irreversible, Status: string(s.Status), Probed: s.Probed,
		Clearing: renderClearing(s.Clearing), Work: (*wire.Work)(s.Work),
		Messages: each(s.Messages, func(m change.Message) wire.Message { return wire.Message(m) }),
		Failure:  renderFailure(s.Failure),
		Begun:    optional(s.Begun), Ended: optional(s.Ended)}
}

func renderChange(c change.Change) wire.Change {
	return wire.Change{ID: c.ID, Kind: string(c.Intent.Kind), Server: c.Intent.Server, Target: c.Brief.Target,
		Asked: renderIntent(c.Intent), State: string(c.State), Ended: c.State.Ended(),
		Operator: c.Operator, RunBy: c.RunBy, StopBy: c.StopBy, Stoppable: c.State == change.Running && c.Stoppable(),
		Result: c.Result, Failure: renderFailure(c.Failure), Accepted: orEmpty(c.Accepted),
		PendingPasswords: []string{},
		Brief:            renderBrief(c), Created: c.Created, Started: optional(c.Started), Finished: optional(c.Ended)}
}

func renderChangeLine(c change.Change) wire.ChangeLine {
	return wire.ChangeLine{ID: c.ID, Kind: string(c.Intent.Kind), Server: c.Intent.Server, Target: c.Brief.Target,
		Environment: string(c.Brief.Environment),
		Summary:     c.Brief.Summary, State: string(c.State), Operator: c.Operator, RunBy: c.RunBy, Result: c.Result,
		Created: c.Created, Started: optional(c.Started), Finished: optional(c.Ended)}
}

func renderOperator(o policy.Operator) wire.Operator {
	return wire.Operator{Name: o.Name,
		Permissions: each(o.Permissions, func(r policy.Permission) string { return string(r) }), Program: o.Program,
		Disabled: o.Disabled, Created: o.Created}
}

func renderToken(t record.Token) wire.Token {
	return wire.Token{ID: t.ID, Operator: t.Operator, Title: t.Title, Created: t.Created,
		Expires: optional(t.Expires), LastUsed: optional(t.LastUsed), Revoked: optional(t.Revoked),
		Login: t.Login, Permissions: t.Permissions, From: t.From}
}

func renderFinding(f change.Finding) wire.Finding {
	return wire.Finding{Code: f.Code, Level: string(f.Level), Text: f.Text, Next: f.Next,
		Actions:    renderActions(f.Actions),
		Option:     f.Option,
		Suggestion: f.Suggestion, Unseen: f.Unseen}
}

func renderFailure(f *change.Failure) *wire.Failure {
	if f == nil {
		return nil
	}
	return &wire.Failure{Kind: f.Kind, Code: f.Code, Text: f.Text, Next: f.Next,
		Actions: renderActions(f.Actions),
		Passing: f.Passing}
}
