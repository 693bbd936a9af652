package server

import (
	"fmt"
	"math"
	"strings"

	"example.com/genarch/standin/sqlserver/tds"
	"example.com/genarch/standin/sqlserver/tsql"
)

// bound is an expression whose names and types are settled.
type bound struct {
	t tds.Type
	f func(*env) any
}

// env is what a bound expression reads: a row, and those around it.
type env struct {
	row    []any
	parent *env
	aggs   []any
}

// column is one column of a source.
type column struct {
	alias, name string
	t           tds.Type
}

// scope is the columns in sight.
type scope struct {
	cols   []column
	parent *scope
	ctes   map[string]*tsql.Select
	// aggs is set where aggregates may stand.
	aggs *[]aggregate
	rows *scope // what an aggregate's argument sees
}

var (
	tInt   = tds.Type{Kind: tds.Int}
	tBig   = tds.Type{Kind: tds.BigInt}
	tBit   = tds.Type{Kind: tds.Bit}
	tName  = tds.Type{Kind: tds.NVarChar, Len: 128}
	tMax   = tds.Type{Kind: tds.NVarChar, Len: -1}
	tFloat = tds.Type{Kind: tds.Float}
	tDT    = tds.Type{Kind: tds.DateTime}
	tDT2   = tds.Type{Kind: tds.DateTime2, Scale: 7}
	tSID   = tds.Type{Kind: tds.VarBinary, Len: 85}
	tAny   = tds.Type{Kind: tds.Variant}
	tUUID  = tds.Type{Kind: tds.UniqueID}
	tBool  = tds.Type{Kind: tds.Bit, Len: 99} // a condition, which is no value
	tNull  = tds.Type{Kind: tds.Null}
)

func isCond(t tds.Type) bool { return t == tBool }

func constant(t tds.Type, v any) bound { return bound{t, func(*env) any { return v }} }

// bind settles an expression.
//
// Long: one case for each form of an expression.
func (x *exec) bind(e tsql.Expr, sc *scope) bound {
	switch e := e.(type) {
	case tsql.Lit:
		return constant(e.T, e.V)
	case tsql.Var:
		return x.bindVar(e.Name)
	case tsql.Col:
		return x.bindCol(e, sc)
	case tsql.Un:
		a := x.bind(e.X, sc)
		switch e.Op {
		case "NOT":
			return bound{tBool, func(v *env) any {
				if r := a.f(v); r != nil {
					return !r.(bool)
				}
				return nil
			}}
		case "-":
			t := a.t
			return bound{t, func(v *env) any {
				switch r := a.f(v).(type) {
				case int64:
					return -r
				case float64:
					return -r
				}
				return nil
			}}
		}
		return a
	case tsql.Bin:
		return x.bindBin(e, sc)
	case tsql.IsNull:
		a := x.bind(e.X, sc)
		return bound{tBool, func(v *env) any { return (a.f(v) == nil) != e.Not }}
	case tsql.Between:
		both := tsql.Bin{Op: "AND", L: tsql.Bin{Op: ">=", L: e.X, R: e.Lo}, R: tsql.Bin{Op: "<=", L: e.X, R: e.Hi}}
		if e.Not {
			return x.bind(tsql.Un{Op: "NOT", X: both}, sc)
		}
		return x.bind(both, sc)
	case tsql.Like:
		return x.bindLike(e, sc)
	case tsql.In:
		return x.bindIn(e, sc)
	case tsql.Exists:
		q := x.bindSelect(e.Sub, sc, nil)
		return bound{tBool, func(v *env) any { return len(q.rows(v)) > 0 }}
	case tsql.Sub:
		q := x.bindSelect(e.Sel, sc, nil)
		if len(q.cols) != 1 {
			fail(116, 16, 1, "Only one expression can be specified in the select list when the subquery is not "+
				"introduced with EXISTS.")
		}
		return bound{q.cols[0].Type, func(v *env) any {
			rows := q.rows(v)
			if len(rows) == 0 {
				return nil
			}
			if len(rows) > 1 {
				fail(512, 16, 1, "Subquery returned more than 1 value. This is not permitted when the subquery "+
					"follows =, !=, <, <= , >, >= or when the subquery is used as an expression.")
			}
			return rows[0][0]
		}}
	case tsql.Case:
		return x.bindCase(e, sc)
	case tsql.Cast:
		a := x.bind(e.X, sc)
		style := 0
		if e.Style != nil {
			if n, ok := x.bind(e.Style, sc).f(&env{}).(int64); ok {
				style = int(n)
			}
		}
		return bound{e.T, func(v *env) (out any) {
			if e.Try {
				defer func() {
					if r := recover(); r != nil {
						if _, ok := r.(*Problem); !ok {
							panic(r)
						}
						out = nil
					}
				}()
			}
			return convert(a.f(v), a.t, e.T, style)
		}}
	case tsql.Collate:
		a := x.bind(e.X, sc)
		up := strings.ToUpper(e.Name)
		if !collationKnown(e.Name) && up != "DATABASE_DEFAULT" && up != "CATALOG_DEFAULT" {
			fail(448, 16, 1, "Invalid collation '%s'.", e.Name)
		}
		a.t.Binary = strings.Contains(up, "_BIN") || strings.Contains(up, "_CS")
		return a
	case tsql.Func:
		return x.bindFunc(e, sc)
	case tsql.Default:
		return constant(tNull, nil)
	}
	panic(fmt.Sprintf("cannot bind %T", e))
}

func (x *exec) bindCol(e tsql.Col, sc *scope) bound {
	name := e.Parts[len(e.Parts)-1]
	qual := ""
	if len(e.Parts) > 1 {
		qual = e.Parts[len(e.Parts)-2]
	}
	depth := 0
	for s := sc; s != nil; s = s.parent {
		hit := -1
		for k, c := range s.cols {
			if strings.EqualFold(c.name, name) && (qual == "" || strings.EqualFold(c.alias, qual)) {
				if hit >= 0 {
					fail(209, 16, 1, "Ambiguous column name '%s'.", name)
				}
				hit = k
			}
		}
		if hit >= 0 {
			d, k := depth, hit
			return bound{s.cols[k].t, func(v *env) any {
				for range d {
					v = v.parent
				}
				return v.row[k]
			}}
		}
		depth++
	}
	for s := sc; s != nil && qual != ""; s = s.parent {
		for _, c := range s.cols {
			if strings.EqualFold(c.alias, qual) {
				fail(207, 16, 1, "Invalid column name '%s'.", name)
			}
		}
	}
	if qual != "" {
		fail(4104, 16, 1, "The multi-part identifier \"%s\" could not be bound.", strings.Join(e.Parts, "."))
	}
	fail(207, 16, 1, "Invalid column name '%s'.", name)
	return bound{}
}

// bindBin: Long: one case for each form of an expression.
func (x *exec) bindBin(e tsql.Bin, sc *scope) bound {
	l, r := x.bind(e.L, sc), x.bind(e.R, sc)
	switch e.Op {
	case "AND", "OR":
		if !isCond(l.t) || !isCond(r.t) {
			fail(
				4145,
				15,
				1,
				"An expression of non-boolean type specified in a context where a condition is expected, near '%s'.",
				e.Op,
			)
		}
		and := e.Op == "AND"
		return bound{tBool, func(v *env) any {
			a := l.f(v)
			if a != nil && a.(bool) != and {
				return a
			}
			b := r.f(v)
			if b != nil && b.(bool) != and {
				return b
			}
			if a == nil || b == nil {
				return nil
			}
			return and
		}}
	case "=", "<>", "<", ">", "<=", ">=":
		t := mix(l.t, r.t)
		return bound{tBool, func(v *env) any {
			a, b := l.f(v), r.f(v)
			if a == nil || b == nil {
				return nil
			}
			c := compareAny(a, l.t, b, r.t, t)
			switch e.Op {
			case "=":
				return c == 0
			case "<>":
				return c != 0
			case "<":
				return c < 0
			case ">":
				return c > 0
			case "<=":
				return c <= 0
			}
			return c >= 0
		}}
	}
	t := mix(l.t, r.t)
	if t.Kind == tds.Bit || t.Kind == tds.Null {
		t = tInt
	}
	if e.Op == "+" && t.Text() {
		t.Len = -1
		if l.t.Len > 0 && r.t.Len > 0 && l.t.Text() && r.t.Text() && l.t.Len+r.t.Len <= 4000 {
			t.Len = l.t.Len + r.t.Len
		}
	}
	return bound{t, func(v *env) any {
		a, b := l.f(v), r.f(v)
		if a == nil || b == nil {
			return nil
		}
		a, b = convert(a, l.t, t, 0), convert(b, r.t, t, 0)
		switch p := a.(type) {
		case string:
			if e.Op == "+" {
				return p + b.(string)
			}
		case []byte:
			if e.Op == "+" {
				return append(append([]byte{}, p...), b.([]byte)...)
			}
		case int64:
			return intOp(e.Op, p, b.(int64), t)
		case float64:
			q := b.(float64)
			switch e.Op {
			case "+":
				return p + q
			case "-":
				return p - q
			case "*":
				return p * q
			case "/":
				if q == 0 {
					fail(8134, 16, 1, "Divide by zero error encountered.")
				}
				return p / q
			case "%":
				return math.Mod(p, q)
			}
		}
		fail(8117, 16, 1, "Operand data type is invalid for operator '%s'.", e.Op)
		return nil
	}}
}

func (x *exec) bindLike(e tsql.Like, sc *scope) bound {
	a, p := x.bind(e.X, sc), x.bind(e.Pat, sc)
	esc := constant(tNull, nil)
	if e.Esc != nil {
		esc = x.bind(e.Esc, sc)
	}
	return bound{tBool, func(v *env) any {
		s, q := a.f(v), p.f(v)
		if s == nil || q == nil {
			return nil
		}
		var ec rune
		if t, ok := esc.f(v).(string); ok && t != "" {
			ec = []rune(t)[0]
		}
		text, pat := convert(s, a.t, tMax, 0).(string), convert(q, p.t, tMax, 0).(string)
		if !a.t.Binary && !p.t.Binary {
			text, pat = strings.ToLower(text), strings.ToLower(pat)
		}
		return like([]rune(text), []rune(pat), ec) != e.Not
	}}
}

func like(s, p []rune, esc rune) bool {
	for len(p) > 0 {
		switch c := p[0]; {
		case esc != 0 && c == esc && len(p) > 1:
			p = p[1:]
			if len(s) == 0 || s[0] != p[0] {
				return false
			}
		case c == '%':
			for k := 0; k <= len(s); k++ {
				if like(s[k:], p[1:], esc) {
					return true
				}
			}
			return false
		case c == '_':
			if len(s) == 0 {
				return false
			}
		case c == '[':
			end := 1
			for end < len(p) && p[end] != ']' {
				end++
			}
			if len(s) == 0 || end == len(p) {
				return false
			}
			set := p[1:end]
			neg := len(set) > 0 && set[0] == '^'
			if neg {
				set = set[1:]
			}
			in := false
			for k := 0; k < len(set); k++ {
				if k+2 < len(set) && set[k+1] == '-' {
					in = in || s[0] >= set[k] && s[0] <= set[k+2]
					k += 2
				} else {
					in = in || s[0] == set[k]
				}
			}
			if in == neg {
				return false
			}
			p = p[end:]
		default:
			if len(s) == 0 || s[0] != c {
				return false
			}
		}
		s, p = s[1:], p[1:]
	}
	return strings.TrimRight(string(s), " ") == ""
}

func (x *exec) bindIn(e tsql.In, sc *scope) bound {
	a := x.bind(e.X, sc)
	var list func(*env) []any
	var types []tds.Type
	if e.Sub != nil {
		q := x.bindSelect(e.Sub, sc, nil)
		types = []tds.Type{q.cols[0].Type}
		list = func(v *env) []any {
			var out []any
			for _, r := range q.rows(v) {
				out = append(out, r[0])
			}
			return out
		}
	} else {
		var bs []bound
		for _, y := range e.List {
			b := x.bind(y, sc)
			bs = append(bs, b)
			types = append(types, b.t)
		}
		list = func(v *env) []any {
			var out []any
			for _, b := range bs {
				out = append(out, b.f(v))
			}
			return out
		}
	}
	return bound{tBool, func(v *env) any {
		s := a.f(v)
		unknown := s == nil
		for k, y := range list(v) {
			t := types[min(k, len(types)-1)]
			if s == nil || y == nil {
				unknown = true
			} else if compareAny(s, a.t, y, t, mix(a.t, t)) == 0 {
				return !e.Not
			}
		}
		if unknown {
			return nil
		}
		return e.Not
	}}
}

func (x *exec) bindCase(e tsql.Case, sc *scope) bound {
	type arm struct{ when, then bound }
	var arms []arm
	var t tds.Type
	for _, w := range e.Whens {
		cond := w[0]
		if e.Of != nil {
			cond = tsql.Bin{Op: "=", L: e.Of, R: w[0]}
		}
		a := arm{x.bind(cond, sc), x.bind(w[1], sc)}
		arms = append(arms, a)
		t = mix(t, a.then.t)
	}
	other := constant(tNull, nil)
	if e.Else != nil {
		other = x.bind(e.Else, sc)
		t = mix(t, other.t)
	}
	return bound{t, func(v *env) any {
		for _, a := range arms {
			if r := a.when.f(v); r != nil && r.(bool) {
				return convert(a.then.f(v), a.then.t, t, 0)
			}
		}
		return convert(other.f(v), other.t, t, 0)
	}}
}

// cond binds what has to be a condition.
func (x *exec) cond(e tsql.Expr, sc *scope) bound {
	b := x.bind(e, sc)
	if !isCond(b.t) {
		fail(4145, 15, 1, "An expression of non-boolean type specified in a context where a condition is expected.")
	}
	return b
}
