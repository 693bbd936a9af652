package api

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"

	"example.com/genarch/api/wire"
	"example.com/genarch/core/catalog"
	"example.com/genarch/core/policy"
	"example.com/genarch/engine"
)

func (h *Handler) registerEngines() {
	register(h, op{method: "GET", path: "/engines", id: "list-engines", summary: "What the engines say of themselves", remit: policy.See}, h.listEngines)
	register(h, op{method: "GET", path: "/engines/{engine}", id: "show-engine", summary: "What one engine says of itself", remit: policy.See}, h.showEngine)
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

func (h *Handler) showEngine(_ context.Context, in *struct {
	Engine string `path:"engine" maxLength:"40"`
}) (*body[wire.Engine], error) {
	e, err := h.Fleet.Engine(catalog.Engine(in.Engine))
	if err != nil {
		return nil, &Problem{Status: 404, Code: "engine.absent", Detail: err.Error(), Next: "list them: genarch engine list"}
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
