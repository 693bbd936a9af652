package api

import (
	"context"
	"time"

	"example.com/genarch/api/wire"
	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/clearing"
	"example.com/genarch/core/naming"
	"example.com/genarch/core/policy"
)

// Watch is what the API needs of the samples that the service keeps.
type Watch interface {
	// History is the last hour's samples of a server, the oldest first, and the
	// time between two.
	History(server string) ([]catalog.Sample, time.Duration)
	// Use is when somebody was last seen in a database or as an account.
	Use(server string, x catalog.Used) catalog.Use
}

func (h *Handler) registerSessions() {
	register(h, op{method: "GET", path: "/servers/{server}/sessions", id: "list-sessions",
		summary: "Who is connected to a server, live, and who blocks whom", permission: policy.View}, h.listSessions)
	register(h, op{method: "GET", path: "/servers/{server}/sessions/history", id: "show-session-history",
		summary: "How many sessions there were in the last hour", permission: policy.View}, h.sessionHistory)
}

func (h *Handler) listSessions(ctx context.Context, in *struct {
	ServerPath
	Database    string `query:"database" maxLength:"400"`
	Account     string `query:"account" maxLength:"800" doc:"A name, or name@host."`
	Application string `query:"application" maxLength:"400"`
	Client      string `query:"client" maxLength:"300" doc:"An address, without a port."`
	Class       string `query:"class" maxLength:"40"`
	IdleLonger  int    `query:"idle_longer" minimum:"0" doc:"Seconds."`
	Older       int    `query:"older" minimum:"0" doc:"Seconds since it, or its transaction, began."`
	All         bool   `query:"all" doc:"The engine's own and Genarch's too."`
	Limit       int    `query:"limit" minimum:"1" maximum:"20000" default:"2000"`
}) (*body[wire.SessionList], error) {
	f := clearing.Filter{Database: in.Database, Account: in.Account, Application: in.Application, Client: in.Client,
		Class: clearing.Class(in.Class), IdleLonger: in.IdleLonger, Older: in.Older}
	if err := f.Check(); err != nil {
		return nil, &Problem{Status: 422, Code: "request.invalid", Detail: err.Error()}
	}
	srv, access, ctx, cancel, err := h.access(ctx, in.Server)
	if err != nil {
		return nil, err
	}
	defer cancel()
	list, err := access.Sessions(ctx, catalog.SessionQuery{})
	if err != nil {
		return nil, err
	}
	if !from(ctx).May(policy.Run) { // the data in other people's statements is for those who may act on them
		for i := range list.Sessions {
			list.Sessions[i].Statement = list.Sessions[i].Shape
		}
	}
	out := wire.SessionList{Server: srv.Name, Engine: string(srv.Engine), Environment: string(srv.Environment),
		All: len(list.Sessions), Allowed: list.Allowed,
		Sessions: make([]wire.ServerSession, 0, min(len(list.Sessions), in.Limit)), Waits: []wire.Wait{},
		Unseen: orEmpty(list.Unseen), Read: list.Read, Prepared: each(list.Prepared, renderPrepared)}
	meant := func(s catalog.Session) bool { return f.Empty() || f.Fits(s, list.Read) }
	for _, w := range clearing.Concerning(clearing.Waits(list.Sessions), meant) {
		out.Waits = append(out.Waits, wire.Wait{Session: renderSession(srv.Name, w.Session,
			clearing.Classify(w.Session)), Depth: w.Depth, Blocks: w.Blocks, Again: w.Again})
	}
	for _, s := range list.Sessions {
		class := clearing.Classify(s)
		if !meant(s) || !in.All && f.Class == "" && (class == clearing.Own || class == clearing.Engine) {
			continue
		}
		if out.Total++; len(out.Sessions) < in.Limit {
			out.Sessions = append(out.Sessions, renderSession(srv.Name, s, class))
		}
	}
	return answer(out), nil
}

func (h *Handler) sessionHistory(ctx context.Context, in *ServerPath) (*body[wire.SessionHistory], error) {
	srv, err := h.Fleet.Get(ctx, in.Server)
	if err != nil {
		return nil, h.noServer(ctx, in.Server, err)
	}
	samples, every := h.Watch.History(srv.Name)
	return answer(wire.SessionHistory{Server: srv.Name, Seconds: int(every.Seconds()),
		Samples: each(samples, func(s catalog.Sample) wire.SessionSample { return wire.SessionSample(s) })}), nil
}

// renderUse is nil for a server that is not watched (yet).
func renderUse(u catalog.Use) *wire.Use {
	if u.Since.IsZero() {
		return nil
	}
	return &wire.Use{Last: optional(u.Last), Since: u.Since, Unobserved: int64(u.Unobserved.Seconds())}
}

func renderSession(server string, s catalog.Session, class clearing.Class) wire.ServerSession {
	return wire.ServerSession{ID: s.ID.String(),
		Address: naming.Address{Server: server, Kind: naming.KindSession, Name: s.ID.String()}.String(),
		Number:  s.ID.Number,
		Class:   string(class), Loses: clearing.Loss(s), Database: s.Database, Uses: s.Uses,
		Account: wire.Principal(s.Account), Superuser: s.Super, Application: s.Application,
		Client: s.Client, Started: optional(s.Started), State: string(s.Activity), StateSince: optional(s.StateSince),
		Statement:   s.Statement,
		Transaction: optional(s.Transaction), Written: s.Written, Rows: s.Rows, LogBytes: s.LogBytes, Locks: s.Locks,
		BlockedBy: orEmpty(s.BlockedBy), Wait: s.Wait, Progress: s.Progress, Leader: s.Leader}
}

func renderPrepared(p catalog.Prepared) wire.Prepared {
	return wire.Prepared{Name: p.Name, Database: p.Database, Owner: p.Owner, Since: optional(p.Since)}
}

func renderAffected(server string) func(change.Affected) wire.ServerSession {
	return func(a change.Affected) wire.ServerSession { return renderSession(server, a.Session, a.Class) }
}

func renderClearing(p *clearing.Progress) *wire.Clearing {
	if p == nil {
		return nil
	}
	return &wire.Clearing{Phase: string(p.Phase), Began: p.Began, GraceEnds: optional(p.GraceEnds), Found: p.Found,
		Left: p.Left, Ended: p.Ended, Gone: p.Gone, Came: p.Came,
		Who: each(p.Who, func(x clearing.Present) wire.Present {
			return wire.Present{ID: x.ID.String(), Account: x.Account, Application: x.Application, Client: x.Client,
				Class: string(x.Class), Progress: x.Progress}
		}),
		EndedWho: orEmpty(p.EndedWho), Returned: orEmpty(p.Returned),
		Series: each(p.Series, func(x clearing.Point) wire.SessionPoint { return wire.SessionPoint(x) }), Why: p.Why}
}

// sessionsOf reads which sessions an intent means.
func sessionsOf(in *wire.SessionsSpec) (*change.SessionsSpec, error) {
	if in == nil {
		return nil, nil
	}
	out := &change.SessionsSpec{StatementOnly: in.StatementOnly,
		Filter: clearing.Filter{Database: in.Database, Account: in.Account, Application: in.Application,
			Client: in.Client, Class: clearing.Class(in.Class), IdleLonger: in.IdleLonger, Older: in.Older}}
	for _, text := range in.IDs {
		id, err := catalog.ParseSessionID(text)
		if err != nil {
			return nil, &Problem{Status: 422, Code: "session.identity", Detail: err.Error(),
				Next: "List them.", Actions: do("session.list", "")}
		}
		out.IDs = append(out.IDs, id)
	}
	return out, nil
}
