package server

import (
	"context"
	"errors"
	"fmt"
	"slices"
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
	noexec                 bool // statements are read, and not run
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
	case "sp_add_log_shipping_primary_database":
		x.shipLog(text(arg(0, "@database")))
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
