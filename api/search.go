package api

import (
	"cmp"
	"context"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"example.com/genarch/api/wire"
	"example.com/genarch/core/catalog"
	"example.com/genarch/core/naming"
	"example.com/genarch/core/policy"
)

const (
	// namesTime is how long the names of a server are taken as good for a search.
	namesTime = time.Minute
	// searchTime bounds a search: a server that has not answered by then is found
	// by the next one.
	searchTime = 3 * time.Second
	// searchedAtOnce is how many servers are read side by side.
	searchedAtOnce = 16
)

// names remembers what the databases and accounts of each server are called, for
// everybody who searches: each server is read once a minute at the most.
type names struct {
	mu sync.Mutex // guards of
	of map[string]*serverNames
}

type serverNames struct {
	mu      sync.Mutex // held while they are read
	found   []wire.Found
	at      time.Time
	altered uint64
}

// entry is the memory for one server.
func (n *names) entry(server string) *serverNames {
	n.mu.Lock()
	defer n.mu.Unlock()
	if n.of == nil {
		n.of = map[string]*serverNames{}
	}
	e := n.of[server]
	if e == nil {
		e = &serverNames{}
		n.of[server] = e
	}
	return e
}

func (h *Handler) registerSearch() {
	register(h, op{method: "GET", path: "/search", id: "search",
		summary: "Find servers, databases, accounts and roles by a part of their name", permission: policy.View},
		h.search)
}

func (h *Handler) search(ctx context.Context, in *struct {
	Words string `query:"q" maxLength:"200" doc:"Every word of it is part of the address or the environment, without case."`
	Limit int    `query:"limit" minimum:"1" maximum:"200" default:"40"`
}) (*body[wire.SearchResult], error) {
	list, err := h.Fleet.List(ctx)
	if err != nil {
		return nil, err
	}
	bounded, cancel := context.WithTimeout(ctx, searchTime)
	defer cancel()
	all := make([][]wire.Found, len(list))
	answered := make([]bool, len(list))
	var group errgroup.Group
	group.SetLimit(searchedAtOnce)
	for i, srv := range list {
		group.Go(func() error {
			all[i], answered[i] = h.namesOf(bounded, srv)
			return nil
		})
	}
	_ = group.Wait()
	words := strings.Fields(strings.ToLower(in.Words))
	out := wire.SearchResult{Found: []wire.Found{}, Servers: len(list)}
	for i, srv := range list {
		if answered[i] {
			out.Answered++
		}
		own := wire.Found{Kind: "server", Address: srv.Name, Server: srv.Name, Name: srv.Name,
			Environment: string(srv.Environment)}
		for _, f := range append([]wire.Found{own}, all[i]...) {
			if !slices.ContainsFunc(words, func(w string) bool {
				return !strings.Contains(strings.ToLower(f.Address), w) && !strings.HasPrefix(f.Environment, w)
			}) {
				out.Total++
				out.Found = append(out.Found, f)
			}
		}
	}
	// Servers first, then the shortest: what was typed is most of its name.
	slices.SortStableFunc(out.Found, func(a, b wire.Found) int {
		return cmp.Or(cmp.Compare(rank(a.Kind), rank(b.Kind)), cmp.Compare(len(a.Address), len(b.Address)),
			strings.Compare(a.Address, b.Address))
	})
	out.Found = out.Found[:min(len(out.Found), in.Limit)]
	return answer(out), nil
}

func rank(kind string) int {
	return slices.Index([]string{"server", "database", "account", "role"}, kind)
}

// namesOf gives what a server's databases and accounts are called: as remembered,
// or read. False: it did not answer in time.
func (h *Handler) namesOf(ctx context.Context, srv catalog.Server) ([]wire.Found, bool) {
	e := h.names.entry(srv.Name)
	e.mu.Lock()
	defer e.mu.Unlock()
	altered := h.Events.Altered()
	if e.found != nil && e.altered == altered && time.Since(e.at) < namesTime {
		return e.found, true
	}
	_, _, access, err := h.Fleet.Open(ctx, srv.Name)
	if err != nil {
		return e.found, false
	}
	a, err := access.Access(ctx, catalog.AccessQuery{})
	if err != nil {
		return e.found, false
	}
	found := []wire.Found{}
	add := func(kind, address string, p catalog.Principal) {
		found = append(found, wire.Found{Kind: kind, Address: address, Server: srv.Name, Name: p.Name, Host: p.Host,
			Database: p.Database, Role: p.Role, Environment: string(srv.Environment)})
	}
	for _, d := range a.Databases {
		if !d.System {
			add("database", naming.DatabaseAddress(srv.Name, d.Name).String(), catalog.Principal{Name: d.Name})
		}
	}
	for _, acc := range a.Accounts {
		switch {
		case acc.Held != nil || acc.System && !acc.Bootstrap:
		case acc.Login || acc.Locked:
			add("account", address(srv, acc), acc.Principal)
		default:
			add("role", address(srv, acc), acc.Principal)
		}
	}
	e.found, e.at, e.altered = found, time.Now(), altered
	return found, true
}
