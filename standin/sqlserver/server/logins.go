package server

import (
	"bytes"
	"slices"
	"strings"
	"time"

	"example.com/genarch/standin/sqlserver/tsql"
)

func (x *exec) newSID() []byte { return randomBytes(16) }

func option(list []tsql.Option, name string) (string, bool) {
	for _, o := range list {
		if o.Name == name {
			return o.Value, true
		}
	}
	return "", false
}

func (x *exec) checkHash(h []byte) {
	if len(h) != 70 || h[0] != 2 || h[1] != 0 {
		fail(15021, 16, 2, "Invalid value given for parameter PASSWORD. Specify a valid parameter value.")
	}
}

func (x *exec) checkPolicy(pw string) {
	if len([]rune(pw)) < 8 {
		fail(
			15116,
			16,
			1,
			"Password validation failed. The password does not meet the operating system policy requirements because "+
				"it is too short.",
		)
	}
	kinds := 0
	for _, set := range []string{"abcdefghijklmnopqrstuvwxyz", "ABCDEFGHIJKLMNOPQRSTUVWXYZ", "0123456789"} {
		if strings.ContainsAny(pw, set) {
			kinds++
		}
	}
	if strings.ContainsFunc(pw, func(r rune) bool {
		return !strings.ContainsRune("abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789", r)
	}) {
		kinds++
	}
	if kinds < 3 {
		fail(
			15118,
			16,
			1,
			"Password validation failed. The password does not meet the operating system policy requirements because "+
				"it is not complex enough.",
		)
	}
}

func (x *exec) needLoginRight() {
	if !x.may("ALTER ANY LOGIN") {
		fail(15247, 16, 1, "User does not have permission to perform this action.")
	}
}

// createLogin: Long: the rules of one statement, in the order in which the server looks at them.
func (x *exec) createLogin(c tsql.CreateLogin) {
	i := x.inst
	x.needLoginRight()
	if i.principal(c.Name) != nil {
		fail(15025, 16, 1, "The server principal '%s' already exists.", c.Name)
	}
	p := &Principal{
		ID:          i.nextLogin,
		Name:        c.Name,
		Type:        "S",
		Created:     time.Now().UTC(),
		Modified:    time.Now().UTC(),
		DefaultDB:   "master",
		Policy:      true,
		PasswordSet: time.Now().UTC(),
		SID:         x.newSID(),
	}
	if c.Windows {
		fail(15401, 16, 1, "Windows NT user or group '%s' not found. Check the name again.", c.Name)
	}
	if v, ok := option(c.Options, "CHECK_POLICY"); ok {
		p.Policy = strings.EqualFold(v, "ON")
	}
	if v, ok := option(c.Options, "CHECK_EXPIRATION"); ok {
		p.Expire = strings.EqualFold(v, "ON")
	}
	if v, ok := option(c.Options, "DEFAULT_DATABASE"); ok {
		if i.db(v) == nil {
			fail(911, 16, 1, "Database '%s' does not exist. Make sure that the name is entered correctly.", v)
		}
		p.DefaultDB = v
	}
	if c.MustChange && !(p.Policy && p.Expire) {
		fail(15122, 16, 1, "The CHECK_EXPIRATION option cannot be used when CHECK_POLICY is OFF.")
	}
	p.MustChange = c.MustChange
	if c.Hash != nil {
		x.checkHash(c.Hash)
		p.Hash = c.Hash
	} else {
		if p.Policy {
			x.checkPolicy(*c.Password)
		}
		p.Hash = HashPassword(*c.Password, nil)
	}
	if c.SID != nil {
		if len(c.SID) != 16 {
			fail(15419, 16, 1, "Supplied parameter sid should be binary(16).")
		}
		if i.bySID(c.SID) != nil {
			fail(15433, 16, 1, "Supplied parameter sid is in use.")
		}
		p.SID = c.SID
	}
	i.nextLogin++
	i.principals[p.ID] = p
	perm := &Perm{Class: 100, Grantee: p.ID, Grantor: 1, Name: "CONNECT SQL", State: "G"}
	i.perms = append(i.perms, perm)
	x.undo(func() {
		delete(i.principals, p.ID)
		i.perms = slices.DeleteFunc(i.perms, func(q *Perm) bool { return q.Grantee == p.ID })
	})
}

// alterLogin: Long: the rules of one statement, in the order in which the server looks at them.
func (x *exec) alterLogin(a tsql.AlterLogin) {
	i := x.inst
	p := i.principal(a.Name)
	own := p != nil && p == x.s.cur.login && a.Old != nil
	if p == nil || p.Type == "R" || !own && !x.may("ALTER ANY LOGIN") ||
		i.sysadmin(p) && !i.sysadmin(x.s.cur.login) && !own {
		fail(
			15151,
			16,
			1,
			"Cannot alter the login '%s', because it does not exist or you do not have permission.",
			a.Name,
		)
	}
	was := *p
	x.undo(func() { *p = was })
	if a.Enable != nil {
		p.Disabled = !*a.Enable
	}
	if v, ok := option(a.Options, "CHECK_POLICY"); ok {
		p.Policy = strings.EqualFold(v, "ON")
	}
	if v, ok := option(a.Options, "CHECK_EXPIRATION"); ok {
		p.Expire = strings.EqualFold(v, "ON")
	}
	if v, ok := option(a.Options, "DEFAULT_DATABASE"); ok {
		if i.db(v) == nil {
			*p = was
			fail(
				15010,
				16,
				1,
				"The database '%s' does not exist. Supply a valid database name. To see available databases, use "+
					"sys.databases.",
				v,
			)
		}
		p.DefaultDB = v
	}
	switch {
	case a.Hash != nil:
		x.checkHash(a.Hash)
		p.Hash, p.PasswordSet = a.Hash, time.Now().UTC()
	case a.Password != nil:
		if own && !checkPassword(p.Hash, *a.Old) {
			fail(
				15151,
				16,
				1,
				"Cannot alter the login '%s', because it does not exist or you do not have permission.",
				a.Name,
			)
		}
		if p.Policy {
			x.checkPolicy(*a.Password)
		}
		p.Hash, p.PasswordSet = HashPassword(*a.Password, nil), time.Now().UTC()
	}
	if a.MustChange {
		p.MustChange = true
	} else if a.Password != nil || a.Hash != nil {
		p.MustChange = false
	}
	if a.Unlock {
		p.Locked, p.BadCount = false, 0
	}
	if a.NewName != "" {
		if o := i.principal(a.NewName); o != nil && o != p {
			fail(15025, 16, 1, "The server principal '%s' already exists.", a.NewName)
		}
		p.Name = a.NewName
	}
	p.Modified = time.Now().UTC()
}

func (x *exec) dropPrincipal(d tsql.DropPrincipal) {
	switch d.Kind {
	case "LOGIN", "SERVER ROLE":
		x.dropLogin(d)
	case "SCHEMA":
		x.dropSchema(d)
	default:
		x.dropUser(d)
	}
}

// dropLogin: Long: the rules of one statement, in the order in which the server looks at them.
func (x *exec) dropLogin(d tsql.DropPrincipal) {
	i := x.inst
	p := i.principal(d.Name)
	kind := strings.ToLower(d.Kind)
	if p == nil && d.IfExists {
		return
	}
	if p == nil || (p.Type == "R") != (d.Kind == "SERVER ROLE") || !x.may("ALTER ANY LOGIN") {
		fail(
			15151,
			16,
			1,
			"Cannot drop the %s '%s', because it does not exist or you do not have permission.",
			kind,
			d.Name,
		)
	}
	if p.Fixed || p.ID <= 2 {
		fail(15150, 16, 1, "Cannot drop the %s '%s'.", kind, d.Name)
	}
	for _, s := range i.sessions {
		if s.cur.login == p || s.original == p.Name {
			fail(15434, 16, 1, "Could not drop login '%s' as the user is currently logged in.", p.Name)
		}
	}
	for _, db := range i.dbs {
		if bytes.Equal(db.Owner, p.SID) {
			fail(
				15174,
				16,
				1,
				"Login '%s' owns one or more database(s). Change the owner of the database(s) before dropping the "+
					"login.",
				p.Name,
			)
		}
	}
	jobs := 0
	for _, j := range i.jobs {
		if bytes.Equal(j.Owner, p.SID) {
			jobs++
		}
	}
	if jobs > 0 {
		fail(
			15170,
			16,
			1,
			"This login is the owner of %d job(s). You must delete or reassign these jobs before the login can be "+
				"dropped.",
			jobs,
		)
	}
	for _, q := range i.perms {
		if q.Grantor == p.ID {
			fail(
				15173,
				16,
				1,
				"Server principal '%s' has granted one or more permission(s). Revoke the permission(s) before "+
					"dropping the server principal.",
				p.Name,
			)
		}
	}
	if len(p.Members) > 0 {
		fail(15144, 16, 1, "The role has members. It must be empty before it can be dropped.")
	}
	perms := i.perms
	var roles []*Principal
	for _, r := range i.principals {
		if r.Members[p.ID] {
			delete(r.Members, p.ID)
			roles = append(roles, r)
		}
	}
	i.perms = slices.DeleteFunc(slices.Clone(i.perms), func(q *Perm) bool { return q.Grantee == p.ID })
	delete(i.principals, p.ID)
	x.undo(func() {
		i.principals[p.ID], i.perms = p, perms
		for _, r := range roles {
			r.Members[p.ID] = true
		}
	})
}
