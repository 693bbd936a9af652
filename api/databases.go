package api

import (
	"context"
	"errors"
	"maps"
	"slices"
	"strings"

	"example.com/genarch/api/wire"
	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/naming"
	"example.com/genarch/core/policy"
	"example.com/genarch/engine"
)

func (h *Handler) registerDatabases() {
	register(h, op{method: "GET", path: "/servers/{server}/databases", id: "list-databases",
		summary: "List the databases of a server, live", permission: policy.View}, h.listDatabases)
	register(h, op{method: "GET", path: "/servers/{server}/databases/{database}", id: "show-database",
		summary: "One database, live", permission: policy.View}, h.showDatabase)
	register(h, op{method: "GET", path: "/servers/{server}/choices", id: "list-choices",
		summary: "What can be chosen on a server, for example encodings", permission: policy.View}, h.listChoices)
}

// access opens a server for reading, within a deadline.
func (h *Handler) access(ctx context.Context, name string) (catalog.Server, engine.Server, context.Context,
	context.CancelFunc, error) {
	ctx, cancel := context.WithTimeout(ctx, readTime)
	srv, _, access, err := h.Fleet.Open(ctx, name)
	if err != nil {
		err = h.noServer(ctx, name, err)
		cancel()
		return srv, nil, ctx, cancel, err
	}
	return srv, access, ctx, cancel, nil
}

func (h *Handler) listChoices(ctx context.Context, in *struct {
	ServerPath
	Keys []string `query:"keys,explode" maxItems:"20" doc:"Which lists, by the keys that the engine describes; none: all."`
}) (*body[wire.Choices], error) {
	srv, access, ctx, cancel, err := h.access(ctx, in.Server)
	if err != nil {
		return nil, err
	}
	defer cancel()
	eng, err := h.Fleet.Engine(srv.Engine)
	if err != nil {
		return nil, err
	}
	known := eng.Describe().Choices
	if len(in.Keys) == 0 {
		in.Keys = slices.Sorted(maps.Keys(known))
	}
	for _, key := range in.Keys {
		if known[key] == "" {
			return nil, &Problem{Status: 404, Code: "choices.absent",
				Detail: eng.Describe().Title + " has no list of " + naming.Show(key),
				Next:   "There are " + strings.Join(slices.Sorted(maps.Keys(known)), ", ")}
		}
	}
	c, err := access.Choices(ctx, in.Keys...)
	return answer(renderChoices(srv, c)), err
}

func (h *Handler) listDatabases(ctx context.Context, in *struct {
	ServerPath
	Search string `query:"search" maxLength:"200" doc:"Part of the name, or of a text among the properties, without case."`
	System bool   `query:"system" doc:"The engine's own databases too."`
	Limit  int    `query:"limit" minimum:"1" maximum:"20000" default:"1000"`
	After  string `query:"after" maxLength:"400" doc:"Read on behind this name."`
}) (*body[wire.DatabaseList], error) {
	srv, access, ctx, cancel, err := h.access(ctx, in.Server)
	if err != nil {
		return nil, err
	}
	defer cancel()
	list, err := h.databases(ctx, srv.Name, access)
	if err != nil {
		return nil, err
	}
	out := wire.DatabaseList{Server: srv.Name, Engine: string(srv.Engine), Environment: string(srv.Environment),
		Partial: list.Partial, Read: list.Read, Databases: []wire.Database{}, SetAside: len(list.Held)}
	search := strings.ToLower(in.Search)
	for _, d := range list.Databases {
		if d.System && !in.System || search != "" && !fits(d, search) {
			continue
		}
		out.Total++
		if in.After != "" && d.Name <= in.After {
			continue
		}
		if len(out.Databases) == in.Limit {
			out.Next = out.Databases[in.Limit-1].Name
			continue
		}
		out.Databases = append(out.Databases, renderDatabase(srv.Name, d))
	}
	return answer(out), nil
}

func fits(d catalog.Database, search string) bool {
	texts := []string{d.Name, d.Owner, d.Comment, d.Encoding, d.Collation}
	for _, value := range d.Properties {
		if text, ok := value.(string); ok {
			texts = append(texts, text)
		}
	}
	for _, text := range texts {
		if strings.Contains(strings.ToLower(text), search) {
			return true
		}
	}
	return false
}

func (h *Handler) showDatabase(ctx context.Context, in *struct {
	ServerPath
	Database string `path:"database" maxLength:"2000"`
}) (*body[wire.Database], error) {
	srv, access, ctx, cancel, err := h.access(ctx, in.Server)
	if err != nil {
		return nil, err
	}
	defer cancel()
	d, err := access.Database(ctx, in.Database)
	if errors.Is(err, engine.ErrNotFound) || err == nil && d.Held != nil {
		return nil, h.noDatabase(ctx, srv, access, in.Database)
	}
	if err != nil {
		return nil, err
	}
	out := renderDatabase(srv.Name, d)
	c, found, err := h.maker(ctx, out.Address, d.Key, maxRenames)
	if err != nil {
		return nil, err
	}
	if found {
		out.CreatedBy = &wire.MadeBy{Change: c.ID, Operator: c.RunBy, At: c.Ended}
	}
	out.LastUse = renderUse(h.Watch.Use(srv.Name, catalog.Used{Database: d.Name}))
	return answer(out), nil
}

// maxRenames is how many names back the maker of a database is looked for.
const maxRenames = 8

// maker finds the change that made a database, if Genarch did. One of that name may
// have been made again since, outside Genarch: the engine's own number tells, where
// it is known (else 0). With it, a database is followed back through its names.
func (h *Handler) maker(ctx context.Context, address string, key string, renames int) (c change.Change, found bool,
	err error) {
	ended, err := h.Records.Changes(ctx, change.Filter{Target: address, State: change.Done, Limit: change.MakerLimit})
	if err != nil {
		return c, false, err
	}
	if c, found = change.CreatedBy(ended, key); found {
		return c, true, nil
	}
	for _, c := range ended {
		if to, renamed := c.Intent.Becomes(); renamed && to.String() == address && key != "" && renames > 0 {
			return h.maker(ctx, c.Brief.Target, key, renames-1)
		}
	}
	return c, false, nil
}

// noDatabase tells "it is not there" from "Genarch's login may not see it".
func (h *Handler) noDatabase(ctx context.Context, srv catalog.Server, access engine.Server, name string) error {
	p := &Problem{Status: 404, Code: "database.absent",
		Detail: "There is no database " + naming.Show(name) + " on " + srv.Name + ".",
		Next:   "List them.", Actions: do("database.list", srv.Name)}
	if list, err := access.Databases(ctx); err == nil {
		for _, d := range list.Held {
			if d.Held.Name == name || d.Name == name {
				p.Detail = naming.Show(d.Held.Name) + " was set aside on " + srv.Name + "."
				p.Next, p.Actions = "Bring it back.", do("holding.bring-back",
					naming.DatabaseAddress(srv.Name, d.Held.Name).String())
				return p
			}
		}
	}
	in, err := access.Inspect(ctx)
	if remedy := in.Login.Remedy("see_databases"); err == nil && remedy != "" {
		p.Code = "database.unseen"
		p.Detail = "Genarch's login " + in.Login.Name + " sees no database " + naming.Show(name) + " on " + srv.Name +
			"; it may be there all the same, for the login may not see all"
		p.Next = remedy
	}
	return p
}
