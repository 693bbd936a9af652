package server

import (
	"fmt"
	"strings"

	"example.com/genarch/standin/sqlserver/tds"
	"example.com/genarch/standin/sqlserver/tsql"
)

func (x *exec) bindValues(s *tsql.Select, parent *scope) query {
	sc := &scope{parent: parent}
	var rows [][]bound
	var cols []tds.Column
	for _, r := range s.Values {
		var row []bound
		for k, e := range r {
			b := x.bind(e, sc)
			row = append(row, b)
			if len(cols) <= k {
				cols = append(cols, tds.Column{})
			}
			cols[k].Type = mix(cols[k].Type, b.t)
		}
		if len(rows) > 0 && len(row) != len(rows[0]) {
			fail(10709, 16, 1, "The number of columns for each row in a table value constructor must be the same.")
		}
		rows = append(rows, row)
	}
	return query{cols, func(v *env) [][]any {
		var out [][]any
		for _, r := range rows {
			row := make([]any, len(r))
			for k, b := range r {
				row[k] = convert(b.f(&env{parent: v}), b.t, cols[k].Type, 0)
			}
			out = append(out, row)
		}
		return out
	}}
}

// source is a bound item of FROM.
type source struct {
	cols []column
	rows func(*env) [][]any
}

func (x *exec) bindTable(t tsql.Table, parent *scope) source {
	switch t := t.(type) {
	case tsql.Derived:
		q := x.bindSelect(t.Sel, parent, nil)
		return named(q, t.Alias, t.Cols)
	case tsql.Named:
		if t.Args == nil && len(t.Parts) == 1 {
			for s := parent; s != nil; s = s.parent {
				if sel := s.ctes[strings.ToUpper(t.Parts[0])]; sel != nil {
					rest := map[string]*tsql.Select{}
					for k, v := range s.ctes {
						if k != strings.ToUpper(t.Parts[0]) {
							rest[k] = v
						}
					}
					q := x.bindSelect(sel, nil, rest)
					alias := t.Alias
					if alias == "" {
						alias = t.Parts[0]
					}
					return named(q, alias, nil)
				}
			}
		}
		return x.bindNamed(t, parent)
	case tsql.Join:
		return x.bindJoin(t, parent)
	}
	panic(fmt.Sprintf("cannot bind %T", t))
}

func named(q query, alias string, names []string) source {
	var s source
	for k, c := range q.cols {
		n := c.Name
		if k < len(names) {
			n = names[k]
		}
		s.cols = append(s.cols, column{alias, n, c.Type})
	}
	s.rows = q.rows
	return s
}

func (x *exec) bindJoin(j tsql.Join, parent *scope) source {
	l := x.bindTable(j.L, parent)
	apply := strings.HasSuffix(j.Kind, "APPLY")
	inner := parent
	if apply {
		inner = &scope{cols: l.cols, parent: parent, ctes: parent.ctes}
	}
	r := x.bindTable(j.R, inner)
	out := source{cols: append(append([]column{}, l.cols...), r.cols...)}
	var on bound
	if j.On != nil {
		on = x.cond(j.On, &scope{cols: out.cols, parent: parent, ctes: parent.ctes})
	}
	out.rows = func(v *env) [][]any {
		var res [][]any
		var right [][]any
		if !apply {
			right = r.rows(v)
		}
		hit := make([]bool, len(right))
		fitting := lookUp(j.On, l.cols, r.cols, right)
		for _, a := range l.rows(v) {
			if apply {
				right = r.rows(&env{row: a, parent: v})
			}
			any1 := false
			for k, b := range fitting(a, right) {
				row := append(append(make([]any, 0, len(a)+len(b)), a...), b...)
				if on.f != nil {
					if ok, _ := on.f(&env{row: row, parent: v}).(bool); !ok {
						continue
					}
				}
				any1 = true
				if !apply {
					hit[k] = true
				}
				res = append(res, row)
			}
			if !any1 && (j.Kind == "LEFT" || j.Kind == "FULL" || j.Kind == "OUTER APPLY") {
				res = append(res, append(append([]any{}, a...), make([]any, len(r.cols))...))
			}
		}
		if j.Kind == "RIGHT" || j.Kind == "FULL" {
			for k, b := range right {
				if !hit[k] {
					res = append(res, append(make([]any, len(l.cols), len(l.cols)+len(b)), b...))
				}
			}
		}
		return res
	}
	return out
}
