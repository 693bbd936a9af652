package server

import (
	"slices"
	"strings"

	"example.com/genarch/standin/sqlserver/tsql"
)

// permission: Long: the rules of one statement, in the order in which the server looks at them.
func (x *exec) permission(g tsql.Permission) {
	if g.Class == "SERVER" || g.Class == "" && slices.Contains(serverPerms, g.Perms[0].Name) || g.Class == "LOGIN" {
		x.serverPermission(g)
		return
	}
	i, d := x.inst, x.s.DB
	class, major := 0, 0
	var obj *Object
	allowed := dbPerms
	switch g.Class {
	case "", "DATABASE":
		if g.Class == "DATABASE" && !i.same(g.Object[0], d.Name) {
			fail(
				15151,
				16,
				1,
				"Cannot find the database '%s', because it does not exist or you do not have permission.",
				g.Object[0],
			)
		}
	case "SCHEMA":
		s := d.schema(i, g.Object[0])
		if s == nil {
			fail(
				15151,
				16,
				1,
				"Cannot find the schema '%s', because it does not exist or you do not have permission.",
				g.Object[0],
			)
		}
		class, major, allowed = 3, s.ID, schemaPerms
	case "OBJECT":
		schema := "dbo"
		if len(g.Object) > 1 {
			schema = g.Object[len(g.Object)-2]
		}
		if s := d.schema(i, schema); s != nil {
			obj = d.object(i, s.ID, g.Object[len(g.Object)-1])
		}
		if obj == nil {
			fail(
				15151,
				16,
				1,
				"Cannot find the object '%s', because it does not exist or you do not have permission.",
				g.Object[len(g.Object)-1],
			)
		}
		class, major, allowed = 1, obj.ID, objectPerms
	case "USER", "ROLE":
		u := d.user(i, g.Object[0])
		if u == nil {
			fail(
				15151,
				16,
				1,
				"Cannot find the %s '%s', because it does not exist or you do not have permission.",
				strings.ToLower(g.Class),
				g.Object[0],
			)
		}
		class, major, allowed = 4, u.ID, []string{
			"CONTROL",
			"ALTER",
			"IMPERSONATE",
			"VIEW DEFINITION",
			"TAKE OWNERSHIP",
		}
	default:
		fail(50000, 16, 1, "The stand-in knows no permissions on %s.", g.Class)
	}
	x.writable()
	grantor := i.userOf(x.s.cur, d)
	gid := 1
	if grantor != nil && !i.dbSet(d, grantor)[16384] {
		gid = grantor.ID
	}
	if obj != nil {
		if gid = obj.Owner; gid == 0 {
			gid = d.Schemas[obj.Schema].Owner
		}
	}
	if g.As != "" {
		a := d.user(i, g.As)
		if a == nil {
			fail(
				15151,
				16,
				1,
				"Cannot find the user '%s', because it does not exist or you do not have permission.",
				g.As,
			)
		}
		gid = a.ID
	}
	before := clonePerms(d.Perms)
	for _, to := range g.To {
		u := d.user(i, to)
		if u == nil {
			fail(
				15151,
				16,
				1,
				"Cannot find the user '%s', because it does not exist or you do not have permission.",
				to,
			)
		}
		if u.ID == 1 || u.ID == 3 || u.ID == 4 || u.Fixed {
			fail(4617, 16, 1, "Cannot grant, deny or revoke permissions to or from special roles.")
		}
		for _, spec := range g.Perms {
			names := []string{spec.Name}
			if spec.Name == "ALL" || spec.Name == "ALL PRIVILEGES" {
				names = []string{"DELETE", "INSERT", "REFERENCES", "SELECT", "UPDATE"}
			}
			for _, name := range names {
				if !slices.Contains(allowed, name) {
					fail(102, 15, 1, "Incorrect syntax near '%s'.", name)
				}
				if !i.dbHas(x.s.cur, d, "CONTROL", class, major, 0) &&
					!x.grantable(d, grantor, gid, class, major, name) {
					if class == 0 {
						fail(4613, 16, 1, "Grantor does not have GRANT permission.")
					}
					fail(
						15151,
						16,
						1,
						"Cannot find the %s '%s', because it does not exist or you do not have permission.",
						strings.ToLower(g.Class),
						g.Object[len(g.Object)-1],
					)
				}
				cols := append(slices.Clone(spec.Cols), g.Cols...)
				minors := []int{0}
				if len(cols) > 0 {
					minors = nil
					for _, c := range cols {
						k := slices.IndexFunc(obj.Cols, func(d tsql.ColumnDef) bool { return i.same(d.Name, c) })
						if k < 0 {
							fail(1911, 16, 1, "Column name '%s' does not exist in the target table or view.", c)
						}
						minors = append(minors, k+1)
					}
				}
				for _, minor := range minors {
					x.setPerm(d, g, class, major, minor, u.ID, gid, name)
				}
			}
		}
	}
	x.undo(func() { d.Perms = before })
}

// clonePerms copies the lines too: a denial changes them.
func clonePerms(in []*Perm) []*Perm {
	out := make([]*Perm, len(in))
	for k, p := range in {
		c := *p
		out[k] = &c
	}
	return out
}

// grantable: who may pass a permission on because a role may has to say AS role.
func (x *exec) grantable(d *Database, u *User, as, class, major int, name string) bool {
	if u == nil || !x.inst.dbSet(d, u)[as] {
		return false
	}
	return slices.ContainsFunc(d.Perms, func(p *Perm) bool {
		return p.State == "W" && p.Class == class && p.Major == major && p.Name == name && p.Grantee == as
	})
}

func (x *exec) setPerm(d *Database, g tsql.Permission, class, major, minor, grantee, grantor int, name string) {
	k := slices.IndexFunc(d.Perms, func(p *Perm) bool {
		return p.Class == class && p.Major == major && p.Minor == minor && p.Grantee == grantee && p.Name == name &&
			p.Grantor == grantor
	})
	state := map[string]string{"GRANT": "G", "DENY": "D"}[g.Verb]
	switch {
	case g.Verb == "REVOKE":
		if k < 0 {
			return // as on the server: no error
		}
		if d.Perms[k].State == "W" && !g.Cascade && slices.ContainsFunc(d.Perms, func(p *Perm) bool {
			return p.Grantor == grantee && p.Name == name && p.Class == class && p.Major == major
		}) {
			fail(4611, 16, 1, "To revoke or deny grantable privileges, specify the CASCADE option.")
		}
		if g.Option {
			d.Perms[k].State = "G"
		} else {
			d.Perms = slices.Delete(slices.Clone(d.Perms), k, k+1)
		}
		if g.Cascade {
			d.Perms = slices.DeleteFunc(slices.Clone(d.Perms), func(p *Perm) bool {
				return p.Grantor == grantee && p.Name == name && p.Class == class && p.Major == major
			})
		}
		return
	case g.Verb == "GRANT" && g.Option:
		state = "W"
	}
	if k >= 0 {
		if d.Perms[k].State == "W" && state == "D" && !g.Cascade {
			fail(4611, 16, 1, "To revoke or deny grantable privileges, specify the CASCADE option.")
		}
		if !(d.Perms[k].State == "W" && state == "G") {
			d.Perms[k].State = state
		}
		return
	}
	d.Perms = append(
		d.Perms,
		&Perm{Class: class, Major: major, Minor: minor, Grantee: grantee, Grantor: grantor, Name: name, State: state},
	)
}

// serverPermission: Long: the rules of one statement, in the order in which the server looks at them.
func (x *exec) serverPermission(g tsql.Permission) {
	i := x.inst
	if x.s.DB.ID != 1 {
		fail(4621, 16, 10, "Permissions at the server scope can only be granted when the current database is master")
	}
	class, major := 100, 0
	if g.Class == "LOGIN" {
		p := i.principal(g.Object[0])
		if p == nil {
			fail(
				15151,
				16,
				1,
				"Cannot find the login '%s', because it does not exist or you do not have permission.",
				g.Object[0],
			)
		}
		class, major = 101, p.ID
	}
	before := clonePerms(i.perms)
	for _, to := range g.To {
		p := i.principal(to)
		if p == nil {
			fail(
				15151,
				16,
				1,
				"Cannot find the login '%s', because it does not exist or you do not have permission.",
				to,
			)
		}
		if p.ID == 1 || p.Fixed {
			fail(4617, 16, 1, "Cannot grant, deny or revoke permissions to or from special roles.")
		}
		if p == x.s.cur.login {
			fail(
				15151,
				16,
				1,
				"Cannot grant, deny, or revoke permissions to sa, dbo, entity owner, information_schema, sys, or "+
					"yourself.",
			)
		}
		for _, spec := range g.Perms {
			if class == 100 && !slices.Contains(serverPerms, spec.Name) {
				fail(102, 15, 1, "Incorrect syntax near '%s'.", spec.Name)
			}
			if !i.hasGrantOption(x.s.cur, spec.Name) {
				fail(4613, 16, 1, "Grantor does not have GRANT permission.")
			}
			k := slices.IndexFunc(i.perms, func(q *Perm) bool {
				return q.Class == class && q.Major == major && q.Grantee == p.ID && q.Name == spec.Name
			})
			state := map[string]string{"GRANT": "G", "DENY": "D"}[g.Verb]
			if g.Verb == "GRANT" && g.Option {
				state = "W"
			}
			switch {
			case g.Verb == "REVOKE" && k >= 0:
				i.perms = slices.Delete(slices.Clone(i.perms), k, k+1)
			case g.Verb == "REVOKE":
			case k >= 0:
				i.perms[k].State = state
			default:
				i.perms = append(
					i.perms,
					&Perm{Class: class, Major: major, Grantee: p.ID, Grantor: 1, Name: spec.Name, State: state},
				)
			}
		}
	}
	x.undo(func() { i.perms = before })
}
