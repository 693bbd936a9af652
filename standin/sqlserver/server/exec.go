package server

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"example.com/genarch/standin/sqlserver/tds"
	"example.com/genarch/standin/sqlserver/tsql"
)

var errCancelled = errors.New("cancelled")

// Session is one connection that has logged in.
type Session struct {
	inst                   *Instance
	ID                     int
	cur                    who
	stack                  []who
	original               string
	originalSID            any
	contained              *Database
	DB, home               *Database
	Host, Program, Library string
	PID                    uint32
	LoginTime              time.Time
	ConnID                 tds.UUID
	addr                   string
	port, localPort        int
	encrypted, system      bool

	tx        *Tx
	trancount int
	options
	rowcount  int64
	lastError int

	req                  *Request
	ctx                  context.Context
	lastBegan, lastEnded time.Time
	lastText             string
	handle               []byte
	killed, rolling      bool

	conn *tds.Conn
	// gone is closed when the session is not there any more.
	gone chan struct{}
}

// options are what SET sets; a called text gives them back as they were.
type options struct {
	xactAbort, nocount     bool
	isolation, lockTimeout int
}

type variable struct {
	t tds.Type
	v any
}

// exec is one batch on its way.
type exec struct {
	s        *Session
	inst     *Instance
	vars     map[string]*variable
	catching []*Problem
	tries    int
	depth    int
	rpc      bool
	out      []func(c *tds.Conn, more int)
	// done is the end of the last statement, kept back until it is known whether
	// more follows.
	done   func(c *tds.Conn, more int)
	cut    bool
	failed bool
}

type ctl int

const (
	goOn ctl = iota
	leave
	abort
)

func (x *exec) emit(f func(c *tds.Conn, more int)) {
	if x.done != nil {
		x.out = append(x.out, x.done)
		x.done = nil
	}
	x.out = append(x.out, f)
}

func (x *exec) finish(status, cmd int, rows int64) {
	x.flushDone()
	if x.s.nocount {
		status &^= tds.DoneCount
	}
	kind := byte(tds.Done)
	if x.rpc {
		kind = tds.DoneInProc
	}
	x.done = func(c *tds.Conn, more int) { c.Finish(kind, status|more, cmd, uint64(rows)) }
}

func (x *exec) flushDone() {
	if x.done != nil {
		x.out = append(x.out, x.done)
		x.done = nil
	}
}

// flush writes what there is, without the lock.
func (x *exec) flush(send bool) error {
	out := x.out
	x.out = nil
	if len(out) == 0 && !send {
		return nil
	}
	x.inst.mu.Unlock()
	defer x.inst.mu.Lock()
	for _, f := range out {
		f(x.s.conn, tds.DoneMore)
	}
	if send {
		return x.s.conn.Flush(false)
	}
	return nil
}

func (x *exec) info(number, state int, format string, args ...any) {
	x.say(&Problem{Number: number, Class: 0, State: state, Text: fmt.Sprintf(format, args...)}, 0)
}

func (x *exec) say(p *Problem, line int) {
	if p.Line != 0 {
		line = p.Line
	}
	m := tds.ServerMessage{
		Number: p.Number,
		Class:  p.Class,
		State:  p.State,
		Line:   max(line, 1),
		Text:   p.Text,
		Server: x.inst.serverName(),
	}
	x.emit(func(c *tds.Conn, _ int) { c.Say(m) })
	for _, a := range p.Also {
		x.say(a, line)
	}
}

func (x *exec) env(kind byte, now, old string) {
	x.emit(func(c *tds.Conn, _ int) { c.EnvText(kind, now, old) })
}

func (x *exec) bindVar(name string) bound {
	if strings.HasPrefix(name, "@@") {
		s := x.s
		switch name {
		case "@@SPID":
			return bound{tds.Type{Kind: tds.SmallInt}, func(*env) any { return n(s.ID) }}
		case "@@TRANCOUNT":
			return bound{tInt, func(*env) any { return n(s.trancount) }}
		case "@@ROWCOUNT":
			return bound{tInt, func(*env) any { return s.rowcount }}
		case "@@ERROR":
			return bound{tInt, func(*env) any { return n(s.lastError) }}
		case "@@SERVERNAME":
			return constant(tName, x.inst.serverName())
		case "@@SERVICENAME":
			return constant(tName, map[bool]string{true: "MSSQLSERVER", false: x.inst.Name}[x.inst.Name == ""])
		case "@@VERSION":
			return constant(
				tMax,
				"Microsoft SQL Server 2022 (RTM) - "+x.inst.Version+" (X64) \n\tstand-in of Genarch, not the real "+
					"server",
			)
		case "@@LOCK_TIMEOUT":
			return constant(tInt, n(s.lockTimeout))
		case "@@MAX_CONNECTIONS":
			return constant(tInt, n(32767))
		case "@@IDENTITY":
			return constant(tBig, nil)
		case "@@NESTLEVEL":
			return constant(tInt, n(x.depth))
		case "@@LANGUAGE":
			return constant(tName, "us_english")
		}
	}
	v := x.vars[name]
	if v == nil {
		fail(137, 15, 2, "Must declare the scalar variable \"%s\".", strings.ToLower(name))
	}
	return bound{v.t, func(*env) any { return v.v }}
}

func (x *exec) eval(e tsql.Expr) (any, tds.Type) {
	b := x.bind(e, &scope{})
	return b.f(&env{}), b.t
}

// guard runs f; a problem in it is returned.
func (x *exec) guard(f func()) (p *Problem, cancelled bool) {
	defer func() {
		switch r := recover().(type) {
		case nil:
		case *Problem:
			p = r
		case error:
			if r == errCancelled {
				cancelled = true
				return
			}
			panic(r)
		default:
			panic(r)
		}
	}()
	f()
	return nil, false
}

func (x *exec) block(stmts []tsql.Stmt) ctl {
	for _, st := range stmts {
		if c := x.stmt(st); c != goOn {
			return c
		}
	}
	return goOn
}

// abortsBatch are errors after which the rest of the batch does not run.
var abortsBatch = []int{102, 105, 137, 156, 207, 208, 226, 245, 241, 1205, 3930, 4104, 8169, 12824}

// stmt: Long: one case for each kind of statement.
func (x *exec) stmt(st tsql.Stmt) ctl {
	s := x.s
	if s.ctx.Err() != nil {
		return x.cancelled()
	}
	switch do := st.Do.(type) {
	case tsql.Block:
		return x.block(do.Body)
	case tsql.If:
		ok := false
		if c := x.run(st, func() { b := x.cond(do.Cond, &scope{}); ok, _ = b.f(&env{}).(bool) }); c != goOn {
			return c
		}
		if ok {
			return x.block(do.Then)
		}
		return x.block(do.Else)
	case tsql.While:
		for {
			ok := false
			if c := x.run(st, func() { b := x.cond(do.Cond, &scope{}); ok, _ = b.f(&env{}).(bool) }); c != goOn {
				return c
			}
			if !ok {
				return goOn
			}
			if c := x.block(do.Body); c != goOn {
				return c
			}
		}
	case tsql.Try:
		return x.try(do)
	case tsql.Return:
		return leave
	}
	if s.inst.hooks.Before != nil && x.depth == 0 {
		before, id := s.inst.hooks.Before, s.ID
		x.inst.mu.Unlock()
		f := before(id, st.Text)
		if f.Slow > 0 {
			select {
			case <-time.After(f.Slow):
			case <-s.ctx.Done():
			}
		}
		if f.CutBefore {
			_ = s.conn.Close()
		}
		if f.Hang {
			<-s.ctx.Done()
		}
		x.inst.mu.Lock()
		if s.ctx.Err() != nil {
			return x.cancelled()
		}
		if f.CutBefore {
			x.cut = true
			return abort
		}
		if f.Fail != nil {
			return x.run(st, func() { c := *f.Fail; panic(&c) })
		}
		if f.CutAfter {
			c := x.run(st, func() { x.do(st) })
			_ = s.conn.Close()
			x.cut = true
			return max(c, abort)
		}
	}
	return x.run(st, func() { x.do(st) })
}

// run carries one statement out and deals with what goes wrong.
func (x *exec) run(st tsql.Stmt, f func()) ctl {
	s := x.s
	if s.req != nil {
		s.req.Command = commandOf(st)
		s.req.DB = s.DB.ID
	}
	p, cancelled := x.guard(f)
	x.inst.broadcast()
	if cancelled {
		return x.cancelled()
	}
	if p == nil {
		s.lastError = 0
		if err := x.flush(false); err != nil {
			return abort
		}
		return goOn
	}
	if p.Line == 0 {
		p.Line = st.Line
	}
	s.lastError = p.Number
	if x.tries > 0 && p.Class < 20 {
		if s.xactAbort && s.tx != nil && !x.isCompile(p) {
			s.tx.doomed = true
		}
		panic(p)
	}
	x.say(p, st.Line)
	x.failed = true
	x.finish(tds.DoneError, 0, 0)
	if s.xactAbort && p.Number != 50000 || p.Number == 1205 {
		s.rollback()
	}
	if p.Class >= 20 || s.xactAbort || p.Rethrown || slices.Contains(abortsBatch, p.Number) {
		if s.tx != nil && (p.Number == 245 || p.Number == 241) {
			s.rollback()
		}
		return abort
	}
	_ = x.flush(false)
	return goOn
}

func (x *exec) isCompile(p *Problem) bool { return p.Class == 15 }

func (x *exec) cancelled() ctl {
	x.cut = true
	if x.s.xactAbort && x.s.tx != nil && !x.s.killed {
		x.s.rollback()
	}
	return abort
}

func (x *exec) try(do tsql.Try) (c ctl) {
	x.tries++
	p, cancelled := x.guard(func() { c = x.block(do.Body) })
	x.tries--
	if cancelled {
		return x.cancelled()
	}
	if p == nil {
		return c
	}
	x.catching = append(x.catching, p)
	defer func() { x.catching = x.catching[:len(x.catching)-1] }()
	return x.block(do.Catch)
}

func commandOf(st tsql.Stmt) string {
	switch d := st.Do.(type) {
	case tsql.SelectS:
		return "SELECT"
	case tsql.CreateDatabase:
		return "CREATE DATABASE"
	case tsql.AlterDatabase:
		return "ALTER DATABASE"
	case tsql.DropDatabase:
		return "DROP DATABASE"
	case tsql.WaitFor:
		return "WAITFOR"
	case tsql.Kill:
		return "KILL"
	case tsql.Insert:
		return "INSERT"
	case tsql.Update:
		return "UPDATE"
	case tsql.Delete:
		return "DELETE"
	case tsql.Tran:
		return d.Op + " TRANSACTION"
	case tsql.Permission:
		return d.Verb
	}
	f := strings.Fields(st.Text)
	return strings.ToUpper(strings.Join(f[:min(2, len(f))], " "))
}

func (x *exec) noTran(what string) {
	if x.s.trancount > 0 {
		fail(226, 16, 6, "%s statement not allowed within multi-statement transaction.", what)
	}
}

// do carries out one statement, under the lock.
//
// Long: one case for each kind of statement.
func (x *exec) do(st tsql.Stmt) {
	s := x.s
	if s.tx != nil && s.tx.doomed {
		switch d := st.Do.(type) {
		case tsql.Insert, tsql.Update, tsql.Delete, tsql.CreateTable, tsql.CreateUser, tsql.CreateLogin,
			tsql.Permission, tsql.AlterRole:
			fail(3930, 16, 1, "The current transaction cannot be committed and cannot support operations that write "+
				"to the log file. Roll back the transaction.")
		case tsql.Tran:
			if d.Op == "COMMIT" {
				fail(3930, 16, 1, "The current transaction cannot be committed and cannot support operations that "+
					"write to the log file. Roll back the transaction.")
			}
		}
	}
	cmd := 0
	switch do := st.Do.(type) {
	case tsql.SelectS:
		x.doSelect(do.Sel)
		return
	case tsql.Use:
		d := x.inst.db(do.DB)
		if d == nil {
			fail(911, 16, 1, "Database '%s' does not exist. Make sure that the name is entered correctly.", do.DB)
		}
		x.mustEnter(d)
		x.setDB(d)
	case tsql.Declare:
		v := &variable{t: do.T}
		if do.X != nil {
			val, t := x.eval(do.X)
			v.v = convert(val, t, do.T, 0)
		}
		x.vars[do.Name] = v
		return
	case tsql.SetVar:
		v := x.vars[do.Name]
		if v == nil {
			fail(137, 15, 1, "Must declare the scalar variable \"%s\".", strings.ToLower(do.Name))
		}
		val, t := x.eval(do.X)
		v.v = convert(val, t, v.t, 0)
		return
	case tsql.SetOpt:
		x.setOption(do)
	case tsql.Print:
		v, t := x.eval(do.X)
		x.info(0, 1, "%s", text(convert(v, t, tMax, 0)))
		return
	case tsql.Raise:
		x.raise(do)
		return
	case tsql.Throw:
		if do.Number == nil {
			if len(x.catching) == 0 {
				fail(10704, 15, 1, "To rethrow an error, a THROW statement must be used inside a CATCH block. Insert "+
					"the THROW statement inside a CATCH block, or add error parameters to the THROW statement.")
			}
			c := *x.catching[len(x.catching)-1]
			c.Rethrown = true
			panic(&c)
		}
		num1, _ := x.eval(do.Number)
		msg, _ := x.eval(do.Msg)
		state, _ := x.eval(do.State)
		panic(&Problem{Number: int(num(num1)), Class: 16, State: int(num(state)), Text: text(msg), Rethrown: true})
	case tsql.Tran:
		x.tran(do)
	case tsql.WaitFor:
		v, _ := x.eval(do.Delay)
		d, err := time.Parse("15:04:05.999", text(v))
		if err != nil {
			if d, err = time.Parse("15:04", text(v)); err != nil {
				fail(148, 15, 1, "Incorrect time syntax in time string '%s' used with WAITFOR.", text(v))
			}
		}
		span := d.Sub(time.Date(d.Year(), d.Month(), d.Day(), 0, 0, 0, 0, time.UTC))
		s.wait("WAITFOR", "", nil, span, func() bool { return false })
	case tsql.Exec:
		x.exec(do)
		return
	case tsql.ExecuteAs:
		x.executeAs(do)
	case tsql.Revert:
		if len(s.stack) > 0 {
			if w := s.cur; w.user != nil && w.db != s.DB.ID {
				fail(15199, 16, 1, "The current security context cannot be reverted. Please switch to the original "+
					"database where 'Execute As' was called and try it again.")
			}
			s.cur, s.stack = s.stack[len(s.stack)-1], s.stack[:len(s.stack)-1]
		}
	case tsql.Kill:
		x.kill(do)
	case tsql.CreateDatabase:
		x.createDatabase(do)
	case tsql.AlterDatabase:
		x.alterDatabase(do)
	case tsql.DropDatabase:
		x.dropDatabase(do)
	case tsql.CreateLogin:
		x.createLogin(do)
	case tsql.AlterLogin:
		x.alterLogin(do)
	case tsql.DropPrincipal:
		x.dropPrincipal(do)
	case tsql.CreateUser:
		x.createUser(do)
	case tsql.AlterUser:
		x.alterUser(do)
	case tsql.CreateRole:
		x.createRole(do)
	case tsql.AlterRole:
		x.alterRole(do)
	case tsql.Permission:
		x.permission(do)
	case tsql.Authorize:
		x.authorize(do)
	case tsql.CreateSchema:
		x.createSchema(do)
	case tsql.CreateTable:
		x.createTable(do)
	case tsql.CreateModule:
		x.createModule(do)
	case tsql.DropObject:
		x.dropObject(do)
	case tsql.Insert:
		x.insert(do)
		cmd = 0xC3
	case tsql.Update:
		x.update(do)
		cmd = 0xC5
	case tsql.Delete:
		x.delete(do)
		cmd = 0xC4
	case tsql.Nothing:
	default:
		panic(fmt.Sprintf("cannot do %T", do))
	}
	status := 0
	if cmd != 0 {
		status = tds.DoneCount
	} else {
		s.rowcount = 0
	}
	x.finish(status, cmd, s.rowcount)
}

func (x *exec) setDB(d *Database) {
	old := x.s.DB
	x.s.DB = d
	x.env(tds.EnvDatabase, d.Name, old.Name)
	x.say(&Problem{Number: 5701, State: 1, Text: "Changed database context to '" + d.Name + "'."}, 0)
}

func (x *exec) doSelect(sel *tsql.Select) {
	assigns := len(sel.Items) > 0 && sel.Items[0].Set != ""
	q := x.bindSelect(sel, nil, nil)
	rows := q.rows(nil)
	x.s.rowcount = int64(len(rows))
	if assigns {
		for _, r := range rows {
			for k, it := range sel.Items {
				v := x.vars[it.Set]
				if v == nil {
					fail(137, 15, 1, "Must declare the scalar variable \"%s\".", strings.ToLower(it.Set))
				}
				v.v = convert(r[k], q.cols[k].Type, v.t, 0)
			}
		}
		x.finish(tds.DoneCount, 0xC1, x.s.rowcount)
		return
	}
	x.emit(func(c *tds.Conn, _ int) {
		c.Columns(q.cols)
		for _, r := range rows {
			if c.Row(q.cols, r) != nil {
				return
			}
		}
	})
	x.finish(tds.DoneCount, 0xC1, x.s.rowcount)
}

func (x *exec) setOption(o tsql.SetOpt) {
	on := o.Value == "ON"
	for _, n := range o.Names {
		switch n {
		case "XACT_ABORT":
			x.s.xactAbort = on
		case "NOCOUNT":
			x.s.nocount = on
		case "LOCK_TIMEOUT":
			x.s.lockTimeout, _ = strconv.Atoi(o.Value)
		case "ISOLATION":
			x.s.isolation = map[string]int{"READ UNCOMMITTED": 1, "READ COMMITTED": 2, "REPEATABLE " +
				"READ": 3, "SERIALIZABLE": 4, "SNAPSHOT": 5}[o.Value]
		}
	}
}

func (x *exec) raise(r tsql.Raise) {
	msg, _ := x.eval(r.Msg)
	sev, _ := x.eval(r.Severity)
	state, _ := x.eval(r.State)
	number, txt := 50000, ""
	if m, ok := msg.(int64); ok {
		number = int(m)
		txt = fmt.Sprintf("error %d", m)
	} else {
		txt = text(msg)
		for _, a := range r.Args {
			v, _ := x.eval(a)
			for k := 0; k+1 < len(txt); k++ {
				if txt[k] == '%' && strings.IndexByte("sdiu", txt[k+1]) >= 0 {
					txt = txt[:k] + text(v) + txt[k+2:]
					break
				}
			}
		}
	}
	p := &Problem{Number: number, Class: int(num(sev)), State: int(num(state)), Text: txt}
	if p.Class > 10 {
		panic(p)
	}
	x.say(p, 0)
	if r.NoWait {
		_ = x.flush(true)
	}
}

func (x *exec) tran(t tsql.Tran) {
	s := x.s
	switch t.Op {
	case "BEGIN":
		s.begin(t.Name)
		if s.trancount == 1 {
			id := descriptor(s.tx.ID)
			x.emit(func(c *tds.Conn, _ int) { c.EnvBytes(tds.EnvBegin, id, nil) })
		}
	case "COMMIT":
		if s.trancount == 0 {
			fail(3902, 16, 1, "The COMMIT TRANSACTION request has no corresponding BEGIN TRANSACTION.")
		}
		if s.trancount == 1 {
			id := descriptor(s.tx.ID)
			x.emit(func(c *tds.Conn, _ int) { c.EnvBytes(tds.EnvCommit, nil, id) })
		}
		s.commit()
	case "ROLLBACK":
		if s.trancount == 0 {
			fail(3903, 16, 1, "The ROLLBACK TRANSACTION request has no corresponding BEGIN TRANSACTION.")
		}
		id := descriptor(s.tx.ID)
		x.emit(func(c *tds.Conn, _ int) { c.EnvBytes(tds.EnvRollback, nil, id) })
		s.rollback()
	case "SAVE":
		if s.trancount == 0 {
			fail(628, 16, 0, "Cannot issue SAVE TRANSACTION when there is no active transaction.")
		}
	}
}

func (s *Session) begin(name string) {
	if s.tx == nil {
		s.inst.nextXact++
		if name == "" {
			name = "user_transaction"
		}
		s.tx = &Tx{
			ID:    s.inst.nextXact,
			Name:  name,
			Began: time.Now().UTC(),
			bytes: map[int]int64{},
			count: map[int]int64{},
		}
	}
	s.trancount++
}

func (s *Session) commit() {
	if s.trancount--; s.trancount > 0 {
		return
	}
	s.release()
}

func (s *Session) release() {
	if s.tx != nil {
		for _, o := range s.tx.locked {
			o.writer = nil
		}
	}
	s.tx, s.trancount = nil, 0
	s.inst.broadcast()
}

// rollback takes the transaction back; it may last, with the lock given up.
func (s *Session) rollback() {
	tx := s.tx
	if tx == nil {
		s.trancount = 0
		return
	}
	per := s.inst.hooks.RollbackPerRow
	total := len(tx.undo)
	if per > 0 && total > 0 {
		s.rolling = true
		if s.req == nil {
			s.req = &Request{Began: time.Now().UTC(), DB: s.DB.ID}
		}
		s.req.Command = "ROLLBACK TRANSACTION"
		if s.killed {
			s.req.Command = "KILLED/ROLLBACK"
		}
	}
	for k := total - 1; k >= 0; k-- {
		tx.undo[k]()
		if per > 0 {
			s.req.Percent = float64(total-k) * 100 / float64(total)
			s.inst.mu.Unlock()
			time.Sleep(per)
			s.inst.mu.Lock()
		}
	}
	s.rolling = false
	s.release()
}

// undo says how to take back what was just done; without a transaction it stands.
func (x *exec) undo(f func()) {
	if x.s.tx != nil {
		x.s.tx.undo = append(x.s.tx.undo, f)
		x.wrote(x.s.DB, 120)
	}
}

func (x *exec) wrote(d *Database, bytes int64) {
	if tx := x.s.tx; tx != nil {
		tx.bytes[d.ID] += bytes
		tx.count[d.ID]++
	}
}

// exec runs a procedure or a text.
//
// Long: one case for each kind of statement.
func (x *exec) exec(e tsql.Exec) {
	if e.Text != nil {
		v, _ := x.eval(e.Text)
		x.nested(text(v), map[string]*variable{})
		return
	}
	name := strings.ToLower(e.Proc[len(e.Proc)-1])
	arg := func(k int, names ...string) any {
		for _, a := range e.Args {
			if slices.Contains(names, strings.ToLower(a.Name)) {
				v, _ := x.eval(a.X)
				return v
			}
		}
		if k >= 0 && k < len(e.Args) && e.Args[k].Name == "" {
			v, _ := x.eval(e.Args[k].X)
			return v
		}
		return nil
	}
	switch name {
	case "sp_executesql":
		vars := map[string]*variable{}
		names, types, err := tsql.ParseParams(text(arg(1, "@params")))
		if err != nil {
			panic(problemOf(err))
		}
		for k, n := range names {
			v := &variable{t: types[k]}
			for j, a := range e.Args {
				if a.Name == n || a.Name == "" && j == k+2 {
					val, t := x.eval(a.X)
					v.v = convert(val, t, types[k], 0)
				}
			}
			vars[n] = v
		}
		stmt := text(arg(0, "@stmt", "@statement"))
		if len(e.Proc) == 3 && e.Proc[0] != "" { // [db].sys.sp_executesql runs there
			d, home := x.inst.db(e.Proc[0]), x.s.DB
			if d == nil {
				fail(
					911,
					16,
					1,
					"Database '%s' does not exist. Make sure that the name is entered correctly.",
					e.Proc[0],
				)
			}
			if d != home {
				x.mustEnter(d)
				x.s.DB = d
				defer func() { x.s.DB = home }()
			}
		}
		x.nested(stmt, vars)
	case "sp_addextendedproperty", "sp_updateextendedproperty", "sp_dropextendedproperty":
		x.property(name, arg)
	case "sp_add_job", "sp_add_jobstep":
		x.job(name, arg)
	case "sp_configure":
		n := text(arg(0, "@configname"))
		if _, ok := x.inst.config[n]; !ok {
			fail(15123, 16, 1, "The configuration option '%s' does not exist, or it may be an advanced option.", n)
		}
		if !x.inst.serverHas(x.s.cur, "ALTER SETTINGS") {
			fail(15247, 16, 1, "User does not have permission to perform this action.")
		}
		x.inst.config[n] = int(num(arg(1, "@configvalue")))
		x.finish(0, 0, 0)
	case "sp_set_session_context", "sp_reset_connection":
		x.finish(0, 0, 0)
	default:
		fail(2812, 16, 62, "Could not find stored procedure '%s'.", strings.Join(e.Proc, "."))
	}
}

func problemOf(err error) *Problem {
	if e, ok := err.(*tsql.Error); ok {
		return &Problem{Number: e.Number, Class: e.Class, State: e.State, Line: e.Line, Text: e.Text}
	}
	return &Problem{Number: 50000, Class: 16, State: 1, Text: err.Error()}
}

func (x *exec) nested(src string, vars map[string]*variable) {
	stmts, err := tsql.Parse(src)
	if err != nil {
		panic(problemOf(err))
	}
	db, saved, stack, opts := x.s.DB, x.vars, len(x.s.stack), x.s.options
	x.vars = vars
	x.depth++
	c := x.block(stmts)
	x.depth--
	x.vars, x.s.options = saved, opts
	if len(x.s.stack) > stack { // EXECUTE AS ends with the batch that it is in
		x.s.cur, x.s.stack = x.s.stack[stack], x.s.stack[:stack]
	}
	if x.s.DB != db && x.inst.dbs[db.ID] == db {
		x.s.DB = db
		x.env(tds.EnvDatabase, db.Name, "")
	}
	if x.s.ctx.Err() != nil {
		panic(errCancelled)
	}
	_ = c
}

// Run runs a batch that a client sent; it says whether the line stays.
//
// Long: one case for each kind of statement.
func (s *Session) Run(src string, params []tds.Param, rpc bool, reset func(*tds.Conn)) (alive bool) {
	i := s.inst
	i.mu.Lock()
	defer i.mu.Unlock()
	ctx, cancel := context.WithCancelCause(context.Background())
	defer cancel(nil)
	if s.killed {
		return false
	}
	s.ctx = ctx
	s.req = &Request{Began: time.Now().UTC(), Text: src, DB: s.DB.ID, cancel: cancel}
	s.lastBegan, s.lastText, s.handle = s.req.Began, src, handleOf(fmt.Sprint(s.ID, src))
	x := &exec{s: s, inst: i, vars: map[string]*variable{}, rpc: rpc}
	if reset != nil {
		x.emit(func(c *tds.Conn, _ int) { reset(c) })
	}
	for _, p := range params {
		x.vars[strings.ToUpper(p.Name)] = &variable{t: p.Type, v: p.Value}
	}
	db, opts, stack := s.DB, s.options, len(s.stack)
	stmts, err := tsql.Parse(src)
	if err != nil {
		x.say(problemOf(err), 1)
		x.finish(tds.DoneError, 0, 0)
		x.failed = true
	} else {
		x.block(stmts)
	}
	if rpc { // as sp_executesql: what it set ends with it
		s.options = opts
		if len(s.stack) > stack {
			s.cur, s.stack = s.stack[stack], s.stack[:stack]
		}
		if s.DB != db && i.dbs[db.ID] == db && db.State == "ONLINE" {
			s.DB = db
			x.env(tds.EnvDatabase, db.Name, "")
		}
	}
	if s.tx != nil && s.tx.doomed && !x.cut {
		s.rollback()
		x.say(
			&Problem{
				Number: 3998,
				Class:  16,
				State:  1,
				Text: "Uncommittable transaction is detected at the end of the batch. The transaction is rolled " +
					"back.",
			},
			1,
		)
		x.finish(tds.DoneError, 0, 0)
	}
	if s.killed {
		s.rollback()
	}
	s.req, s.ctx = nil, nil
	s.lastEnded = time.Now().UTC()
	i.broadcast()
	if s.killed {
		x.out, x.done = nil, nil
		x.say(
			&Problem{
				Number: 596,
				Class:  21,
				State:  1,
				Text:   "Cannot continue the execution because the session is in the kill state.",
			},
			1,
		)
		x.say(
			&Problem{
				Number: 0,
				Class:  20,
				State:  0,
				Text:   "A severe error occurred on the current command.  The results, if any, should be discarded.",
			},
			1,
		)
		_ = x.flush(false)
		i.mu.Unlock()
		s.conn.Finish(tds.Done, tds.DoneError, 0, 0)
		_ = s.conn.Flush(true)
		i.mu.Lock()
		return false
	}
	if x.cut { // the answer to the attention ends the reply
		x.done = nil
		_ = x.flush(false)
		return true
	}
	last := x.done
	x.done = nil
	if x.rpc && last != nil {
		x.out = append(x.out, last)
	}
	_ = x.flush(false)
	i.mu.Unlock()
	defer i.mu.Lock()
	status := 0
	if x.failed {
		status = tds.DoneError
	}
	switch {
	case x.rpc:
		ret := int32(0)
		if x.failed {
			ret = 1
		}
		s.conn.ReturnStatus(ret)
		s.conn.Finish(tds.DoneProc, status, 0xE0, 0)
	case last != nil:
		last(s.conn, 0)
	default:
		s.conn.Finish(tds.Done, status, 0, 0)
	}
	return s.conn.Flush(true) == nil
}
