package api

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"

	"example.com/genarch/api/wire"
	"example.com/genarch/core/catalog"
	"example.com/genarch/core/naming"
	"example.com/genarch/core/policy"
	"example.com/genarch/engine"
)

func (h *Handler) registerEngines() {
	register(h, op{method: "GET", path: "/engines", id: "list-engines", summary: "What the engines say of themselves",
		permission: policy.View}, h.listEngines)
	register(h, op{method: "GET", path: "/engines/{engine}", id: "show-engine",
		summary: "What one engine says of itself", permission: policy.View}, h.showEngine)
	register(h, op{method: "GET", path: "/engines/{engine}/login", id: "prepare-login",
		summary: "The statements that make a login for Genarch itself", permission: policy.View}, h.prepareLogin)
}

func (h *Handler) listEngines(context.Context, *empty) (*body[wire.Engines], error) {
	out := wire.Engines{Engines: []wire.Engine{}, Common: map[string][]string{}}
	for _, d := range h.Fleet.Engines() {
		e, err := renderEngine(d)
		if err != nil {
			return nil, err
		}
		out.Engines = append(out.Engines, e)
	}
	for part, names := range engine.Common {
		out.Common[string(part)] = slices.Sorted(maps.Keys(names))
	}
	return answer(out), nil
}

// EnginePath names an engine in a path.
type EnginePath struct {
	Engine string `path:"engine" maxLength:"40"`
}

func (h *Handler) engineNamed(name string) (engine.Engine, error) {
	e, err := h.Fleet.Engine(catalog.Engine(name))
	if err != nil {
		return nil, &Problem{Status: 404, Code: "engine.absent", Detail: err.Error(),
			Next: "List them.", Actions: do("engine.list", "")}
	}
	return e, nil
}

// maxHost is the longest name of a host (RFC 1035, 2.3.4).
const maxHost = 255

func (h *Handler) prepareLogin(_ context.Context, in *struct {
	EnginePath
	Name string `query:"name" minLength:"1" maxLength:"128" default:"genarch" doc:"What the login is to be called."`
	Host string `query:"host" maxLength:"255" doc:"Where Genarch connects from, on engines where that is part of an account; absent: everywhere."`
}) (*body[wire.Preparation], error) {
	e, err := h.engineNamed(in.Engine)
	if err != nil {
		return nil, err
	}
	d := e.Describe()
	p, _ := d.Principal(false)
	if in.Host != "" && !d.HasHosts() {
		return nil, &Problem{Status: 422, Code: "request.invalid",
			Detail: "On " + d.Title + " no host is part of an account.", Next: "Leave it out."}
	}
	wrong := (naming.Rule{Free: true}).Check(in.Name, p.Names)
	if in.Host != "" {
		wrong = append(wrong, (naming.Rule{Free: true}).Check(in.Host,
			naming.Limits{MaxLength: maxHost, Counted: naming.Bytes})...)
	}
	if len(wrong) > 0 {
		return nil, &Problem{Status: 422, Code: wrong[0].Code, Detail: wrong[0].Text, Next: "Choose a plain one."}
	}
	return answer(wire.Preparation{Engine: in.Engine, Login: in.Name, Comment: d.Script.Comment, End: d.Script.End,
		Client: d.Script.Client,
		Statements: each(e.Prepare(catalog.Principal{Name: in.Name, Host: in.Host}),
			func(r engine.Right) wire.Right { return wire.Right(r) })}), nil
}

func (h *Handler) showEngine(_ context.Context, in *EnginePath) (*body[wire.Engine], error) {
	e, err := h.engineNamed(in.Engine)
	if err != nil {
		return nil, err
	}
	out, err := renderEngine(e.Describe())
	return answer(out), err
}

// renderEngine gives a description as the API tells it. The two are written alike in
// JSON, which a test compares.
func renderEngine(d *engine.Description) (out wire.Engine, err error) {
	text, err := json.Marshal(d)
	if err == nil {
		err = json.Unmarshal(text, &out)
	}
	if err != nil {
		return out, fmt.Errorf("describe %s: %w", d.ID, err)
	}
	return out, nil
}
