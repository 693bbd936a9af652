package server

import (
	"bytes"
	"slices"
	"strings"
	"time"

	"example.com/genarch/standin/sqlserver/tsql"
)

func (x *exec) needDB(perm, text1 string) {
	if !x.inst.dbHas(x.s.cur, x.s.DB, perm, 0, 0, 0) {
		fail(15247, 16, 1, "User does not have permission to perform this action.")
	}
	_ = text1
}

func (x *exec) writable() {
	if x.s.DB.ReadOnly {
		fail(3906, 16, 1, "Failed to update database \"%s\" because the database is read-only.", x.s.DB.Name)
	}
}

func (x *exec) createUser(c tsql.CreateUser) {
	i, d := x.inst, x.s.DB
	x.writable()
	x.needDB("ALTER ANY USER", "")
	if d.user(i, c.Name) != nil {
		fail(15023, 16, 1, "User, group, or role '%s' already exists in the current database.", c.Name)
	}
	u := &User{ID: d.nextUser, Name: c.Name, Type: "S", Schema: "dbo", Created: time.Now().UTC(), Auth: 1}
	if c.Schema != "" {
		u.Schema = c.Schema
	}
	switch {
	case c.Without:
		u.SID, u.Auth = append([]byte{1, 5, 0, 0, 0, 0, 0, 9}, randomBytes(20)...), 0
	case c.Password != nil || c.Hash != nil:
		if !d.Contained {
			fail(33233, 16, 1, "You can only create a user with a password in a contained database.")
		}
		u.Auth, u.SID = 2, append([]byte{1, 5, 0, 0, 0, 0, 0, 9}, randomBytes(20)...)
		if c.SID != nil {
			u.SID = c.SID
		}
		u.Hash = c.Hash
		if c.Password != nil {
			u.Hash = HashPassword(*c.Password, nil)
		}
	default:
		login := c.Login
		if login == "" {
			login = c.Name
		}
		p := i.principal(login)
		if p == nil || p.Type == "R" {
			fail(15007, 16, 1, "'%s' is not a valid login or you do not have permission.", login)
		}
		for _, o := range d.Users {
			if len(o.SID) > 1 && bytes.Equal(o.SID, p.SID) || bytes.Equal(d.Owner, p.SID) {
				fail(15063, 16, 1, "The login already has an account under a different user name.")
			}
		}
		u.SID = p.SID
	}
	d.nextUser++
	d.Users[u.ID] = u
	d.Perms = append(d.Perms, &Perm{Class: 0, Grantee: u.ID, Grantor: 1, Name: "CONNECT", State: "G"})
	x.undo(func() { x.removeUser(d, u) })
}

func (x *exec) removeUser(d *Database, u *User) {
	delete(d.Users, u.ID)
	d.Perms = slices.DeleteFunc(
		slices.Clone(d.Perms),
		func(p *Perm) bool { return p.Grantee == u.ID || p.Class == 4 && p.Major == u.ID },
	)
	for _, r := range d.Users {
		delete(r.Members, u.ID)
	}
}

func (x *exec) alterUser(a tsql.AlterUser) {
	i, d := x.inst, x.s.DB
	x.writable()
	u := d.user(i, a.Name)
	if u == nil || u.Type != "S" || !i.dbHas(x.s.cur, d, "ALTER", 4, u.ID, 0) {
		fail(
			15151,
			16,
			1,
			"Cannot alter the user '%s', because it does not exist or you do not have permission.",
			a.Name,
		)
	}
	if u.ID <= 4 {
		fail(15150, 16, 1, "Cannot alter the user '%s'.", a.Name)
	}
	was := *u
	if a.Login != "" {
		p := i.principal(a.Login)
		if p == nil || p.Type == "R" {
			fail(15007, 16, 1, "'%s' is not a valid login or you do not have permission.", a.Login)
		}
		for _, o := range d.Users {
			if o != u && len(o.SID) > 1 && bytes.Equal(o.SID, p.SID) {
				fail(15063, 16, 1, "The login already has an account under a different user name.")
			}
		}
		u.SID, u.Auth = p.SID, 1
	}
	if a.NewName != "" {
		if o := d.user(i, a.NewName); o != nil && o != u {
			*u = was
			fail(15023, 16, 1, "User, group, or role '%s' already exists in the current database.", a.NewName)
		}
		u.Name = a.NewName
	}
	if a.Schema != "" {
		u.Schema = a.Schema
	}
	if a.Password != nil {
		u.Hash = HashPassword(*a.Password, nil)
	}
	x.undo(func() { *u = was })
}

// dropUser: Long: the rules of one statement, in the order in which the server looks at them.
func (x *exec) dropUser(dr tsql.DropPrincipal) {
	i, d := x.inst, x.s.DB
	x.writable()
	u := d.user(i, dr.Name)
	kind := strings.ToLower(dr.Kind)
	if u == nil && dr.IfExists {
		return
	}
	if u == nil || (u.Type == "R") != (dr.Kind == "ROLE") || !i.dbHas(x.s.cur, d, "ALTER", 4, u.ID, 0) {
		fail(
			15151,
			16,
			1,
			"Cannot drop the %s '%s', because it does not exist or you do not have permission.",
			kind,
			dr.Name,
		)
	}
	if u.ID <= 4 || u.Fixed {
		fail(15150, 16, 1, "Cannot drop the %s '%s'.", kind, dr.Name)
	}
	for _, s := range d.Schemas {
		if s.Owner == u.ID {
			fail(15138, 16, 1, "The database principal owns a schema in the database, and cannot be dropped.")
		}
	}
	for _, r := range d.Users {
		if r.Type == "R" && r.Owner == u.ID {
			fail(15138, 16, 1, "The database principal owns a database role in the database, and cannot be dropped.")
		}
	}
	for _, o := range d.Objects {
		if o.Owner == u.ID {
			fail(15183, 16, 1, "The database principal owns objects in the database and cannot be dropped.")
		}
	}
	for _, p := range d.Perms {
		if p.Grantor == u.ID {
			fail(
				15284,
				16,
				1,
				"The database principal has granted or denied permissions to objects in the database and cannot be "+
					"dropped.",
			)
		}
	}
	if len(u.Members) > 0 {
		fail(15144, 16, 1, "The role has members. It must be empty before it can be dropped.")
	}
	perms := d.Perms
	var roles []*User
	for _, r := range d.Users {
		if r.Members[u.ID] {
			roles = append(roles, r)
		}
	}
	x.removeUser(d, u)
	x.undo(func() {
		d.Users[u.ID], d.Perms = u, perms
		for _, r := range roles {
			r.Members[u.ID] = true
		}
	})
}

func (x *exec) executeAs(e tsql.ExecuteAs) {
	i, s := x.inst, x.s
	if e.Kind == "CALLER" {
		s.stack = append(s.stack, s.cur)
		return
	}
	if e.Kind == "LOGIN" {
		p := i.principal(e.Name)
		if p == nil || p.Type == "R" ||
			!(x.may("CONTROL SERVER") || x.may("IMPERSONATE ANY LOGIN") || p == s.cur.login) {
			fail(
				15406,
				16,
				1,
				"Cannot execute as the server principal because the principal \"%s\" does not exist, this type of "+
					"principal cannot be impersonated, or you do not have permission.",
				e.Name,
			)
		}
		s.stack = append(s.stack, s.cur)
		s.cur = who{login: p}
		return
	}
	u := s.DB.user(i, e.Name)
	if u == nil || u.Type != "S" || u.ID == 3 || u.ID == 4 || !i.dbHas(s.cur, s.DB, "IMPERSONATE", 4, u.ID, 0) {
		fail(
			15517,
			16,
			1,
			"Cannot execute as the database principal because the principal \"%s\" does not exist, this type of "+
				"principal cannot be impersonated, or you do not have permission.",
			e.Name,
		)
	}
	s.stack = append(s.stack, s.cur)
	s.cur = who{user: u, db: s.DB.ID}
}
