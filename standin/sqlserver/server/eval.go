package server

import (
	"bytes"
	"encoding/hex"
	"fmt"
	"math"
	"sort"
	"strconv"
	"strings"
	"time"

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

type aggregate struct {
	name     string
	arg      *bound
	distinct bool
	sep      *bound
	order    []sortKey
}

type sortKey struct {
	b    bound
	desc bool
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

func mix(a, b tds.Type) tds.Type {
	if a.Kind == tds.Null {
		return b
	}
	if b.Kind == tds.Null {
		return a
	}
	t := a
	if b.Kind > a.Kind {
		t = b
	}
	if t.Text() && a.Text() && b.Text() {
		if a.Len < 0 || b.Len < 0 {
			t.Len = -1
		} else {
			t.Len = max(a.Len, b.Len)
		}
		t.Binary = a.Binary || b.Binary
	}
	t.Fixed = false
	return t
}

// compareValues gives -1, 0, 1; neither may be nil; both are of type t.
func compareValues(a, b any, t tds.Type) int {
	switch p := a.(type) {
	case string:
		q := b.(string)
		p, q = strings.TrimRight(p, " "), strings.TrimRight(q, " ")
		if !t.Binary {
			p, q = strings.ToLower(p), strings.ToLower(q)
		}
		return strings.Compare(p, q)
	case int64:
		q := b.(int64)
		switch {
		case p < q:
			return -1
		case p > q:
			return 1
		}
		return 0
	case float64:
		q := b.(float64)
		switch {
		case p < q:
			return -1
		case p > q:
			return 1
		}
		return 0
	case bool:
		q := b.(bool)
		switch {
		case p == q:
			return 0
		case q:
			return -1
		}
		return 1
	case []byte:
		return bytes.Compare(bytes.TrimRight(p, "\x00"), bytes.TrimRight(b.([]byte), "\x00"))
	case time.Time:
		return p.Compare(b.(time.Time))
	case tds.UUID:
		q := b.(tds.UUID)
		return bytes.Compare(p[:], q[:])
	}
	panic(fmt.Sprintf("cannot compare %T", a))
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

func intOp(op string, p, q int64, t tds.Type) any {
	var r int64
	switch op {
	case "+":
		r = p + q
	case "-":
		r = p - q
	case "*":
		r = p * q
	case "/", "%":
		if q == 0 {
			fail(8134, 16, 1, "Divide by zero error encountered.")
		}
		r = p / q
		if op == "%" {
			r = p % q
		}
	case "&":
		r = p & q
	case "|":
		r = p | q
	case "^":
		r = p ^ q
	}
	if t.Kind == tds.Int && (r > math.MaxInt32 || r < math.MinInt32) {
		fail(8115, 16, 2, "Arithmetic overflow error converting expression to data type int.")
	}
	return r
}

func compareAny(a any, ta tds.Type, b any, tb, t tds.Type) int {
	if t.Kind == tds.Variant { // compare by what is inside
		ta, tb = typeOf(a), typeOf(b)
		t = mix(ta, tb)
	}
	return compareValues(convert(a, ta, cmpType(t), 0), convert(b, tb, cmpType(t), 0), t)
}

// cmpType widens a type so that nothing is cut for a comparison.
func cmpType(t tds.Type) tds.Type {
	if t.Text() || t.Kind == tds.VarBinary {
		t.Len, t.Fixed = -1, false
	}
	return t
}

func typeOf(v any) tds.Type {
	switch v.(type) {
	case bool:
		return tBit
	case int64:
		return tBig
	case float64:
		return tFloat
	case string:
		return tMax
	case []byte:
		return tds.Type{Kind: tds.VarBinary, Len: -1}
	case time.Time:
		return tDT2
	case tds.UUID:
		return tUUID
	}
	return tNull
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

// convert turns a value into another type, or fails as the server does.
//
// Long: one case for each form of an expression.
func convert(v any, from, to tds.Type, style int) any {
	if v == nil {
		return nil
	}
	if from.Kind == tds.Variant {
		from = typeOf(v)
	}
	switch to.Kind {
	case tds.Null, tds.Variant:
		return v
	case tds.NVarChar, tds.VarChar:
		s := toText(v, from, style)
		if to.Len > 0 && utf16len(s) > to.Len {
			s = string([]rune(s)[:min(to.Len, len([]rune(s)))])
		}
		if to.Fixed && len(s) < to.Len {
			s += strings.Repeat(" ", to.Len-len(s))
		}
		return s
	case tds.Bit:
		switch p := v.(type) {
		case bool:
			return p
		case int64:
			return p != 0
		case float64:
			return p != 0
		case string:
			switch strings.ToLower(strings.TrimSpace(p)) {
			case "true", "1":
				return true
			case "false", "0", "":
				return false
			}
		}
	case tds.TinyInt, tds.SmallInt, tds.Int, tds.BigInt:
		var n int64
		switch p := v.(type) {
		case bool:
			if p {
				n = 1
			}
		case int64:
			n = p
		case float64:
			n = int64(p)
		case string:
			q, err := strconv.ParseInt(strings.TrimSpace(p), 10, 64)
			if err != nil && strings.TrimSpace(p) != "" {
				fail(245, 16, 1, "Conversion failed when converting the %s value '%s' to data type "+
					"%s.", typeName(from), p, typeName(to))
			}
			n = q
		case []byte:
			for _, c := range p[max(0, len(p)-8):] {
				n = n<<8 | int64(c)
			}
		default:
			fail(529, 16, 2, "Explicit conversion from data type %s to %s is not "+
				"allowed.", typeName(from), typeName(to))
		}
		lim := map[tds.Kind][2]int64{tds.TinyInt: {0, 255}, tds.SmallInt: {-32768, 32767}, tds.Int: {math.MinInt32,
			math.MaxInt32}, tds.BigInt: {math.MinInt64, math.MaxInt64}}[to.Kind]
		if n < lim[0] || n > lim[1] {
			fail(8115, 16, 2, "Arithmetic overflow error converting expression to data type %s.", typeName(to))
		}
		return n
	case tds.Decimal, tds.Float:
		switch p := v.(type) {
		case bool:
			if p {
				return 1.0
			}
			return 0.0
		case int64:
			return float64(p)
		case float64:
			if to.Kind == tds.Decimal && from.Kind == tds.Float || to.Kind == tds.Decimal && to.Scale > 0 {
				return math.Round(p*math.Pow10(to.Scale)) / math.Pow10(to.Scale)
			}
			return p
		case string:
			f, err := strconv.ParseFloat(strings.TrimSpace(p), 64)
			if err != nil {
				fail(8114, 16, 5, "Error converting data type %s to %s.", typeName(from), typeName(to))
			}
			return f
		}
	case tds.VarBinary:
		var b []byte
		switch p := v.(type) {
		case []byte:
			b = p
		case int64:
			size := map[tds.Kind]int{tds.TinyInt: 1, tds.SmallInt: 2, tds.Int: 4}[from.Kind]
			if size == 0 {
				size = 8
			}
			for k := size - 1; k >= 0; k-- {
				b = append(b, byte(p>>(8*k)))
			}
		case tds.UUID:
			b = p.Wire()
		case string:
			switch {
			case style == 1 || style == 2:
				h := p
				if style == 1 {
					h = strings.TrimPrefix(strings.TrimPrefix(p, "0x"), "0X")
				}
				d, err := hex.DecodeString(h)
				if err != nil || style == 1 && h == p {
					fail(8114, 16, 5, "Error converting data type %s to varbinary.", typeName(from))
				}
				b = d
			case from.Kind == tds.NVarChar:
				b = tds.ToUCS2(p)
			default:
				b = []byte(p)
			}
		}
		if to.Len > 0 && len(b) > to.Len {
			b = b[:to.Len]
		}
		for to.Fixed && len(b) < to.Len {
			b = append(b, 0)
		}
		return b
	case tds.UniqueID:
		switch p := v.(type) {
		case tds.UUID:
			return p
		case string:
			d, err := hex.DecodeString(strings.ReplaceAll(strings.Trim(p, "{} "), "-", ""))
			if err != nil || len(d) != 16 {
				fail(8169, 16, 2, "Conversion failed when converting from a character string to uniqueidentifier.")
			}
			var u tds.UUID
			copy(u[:], d)
			return u
		}
	case tds.Date, tds.DateTime, tds.DateTime2, tds.DateTimeOffset:
		var at time.Time
		switch p := v.(type) {
		case time.Time:
			at = p
			if from.Kind == tds.DateTimeOffset && to.Kind != tds.DateTimeOffset {
				at = time.Date(p.Year(), p.Month(), p.Day(), p.Hour(), p.Minute(), p.Second(), p.Nanosecond(), time.UTC)
			}
		case string:
			ok := false
			for _, l := range []string{"2006-01-02T15:04:05.999999999Z07:00", "2006-01-02T15:04:05.999999999",
				"2006-01-02 15:04:05.999999999 -07:00", "2006-01-02 15:04:05.999999999", "2006-01-02T15:04",
				"2006-01-02", "20060102", "20060102 15:04:05.999999999"} {
				if q, err := time.Parse(l, strings.TrimSpace(p)); err == nil {
					at, ok = q, true
					break
				}
			}
			if !ok {
				fail(241, 16, 1, "Conversion failed when converting date and/or time from character string.")
			}
		case int64:
			at = time.Date(1900, 1, 1, 0, 0, 0, 0, time.UTC).AddDate(0, 0, int(p))
		default:
			fail(529, 16, 2, "Explicit conversion from data type %s to %s is not "+
				"allowed.", typeName(from), typeName(to))
		}
		switch to.Kind {
		case tds.DateTime:
			at = tds.RoundDateTime(at)
		case tds.Date:
			at = time.Date(at.Year(), at.Month(), at.Day(), 0, 0, 0, 0, time.UTC)
		default:
			at = at.Round(time.Duration(math.Pow10(9 - to.Scale)))
		}
		return at
	}
	fail(529, 16, 2, "Explicit conversion from data type %s to %s is not allowed.", typeName(from), typeName(to))
	return nil
}

func typeName(t tds.Type) string {
	names := map[tds.Kind]string{
		tds.Null:           "int",
		tds.VarBinary:      "varbinary",
		tds.VarChar:        "varchar",
		tds.NVarChar:       "nvarchar",
		tds.UniqueID:       "uniqueidentifier",
		tds.Bit:            "bit",
		tds.TinyInt:        "tinyint",
		tds.SmallInt:       "smallint",
		tds.Int:            "int",
		tds.BigInt:         "bigint",
		tds.Decimal:        "numeric",
		tds.Float:          "float",
		tds.Date:           "date",
		tds.DateTime:       "datetime",
		tds.DateTime2:      "datetime2",
		tds.DateTimeOffset: "datetimeoffset",
		tds.Variant:        "sql_variant",
	}
	return names[t.Kind]
}

func toText(v any, from tds.Type, style int) string {
	switch p := v.(type) {
	case string:
		return p
	case bool:
		if p {
			return "1"
		}
		return "0"
	case int64:
		return strconv.FormatInt(p, 10)
	case float64:
		return strconv.FormatFloat(p, 'f', -1, 64)
	case tds.UUID:
		return p.String()
	case []byte:
		switch style {
		case 1:
			return "0x" + strings.ToUpper(hex.EncodeToString(p))
		case 2:
			return strings.ToUpper(hex.EncodeToString(p))
		}
		if from.Kind == tds.VarBinary {
			return tds.UCS2(p)
		}
		return string(p)
	case time.Time:
		frac := "2006-01-02 15:04:05"
		switch {
		case style == 126 || style == 127:
			frac = "2006-01-02T15:04:05"
		case from.Kind == tds.Date:
			return p.Format("2006-01-02")
		case from.Kind == tds.DateTime && style == 0:
			return p.Format("Jan _2 2006  3:04PM")
		case style == 112:
			return p.Format("20060102")
		case style == 120:
			return p.Format(frac)
		}
		switch {
		case from.Kind == tds.DateTime:
			s := p.Round(time.Millisecond).Format(frac + ".000")
			if style == 126 {
				s = strings.TrimSuffix(s, ".000")
			}
			return s
		case from.Scale > 0:
			frac += "." + strings.Repeat("0", from.Scale)
		}
		if from.Kind == tds.DateTimeOffset {
			frac += " -07:00"
		}
		return p.Format(frac)
	}
	return fmt.Sprint(v)
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

// cond binds what has to be a condition.
func (x *exec) cond(e tsql.Expr, sc *scope) bound {
	b := x.bind(e, sc)
	if !isCond(b.t) {
		fail(4145, 15, 1, "An expression of non-boolean type specified in a context where a condition is expected.")
	}
	return b
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
