package server

import (
	"bytes"

	"example.com/genarch/standin/sqlserver/tsql"
)

// authorize: Long: the rules of one statement, in the order in which the server looks at them.
func (x *exec) authorize(a tsql.Authorize) {
	i := x.inst
	switch a.Class {
	case "DATABASE":
		d := i.db(a.Object[0])
		if d == nil || !i.mayAlterDB(x.s.cur, d) && !i.dbHas(x.s.cur, d, "TAKE OWNERSHIP", 0, 0, 0) {
			fail(
				15151,
				16,
				1,
				"Cannot find the database '%s', because it does not exist or you do not have permission.",
				a.Object[0],
			)
		}
		p := i.principal(a.To)
		if p == nil || p.Type == "R" {
			fail(
				15151,
				16,
				1,
				"Cannot find the principal '%s', because it does not exist or you do not have permission.",
				a.To,
			)
		}
		if p != x.s.cur.login && !i.sysadmin(x.s.cur.login) {
			fail(
				15151,
				16,
				1,
				"Cannot find the principal '%s', because it does not exist or you do not have permission.",
				a.To,
			)
		}
		if d.State != "ONLINE" {
			fail(942, 14, 4, "Database '%s' cannot be opened because it is offline.", d.Name)
		}
		for _, u := range d.Users {
			if u.ID > 4 && bytes.Equal(u.SID, p.SID) {
				fail(15110, 16, 1, "The proposed new database owner is already a user or aliased in the database.")
			}
		}
		old := d.Owner
		d.Owner, d.Users[1].SID = p.SID, p.SID
		x.undo(func() { d.Owner, d.Users[1].SID = old, old })
	case "SCHEMA":
		d := x.s.DB
		s, u := d.schema(i, a.Object[0]), d.user(i, a.To)
		if s == nil || !i.dbHas(x.s.cur, d, "CONTROL", 3, s.ID, 0) {
			fail(
				15151,
				16,
				1,
				"Cannot find the schema '%s', because it does not exist or you do not have permission.",
				a.Object[0],
			)
		}
		if u == nil {
			fail(
				15151,
				16,
				1,
				"Cannot find the principal '%s', because it does not exist or you do not have permission.",
				a.To,
			)
		}
		old := s.Owner
		s.Owner = u.ID
		x.undo(func() { s.Owner = old })
	case "ROLE", "OBJECT":
		d := x.s.DB
		u := d.user(i, a.To)
		if u == nil && !a.Owner {
			fail(
				15151,
				16,
				1,
				"Cannot find the principal '%s', because it does not exist or you do not have permission.",
				a.To,
			)
		}
		if a.Class == "ROLE" {
			r := d.user(i, a.Object[0])
			if r == nil || r.Type != "R" {
				fail(
					15151,
					16,
					1,
					"Cannot find the role '%s', because it does not exist or you do not have permission.",
					a.Object[0],
				)
			}
			old := r.Owner
			r.Owner = u.ID
			x.undo(func() { r.Owner = old })
			return
		}
		_, o := x.table(a.Object)
		old := o.Owner
		o.Owner = 0
		if !a.Owner {
			o.Owner = u.ID
		}
		x.undo(func() { o.Owner = old })
	default:
		fail(50000, 16, 1, "The stand-in knows no authorization on %s.", a.Class)
	}
}

func (x *exec) createSchema(c tsql.CreateSchema) {
	i, d := x.inst, x.s.DB
	x.writable()
	if !i.dbHas(x.s.cur, d, "CREATE SCHEMA", 0, 0, 0) {
		fail(
			2760,
			16,
			1,
			"The specified schema name \"%s\" either does not exist or you do not have permission to use it.",
			c.Name,
		)
	}
	if d.schema(i, c.Name) != nil {
		fail(2714, 16, 6, "There is already an object named '%s' in the database.", c.Name)
	}
	u := i.userOf(x.s.cur, d)
	if c.Owner != "" {
		if u = d.user(i, c.Owner); u == nil {
			fail(
				15151,
				16,
				1,
				"Cannot find the user '%s', because it does not exist or you do not have permission.",
				c.Owner,
			)
		}
	}
	s := &Schema{ID: d.nextSchema, Owner: u.ID, Name: c.Name}
	d.nextSchema++
	d.Schemas[s.ID] = s
	x.undo(func() { delete(d.Schemas, s.ID) })
}

func (x *exec) dropSchema(dr tsql.DropPrincipal) {
	i, d := x.inst, x.s.DB
	s := d.schema(i, dr.Name)
	if s == nil && dr.IfExists {
		return
	}
	if s == nil || !i.dbHas(x.s.cur, d, "CONTROL", 3, s.ID, 0) {
		fail(
			15151,
			16,
			1,
			"Cannot drop the schema '%s', because it does not exist or you do not have permission.",
			dr.Name,
		)
	}
	if s.ID <= 4 {
		fail(15150, 16, 1, "Cannot drop the schema '%s'.", dr.Name)
	}
	for _, o := range d.Objects {
		if o.Schema == s.ID {
			fail(3729, 16, 1, "Cannot drop schema '%s' because it is being referenced by object '%s'.", s.Name, o.Name)
		}
	}
	delete(d.Schemas, s.ID)
	x.undo(func() { d.Schemas[s.ID] = s })
}
