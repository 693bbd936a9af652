package server

import (
	"time"

	"example.com/genarch/standin/sqlserver/tsql"
)

func (x *exec) createRole(c tsql.CreateRole) {
	i, d := x.inst, x.s.DB
	if c.Server {
		if !x.may("CREATE SERVER ROLE") {
			fail(15247, 16, 1, "User does not have permission to perform this action.")
		}
		if i.principal(c.Name) != nil {
			fail(15025, 16, 1, "The server principal '%s' already exists.", c.Name)
		}
		p := &Principal{
			ID:       i.nextLogin,
			Name:     c.Name,
			Type:     "R",
			SID:      x.newSID(),
			Owner:    1,
			Created:  time.Now().UTC(),
			Modified: time.Now().UTC(),
			Members:  map[int]bool{},
		}
		i.nextLogin++
		i.principals[p.ID] = p
		x.undo(func() { delete(i.principals, p.ID) })
		return
	}
	x.writable()
	x.needDB("CREATE ROLE", "")
	if d.user(i, c.Name) != nil {
		fail(15023, 16, 1, "User, group, or role '%s' already exists in the current database.", c.Name)
	}
	owner := 1
	if u := i.userOf(x.s.cur, d); u != nil {
		owner = u.ID
	}
	if c.Owner != "" {
		o := d.user(i, c.Owner)
		if o == nil {
			fail(
				15151,
				16,
				1,
				"Cannot find the principal '%s', because it does not exist or you do not have permission.",
				c.Owner,
			)
		}
		owner = o.ID
	}
	u := &User{
		ID:      d.nextUser,
		Name:    c.Name,
		Type:    "R",
		Owner:   owner,
		SID:     append([]byte{1, 5, 0, 0, 0, 0, 0, 9, 4}, randomBytes(19)...),
		Created: time.Now().UTC(),
		Members: map[int]bool{},
	}
	d.nextUser++
	d.Users[u.ID] = u
	x.undo(func() { x.removeUser(d, u) })
}

// alterRole: Long: the rules of one statement, in the order in which the server looks at them.
func (x *exec) alterRole(a tsql.AlterRole) {
	i, d := x.inst, x.s.DB
	if a.Server {
		r := i.principal(a.Name)
		if r == nil || r.Type != "R" {
			fail(
				15151,
				16,
				1,
				"Cannot alter the server role '%s', because it does not exist or you do not have permission.",
				a.Name,
			)
		}
		// A member of a fixed role may add others to it.
		if !x.may("ALTER ANY SERVER ROLE") && !(r.Fixed && x.s.cur.login != nil && i.serverSet(x.s.cur.login)[r.ID]) ||
			r.ID == 3 && !i.sysadmin(x.s.cur.login) {
			fail(
				15151,
				16,
				1,
				"Cannot alter the server role '%s', because it does not exist or you do not have permission.",
				a.Name,
			)
		}
		name := a.Add + a.Drop
		m := i.principal(name)
		if m == nil {
			fail(
				15151,
				16,
				1,
				"Cannot %s the server principal '%s', because it does not exist or you do not have permission.",
				map[bool]string{true: "add", false: "drop"}[a.Add != ""],
				name,
			)
		}
		if m.ID == 1 && a.Drop != "" && r.ID == 3 {
			fail(15405, 11, 1, "Cannot use the special principal 'sa'.")
		}
		had := r.Members[m.ID]
		setMember(r.Members, m.ID, a.Add != "")
		x.undo(func() { setMember(r.Members, m.ID, had) })
		return
	}
	x.writable()
	r := d.user(i, a.Name)
	if r == nil || r.Type != "R" || !i.dbHas(x.s.cur, d, "ALTER", 4, r.ID, 0) ||
		r.Fixed && !i.dbHas(x.s.cur, d, "CONTROL", 0, 0, 0) {
		fail(
			15151,
			16,
			1,
			"Cannot alter the role '%s', because it does not exist or you do not have permission.",
			a.Name,
		)
	}
	if r.ID == 0 {
		fail(15081, 16, 1, "Membership of the public role cannot be changed.")
	}
	if a.NewName != "" {
		if d.user(i, a.NewName) != nil {
			fail(15023, 16, 1, "User, group, or role '%s' already exists in the current database.", a.NewName)
		}
		old := r.Name
		r.Name = a.NewName
		x.undo(func() { r.Name = old })
		return
	}
	name := a.Add + a.Drop
	m := d.user(i, name)
	if m == nil {
		fail(
			15151,
			16,
			1,
			"Cannot %s the principal '%s', because it does not exist or you do not have permission.",
			map[bool]string{true: "add", false: "drop"}[a.Add != ""],
			name,
		)
	}
	if m.ID <= 4 {
		fail(15405, 11, 1, "Cannot use the special principal '%s'.", m.Name)
	}
	if a.Add != "" && i.dbSet(d, r)[m.ID] {
		fail(15413, 11, 1, "Cannot make a role a member of itself.")
	}
	had := r.Members[m.ID]
	setMember(r.Members, m.ID, a.Add != "")
	x.undo(func() { setMember(r.Members, m.ID, had) })
}

func setMember(m map[int]bool, id int, in bool) {
	if in {
		m[id] = true
	} else {
		delete(m, id)
	}
}
