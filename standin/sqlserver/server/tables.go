package server

import (
	"regexp"
	"slices"
	"strings"
	"time"

	"example.com/genarch/standin/sqlserver/tsql"
)

func (x *exec) newObject(name []string, typ, perm string) *Object {
	i, d := x.inst, x.s.DB
	x.writable()
	if !i.dbHas(x.s.cur, d, perm, 0, 0, 0) {
		fail(262, 14, 1, "%s permission denied in database '%s'.", perm, d.Name)
	}
	schema := "dbo"
	if len(name) > 1 {
		schema = name[len(name)-2]
	}
	s := d.schema(i, schema)
	if s == nil || !i.dbHas(x.s.cur, d, "ALTER", 3, s.ID, 0) {
		fail(
			2760,
			16,
			1,
			"The specified schema name \"%s\" either does not exist or you do not have permission to use it.",
			schema,
		)
	}
	n := name[len(name)-1]
	if d.object(i, s.ID, n) != nil {
		fail(2714, 16, 6, "There is already an object named '%s' in the database.", n)
	}
	o := &Object{ID: d.nextObject, Schema: s.ID, Name: n, Type: typ, Created: time.Now().UTC()}
	d.nextObject += 16000057
	d.Objects[o.ID] = o
	x.undo(func() { delete(d.Objects, o.ID) })
	return o
}

func (x *exec) createTable(c tsql.CreateTable) {
	x.newObject(c.Name, "U", "CREATE TABLE").Cols = c.Cols
}

// ddlTrigger is a trigger on the database itself. It is there to be seen; nothing fires it.
const ddlTrigger = "TD"

var onDatabase = regexp.MustCompile(`(?i)^\s*ON\s+DATABASE\b`)

func (x *exec) createModule(c tsql.CreateModule) {
	if c.Kind == "TRIGGER" && onDatabase.MatchString(c.Text) {
		x.newObject(c.Name, ddlTrigger, "ALTER").Text = c.Text
		return
	}
	typ := map[string]string{"VIEW": "V", "PROCEDURE": "P", "FUNCTION": "FN", "SYNONYM": "SN", "TRIGGER": "TR"}[c.Kind]
	x.newObject(c.Name, typ, "CREATE "+c.Kind).Text = c.Text
}

func (x *exec) dropObject(dr tsql.DropObject) {
	for _, name := range dr.Names {
		var d *Database
		var o *Object
		if p, _ := x.guard(func() { d, o = x.table(name) }); p != nil {
			if dr.IfExists {
				continue
			}
			fail(
				3701,
				11,
				5,
				"Cannot drop the %s '%s', because it does not exist or you do not have permission.",
				strings.ToLower(dr.Kind),
				strings.Join(name, "."),
			)
		}
		if !x.inst.dbHas(x.s.cur, d, "CONTROL", 1, o.ID, 0) && !x.inst.dbHas(x.s.cur, d, "ALTER", 3, o.Schema, 0) {
			fail(
				3701,
				11,
				5,
				"Cannot drop the %s '%s', because it does not exist or you do not have permission.",
				strings.ToLower(dr.Kind),
				strings.Join(name, "."),
			)
		}
		x.waitTable(d, o)
		delete(d.Objects, o.ID)
		x.undo(func() { d.Objects[o.ID] = o })
	}
}

// lockTable takes a table for writing until the transaction ends.
func (x *exec) lockTable(d *Database, o *Object) {
	if d.ReadOnly {
		fail(3906, 16, 1, "Failed to update database \"%s\" because the database is read-only.", d.Name)
	}
	x.waitTable(d, o)
	if x.s.tx != nil && o.writer == nil {
		o.writer = x.s
		x.s.tx.locked = append(x.s.tx.locked, o)
	}
}

func (x *exec) insert(in tsql.Insert) {
	d, o := x.table(in.Into)
	x.allow(d, o, "INSERT")
	q := x.bindSelect(in.From, nil, nil)
	x.lockTable(d, o)
	at := make([]int, 0, len(o.Cols))
	if in.Cols == nil {
		for k := range o.Cols {
			at = append(at, k)
		}
	}
	for _, c := range in.Cols {
		k := slices.IndexFunc(o.Cols, func(d tsql.ColumnDef) bool { return x.inst.same(d.Name, c) })
		if k < 0 {
			fail(207, 16, 1, "Invalid column name '%s'.", c)
		}
		at = append(at, k)
	}
	if len(at) != len(q.cols) {
		fail(213, 16, 1, "Column name or number of supplied values does not match table definition.")
	}
	var added [][]any
	for _, r := range q.rows(nil) {
		row := make([]any, len(o.Cols))
		for k, v := range r {
			row[at[k]] = convert(v, q.cols[k].Type, o.Cols[at[k]].T, 0)
		}
		for k, c := range o.Cols {
			if c.Primary && slices.ContainsFunc(append(slices.Clone(o.Rows), added...), func(have []any) bool {
				return have[k] != nil && row[k] != nil && compareValues(have[k], row[k], c.T) == 0
			}) {
				fail(
					2627,
					14,
					1,
					"Violation of PRIMARY KEY constraint 'PK_%s'. Cannot insert duplicate key in object '%s.%s'.",
					o.Name,
					d.Schemas[o.Schema].Name,
					o.Name,
				)
			}
		}
		added = append(added, row)
	}
	before := len(o.Rows)
	o.Rows = append(o.Rows, added...)
	x.s.rowcount = int64(len(added))
	if x.s.tx != nil {
		for k := range added {
			at := before + k
			x.s.tx.undo = append(x.s.tx.undo, func() { o.Rows = o.Rows[:at] })
			x.wrote(d, 120)
		}
	}
}

func (x *exec) update(u tsql.Update) {
	d, o := x.table(u.Into)
	x.allow(d, o, "UPDATE")
	sc := &scope{}
	for _, c := range o.Cols {
		sc.cols = append(sc.cols, column{o.Name, c.Name, c.T})
	}
	where := constant(tBool, true)
	if u.Where != nil {
		x.allow(d, o, "SELECT")
		where = x.cond(u.Where, sc)
	}
	type set struct {
		at int
		b  bound
	}
	var sets []set
	for _, s := range u.Sets {
		k := slices.IndexFunc(o.Cols, func(d tsql.ColumnDef) bool { return x.inst.same(d.Name, s.Alias) })
		if k < 0 {
			fail(207, 16, 1, "Invalid column name '%s'.", s.Alias)
		}
		sets = append(sets, set{k, x.bind(s.X, sc)})
	}
	x.lockTable(d, o)
	x.s.rowcount = 0
	for k, r := range o.Rows {
		e := &env{row: r}
		if ok, _ := where.f(e).(bool); !ok {
			continue
		}
		row := slices.Clone(r)
		for _, s := range sets {
			row[s.at] = convert(s.b.f(e), s.b.t, o.Cols[s.at].T, 0)
		}
		o.Rows[k] = row
		x.s.rowcount++
		if x.s.tx != nil {
			x.s.tx.undo = append(x.s.tx.undo, func() { o.Rows[k] = r })
			x.wrote(d, 160)
		}
	}
}

func (x *exec) delete(de tsql.Delete) {
	d, o := x.table(de.Into)
	x.allow(d, o, "DELETE")
	sc := &scope{}
	for _, c := range o.Cols {
		sc.cols = append(sc.cols, column{o.Name, c.Name, c.T})
	}
	where := constant(tBool, true)
	if de.Where != nil {
		x.allow(d, o, "SELECT")
		where = x.cond(de.Where, sc)
	}
	x.lockTable(d, o)
	before := o.Rows
	var kept [][]any
	for _, r := range o.Rows {
		if ok, _ := where.f(&env{row: r}).(bool); !ok {
			kept = append(kept, r)
		}
	}
	x.s.rowcount = int64(len(before) - len(kept))
	o.Rows = kept
	if x.s.tx != nil && x.s.rowcount > 0 {
		x.s.tx.undo = append(x.s.tx.undo, func() { o.Rows = before })
		x.wrote(d, 120*x.s.rowcount)
	}
}
