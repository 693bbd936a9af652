package server

import (
	"iter"
	"slices"
	"strings"

	"example.com/genarch/standin/sqlserver/tsql"
)

// lookUp gives, for a row on the left of a join, the rows on the right that can fit it: where the
// condition demands that two columns are equal whose values are numbers or bytes, only those of that value.
func lookUp(on tsql.Expr, left, right []column, rows [][]any) func(a []any, all [][]any) iter.Seq2[int, []any] {
	every := func(_ []any, all [][]any) iter.Seq2[int, []any] { return slices.All(all) }
	l, r, found := equated(on, left, right)
	if !found {
		return every
	}
	by := map[any][]int{}
	for k, b := range rows {
		key, plain := lookUpKey(b[r])
		if !plain {
			return every
		}
		by[key] = append(by[key], k)
	}
	return func(a []any, all [][]any) iter.Seq2[int, []any] {
		key, plain := lookUpKey(a[l])
		if !plain || len(all) != len(rows) {
			return slices.All(all)
		}
		return func(yield func(int, []any) bool) {
			for _, k := range by[key] {
				if !yield(k, all[k]) {
					return
				}
			}
		}
	}
}

// lookUpKey is a value by which rows are looked up; false: another one can be equal to it all the same.
func lookUpKey(v any) (any, bool) {
	switch v := v.(type) {
	case int64:
		return v, true
	case []byte:
		return string(v), true
	case nil:
		return nil, true // the condition itself refuses it
	}
	return nil, false
}

// equated finds two columns that a condition demands to be equal, one of each side.
func equated(on tsql.Expr, left, right []column) (l, r int, found bool) {
	b, is := on.(tsql.Bin)
	switch {
	case !is:
	case b.Op == "AND":
		if l, r, found = equated(b.L, left, right); found {
			return l, r, true
		}
		return equated(b.R, left, right)
	case b.Op == "=":
		x, isX := b.L.(tsql.Col)
		y, isY := b.R.(tsql.Col)
		if !isX || !isY {
			return 0, 0, false
		}
		for _, pair := range [][2]tsql.Col{{x, y}, {y, x}} {
			l, r = place(pair[0], left), place(pair[1], right)
			if l >= 0 && r >= 0 {
				return l, r, true
			}
		}
	}
	return 0, 0, false
}

// place is where a column stands that is named with its table; -1: nowhere.
func place(n tsql.Col, cols []column) int {
	if len(n.Parts) != 2 {
		return -1
	}
	return slices.IndexFunc(cols, func(c column) bool {
		return strings.EqualFold(c.alias, n.Parts[0]) && strings.EqualFold(c.name, n.Parts[1])
	})
}
