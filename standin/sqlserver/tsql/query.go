package tsql

import (
	"strconv"
	"strings"

	"example.com/genarch/standin/sqlserver/tds"
)

func set(words string) map[string]bool {
	m := map[string]bool{}
	for _, w := range strings.Fields(words) {
		m[w] = true
	}
	return m
}

// reserved cannot be a name without brackets.
var reserved = set(`ADD ALL ALTER AND ANY AS ASC AUTHORIZATION BACKUP BEGIN BETWEEN BREAK BY CASE CHECK CHECKPOINT
CLOSE CLUSTERED COLLATE COLUMN COMMIT CONSTRAINT CONTINUE CONVERT CREATE CROSS CURRENT CURSOR DATABASE DBCC
			DEALLOCATE DECLARE
DEFAULT DELETE DENY DESC DISTINCT DROP ELSE END EXCEPT EXEC EXECUTE EXISTS EXIT FETCH FILE FOR FOREIGN FROM
			FULL FUNCTION GOTO
GRANT GROUP HAVING IDENTITY IF IN INDEX INNER INSERT INTERSECT INTO IS JOIN KEY KILL LEFT LIKE MERGE NOT NULL
			NULLIF OF OFF OFFSETS
ON OPEN OPTION OR ORDER OUTER OVER PERCENT PRIMARY PRINT PROC PROCEDURE RAISERROR REFERENCES RESTORE RETURN
			REVERT REVOKE RIGHT
ROLLBACK SAVE SCHEMA SELECT SET SHUTDOWN TABLE THEN TO TOP TRAN TRANSACTION TRIGGER TRUNCATE TRY_CONVERT UNION
			UNIQUE UPDATE USE USER
VALUES VIEW WAITFOR WHEN WHERE WHILE WITH`)

// starts begin a statement though they are not reserved.
var starts = set(`THROW USE`)

func (p *parser) query() *Select {
	line := p.peek().line
	var with []CTE
	if p.kw("WITH") {
		p.list(func() {
			c := CTE{Name: p.name()}
			if p.is("(") {
				c.Cols = p.names()
			}
			p.need("AS")
			p.need("(")
			c.Sel = p.query()
			p.need(")")
			with = append(with, c)
		})
	}
	s := p.union()
	s.With, s.Line = with, line
	if p.kw("ORDER", "BY") {
		s.Order = p.orderItems()
		if p.kw("OFFSET") {
			s.Offset = p.expr()
			if !p.kw("ROWS") {
				p.need("ROW")
			}
			if p.kw("FETCH") {
				if !p.kw("NEXT") {
					p.need("FIRST")
				}
				s.Fetch = p.expr()
				if !p.kw("ROWS") {
					p.need("ROW")
				}
				p.need("ONLY")
			}
		}
	}
	if p.kw("OPTION") {
		p.skipParens()
	}
	return s
}

func (p *parser) orderItems() []OrderItem {
	var out []OrderItem
	p.list(func() {
		o := OrderItem{X: p.expr()}
		if p.kw("DESC") {
			o.Desc = true
		} else {
			p.kw("ASC")
		}
		out = append(out, o)
	})
	return out
}

func (p *parser) union() *Select {
	first := p.simple()
	at := first
	for p.kw("UNION") {
		at.All = p.kw("ALL")
		at.Next = p.simple()
		at = at.Next
	}
	return first
}

func (p *parser) simple() *Select {
	if p.sym("(") {
		s := p.query()
		p.need(")")
		return s
	}
	if p.is("VALUES") {
		return &Select{Line: p.peek().line, Values: p.values()}
	}
	s := &Select{Line: p.peek().line}
	p.need("SELECT")
	if p.kw("DISTINCT") {
		s.Distinct = true
	} else {
		p.kw("ALL")
	}
	if p.kw("TOP") {
		if p.sym("(") {
			s.Top = p.expr()
			p.need(")")
		} else {
			s.Top = p.primary()
		}
	}
	p.list(func() { s.Items = append(s.Items, p.item()) })
	if p.kw("FROM") {
		s.From = p.tables()
		for p.sym(",") {
			s.From = Join{Kind: "CROSS", L: s.From, R: p.tables()}
		}
	}
	if p.kw("WHERE") {
		s.Where = p.expr()
	}
	if p.kw("GROUP", "BY") {
		p.list(func() { s.Group = append(s.Group, p.expr()) })
	}
	if p.kw("HAVING") {
		s.Having = p.expr()
	}
	return s
}

func (p *parser) item() Item {
	t := p.peek()
	if t.kind == variable && !strings.HasPrefix(t.text, "@@") && p.ahead(1).text == "=" {
		p.next()
		p.next()
		return Item{X: p.expr(), Set: t.upper}
	}
	if p.sym("*") {
		return Item{X: Star{}}
	}
	if (t.kind == word && !reserved[t.upper] || t.kind == quoted) && p.ahead(1).text == "." && p.ahead(2).kind == sym &&
		p.ahead(2).text == "*" {
		p.i += 3
		return Item{X: Star{t.text}}
	}
	if (t.kind == word && !reserved[t.upper] || t.kind == quoted) && p.ahead(1).kind == sym && p.ahead(1).text == "=" {
		p.i += 2
		return Item{X: p.expr(), Alias: t.text}
	}
	it := Item{X: p.expr()}
	it.Alias = p.alias()
	return it
}

func (p *parser) alias() string {
	as := p.kw("AS")
	t := p.peek()
	switch {
	case t.kind == quoted, t.kind == str, t.kind == word && !reserved[t.upper] && !starts[t.upper]:
		if t.kind == str && !as {
			return p.next().text
		}
		if !as && t.kind == word && (t.upper == "OFFSET" || t.upper == "FETCH") {
			return ""
		}
		return p.next().text
	case as:
		p.bad()
	}
	return ""
}

func (p *parser) tables() Table {
	left := p.table()
	for {
		kind := ""
		switch {
		case p.kw("INNER", "JOIN"), p.kw("JOIN"):
			kind = "INNER"
		case p.kw("LEFT", "OUTER", "JOIN"), p.kw("LEFT", "JOIN"):
			kind = "LEFT"
		case p.kw("RIGHT", "OUTER", "JOIN"), p.kw("RIGHT", "JOIN"):
			kind = "RIGHT"
		case p.kw("FULL", "OUTER", "JOIN"), p.kw("FULL", "JOIN"):
			kind = "FULL"
		case p.kw("CROSS", "JOIN"):
			left = Join{Kind: "CROSS", L: left, R: p.table()}
			continue
		case p.kw("CROSS", "APPLY"):
			left = Join{Kind: "CROSS APPLY", L: left, R: p.table()}
			continue
		case p.kw("OUTER", "APPLY"):
			left = Join{Kind: "OUTER APPLY", L: left, R: p.table()}
			continue
		default:
			return left
		}
		right := p.table()
		p.need("ON")
		left = Join{Kind: kind, L: left, R: right, On: p.expr()}
	}
}

func (p *parser) table() Table {
	if p.sym("(") {
		if p.is("SELECT") || p.is("VALUES") || p.is("WITH") || p.is("(") {
			d := Derived{Sel: p.query()}
			p.need(")")
			d.Alias = p.alias()
			if p.is("(") {
				d.Cols = p.names()
			}
			return d
		}
		t := p.tables()
		p.need(")")
		return t
	}
	n := Named{Parts: p.parts()}
	if p.sym("(") {
		n.Args = []Expr{}
		if !p.is(")") {
			p.list(func() {
				if p.kw("DEFAULT") {
					n.Args = append(n.Args, Default{})
				} else {
					n.Args = append(n.Args, p.expr())
				}
			})
		}
		p.need(")")
	}
	n.Alias = p.alias()
	n.Hints = p.hints()
	return n
}

func (p *parser) hints() []string {
	var out []string
	if p.is("WITH", "(") {
		p.i += 2
		for !p.sym(")") {
			out = append(out, strings.ToUpper(p.next().text))
			p.sym(",")
		}
	}
	return out
}

// The levels of precedence, the loosest first.

func (p *parser) expr() Expr {
	l := p.and()
	for p.kw("OR") {
		l = Bin{"OR", l, p.and()}
	}
	return l
}

func (p *parser) and() Expr {
	l := p.not()
	for p.kw("AND") {
		l = Bin{"AND", l, p.not()}
	}
	return l
}

func (p *parser) not() Expr {
	if p.kw("NOT") {
		return Un{"NOT", p.not()}
	}
	return p.compare()
}

func (p *parser) compare() Expr {
	if p.kw("EXISTS") {
		p.need("(")
		s := p.query()
		p.need(")")
		return Exists{s}
	}
	l := p.add()
	for {
		if op := p.any("<>", "!=", "<=", ">=", "=", "<", ">"); op != "" {
			if op == "!=" {
				op = "<>"
			}
			l = Bin{op, l, p.add()}
			continue
		}
		not := false
		if p.is("NOT", "IN") || p.is("NOT", "LIKE") || p.is("NOT", "BETWEEN") {
			p.next()
			not = true
		}
		switch {
		case p.kw("IS"):
			n := p.kw("NOT")
			p.need("NULL")
			l = IsNull{l, n}
		case p.kw("IN"):
			p.need("(")
			in := In{X: l, Not: not}
			if p.is("SELECT") || p.is("WITH") {
				in.Sub = p.query()
			} else {
				p.list(func() { in.List = append(in.List, p.expr()) })
			}
			p.need(")")
			l = in
		case p.kw("LIKE"):
			k := Like{X: l, Pat: p.add(), Not: not}
			if p.kw("ESCAPE") {
				k.Esc = p.add()
			}
			l = k
		case p.kw("BETWEEN"):
			b := Between{X: l, Lo: p.add(), Not: not}
			p.need("AND")
			b.Hi = p.add()
			l = b
		default:
			return l
		}
	}
}

func (p *parser) add() Expr {
	l := p.mul()
	for {
		op := p.any("+", "-", "&", "|", "^")
		if op == "" {
			return l
		}
		l = Bin{op, l, p.mul()}
	}
}

func (p *parser) mul() Expr {
	l := p.unary()
	for {
		op := p.any("*", "/", "%")
		if op == "" {
			return l
		}
		l = Bin{op, l, p.unary()}
	}
}

func (p *parser) unary() Expr {
	if op := p.any("-", "+", "~"); op != "" {
		return Un{op, p.unary()}
	}
	x := p.primary()
	for p.kw("COLLATE") {
		x = Collate{x, p.next().text}
	}
	return x
}

// primary: Long: one case after another of what may stand there.
func (p *parser) primary() Expr {
	t := p.peek()
	switch t.kind {
	case str:
		p.next()
		k := tds.VarChar
		if t.n {
			k = tds.NVarChar
		}
		return Lit{tds.Type{Kind: k, Len: max(1, utf16Len(t.text))}, t.text}
	case num:
		p.next()
		if strings.ContainsAny(t.text, ".eE") {
			f, _ := strconv.ParseFloat(t.text, 64)
			k := tds.Decimal
			if strings.ContainsAny(t.text, "eE") {
				k = tds.Float
			}
			return Lit{tds.Type{Kind: k}, f}
		}
		v, err := strconv.ParseInt(t.text, 10, 64)
		if err != nil {
			f, _ := strconv.ParseFloat(t.text, 64)
			return Lit{tds.Type{Kind: tds.Decimal}, f}
		}
		if v > 1<<31-1 {
			return Lit{tds.Type{Kind: tds.BigInt}, v}
		}
		return Lit{tds.Type{Kind: tds.Int}, v}
	case bin:
		p.next()
		return Lit{tds.Type{Kind: tds.VarBinary, Len: max(1, len(t.bytes))}, append([]byte{}, t.bytes...)}
	case variable:
		p.next()
		return Var{t.upper}
	case sym:
		if p.sym("(") {
			if p.is("SELECT") || p.is("WITH") {
				s := p.query()
				p.need(")")
				return Sub{s}
			}
			x := p.expr()
			p.need(")")
			return x
		}
		p.bad()
	case eof:
		p.bad()
	}
	if t.kind == word {
		switch t.upper {
		case "NULL":
			p.next()
			return Lit{}
		case "CASE":
			return p.caseExpr()
		case "CAST", "TRY_CAST":
			p.next()
			p.need("(")
			x := p.expr()
			p.need("AS")
			ty := p.typ()
			p.need(")")
			return Cast{X: x, T: ty, Try: t.upper == "TRY_CAST"}
		case "CONVERT", "TRY_CONVERT":
			p.next()
			p.need("(")
			c := Cast{T: p.typ(), Try: t.upper == "TRY_CONVERT"}
			p.need(",")
			c.X = p.expr()
			if p.sym(",") {
				c.Style = p.expr()
			}
			p.need(")")
			return c
		case "CURRENT_USER", "SYSTEM_USER", "SESSION_USER", "CURRENT_TIMESTAMP", "USER":
			if p.ahead(1).text != "(" && p.ahead(1).text != "." {
				p.next()
				return Func{Name: t.upper}
			}
		}
		if p.ahead(1).kind == sym && p.ahead(1).text == "(" &&
			(!reserved[t.upper] || t.upper == "LEFT" || t.upper == "RIGHT" || t.upper == "NULLIF" ||
				t.upper == "USER") {
			p.i++
			return p.call(t.upper, nil)
		}
	}
	parts := p.parts()
	if p.is("(") {
		return p.call(strings.ToUpper(strings.Join(parts, ".")), parts)
	}
	return Col{parts}
}

var dateparts = set(
	"YEAR YY YYYY MONTH MM M DAY DD D HOUR HH MINUTE MI N SECOND SS S MILLISECOND MS MICROSECOND MCS WEEK WK QUARTER " +
		"QQ DAYOFYEAR",
)

func (p *parser) call(name string, parts []string) Expr {
	f := Func{Name: name, Parts: parts}
	p.need("(")
	switch {
	case p.sym("*"):
		f.Star = true
	case p.is(")"):
	default:
		f.Distinct = p.kw("DISTINCT")
		if strings.HasPrefix(name, "DATE") && dateparts[p.peek().upper] && p.ahead(1).text == "," {
			f.Args = append(f.Args, Lit{tds.Type{Kind: tds.VarChar, Len: 20}, p.next().upper})
			p.next()
		}
		p.list(func() { f.Args = append(f.Args, p.expr()) })
	}
	p.need(")")
	if p.kw("WITHIN", "GROUP") {
		p.need("(")
		p.need("ORDER", "BY")
		f.Order = p.orderItems()
		p.need(")")
	}
	if p.kw("OVER") {
		p.need("(")
		f.Over = true
		if p.kw("ORDER", "BY") {
			f.Order = p.orderItems()
		}
		p.need(")")
	}
	return f
}

func (p *parser) caseExpr() Expr {
	p.next()
	var c Case
	if !p.is("WHEN") {
		c.Of = p.expr()
	}
	for p.kw("WHEN") {
		x := p.expr()
		p.need("THEN")
		c.Whens = append(c.Whens, [2]Expr{x, p.expr()})
	}
	if p.kw("ELSE") {
		c.Else = p.expr()
	}
	p.need("END")
	return c
}

// typ reads a type.
//
// Long: one case after another of what may stand there.
func (p *parser) typ() tds.Type {
	t := p.peek()
	if t.kind != word && t.kind != quoted {
		p.bad()
	}
	name := strings.ToLower(p.next().text)
	n, scale, given := 0, 0, false
	if p.sym("(") {
		given = true
		if p.kw("MAX") {
			n = -1
		} else {
			n = int(p.int())
			if p.sym(",") {
				scale = int(p.int())
			}
		}
		p.need(")")
	}
	if !given {
		n = 30 // of CAST; a column has 1
	}
	switch name {
	case "bit":
		return tds.Type{Kind: tds.Bit}
	case "tinyint":
		return tds.Type{Kind: tds.TinyInt}
	case "smallint":
		return tds.Type{Kind: tds.SmallInt}
	case "int", "integer":
		return tds.Type{Kind: tds.Int}
	case "bigint":
		return tds.Type{Kind: tds.BigInt}
	case "decimal", "numeric", "money":
		return tds.Type{Kind: tds.Decimal, Len: n, Scale: scale}
	case "float", "real":
		return tds.Type{Kind: tds.Float}
	case "sysname":
		return tds.Type{Kind: tds.NVarChar, Len: 128}
	case "nvarchar":
		return tds.Type{Kind: tds.NVarChar, Len: n}
	case "nchar":
		return tds.Type{Kind: tds.NVarChar, Len: n, Fixed: true}
	case "varchar":
		return tds.Type{Kind: tds.VarChar, Len: n}
	case "char":
		return tds.Type{Kind: tds.VarChar, Len: n, Fixed: true}
	case "varbinary":
		return tds.Type{Kind: tds.VarBinary, Len: n}
	case "binary":
		return tds.Type{Kind: tds.VarBinary, Len: n, Fixed: true}
	case "datetime", "smalldatetime":
		return tds.Type{Kind: tds.DateTime}
	case "date":
		return tds.Type{Kind: tds.Date}
	case "datetime2", "datetimeoffset":
		if !given {
			n = 7
		}
		if name == "datetime2" {
			return tds.Type{Kind: tds.DateTime2, Scale: n}
		}
		return tds.Type{Kind: tds.DateTimeOffset, Scale: n}
	case "uniqueidentifier":
		return tds.Type{Kind: tds.UniqueID}
	case "sql_variant":
		return tds.Type{Kind: tds.Variant}
	}
	panic(&Error{243, 16, 1, t.line, "Type " + t.text + " is not a defined system type."})
}

// ParseType reads a type that stands alone.
func ParseType(src string) (t tds.Type, err error) {
	toks, err := lex(src)
	if err != nil {
		return t, err
	}
	defer func() {
		if e, ok := recover().(*Error); ok {
			err = e
		}
	}()
	p := &parser{src: src, toks: toks}
	return p.typ(), nil
}

// ParseParams reads the declaration of parameters: @a int, @b nvarchar(10) OUTPUT.
func ParseParams(src string) (names []string, types []tds.Type, err error) {
	toks, err := lex(src)
	if err != nil {
		return nil, nil, err
	}
	defer func() {
		if e, ok := recover().(*Error); ok {
			err = e
		}
	}()
	p := &parser{src: src, toks: toks}
	if p.peek().kind == eof {
		return nil, nil, nil
	}
	p.list(func() {
		if p.peek().kind != variable {
			p.bad()
		}
		names = append(names, p.next().upper)
		types = append(types, p.typ())
		if p.kw("OUTPUT") || p.kw("OUT") {
			return
		}
	})
	return names, types, nil
}
