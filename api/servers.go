package api

import (
	"context"
	"errors"
	"maps"
	"net/http"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"example.com/genarch/api/wire"
	"example.com/genarch/core/catalog"
	"example.com/genarch/core/naming"
	"example.com/genarch/core/policy"
	"example.com/genarch/core/secret"
	"example.com/genarch/engine"
	"example.com/genarch/events"
)

// ServerPath is the server in an address. It is exported because huma passes
// over embedded fields that are not.
type ServerPath struct {
	Server string `path:"server" maxLength:"40"`
}

func (h *Handler) registerServers() {
	register(h, op{method: "GET", path: "/servers", id: "list-servers", summary: "List registered servers",
		permission: policy.View}, h.listServers)
	register(h, op{method: "POST", path: "/servers", id: "add-server", summary: "Register a server",
		permission: policy.Admin, fresh: true, status: http.StatusCreated, maxBody: 2 << 20}, h.addServer)
	register(h, op{method: "GET", path: "/servers/{server}", id: "show-server",
		summary: "One registered server, with what it says just now", permission: policy.View}, h.showServer)
	register(h, op{method: "GET", path: "/servers/{server}/check", id: "check-server",
		summary: "Look at a server afresh: address, identity, version, what the login may do", permission: policy.View},
		h.checkServer)
	register(h, op{method: "PATCH", path: "/servers/{server}", id: "edit-server", summary: "Alter a registration",
		permission: policy.Admin, fresh: true, maxBody: 2 << 20}, h.editServer)
	register(h, op{method: "POST", path: "/servers/{server}/accept", id: "accept-server",
		summary: "Accept the instance that answers as the known one", permission: policy.Admin}, h.acceptServer)
	register(h, op{method: "DELETE", path: "/servers/{server}", id: "forget-server",
		summary: "Forget a registration; nothing on the server is touched", permission: policy.Admin,
		status: http.StatusNoContent}, h.forgetServer)
}

const (
	// statusTime bounds the look at one server of a list, so that one that
	// does not answer holds nothing up.
	statusTime = 4 * time.Second
	// statusesAtOnce bounds how many are looked at side by side.
	statusesAtOnce = 32
)

func (h *Handler) listServers(ctx context.Context, in *struct {
	Live bool `query:"live" doc:"Read every server too, a few seconds at the most."`
}) (*body[[]wire.Server], error) {
	list, err := h.Fleet.List(ctx)
	if err != nil {
		return nil, err
	}
	out := each(list, h.renderServer)
	if in.Live {
		var group errgroup.Group
		group.SetLimit(statusesAtOnce)
		for i := range out {
			group.Go(func() error {
				out[i].Status = h.status(ctx, out[i].Name)
				return nil
			})
		}
		_ = group.Wait()
	}
	return answer(out), nil
}

// status reads a server as it is now; what keeps it from that is the answer then.
func (h *Handler) status(ctx context.Context, name string) *wire.Status {
	ctx, cancel := context.WithTimeout(ctx, statusTime)
	defer cancel()
	_, _, access, err := h.Fleet.Open(ctx, name)
	if err != nil {
		return h.trouble(ctx, err)
	}
	var in catalog.Instance
	var sum total
	var inErr, sumErr error
	var both sync.WaitGroup
	both.Go(func() { in, inErr = access.Inspect(ctx) })
	both.Go(func() { sum, sumErr = h.total(ctx, name, access) })
	both.Wait()
	if inErr != nil {
		return h.trouble(ctx, inErr)
	}
	s := renderStatus(in)
	if sumErr != nil {
		s.Trouble = (*wire.Problem)(h.problem(ctx, sumErr))
	}
	s.Databases, s.Size, s.SetAside, s.Due = sum.databases, sum.size, sum.held, sum.due
	return s
}

func (h *Handler) trouble(ctx context.Context, err error) *wire.Status {
	p := wire.Problem(*h.problem(ctx, err))
	return &wire.Status{Trouble: &p, Identity: p.Found, Read: time.Now().UTC()}
}

func (h *Handler) showServer(ctx context.Context, in *ServerPath) (*body[wire.Server], error) {
	srv, err := h.Fleet.Get(ctx, in.Server)
	if err != nil {
		return nil, h.noServer(ctx, in.Server, err)
	}
	out := h.renderServer(srv)
	out.Status = h.status(ctx, in.Server)
	return answer(out), nil
}

// noServer makes "there is none" name the server, and a near one if there is.
func (h *Handler) noServer(ctx context.Context, name string, err error) error {
	p := h.problem(ctx, err)
	if p.Code == "not_found" {
		p.Detail, p.Next = "No server "+naming.Show(name)+" is registered.", "List them."
		p.Actions = do("server.list", "")
		if list, listErr := h.Fleet.List(ctx); listErr == nil {
			names := each(list, func(s catalog.Server) string { return s.Name })
			if near, found := naming.Nearest(name, names); found {
				p.Next = "Do you mean " + near + "?"
			}
		}
	}
	return p
}

func (h *Handler) checkServer(ctx context.Context, in *ServerPath) (*body[wire.Check], error) {
	srv, instance, err := h.Fleet.Check(ctx, in.Server)
	if srv.ID == 0 {
		return nil, h.noServer(ctx, in.Server, err)
	}
	out := wire.Check{Server: h.renderServer(srv)}
	if err != nil {
		out.Status = *h.trouble(ctx, err)
		if _, other := errors.AsType[*engine.IdentityError](err); other {
			if instance.Identity.Known() { // else it was not even signed in to
				s := renderStatus(instance)
				s.Trouble = out.Status.Trouble
				out.Status = *s
			}
		}
		return answer(out), nil
	}
	out.Status = *h.status(ctx, in.Server)
	if out.Status.Reachable {
		out.Status.Abilities = renderStatus(instance).Abilities
	}
	return answer(out), nil
}

func (h *Handler) addServer(ctx context.Context, in *struct{ Body wire.ServerInput }) (*body[wire.Check], error) {
	b := in.Body
	srv := catalog.Server{Name: b.Name, Engine: catalog.Engine(b.Engine), Host: b.Host, Port: b.Port, Admin: b.Admin,
		Clients:     b.Clients,
		Environment: catalog.Environment(b.Environment), Labels: b.Labels, TLS: catalog.TLSMode(b.TLS), CA: b.CA}
	var err error
	if srv.Options, err = catalog.ValuesOf(b.Options); err != nil {
		return nil, err
	}
	if b.ServerKey != "" {
		srv.Identity.Marks = map[string]string{catalog.MarkTLSKey: b.ServerKey}
	}
	if b.NameRule != nil {
		srv.NameRule = naming.Rule(*b.NameRule)
	}
	put(&srv.Keeping, (*catalog.Keeping)(b.Keeping))
	srv, instance, err := h.Fleet.Add(ctx, from(ctx).Name, srv, secret.New(b.Secret))
	if err != nil {
		if p := h.problem(ctx, err); p.Code == "exists" {
			p.Detail = "a server " + b.Name + " is registered already"
			return nil, p
		}
		return nil, err
	}
	h.Events.Publish(events.Event{Server: srv.Name})
	return answer(wire.Check{Server: h.renderServer(srv), Status: *renderStatus(instance)}), nil
}

func (h *Handler) editServer(ctx context.Context, in *struct {
	ServerPath
	Body wire.ServerPatch
}) (*body[wire.Server], error) {
	srv, err := h.Fleet.Get(ctx, in.Server)
	if err != nil {
		return nil, h.noServer(ctx, in.Server, err)
	}
	b := in.Body
	srv.Version = b.Version
	put(&srv.Host, b.Host)
	put(&srv.Port, b.Port)
	put(&srv.Admin, b.Admin)
	put(&srv.Clients, b.Clients)
	put(&srv.Labels, b.Labels)
	put(&srv.CA, b.CA)
	if b.Options != nil {
		merged := map[string]any{}
		maps.Copy(merged, srv.Options)
		maps.Copy(merged, *b.Options)
		maps.DeleteFunc(merged, func(_ string, value any) bool { return value == nil })
		if srv.Options, err = catalog.ValuesOf(merged); err != nil {
			return nil, err
		}
	}
	if b.ServerKey != nil {
		marks := maps.Clone(srv.Identity.Marks)
		marks[catalog.MarkTLSKey] = *b.ServerKey
		srv.Identity.Marks = marks
	}
	if b.Environment != nil {
		srv.Environment = catalog.Environment(*b.Environment)
	}
	if b.TLS != nil {
		srv.TLS = catalog.TLSMode(*b.TLS)
	}
	if b.NameRule != nil {
		srv.NameRule = naming.Rule(*b.NameRule)
	}
	put(&srv.Keeping, (*catalog.Keeping)(b.Keeping))
	var password *secret.Text
	if b.Secret != nil {
		p := secret.New(*b.Secret)
		password = &p
	}
	if _, err := h.Fleet.Edit(ctx, from(ctx).Name, srv, password); err != nil {
		return nil, err
	}
	return h.altered(ctx, in.Server)
}

// put sets a field if a value was given.
func put[T any](field *T, value *T) {
	if value != nil {
		*field = *value
	}
}

// altered tells the watchers and answers the registration as it is now.
func (h *Handler) altered(ctx context.Context, name string) (*body[wire.Server], error) {
	h.Events.Publish(events.Event{Server: name})
	srv, err := h.Fleet.Get(ctx, name)
	return answer(h.renderServer(srv)), err
}

func (h *Handler) acceptServer(ctx context.Context, in *struct {
	ServerPath
	Body wire.Accept
}) (*body[wire.Server], error) {
	if _, err := h.Fleet.Accept(ctx, from(ctx).Name, in.Server, in.Body.Key); err != nil {
		return nil, h.noServer(ctx, in.Server, err)
	}
	return h.altered(ctx, in.Server)
}

func (h *Handler) forgetServer(ctx context.Context, in *ServerPath) (*empty, error) {
	if err := h.Fleet.Forget(ctx, from(ctx).Name, in.Server); err != nil {
		return nil, h.noServer(ctx, in.Server, err)
	}
	h.Events.Publish(events.Event{Server: in.Server})
	return &empty{}, nil
}
