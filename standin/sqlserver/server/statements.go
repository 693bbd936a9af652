package server

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"example.com/genarch/standin/sqlserver/tds"
	"example.com/genarch/standin/sqlserver/tsql"
)

// abortsBatch are errors after which the rest of the batch does not run.
var abortsBatch = []int{102, 105, 137, 156, 207, 208, 226, 245, 241, 1205, 3930, 4104, 8169, 12824}

// stmt: Long: one case for each kind of statement.
func (x *exec) stmt(st tsql.Stmt) ctl {
	s := x.s
	if s.ctx.Err() != nil {
		return x.cancelled()
	}
	if _, sets := st.Do.(tsql.SetOpt); s.noexec && !sets {
		return goOn
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
	case tsql.Backup:
		x.backup(do)
	case tsql.Restore:
		x.restore(do)
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
		case "NOEXEC", "PARSEONLY":
			x.s.noexec = on
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
