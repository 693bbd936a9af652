package server

import (
	"sort"
	"strings"

	"example.com/genarch/standin/sqlserver/tds"
)

type aggregate struct {
	name     string
	arg      *bound
	distinct bool
	sep      *bound
	order    []sortKey
}

func groupRows(envs []*env, group []bound, aggs []aggregate, width int, base *env) []*env {
	type bucket struct{ envs []*env }
	var order []string
	buckets := map[string]*bucket{}
	cols := make([]tds.Column, len(group))
	for k, g := range group {
		cols[k].Type = g.t
	}
	for _, e := range envs {
		vals := make([]any, len(group))
		for k, g := range group {
			vals[k] = g.f(e)
		}
		k := keyOf(vals, cols)
		if buckets[k] == nil {
			buckets[k] = &bucket{}
			order = append(order, k)
		}
		buckets[k].envs = append(buckets[k].envs, e)
	}
	if len(group) == 0 && len(order) == 0 {
		order, buckets[""] = []string{""}, &bucket{}
	}
	var out []*env
	for _, k := range order {
		b := buckets[k]
		e := &env{row: make([]any, width), parent: base}
		if len(b.envs) > 0 {
			e.row = b.envs[0].row
		}
		for _, a := range aggs {
			e.aggs = append(e.aggs, a.over(b.envs))
		}
		out = append(out, e)
	}
	return out
}

// over: Long: one case for each form of an expression.
func (a aggregate) over(envs []*env) any {
	if a.arg == nil {
		return int64(len(envs))
	}
	if len(a.order) > 0 {
		envs = append([]*env{}, envs...)
		sort.SliceStable(envs, func(p, q int) bool {
			var k1, k2 []any
			for _, o := range a.order {
				k1, k2 = append(k1, o.b.f(envs[p])), append(k2, o.b.f(envs[q]))
			}
			return less(k1, k2, a.order) < 0
		})
	}
	seen := map[string]bool{}
	var n int64
	var acc any
	var texts []string
	sep := ""
	for _, e := range envs {
		v := a.arg.f(e)
		if v == nil {
			continue
		}
		if a.distinct {
			k := keyOf([]any{v}, []tds.Column{{Type: a.arg.t}})
			if seen[k] {
				continue
			}
			seen[k] = true
		}
		n++
		switch a.name {
		case "MIN", "MAX":
			if acc == nil ||
				(compareValues(v, acc, a.arg.t) < 0) == (a.name == "MIN") && compareValues(v, acc, a.arg.t) != 0 {
				acc = v
			}
		case "SUM", "AVG":
			switch p := v.(type) {
			case bool:
				fail(8117, 16, 1, "Operand data type bit is invalid for %s operator.", strings.ToLower(a.name))
			case int64:
				q, _ := acc.(int64)
				acc = q + p
			case float64:
				q, _ := acc.(float64)
				acc = q + p
			default:
				fail(8117, 16, 1, "Operand data type %s is invalid for %s "+
					"operator.", typeName(a.arg.t), strings.ToLower(a.name))
			}
		case "STRING_AGG":
			if a.sep != nil {
				sep, _ = a.sep.f(e).(string)
			}
			texts = append(texts, toText(v, a.arg.t, 0))
		}
	}
	switch a.name {
	case "COUNT", "COUNT_BIG":
		return n
	case "STRING_AGG":
		if n == 0 {
			return nil
		}
		return strings.Join(texts, sep)
	case "AVG":
		switch p := acc.(type) {
		case int64:
			return p / n
		case float64:
			return p / float64(n)
		}
	}
	return acc
}
