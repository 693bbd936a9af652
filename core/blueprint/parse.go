package blueprint

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"go.yaml.in/yaml/v3"

	"example.com/genarch/core/naming"
)

// Problem is something wrong in a text, with the place where it is. Lines and columns begin
// at 1; 0: the whole text.
type Problem struct {
	Line, Column int
	Text         string
}

// Error says it with its place.
func (p Problem) Error() string {
	if p.Line == 0 {
		return p.Text
	}
	return fmt.Sprintf("line %d, column %d: %s", p.Line, p.Column, p.Text)
}

// The keys of the format, by where they stand.
var (
	topKeys = []string{"format", "title", "description", "environments", "parameters", "name", "options", "engines",
		"team"}
	parameterKeys = []string{"title", "description", "default", "pattern", "values"}
	engineKeys    = []string{"options", "script"}
	teamKeys      = []string{"name", "host"}
)

// environments are those that servers have.
var environments = []string{"production", "staging", "development"}

// maxProblems is how many problems are told at once.
const maxProblems = 20

// reader gathers what is wrong while it reads.
type reader struct{ problems []Problem }

func (r *reader) wrong(at *yaml.Node, format string, args ...any) {
	if len(r.problems) < maxProblems {
		r.problems = append(r.problems, Problem{at.Line, at.Column, fmt.Sprintf(format, args...)})
	}
}

// Parse reads a blueprint. With problems, it must not be used.
func Parse(text []byte) (Blueprint, []Problem) {
	var b Blueprint
	if len(text) > MaxText {
		return b, []Problem{{Text: fmt.Sprintf("a blueprint has at most %d bytes, this one has %d", MaxText,
			len(text))}}
	}
	var doc yaml.Node
	if !utf8.Valid(text) {
		return b, []Problem{{Text: "the text is not UTF-8"}}
	}
	if err := yaml.Unmarshal(text, &doc); err != nil {
		return b, []Problem{yamlProblem(err)}
	}
	if len(doc.Content) == 0 {
		return b, []Problem{{1, 1, "there is nothing in it; it begins with format: 1"}}
	}
	r := &reader{}
	r.top(doc.Content[0], &b)
	if len(r.problems) == 0 {
		r.placeholders(doc.Content[0], b)
	}
	return b, r.problems
}

// yamlLine finds the line in an error of the YAML library, which gives no other.
var yamlLine = regexp.MustCompile(`line (\d+): (.*)`)

func yamlProblem(err error) Problem {
	if m := yamlLine.FindStringSubmatch(err.Error()); m != nil {
		line, _ := strconv.Atoi(m[1])
		return Problem{line, 1, "this is no YAML: " + m[2]}
	}
	return Problem{Text: "this is no YAML: " + strings.TrimPrefix(err.Error(), "yaml: ")}
}

// top reads the whole.
func (r *reader) top(n *yaml.Node, b *Blueprint) {
	format := 0
	r.fields(n, "a blueprint", topKeys, func(key string, at, v *yaml.Node) {
		switch key {
		case "format":
			if v.Decode(&format) != nil || format != Format {
				r.wrong(v, "format is %d here, not %s", Format, v.Value)
			}
		case "title":
			b.Title = r.text(key, v)
		case "description":
			b.Description = r.text(key, v)
		case "environments":
			b.Environments = r.list(key, v)
			for i, e := range b.Environments {
				if !slices.Contains(environments, e) {
					r.wrong(v.Content[i], "%s is no environment; there are %s", naming.Show(e),
						strings.Join(environments, ", "))
				}
			}
		case "parameters":
			r.parameters(v, b)
		case "name":
			b.Name = r.text(key, v)
		case "options":
			b.Options = r.options(v)
		case "engines":
			b.Engines, b.Scripts = map[string]map[string]any{}, map[string]string{}
			r.fields(v, key, nil, func(engine string, _, v *yaml.Node) {
				r.fields(v, "an engine", engineKeys, func(key string, _, v *yaml.Node) {
					if key == "script" {
						b.Scripts[engine] = r.text(key, v)
						return
					}
					b.Engines[engine] = r.options(v)
				})
			})
		case "team":
			b.Team = &Team{}
			r.fields(v, key, teamKeys, func(key string, _, v *yaml.Node) {
				if text := r.text(key, v); key == "name" {
					b.Team.Name = text
				} else {
					b.Team.Host = text
				}
			})
			if b.Team.Name == "" {
				r.wrong(at, "a team has a name")
			}
		}
	})
	if format == 0 && len(r.problems) == 0 {
		r.wrong(n, "it does not say format: %d", Format)
	}
}

// parameters reads the values that are asked for.
func (r *reader) parameters(n *yaml.Node, b *Blueprint) {
	r.fields(n, "parameters", nil, func(name string, at, v *yaml.Node) {
		p := Parameter{Name: name}
		if !ValidName(name) {
			r.wrong(at, "a parameter's name has lower-case letters, digits and _, and begins with a letter: not %s",
				naming.Show(name))
		}
		r.fields(v, "a parameter", parameterKeys, func(key string, _, v *yaml.Node) {
			switch key {
			case "title":
				p.Title = r.text(key, v)
			case "description":
				p.Description = r.text(key, v)
			case "default":
				text := r.text(key, v)
				p.Default = &text
			case "values":
				p.Values = r.list(key, v)
			case "pattern":
				re, err := regexp.Compile("^(?:" + r.text(key, v) + ")$")
				if err != nil {
					r.wrong(v, "the pattern cannot be read: %v", errors.Unwrap(err))
				}
				p.Pattern = re
			}
		})
		if p.Default != nil && len(r.problems) == 0 {
			if why := p.Refuses(*p.Default); why != "" {
				r.wrong(v, "the default of %s does not go: %s", name, why)
			}
		}
		b.Parameters = append(b.Parameters, p)
	})
}

// options reads what is asked for of an engine, by names.
func (r *reader) options(n *yaml.Node) map[string]any {
	out := map[string]any{}
	r.fields(n, "options", nil, func(name string, _, v *yaml.Node) { out[name] = r.value(v) })
	return out
}

// value reads what an option can be: a text, a whole number, yes or no, a list of texts or
// of rows. A day stays the text that it is.
func (r *reader) value(n *yaml.Node) any {
	switch n.Kind {
	case yaml.SequenceNode:
		out := []any{}
		for _, x := range n.Content {
			out = append(out, r.value(x))
		}
		return out
	case yaml.MappingNode:
		out := map[string]any{}
		r.fields(n, "a row", nil, func(name string, _, v *yaml.Node) { out[name] = r.value(v) })
		return out
	case yaml.ScalarNode:
		switch n.Tag {
		case "!!bool":
			return n.Value == "true" || n.Value == "True" || n.Value == "TRUE"
		case "!!int":
			var number float64 // as in JSON
			if n.Decode(&number) == nil {
				return number
			}
		case "!!null":
			r.wrong(n, "there is no value")
		}
		return n.Value
	}
	r.wrong(n, noAliases)
	return nil
}

const noAliases = "anchors and aliases are not read here"

// fields reads a mapping: each key once, and of the known ones if there are such.
func (r *reader) fields(n *yaml.Node, what string, known []string, each func(key string, at, value *yaml.Node)) {
	if n.Kind == yaml.ScalarNode && n.Tag == "!!null" {
		return // nothing stands behind the key
	}
	if n.Kind == yaml.AliasNode {
		r.wrong(n, noAliases)
		return
	}
	if n.Kind != yaml.MappingNode {
		r.wrong(n, "%s has keys with values", what)
		return
	}
	seen := map[string]bool{}
	for i := 0; i+1 < len(n.Content); i += 2 {
		at, key := n.Content[i], n.Content[i].Value
		switch {
		case seen[key]:
			r.wrong(at, "%s stands there twice", naming.Show(key))
		case known != nil && !slices.Contains(known, key):
			r.wrong(at, "%s has no %s; there are %s", what, naming.Show(key), strings.Join(known, ", "))
		default:
			each(key, at, n.Content[i+1])
		}
		seen[key] = true
	}
}

// text reads a scalar as it is written: 007 is no number here.
func (r *reader) text(key string, n *yaml.Node) string {
	if n.Kind != yaml.ScalarNode || n.Tag == "!!null" {
		r.wrong(n, "%s is a text", key)
		return ""
	}
	return n.Value
}

func (r *reader) list(key string, n *yaml.Node) []string {
	var out []string
	if n.Kind != yaml.SequenceNode {
		r.wrong(n, "%s is a list", key)
		return nil
	}
	for _, x := range n.Content {
		out = append(out, r.text(key, x))
	}
	return out
}

// placeholder is a parameter in a text: {team}.
var placeholder = regexp.MustCompile(`\{([^{}]*)\}`)

// placeholders looks at every text in which parameters stand for values.
func (r *reader) placeholders(n *yaml.Node, b Blueprint) {
	for i := 0; i+1 < len(n.Content); i += 2 {
		switch n.Content[i].Value {
		case "name", "options", "team":
			r.placed(n.Content[i+1], b)
		case "engines":
			for _, engine := range n.Content[i+1].Content {
				for j := 0; j+1 < len(engine.Content); j += 2 {
					if engine.Content[j].Value != "script" {
						r.placed(engine.Content[j+1], b)
					}
				}
			}
		}
	}
}

func (r *reader) placed(n *yaml.Node, b Blueprint) {
	if n.Kind == yaml.ScalarNode {
		for _, m := range placeholder.FindAllStringSubmatch(n.Value, -1) {
			if !slices.ContainsFunc(b.Parameters, func(p Parameter) bool { return p.Name == m[1] }) {
				r.wrong(n, "there is no parameter %s", naming.Show(m[1]))
			}
		}
		return
	}
	for _, x := range n.Content {
		r.placed(x, b)
	}
}
