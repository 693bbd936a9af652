package blueprint

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"example.com/genarch/core/naming"
)

// Filled is what a blueprint comes to on one engine, with the values that were given.
type Filled struct {
	Name    string // empty: whoever asks gives one
	Options map[string]any
	Team    *Team
}

// Refuses says why a value does not go; empty: it goes.
func (p Parameter) Refuses(value string) string {
	switch {
	case len(p.Values) > 0 && !slices.Contains(p.Values, value):
		return naming.Show(value) + " is none of " + strings.Join(p.Values, ", ")
	case p.Pattern != nil && !p.Pattern.MatchString(value):
		return naming.Show(value) + " does not match " + p.Shape()
	}
	return ""
}

// Shape is the pattern as it is written in the blueprint; empty: there is none.
func (p Parameter) Shape() string {
	if p.Pattern == nil {
		return ""
	}
	return strings.TrimSuffix(strings.TrimPrefix(p.Pattern.String(), "^(?:"), ")$")
}

// Fill puts values in the places of the parameters. The error says which value is missing,
// unknown or does not go, or that the blueprint is not for this environment.
func (b Blueprint) Fill(engine, environment string, with map[string]string) (Filled, error) {
	if len(b.Environments) > 0 && !slices.Contains(b.Environments, environment) {
		return Filled{}, fmt.Errorf("it is for %s, and the server is %s",
			strings.Join(b.Environments, ", "), environment)
	}
	values := map[string]string{}
	for _, p := range b.Parameters {
		value, given := with[p.Name]
		switch {
		case given:
		case p.Default != nil:
			value = *p.Default
		default:
			return Filled{}, fmt.Errorf("%s has to be given: --with %s=…", p.Name, p.Name)
		}
		if why := p.Refuses(value); why != "" {
			return Filled{}, fmt.Errorf("%s: %s", p.Name, why)
		}
		values[p.Name] = value
	}
	for _, name := range slices.Sorted(maps.Keys(with)) {
		if _, known := values[name]; !known {
			return Filled{}, fmt.Errorf("it has no parameter %s", naming.Show(name))
		}
	}
	out := Filled{Name: put(b.Name, values), Options: map[string]any{}}
	for _, options := range []map[string]any{b.Options, b.Engines[engine]} {
		for name, value := range options {
			out.Options[name] = putAll(value, values)
		}
	}
	if b.Team != nil {
		out.Team = &Team{Name: put(b.Team.Name, values), Host: put(b.Team.Host, values)}
	}
	return out, nil
}

// put fills a text. A value is not looked at again: what stands in it in braces stays.
func put(text string, values map[string]string) string {
	return placeholder.ReplaceAllStringFunc(text, func(place string) string { return values[place[1:len(place)-1]] })
}

func putAll(value any, values map[string]string) any {
	switch v := value.(type) {
	case string:
		return put(v, values)
	case []any:
		out := make([]any, len(v))
		for i, x := range v {
			out[i] = putAll(x, values)
		}
		return out
	case map[string]any:
		out := map[string]any{}
		for name, x := range v {
			out[name] = putAll(x, values)
		}
		return out
	}
	return value
}
