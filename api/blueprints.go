package api

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"

	"github.com/danielgtaylor/huma/v2"

	"example.com/genarch/api/wire"
	"example.com/genarch/core/blueprint"
	"example.com/genarch/core/change"
	"example.com/genarch/core/journal"
	"example.com/genarch/core/naming"
	"example.com/genarch/core/policy"
	"example.com/genarch/core/record"
	"example.com/genarch/core/secret"
	"example.com/genarch/engine"
)

func (h *Handler) registerBlueprints() {
	register(h, op{method: "GET", path: "/blueprints", id: "list-blueprints",
		summary: "Recipes for databases", permission: policy.View}, h.listBlueprints)
	register(h, op{method: "POST", path: "/blueprints/check", id: "check-blueprint",
		summary: "What is wrong in a text; nothing is kept", permission: policy.View}, h.checkBlueprint)
	register(h, op{method: "GET", path: "/blueprints/schema", id: "blueprint-schema",
		summary: "The JSON Schema of the format", permission: policy.View}, h.blueprintSchema)
	register(h, op{method: "GET", path: "/blueprints/{blueprint}", id: "show-blueprint",
		summary: "One recipe, with its text", permission: policy.View}, h.showBlueprint)
	register(h, op{method: "PUT", path: "/blueprints/{blueprint}", id: "put-blueprint",
		summary: "Keep a recipe, or a new version of it", permission: policy.Admin}, h.putBlueprint)
	register(h, op{method: "DELETE", path: "/blueprints/{blueprint}", id: "remove-blueprint",
		summary: "Remove a recipe; what was made by it stays", permission: policy.Admin, status: 204},
		h.removeBlueprint)
}

// BlueprintPath names a blueprint.
type BlueprintPath struct {
	Blueprint string `path:"blueprint" maxLength:"40"`
}

func (h *Handler) listBlueprints(ctx context.Context, _ *struct{}) (*body[wire.BlueprintList], error) {
	list, err := h.Records.Blueprints(ctx)
	if err != nil {
		return nil, err
	}
	return answer(wire.BlueprintList{Blueprints: each(list, func(k blueprint.Kept) wire.Blueprint {
		b, _ := blueprint.Parse([]byte(k.Text))
		return renderBlueprint(k, b)
	})}), nil
}

func (h *Handler) showBlueprint(ctx context.Context, in *struct {
	BlueprintPath
	Version int `query:"version" minimum:"0" doc:"0 or absent: the latest one."`
}) (*body[wire.Blueprint], error) {
	kept, b, err := h.blueprint(ctx, in.Blueprint, in.Version)
	if err != nil {
		return nil, err
	}
	out := renderBlueprint(kept, b)
	out.Text, out.Scripts = kept.Text, b.Scripts
	return answer(out), nil
}

// blueprint reads one; version 0 is the latest one.
func (h *Handler) blueprint(ctx context.Context, name string, version int) (blueprint.Kept, blueprint.Blueprint,
	error) {
	kept, err := h.Records.Blueprint(ctx, name, version)
	if errors.Is(err, record.ErrNotFound) {
		text := "There is no blueprint " + naming.Show(name)
		if version > 0 {
			text += fmt.Sprintf(" in version %d", version)
		}
		return kept, blueprint.Blueprint{}, &Problem{Status: 404, Code: "blueprint.absent", Title: "Not found",
			Detail: text + ".", Next: "List them.", Actions: []wire.Action{{Do: "blueprint.list"}}}
	}
	b, _ := blueprint.Parse([]byte(kept.Text))
	return kept, b, err
}

func (h *Handler) checkBlueprint(_ context.Context,
	in *struct{ Body wire.BlueprintText }) (*body[wire.BlueprintCheck], error) {
	b, problems := h.parse(in.Body.Text)
	out := wire.BlueprintCheck{Problems: each(problems,
		func(p blueprint.Problem) wire.TextProblem { return wire.TextProblem(p) })}
	if len(problems) == 0 {
		shown := renderBlueprint(blueprint.Kept{}, b)
		out.Blueprint = &shown
	}
	return answer(out), nil
}

// parse reads a text, and holds its engines and options against what the engines have.
func (h *Handler) parse(text string) (blueprint.Blueprint, []blueprint.Problem) {
	b, problems := blueprint.Parse([]byte(text))
	wrong := func(format string, args ...any) {
		problems = append(problems, blueprint.Problem{Text: fmt.Sprintf(format, args...)})
	}
	has := func(d *engine.Description, option string) bool {
		return slices.ContainsFunc(d.OptionsOf(change.PartDatabase, change.CreateDatabase),
			func(f engine.Field) bool { return f.Name == option })
	}
	engines := h.Fleet.Engines()
	for _, name := range slices.Sorted(maps.Keys(b.Engines)) {
		i := slices.IndexFunc(engines, func(d *engine.Description) bool { return string(d.ID) == name })
		if i < 0 {
			wrong("there is no engine %s: genarch engine list", naming.Show(name))
			continue
		}
		for _, option := range slices.Sorted(maps.Keys(b.Engines[name])) {
			if !has(engines[i], option) {
				wrong("%s is no option of a new database on %s", naming.Show(option), engines[i].Title)
			}
		}
	}
	for _, option := range slices.Sorted(maps.Keys(b.Options)) {
		if !slices.ContainsFunc(engines, func(d *engine.Description) bool { return has(d, option) }) {
			wrong("%s is no option of a new database on any engine", naming.Show(option))
		}
	}
	return b, problems
}

func blueprintEntry(ctx context.Context, action, name string, size int) journal.Entry {
	e := journal.Entry{Operator: from(ctx).Name, Action: action, Subject: name}
	if size > 0 {
		e.Detail = fmt.Sprintf(`{"bytes":%d}`, size)
	}
	return e
}

type schema struct {
	ContentType string `header:"Content-Type"`
	Body        []byte
}

func (h *Handler) blueprintSchema(context.Context, *struct{}) (*schema, error) {
	return &schema{"application/schema+json", blueprint.Schema}, nil
}

func (h *Handler) putBlueprint(ctx context.Context, in *struct {
	BlueprintPath
	Body wire.BlueprintText
}) (*body[wire.Blueprint], error) {
	if !blueprint.ValidName(in.Blueprint) {
		return nil, huma.Error422UnprocessableEntity(
			"A blueprint's name has lower-case letters, digits and _, and begins with a letter; it has 40 at most.")
	}
	b, problems := h.parse(in.Body.Text)
	if len(problems) > 0 {
		return nil, &Problem{Status: 422, Code: "blueprint.invalid", Title: "The blueprint cannot be used",
			Detail: problems[0].Error(), Next: "Check it.",
			Actions: []wire.Action{{Do: "blueprint.check"}}}
	}
	kept, err := h.Records.PutBlueprint(ctx,
		blueprint.Kept{Name: in.Blueprint, Text: in.Body.Text, Operator: from(ctx).Name},
		blueprintEntry(ctx, "blueprint.put", in.Blueprint, len(in.Body.Text)))
	return answer(renderBlueprint(kept, b)), err
}

func (h *Handler) removeBlueprint(ctx context.Context, in *BlueprintPath) (*empty, error) {
	if _, _, err := h.blueprint(ctx, in.Blueprint, 0); err != nil {
		return nil, err
	}
	return &empty{}, h.Records.RemoveBlueprint(ctx, in.Blueprint,
		blueprintEntry(ctx, "blueprint.remove", in.Blueprint, 0))
}

func renderBlueprint(k blueprint.Kept, b blueprint.Blueprint) wire.Blueprint {
	return wire.Blueprint{Name: k.Name, Version: k.Version, Title: b.Title, Description: b.Description,
		Environments: orEmpty(b.Environments), NameRule: b.Name, Engines: orEmpty(slices.Sorted(maps.Keys(b.Engines))),
		Operator: k.Operator, Created: k.Created,
		Parameters: each(b.Parameters, func(p blueprint.Parameter) wire.Parameter {
			return wire.Parameter{Name: p.Name, Title: p.Title, Description: p.Description, Default: p.Default,
				Pattern: p.Shape(), Values: orEmpty(p.Values)}
		})}
}

// intentOf reads what is asked for; what a blueprint says of it is filled in first.
func (h *Handler) intentOf(ctx context.Context, in wire.Intent) (change.Intent, map[string]secret.Text, error) {
	if in.Database == nil || in.Database.Blueprint == nil {
		return intentOf(in)
	}
	d := *in.Database
	use := *d.Blueprint
	if change.Kind(in.Kind) != change.CreateDatabase {
		return change.Intent{}, nil, errors.Join(change.ErrIntent, fmt.Errorf("%s has no blueprint", in.Kind))
	}
	kept, b, err := h.blueprint(ctx, use.Name, use.Version)
	if err != nil {
		return change.Intent{}, nil, err
	}
	srv, err := h.Fleet.Get(ctx, in.Server)
	if err != nil {
		return change.Intent{}, nil, h.noServer(ctx, in.Server, err)
	}
	filled, err := b.Fill(string(srv.Engine), string(srv.Environment), use.With)
	if err != nil {
		return change.Intent{}, nil, errors.Join(change.ErrIntent, fmt.Errorf("the blueprint %s: %w", kept.Name, err))
	}
	switch {
	case filled.Name == "" || d.Name == filled.Name:
	case d.Name == "":
		d.Name = filled.Name
	default:
		return change.Intent{}, nil, errors.Join(change.ErrIntent, fmt.Errorf(
			"by the blueprint %s the database is called %s, not %s", kept.Name, naming.Show(filled.Name),
			naming.Show(d.Name)))
	}
	for name, value := range d.Options { // what is asked for beside it goes before
		filled.Options[name] = value
	}
	d.Options = filled.Options
	if filled.Team != nil && d.Team == nil {
		d.Team = &wire.TeamSpec{Name: filled.Team.Name}
		if h.engineOf(srv).HasHosts() { // elsewhere the blueprint's host means nothing
			d.Team.Host = filled.Team.Host
		}
	}
	use.Version = kept.Version
	d.Blueprint = &use
	in.Database = &d
	return intentOf(in)
}
