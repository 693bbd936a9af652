package server

import (
	"fmt"
	"sort"
	"strings"

	"example.com/genarch/standin/sqlserver/tds"
	"example.com/genarch/standin/sqlserver/tsql"
)

type sortKey struct {
	b    bound
	desc bool
}

// query is a bound SELECT.
type query struct {
	cols []tds.Column
	rows func(*env) [][]any
}

// bindSelect: Long: one case for each form of an expression.
func (x *exec) bindSelect(s *tsql.Select, parent *scope, ctes map[string]*tsql.Select) query {
	all := map[string]*tsql.Select{}
	if parent != nil {
		for k, v := range parent.ctes {
			all[k] = v
		}
	}
	for k, v := range ctes {
		all[k] = v
	}
	for _, c := range s.With {
		sel := c.Sel
		if len(c.Cols) > 0 {
			var items []tsql.Item
			for k, n := range c.Cols {
				items = append(items, tsql.Item{X: tsql.Col{Parts: []string{fmt.Sprintf("c%d", k+1)}}, Alias: n})
			}
			var names []string
			for k := range c.Cols {
				names = append(names, fmt.Sprintf("c%d", k+1))
			}
			sel = &tsql.Select{Items: items, From: tsql.Derived{Sel: c.Sel, Alias: "c", Cols: names}}
		}
		all[strings.ToUpper(c.Name)] = sel
	}
	first := x.bindOne(s, parent, all, s.Next == nil)
	if s.Next == nil {
		return first
	}
	cols := first.cols
	parts := []query{first}
	alls := []bool{}
	for n := s; n.Next != nil; n = n.Next {
		q := x.bindOne(n.Next, parent, all, false)
		if len(q.cols) != len(cols) {
			fail(
				205,
				16,
				1,
				"All queries combined using a UNION, INTERSECT or EXCEPT operator must have an equal number of "+
					"expressions in their target lists.",
			)
		}
		for k := range cols {
			cols[k].Type = mix(cols[k].Type, q.cols[k].Type)
		}
		parts, alls = append(parts, q), append(alls, n.All)
	}
	out := &scope{ctes: all}
	for _, c := range cols {
		out.cols = append(out.cols, column{"", c.Name, c.Type})
	}
	keys := x.bindOrder(s.Order, out, nil, cols)
	return query{cols, func(v *env) [][]any {
		var rows [][]any
		for k, q := range parts {
			for _, r := range q.rows(v) {
				conv := make([]any, len(r))
				for c := range r {
					conv[c] = convert(r[c], q.cols[c].Type, cols[c].Type, 0)
				}
				rows = append(rows, conv)
			}
			if k > 0 && !alls[k-1] {
				rows = distinct(rows, cols)
			}
		}
		sortRows(rows, keys, func(r []any) *env { return &env{row: r, parent: v} })
		return rows
	}}
}

func (x *exec) bindOrder(items []tsql.OrderItem, sc *scope, outItems []tsql.Item, cols []tds.Column) []sortKey {
	var keys []sortKey
	for _, o := range items {
		e := o.X
		if lit, ok := e.(tsql.Lit); ok {
			n, _ := lit.V.(int64)
			if n < 1 || int(n) > len(cols) {
				fail(
					108,
					16,
					1,
					"The ORDER BY position number %d is out of range of the number of items in the select list.",
					n,
				)
			}
			if outItems != nil {
				e = outItems[n-1].X
			} else {
				k := int(n - 1)
				keys = append(keys, sortKey{bound{cols[k].Type, func(v *env) any { return v.row[k] }}, o.Desc})
				continue
			}
		} else if c, ok := e.(tsql.Col); ok && len(c.Parts) == 1 {
			for _, it := range outItems {
				if strings.EqualFold(it.Alias, c.Parts[0]) {
					e = it.X
				}
			}
		}
		keys = append(keys, sortKey{x.bind(e, sc), o.Desc})
	}
	return keys
}

func sortRows(rows [][]any, keys []sortKey, at func([]any) *env) {
	if len(keys) == 0 {
		return
	}
	type pair struct{ row, key []any }
	list := make([]pair, len(rows))
	for k, r := range rows {
		v := at(r)
		list[k].row = r
		for _, b := range keys {
			list[k].key = append(list[k].key, b.b.f(v))
		}
	}
	sort.SliceStable(list, func(a, b int) bool { return less(list[a].key, list[b].key, keys) < 0 })
	for k := range list {
		rows[k] = list[k].row
	}
}

func less(a, b []any, keys []sortKey) int {
	for k, key := range keys {
		c := 0
		switch {
		case a[k] == nil && b[k] == nil:
		case a[k] == nil:
			c = -1
		case b[k] == nil:
			c = 1
		default:
			c = compareValues(a[k], b[k], key.b.t)
		}
		if c != 0 {
			if key.desc {
				return -c
			}
			return c
		}
	}
	return 0
}

func keyOf(row []any, cols []tds.Column) string {
	var b strings.Builder
	for k, v := range row {
		s := "\x00"
		if v != nil {
			s = toText(v, cols[k].Type, 121)
			if cols[k].Type.Text() && !cols[k].Type.Binary {
				s = strings.ToLower(strings.TrimRight(s, " "))
			}
		}
		fmt.Fprintf(&b, "%d:%s|", len(s), s)
	}
	return b.String()
}

func distinct(rows [][]any, cols []tds.Column) [][]any {
	seen := map[string]bool{}
	var out [][]any
	for _, r := range rows {
		if k := keyOf(r, cols); !seen[k] {
			seen[k] = true
			out = append(out, r)
		}
	}
	return out
}

// bindOne: Long: one case for each form of an expression.
func (x *exec) bindOne(s *tsql.Select, parent *scope, ctes map[string]*tsql.Select, own bool) query {
	if s.Values != nil {
		return x.bindValues(s, parent)
	}
	src := source{rows: func(*env) [][]any { return [][]any{{}} }}
	outer := &scope{parent: parent, ctes: ctes} // carries the CTEs only
	if s.From != nil {
		src = x.bindTable(s.From, outer)
	}
	sc := &scope{cols: src.cols, parent: outer, ctes: ctes}
	var where bound
	if s.Where != nil {
		where = x.cond(s.Where, sc)
	}
	// Spread the stars.
	var items []tsql.Item
	for _, it := range s.Items {
		st, ok := it.X.(tsql.Star)
		if !ok {
			items = append(items, it)
			continue
		}
		n := len(items)
		for k, c := range src.cols {
			if st.Qual == "" || strings.EqualFold(st.Qual, c.alias) {
				items = append(items, tsql.Item{X: position(k), Alias: c.name})
			}
		}
		if len(items) == n {
			fail(
				107,
				15,
				1,
				"The column prefix '%s' does not match with a table name or alias name used in the query.",
				st.Qual,
			)
		}
	}
	var aggs []aggregate
	gs := &scope{cols: src.cols, parent: outer, ctes: ctes, aggs: &aggs, rows: sc}
	var cols []tds.Column
	var outs []bound
	for _, it := range items {
		var b bound
		if p, ok := it.X.(position); ok {
			k := int(p)
			b = bound{src.cols[k].t, func(v *env) any { return v.row[k] }}
		} else {
			b = x.bind(it.X, gs)
		}
		if isCond(b.t) {
			fail(156, 15, 1, "Incorrect syntax near the keyword 'SELECT'.")
		}
		name := it.Alias
		if c, ok := it.X.(tsql.Col); ok && name == "" {
			name = c.Parts[len(c.Parts)-1]
			for _, sc := range src.cols {
				if strings.EqualFold(sc.name, name) {
					name = sc.name
				}
			}
		}
		cols = append(cols, tds.Column{Name: name, Type: b.t})
		outs = append(outs, b)
	}
	var group []bound
	for _, g := range s.Group {
		group = append(group, x.bind(g, sc))
	}
	having := bound{}
	if s.Having != nil {
		having = x.cond(s.Having, gs)
	}
	var order []sortKey
	if own && len(s.Order) > 0 {
		named := make([]tsql.Item, len(items))
		for k, it := range items {
			named[k] = it
			if p, ok := it.X.(position); ok {
				named[k].X = tsql.Col{Parts: []string{src.cols[p].alias, src.cols[p].name}}
				if src.cols[p].alias == "" {
					named[k].X = tsql.Col{Parts: []string{src.cols[p].name}}
				}
			}
		}
		order = x.bindOrder(s.Order, gs, named, cols)
	}
	constInt := func(e tsql.Expr) int {
		if e == nil {
			return -1
		}
		n, _ := convert(x.bind(e, &scope{}).f(&env{}), tNull, tBig, 0).(int64)
		return int(n)
	}
	top, offset, fetch := constInt(s.Top), constInt(s.Offset), constInt(s.Fetch)
	grouped := len(group) > 0 || len(aggs) > 0
	return query{cols, func(v *env) [][]any {
		base := &env{parent: v}
		var envs []*env
		for _, r := range src.rows(base) {
			e := &env{row: r, parent: base}
			if where.f != nil {
				if ok, _ := where.f(e).(bool); !ok {
					continue
				}
			}
			envs = append(envs, e)
		}
		if grouped {
			envs = groupRows(envs, group, aggs, len(src.cols), base)
		}
		type pair struct {
			row []any
			e   *env
		}
		var list []pair
		for _, e := range envs {
			if having.f != nil {
				if ok, _ := having.f(e).(bool); !ok {
					continue
				}
			}
			row := make([]any, len(outs))
			for k, b := range outs {
				row[k] = b.f(e)
			}
			list = append(list, pair{row, e})
		}
		if s.Distinct {
			seen := map[string]bool{}
			kept := list[:0]
			for _, p := range list {
				if k := keyOf(p.row, cols); !seen[k] {
					seen[k] = true
					kept = append(kept, p)
				}
			}
			list = kept
		}
		if len(order) > 0 {
			keys := make([][]any, len(list))
			idx := make([]int, len(list))
			for k, p := range list {
				idx[k] = k
				for _, o := range order {
					keys[k] = append(keys[k], o.b.f(p.e))
				}
			}
			sort.SliceStable(idx, func(a, b int) bool { return less(keys[idx[a]], keys[idx[b]], order) < 0 })
			next := make([]pair, len(list))
			for k, j := range idx {
				next[k] = list[j]
			}
			list = next
		}
		if offset > 0 {
			list = list[min(offset, len(list)):]
		}
		for _, n := range []int{top, fetch} {
			if n >= 0 && len(list) > n {
				list = list[:n]
			}
		}
		out := make([][]any, len(list))
		for k, p := range list {
			out[k] = p.row
		}
		return out
	}}
}

type position int
