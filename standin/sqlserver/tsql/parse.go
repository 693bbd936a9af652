package tsql

import (
	"fmt"
	"strconv"
	"strings"

	"example.com/genarch/standin/sqlserver/tds"
)

type parser struct {
	src  string
	toks []token
	i    int
}

// Parse reads a whole batch. As on the server, nothing runs if anything in it
// cannot be read.
func Parse(src string) (stmts []Stmt, err error) {
	toks, err := lex(src)
	if err != nil {
		return nil, err
	}
	p := &parser{src: src, toks: toks}
	defer func() {
		if r := recover(); r != nil {
			e, ok := r.(*Error)
			if !ok {
				panic(r)
			}
			stmts, err = nil, e
		}
	}()
	for p.peek().kind != eof {
		if p.sym(";") {
			continue
		}
		stmts = append(stmts, p.statement())
	}
	return stmts, nil
}

func (p *parser) peek() *token       { return &p.toks[p.i] }
func (p *parser) ahead(n int) *token { return &p.toks[min(p.i+n, len(p.toks)-1)] }
func (p *parser) next() *token       { t := &p.toks[p.i]; p.i = min(p.i+1, len(p.toks)-1); return t }

func (p *parser) bad() {
	t := p.peek()
	switch {
	case t.kind == eof && p.i > 0:
		l := p.toks[p.i-1]
		panic(&Error{102, 15, 1, l.line, fmt.Sprintf("Incorrect syntax near '%s'.", l.text)})
	case t.kind == word && reserved[t.upper]:
		panic(&Error{156, 15, 1, t.line, fmt.Sprintf("Incorrect syntax near the keyword '%s'.", t.text)})
	}
	panic(&Error{102, 15, 1, t.line, fmt.Sprintf("Incorrect syntax near '%s'.", t.text)})
}

// is looks for words in a row without taking them.
func (p *parser) is(words ...string) bool {
	for k, w := range words {
		if t := p.ahead(k); t.kind != word && t.kind != sym || t.upper != w {
			return false
		}
	}
	return true
}

// kw takes words in a row.
func (p *parser) kw(words ...string) bool {
	if !p.is(words...) {
		return false
	}
	p.i += len(words)
	return true
}

func (p *parser) sym(s string) bool { return p.kw(s) }

func (p *parser) need(words ...string) {
	if !p.kw(words...) {
		p.bad()
	}
}

func (p *parser) any(words ...string) string {
	for _, w := range words {
		if p.kw(strings.Fields(w)...) {
			return w
		}
	}
	return ""
}

func (p *parser) name() string {
	t := p.peek()
	if t.kind != word && t.kind != quoted || t.kind == word && reserved[t.upper] {
		p.bad()
	}
	return p.next().text
}

// principal is a name, where PUBLIC is one.
func (p *parser) principal() string {
	if p.is("PUBLIC") {
		p.next()
		return "public"
	}
	return p.name()
}

func (p *parser) parts() []string {
	out := []string{p.name()}
	for p.sym(".") {
		if p.is(".") {
			out = append(out, "")
			continue
		}
		out = append(out, p.name())
	}
	return out
}

func (p *parser) str() string {
	if p.peek().kind != str {
		p.bad()
	}
	return p.next().text
}

func (p *parser) int() int64 {
	t := p.peek()
	neg := p.sym("-")
	if neg {
		t = p.peek()
	}
	v, err := strconv.ParseInt(t.text, 10, 64)
	if t.kind != num || err != nil {
		p.bad()
	}
	p.next()
	if neg {
		return -v
	}
	return v
}

func (p *parser) list(one func()) {
	for {
		one()
		if !p.sym(",") {
			return
		}
	}
}

func (p *parser) statement() Stmt {
	t := p.peek()
	start := t.at
	do := p.body(t)
	end := start
	if p.i > 0 {
		end = p.toks[p.i-1].end
	}
	p.sym(";")
	return Stmt{Line: t.line, Text: p.src[start:max(start, end)], Do: do}
}

func (p *parser) block() []Stmt {
	s := p.statement()
	for p.sym(";") {
	}
	if b, ok := s.Do.(Block); ok {
		return b.Body
	}
	return []Stmt{s}
}

func (p *parser) until(words ...string) []Stmt {
	var out []Stmt
	for !p.kw(words...) {
		if p.peek().kind == eof {
			p.bad()
		}
		if p.sym(";") {
			continue
		}
		out = append(out, p.statement())
	}
	return out
}

// body: Long: one case after another of what may stand there.
func (p *parser) body(t *token) any {
	if t.kind != word {
		if t.kind == sym && t.text == "(" {
			return SelectS{p.query()}
		}
		p.bad()
	}
	switch t.upper {
	case "SELECT", "WITH":
		return SelectS{p.query()}
	case "USE":
		p.next()
		return Use{p.name()}
	case "DECLARE":
		return p.declare()
	case "SET":
		return p.set()
	case "IF":
		p.next()
		s := If{Cond: p.expr()}
		s.Then = p.block()
		if p.kw("ELSE") {
			s.Else = p.block()
		}
		return s
	case "WHILE":
		p.next()
		return While{p.expr(), p.block()}
	case "BEGIN":
		p.next()
		switch {
		case p.kw("TRY"):
			s := Try{Body: p.until("END", "TRY")}
			p.sym(";")
			p.need("BEGIN", "CATCH")
			s.Catch = p.until("END", "CATCH")
			return s
		case p.kw("TRANSACTION"), p.kw("TRAN"):
			return Tran{"BEGIN", p.tranName()}
		}
		return Block{p.until("END")}
	case "COMMIT", "ROLLBACK", "SAVE":
		p.next()
		if !p.kw("TRANSACTION") && !p.kw("TRAN") {
			p.kw("WORK")
		}
		return Tran{t.upper, p.tranName()}
	case "PRINT":
		p.next()
		return Print{p.expr()}
	case "RAISERROR":
		p.next()
		p.need("(")
		var r Raise
		r.Msg = p.expr()
		p.need(",")
		r.Severity = p.expr()
		p.need(",")
		r.State = p.expr()
		for p.sym(",") {
			r.Args = append(r.Args, p.expr())
		}
		p.need(")")
		if p.kw("WITH") {
			p.list(func() { r.NoWait = p.any("NOWAIT", "LOG", "SETERROR") == "NOWAIT" || r.NoWait })
		}
		return r
	case "THROW":
		p.next()
		if p.is(";") || p.peek().kind == eof || p.is("END") {
			return Throw{}
		}
		var s Throw
		s.Number = p.expr()
		p.need(",")
		s.Msg = p.expr()
		p.need(",")
		s.State = p.expr()
		return s
	case "RETURN":
		p.next()
		if p.peek().kind == num {
			p.next()
		}
		return Return{}
	case "WAITFOR":
		p.next()
		p.need("DELAY")
		return WaitFor{p.primary()}
	case "EXEC", "EXECUTE":
		return p.exec()
	case "REVERT":
		p.next()
		return Revert{}
	case "KILL":
		return p.kill()
	case "CREATE":
		return p.create()
	case "ALTER":
		return p.alter()
	case "DROP":
		return p.drop()
	case "GRANT", "DENY", "REVOKE":
		return p.permission()
	case "INSERT", "UPDATE", "DELETE":
		return p.dml()
	case "BACKUP", "RESTORE":
		return p.backup(t.upper)
	case "CHECKPOINT":
		p.next()
		return Nothing{"CHECKPOINT"}
	case "RECONFIGURE":
		p.next()
		if p.kw("WITH") {
			p.need("OVERRIDE")
		}
		return Nothing{"RECONFIGURE"}
	}
	if reserved[t.upper] || p.ahead(1).kind == sym && p.ahead(1).text != ";" && p.ahead(1).text != "." {
		p.bad()
	}
	if p.i == 0 { // a procedure's name at the start of a batch
		return p.execBody()
	}
	p.bad()
	return nil
}

func (p *parser) tranName() string {
	t := p.peek()
	if t.kind == quoted || t.kind == word && !reserved[t.upper] && !starts[t.upper] {
		return p.next().text
	}
	if t.kind == variable {
		p.next()
	}
	return ""
}

func (p *parser) declare() any {
	p.next()
	var out []Stmt
	line := p.peek().line
	p.list(func() {
		if p.peek().kind != variable {
			p.bad()
		}
		d := Declare{Name: p.next().upper}
		p.kw("AS")
		d.T = p.typ()
		if p.sym("=") {
			d.X = p.expr()
		}
		out = append(out, Stmt{Line: line, Do: d})
	})
	if len(out) == 1 {
		return out[0].Do
	}
	return Block{out}
}

func (p *parser) set() any {
	p.next()
	if p.peek().kind == variable {
		name := p.next().upper
		op := p.any("=", "+=", "-=")
		if op == "" {
			p.bad()
		}
		x := p.expr()
		if op != "=" {
			x = Bin{op[:1], Var{name}, x}
		}
		return SetVar{name, x}
	}
	var s SetOpt
	if p.kw("TRANSACTION", "ISOLATION", "LEVEL") {
		return SetOpt{
			[]string{"ISOLATION"},
			p.any("READ UNCOMMITTED", "READ COMMITTED", "REPEATABLE READ", "SNAPSHOT", "SERIALIZABLE"),
		}
	}
	p.list(func() { s.Names = append(s.Names, strings.ToUpper(p.next().text)) })
	switch t := p.peek(); t.kind {
	case word, num, str, variable:
		s.Value = strings.ToUpper(p.next().text)
	case sym:
		s.Value = strconv.FormatInt(p.int(), 10)
	default:
		p.bad()
	}
	return s
}

func (p *parser) exec() any {
	p.next()
	if p.kw("AS") {
		var e ExecuteAs
		e.Kind = p.any("LOGIN", "USER", "CALLER")
		if e.Kind != "CALLER" {
			p.need("=")
			e.Name = p.str()
		}
		if p.kw("WITH") {
			p.need("NO", "REVERT")
			e.NoRevert = true
		}
		return e
	}
	if p.sym("(") {
		x := p.expr()
		p.need(")")
		return Exec{Text: x}
	}
	return p.execBody()
}

func (p *parser) execBody() any {
	var e Exec
	if p.peek().kind == variable && p.ahead(1).text == "=" {
		e.Result = p.next().upper
		p.next()
	}
	e.Proc = p.parts()
	for {
		t := p.peek()
		if t.kind == eof || t.kind == sym && t.text == ";" ||
			t.kind == word && (reserved[t.upper] && t.upper != "NULL" && t.upper != "DEFAULT" || starts[t.upper]) {
			return e
		}
		var a Arg
		if t.kind == variable && p.ahead(1).text == "=" {
			a.Name = p.next().upper
			p.next()
		}
		if t := p.peek(); t.kind == word && !p.is("NULL") && p.ahead(1).text != "(" { // a bare word is a text
			a.X = Lit{tds.Type{Kind: tds.NVarChar, Len: len(t.text)}, p.next().text}
		} else {
			a.X = p.expr()
		}
		if p.kw("OUTPUT") || p.kw("OUT") {
			a.Out = true
		}
		e.Args = append(e.Args, a)
		if !p.sym(",") {
			return e
		}
	}
}

func (p *parser) kill() any {
	p.next()
	var k Kill
	switch t := p.peek(); t.kind {
	case str:
		k.UOW = p.next().text
	default:
		k.ID = p.int()
	}
	if p.kw("WITH") {
		if !p.kw("STATUSONLY") {
			p.need("COMMIT")
		}
		k.Status = true
	}
	return k
}

// size reads 10, 10MB, 10 MB, UNLIMITED, 10%.
func (p *parser) size() (bytes int64, percent bool) {
	if p.kw("UNLIMITED") {
		return -1, false
	}
	v := p.int()
	if p.sym("%") {
		return v, true
	}
	switch p.any("KB", "MB", "GB", "TB") {
	case "KB":
		return v << 10, false
	case "GB":
		return v << 30, false
	case "TB":
		return v << 40, false
	}
	return v << 20, false
}

func (p *parser) file() File {
	var f File
	p.need("(")
	p.list(func() {
		opt := strings.ToUpper(p.next().text)
		if opt == "OFFLINE" {
			return
		}
		p.need("=")
		switch opt {
		case "NAME", "NEWNAME":
			t := p.peek()
			n := ""
			if t.kind == str {
				n = p.next().text
			} else {
				n = p.name()
			}
			if opt == "NAME" {
				f.Name = n
			} else {
				f.NewName = n
			}
		case "FILENAME":
			f.Path = p.str()
		case "SIZE":
			f.Size, _ = p.size()
			f.HasSize = true
		case "MAXSIZE":
			f.Max, _ = p.size()
			f.HasMax = true
		case "FILEGROWTH":
			f.Growth, f.Percent = p.size()
			f.HasGrowth = true
		default:
			p.i--
			p.bad()
		}
	})
	p.need(")")
	return f
}

func (p *parser) options() []Option {
	var out []Option
	p.list(func() {
		o := Option{Name: strings.ToUpper(p.next().text)}
		eq := p.sym("=")
		if o.Name == "RECOVERY" || o.Name == "PAGE_VERIFY" || o.Name == "CURSOR_DEFAULT" ||
			o.Name == "PARAMETERIZATION" ||
			eq ||
			p.is("ON") ||
			p.is("OFF") ||
			p.is("FULL") ||
			p.is("SIMPLE") {
			t := p.peek()
			switch {
			case t.kind == word || t.kind == num || t.kind == quoted || t.kind == str || t.kind == bin:
				o.Value = p.next().text
			default:
				p.bad()
			}
			if !eq {
				o.Value = strings.ToUpper(o.Value)
			}
			if u := strings.ToUpper(o.Value); t.kind == word && p.any("MINUTES", "SECONDS") != "" {
				o.Value = u
			}
		}
		if p.sym("(") {
			o.Sub = p.options()
			p.need(")")
		}
		out = append(out, o)
	})
	return out
}

// create: Long: one case after another of what may stand there.
func (p *parser) create() any {
	p.next()
	if p.kw("OR") {
		p.need("ALTER")
	}
	switch {
	case p.kw("DATABASE"):
		c := CreateDatabase{Name: p.name()}
		if p.kw("CONTAINMENT") {
			p.need("=")
			c.Containment = p.any("NONE", "PARTIAL")
		}
		if p.kw("ON") {
			group := "PRIMARY"
			p.kw("PRIMARY")
			p.list(func() {
				if p.kw("FILEGROUP") {
					group = p.name()
					if p.kw("CONTAINS") {
						p.next()
					}
					p.kw("DEFAULT")
				}
				f := p.file()
				f.Group = group
				c.Files = append(c.Files, f)
			})
		}
		if p.kw("LOG", "ON") {
			p.list(func() { f := p.file(); f.Log = true; c.Files = append(c.Files, f) })
		}
		if p.kw("COLLATE") {
			c.Collation = p.name()
		}
		if p.kw("AS", "SNAPSHOT", "OF") {
			c.Snapshot = p.name()
		}
		if p.kw("FOR") {
			c.Attach = p.any("ATTACH_REBUILD_LOG", "ATTACH")
		} else if p.kw("WITH") {
			c.Options = p.options()
		}
		return c
	case p.kw("LOGIN"):
		c := CreateLogin{Name: p.name()}
		if p.kw("FROM") {
			p.need("WINDOWS")
			c.Windows = true
			if p.kw("WITH") {
				c.Options = p.options()
			}
			return c
		}
		p.need("WITH")
		p.need("PASSWORD")
		p.need("=")
		c.Password, c.Hash = p.password()
		c.MustChange = p.kw("MUST_CHANGE")
		if p.sym(",") {
			c.Options = p.options()
			for i, o := range c.Options {
				if o.Name == "SID" {
					t, _ := lex(o.Value)
					c.SID = t[0].bytes
					c.Options = append(c.Options[:i], c.Options[i+1:]...)
					break
				}
			}
		}
		return c
	case p.kw("USER"):
		c := CreateUser{Name: p.name()}
		switch {
		case p.kw("WITHOUT"):
			p.need("LOGIN")
			c.Without = true
		case p.kw("FOR"), p.kw("FROM"):
			p.need("LOGIN")
			c.Login = p.name()
		}
		if p.kw("WITH") {
			p.list(func() {
				switch o := p.any("PASSWORD", "DEFAULT_SCHEMA", "SID", "DEFAULT_LANGUAGE"); o {
				case "PASSWORD": // a user's takes no hash
					p.need("=")
					w := p.str()
					c.Password = &w
				case "DEFAULT_SCHEMA", "DEFAULT_LANGUAGE":
					p.need("=")
					c.Schema = p.name()
				case "SID":
					p.need("=")
					c.SID = p.next().bytes
				default:
					p.bad()
				}
			})
		}
		return c
	case p.kw("SERVER", "ROLE"), p.kw("ROLE"):
		c := CreateRole{Server: p.ahead(-2).upper == "SERVER"}
		c.Name = p.name()
		if p.kw("AUTHORIZATION") {
			c.Owner = p.name()
		}
		return c
	case p.kw("SCHEMA"):
		var c CreateSchema
		if p.kw("AUTHORIZATION") {
			c.Owner = p.name()
			c.Name = c.Owner
			return c
		}
		c.Name = p.name()
		if p.kw("AUTHORIZATION") {
			c.Owner = p.name()
		}
		return c
	case p.kw("TABLE"):
		c := CreateTable{Name: p.parts()}
		p.need("(")
		p.list(func() {
			if p.kw("CONSTRAINT") {
				p.name()
				p.need("PRIMARY", "KEY")
				p.kw("CLUSTERED")
				p.skipParens()
				return
			}
			d := ColumnDef{Name: p.name()}
			d.T = p.typ()
			for {
				switch {
				case p.kw("NOT", "NULL"), p.kw("NULL"):
				case p.kw("PRIMARY", "KEY"):
					d.Primary = true
					p.kw("CLUSTERED")
				case p.kw("IDENTITY"):
					if p.is("(") {
						p.skipParens()
					}
				case p.kw("COLLATE"):
					p.name()
				case p.kw("DEFAULT"):
					p.primary()
				default:
					c.Cols = append(c.Cols, d)
					return
				}
			}
		})
		p.need(")")
		return c
	}
	kind := p.any("VIEW", "PROCEDURE", "PROC", "FUNCTION", "SYNONYM", "TRIGGER")
	if kind == "" {
		p.bad()
	}
	if kind == "PROC" {
		kind = "PROCEDURE"
	}
	c := CreateModule{Kind: kind, Name: p.parts()}
	from := p.peek().at
	for p.peek().kind != eof { // a module is a batch of its own
		p.next()
	}
	c.Text = p.src[from:]
	return c
}

func (p *parser) skipParens() {
	p.need("(")
	for depth := 1; depth > 0; {
		switch {
		case p.peek().kind == eof:
			p.bad()
		case p.is("("):
			depth++
		case p.is(")"):
			depth--
		}
		p.next()
	}
}

func (p *parser) password() (*string, []byte) {
	if t := p.peek(); t.kind == bin {
		p.next()
		p.need("HASHED")
		return nil, append([]byte{}, t.bytes...)
	}
	s := p.str()
	return &s, nil
}

// alter: Long: one case after another of what may stand there.
func (p *parser) alter() any {
	p.next()
	switch {
	case p.kw("DATABASE"):
		return p.alterDatabase()
	case p.kw("LOGIN"):
		a := AlterLogin{Name: p.name()}
		if s := p.any("ENABLE", "DISABLE"); s != "" {
			on := s == "ENABLE"
			a.Enable = &on
			return a
		}
		p.need("WITH")
		p.list(func() {
			if p.kw("PASSWORD") {
				p.need("=")
				a.Password, a.Hash = p.password()
				for {
					switch {
					case p.kw("OLD_PASSWORD"):
						p.need("=")
						s := p.str()
						a.Old = &s
					case p.kw("MUST_CHANGE"):
						a.MustChange = true
					case p.kw("UNLOCK"):
						a.Unlock = true
					default:
						return
					}
				}
			}
			if p.kw("NAME") {
				p.need("=")
				a.NewName = p.name()
				return
			}
			o := Option{Name: strings.ToUpper(p.next().text)}
			p.need("=")
			o.Value = p.next().text
			a.Options = append(a.Options, o)
		})
		return a
	case p.kw("USER"):
		a := AlterUser{Name: p.name()}
		p.need("WITH")
		p.list(func() {
			switch o := p.any("NAME", "LOGIN", "DEFAULT_SCHEMA", "PASSWORD"); o {
			case "":
				p.bad()
			default:
				p.need("=")
				switch o {
				case "NAME":
					a.NewName = p.name()
				case "LOGIN":
					a.Login = p.name()
				case "DEFAULT_SCHEMA":
					a.Schema = p.name()
				case "PASSWORD":
					a.Password, _ = p.password()
				}
			}
		})
		return a
	case p.kw("SERVER", "ROLE"), p.kw("ROLE"):
		a := AlterRole{Server: p.ahead(-2).upper == "SERVER"}
		a.Name = p.name()
		switch p.any("ADD MEMBER", "DROP MEMBER", "WITH NAME") {
		case "ADD MEMBER":
			a.Add = p.name()
		case "DROP MEMBER":
			a.Drop = p.name()
		case "WITH NAME":
			p.need("=")
			a.NewName = p.name()
		default:
			p.bad()
		}
		return a
	case p.kw("AUTHORIZATION"):
		p.need("ON")
		a := Authorize{Class: "OBJECT"}
		if c := p.class(); c != "" {
			a.Class = c
		}
		a.Object = p.parts()
		p.need("TO")
		if p.kw("SCHEMA", "OWNER") {
			a.Owner = true
		} else {
			a.To = p.name()
		}
		return a
	}
	p.bad()
	return nil
}

var classes = []string{
	"DATABASE",
	"SERVER ROLE",
	"SERVER",
	"LOGIN",
	"USER",
	"ROLE",
	"APPLICATION ROLE",
	"SCHEMA",
	"OBJECT",
	"TYPE",
	"ENDPOINT",
	"ASSEMBLY",
	"CERTIFICATE",
	"XML SCHEMA COLLECTION",
	"AVAILABILITY GROUP",
}

func (p *parser) class() string {
	for _, c := range classes {
		w := append(strings.Fields(c), "::")
		if p.kw(w...) {
			return c
		}
	}
	return ""
}

func (p *parser) alterDatabase() any {
	a := AlterDatabase{}
	if !p.kw("CURRENT") {
		a.Name = p.name()
	}
	switch {
	case p.kw("MODIFY", "NAME"):
		p.need("=")
		a.NewName = p.name()
	case p.kw("COLLATE"):
		a.Collation = p.name()
	case p.kw("MODIFY", "FILE"):
		f := p.file()
		a.Modify = &f
	case p.kw("ADD", "LOG", "FILE"):
		p.list(func() { f := p.file(); f.Log = true; a.Add = append(a.Add, f) })
	case p.kw("ADD", "FILE"):
		p.list(func() { f := p.file(); f.Group = "PRIMARY"; a.Add = append(a.Add, f) })
		if p.kw("TO", "FILEGROUP") {
			g := p.name()
			for i := range a.Add {
				a.Add[i].Group = g
			}
		}
	case p.kw("ADD", "FILEGROUP"):
		a.AddGroup = p.name()
	case p.kw("REMOVE", "FILEGROUP"):
		a.RemoveGroup = p.name()
	case p.kw("REMOVE", "FILE"):
		a.Remove = p.name()
	case p.kw("SET"):
		a.Options = p.options()
		if p.kw("WITH") {
			switch {
			case p.kw("NO_WAIT"):
				a.Termination = "NO_WAIT"
			case p.kw("ROLLBACK", "IMMEDIATE"):
				a.Termination = "IMMEDIATE"
			case p.kw("ROLLBACK", "AFTER"):
				a.Termination, a.After = "AFTER", int(p.int())
				p.kw("SECONDS")
			default:
				p.bad()
			}
		}
	default:
		p.bad()
	}
	return a
}

func (p *parser) drop() any {
	p.next()
	kind := p.any(
		"DATABASE",
		"LOGIN",
		"USER",
		"SERVER ROLE",
		"ROLE",
		"SCHEMA",
		"TABLE",
		"VIEW",
		"PROCEDURE",
		"FUNCTION",
		"SYNONYM",
		"TRIGGER",
	)
	if kind == "" {
		p.bad()
	}
	exists := p.kw("IF", "EXISTS")
	switch kind {
	case "DATABASE":
		d := DropDatabase{IfExists: exists}
		p.list(func() { d.Names = append(d.Names, p.name()) })
		return d
	case "LOGIN", "USER", "SERVER ROLE", "ROLE", "SCHEMA":
		return DropPrincipal{kind, p.name(), exists}
	}
	d := DropObject{Kind: kind, IfExists: exists}
	p.list(func() { d.Names = append(d.Names, p.parts()) })
	return d
}

func (p *parser) permission() any {
	g := Permission{Verb: p.next().upper}
	if g.Verb == "REVOKE" && p.kw("GRANT", "OPTION", "FOR") {
		g.Option = true
	}
	p.list(func() {
		var words []string
		for t := p.peek(); t.kind == word && !p.is("ON") && !p.is("TO") && !p.is("FROM"); t = p.peek() {
			words = append(words, p.next().upper)
		}
		if len(words) == 0 {
			p.bad()
		}
		s := PermSpec{Name: strings.Join(words, " ")}
		if p.is("(") {
			s.Cols = p.names()
		}
		g.Perms = append(g.Perms, s)
	})
	if p.kw("ON") {
		g.Class = p.class()
		g.Object = p.parts()
		if g.Class == "" {
			g.Class = "OBJECT"
		}
		if p.is("(") {
			g.Cols = p.names()
		}
	}
	if !p.kw("TO") && !(g.Verb == "REVOKE" && p.kw("FROM")) {
		p.bad()
	}
	p.list(func() { g.To = append(g.To, p.principal()) })
	if p.kw("WITH", "GRANT", "OPTION") {
		g.Option = true
	}
	g.Cascade = p.kw("CASCADE")
	if p.kw("AS") {
		g.As = p.name()
	}
	return g
}

func (p *parser) names() []string {
	var out []string
	p.need("(")
	p.list(func() { out = append(out, p.name()) })
	p.need(")")
	return out
}

func (p *parser) dml() any {
	switch p.next().upper {
	case "INSERT":
		p.kw("INTO")
		s := Insert{Into: p.parts()}
		p.hints()
		if p.is("(") && !p.is("(", "SELECT") {
			s.Cols = p.names()
		}
		if p.is("VALUES") {
			s.From = &Select{Line: p.peek().line, Values: p.values()}
			return s
		}
		s.From = p.query()
		return s
	case "UPDATE":
		s := Update{Into: p.parts()}
		p.hints()
		p.need("SET")
		p.list(func() {
			c := p.parts()
			p.need("=")
			s.Sets = append(s.Sets, Item{X: p.expr(), Alias: c[len(c)-1]})
		})
		if p.kw("WHERE") {
			s.Where = p.expr()
		}
		return s
	}
	p.kw("FROM")
	s := Delete{Into: p.parts()}
	p.hints()
	if p.kw("WHERE") {
		s.Where = p.expr()
	}
	return s
}

func (p *parser) values() [][]Expr {
	var out [][]Expr
	p.need("VALUES")
	p.list(func() {
		p.need("(")
		var row []Expr
		p.list(func() { row = append(row, p.expr()) })
		p.need(")")
		out = append(out, row)
	})
	return out
}
