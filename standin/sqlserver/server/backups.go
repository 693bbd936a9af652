package server

import (
	"maps"
	"slices"
	"strings"
	"time"

	"example.com/genarch/standin/sqlserver/tds"
	"example.com/genarch/standin/sqlserver/tsql"
)

// terminated is a problem that ends a backup or a restore.
func terminated(what string, number, class, state int, text string) *Problem {
	return &Problem{Number: number, Class: class, State: state, Text: text, Also: []*Problem{{Number: 3013, Class: 16,
		State: 1, Text: what + " DATABASE is terminating abnormally."}}}
}

// backup writes a database into a file.
func (x *exec) backup(b tsql.Backup) {
	i, d := x.inst, x.inst.db(b.Database)
	end := func(number, class, state int, text string) { panic(terminated("BACKUP", number, class, state, text)) }
	switch {
	case x.s.trancount > 0:
		end(3021, 16, 0, "Cannot perform a backup or restore operation within a transaction.")
	case d == nil:
		end(911, 16, 10, "Database '"+b.Database+"' does not exist. Make sure that the name is entered correctly.")
	case d.State != "ONLINE":
		end(942, 14, 4, "Database '"+d.Name+"' cannot be opened because it is offline.")
	case !i.dbHas(x.s.cur, d, "BACKUP DATABASE", 0, 0, 0):
		end(262, 14, 1, "BACKUP DATABASE permission denied in database '"+d.Name+"'.")
	case !strings.HasPrefix(b.To, "/"):
		end(3201, 16, 1, "Cannot open backup device '"+b.To+"'. Operating system error 5(Access is denied.).")
	}
	x.goThrough(d)
	i.onDisk[b.To] = d.clone()
	i.backups = append(i.backups, backup{d.Name, time.Now()})
}

// goThrough takes as long as reading or writing all of a database does.
func (x *exec) goThrough(d *Database) {
	if x.inst.hooks.BackupTakes == nil || d.ID == 3 {
		return
	}
	const parts = 20
	for k := range parts {
		if x.s.req != nil {
			x.s.req.Percent = float64(k) * 100 / parts
		}
		x.s.wait("BACKUPIO", "", nil, x.inst.hooks.BackupTakes()/parts, func() bool { return false })
	}
}

// restore makes a database of a file.
func (x *exec) restore(r tsql.Restore) {
	i := x.inst
	end := func(number, class, state int, text string) { panic(terminated("RESTORE", number, class, state, text)) }
	file, there := i.onDisk[r.From]
	switch {
	case x.s.trancount > 0:
		end(3021, 16, 0, "Cannot perform a backup or restore operation within a transaction.")
	case !x.may("CREATE ANY DATABASE"):
		end(262, 14, 1, "CREATE DATABASE permission denied in database 'master'.")
	case !there:
		end(3201, 16, 2, "Cannot open backup device '"+r.From+"'. Operating system error 2(The system cannot find the "+
			"file specified.).")
	case i.db(r.Database) != nil:
		end(3154, 16, 4, "The backup set holds a backup of a database other than the existing '"+r.Database+
			"' database.")
	}
	d := file.clone()
	for _, logical := range slices.Sorted(maps.Keys(r.Move)) {
		k := slices.IndexFunc(d.Files, func(f *File) bool { return i.same(f.Name, logical) })
		if k < 0 {
			end(3234, 16, 2, "Logical file '"+logical+"' is not part of database '"+r.Database+
				"'. Use RESTORE FILELISTONLY to list the logical file names.")
		}
		d.Files[k].Path = r.Move[logical]
	}
	for _, f := range d.Files {
		for _, o := range i.dbs {
			if slices.ContainsFunc(o.Files, func(have *File) bool { return strings.EqualFold(have.Path, f.Path) }) {
				end(1834, 16, 1, "The file '"+f.Path+"' cannot be overwritten.  It is being used by database '"+o.Name+
					"'.")
			}
		}
	}
	owner := []byte{1}
	if x.s.cur.login != nil {
		owner = x.s.cur.login.SID
	}
	d.ID, d.Name, d.Owner, d.State = x.freeDBID(), r.Database, owner, "RESTORING"
	d.Created = tds.RoundDateTime(time.Now())
	d.Users[1].SID = owner
	d.Trust, d.Chaining, d.Broker = false, false, false
	i.dbs[d.ID] = d
	x.goThrough(d)
	d.State = "ONLINE"
}

// clone is a copy of all that is in a database.
func (d *Database) clone() *Database {
	c := *d
	c.exclusive = nil
	c.Groups, c.Props = slices.Clone(d.Groups), slices.Clone(d.Props)
	c.Files, c.Perms = nil, nil
	for _, f := range d.Files {
		one := *f
		c.Files = append(c.Files, &one)
	}
	for _, p := range d.Perms {
		one := *p
		c.Perms = append(c.Perms, &one)
	}
	c.Users, c.Schemas, c.Objects = map[int]*User{}, map[int]*Schema{}, map[int]*Object{}
	for id, u := range d.Users {
		one := *u
		one.Members = maps.Clone(u.Members)
		c.Users[id] = &one
	}
	for id, s := range d.Schemas {
		one := *s
		c.Schemas[id] = &one
	}
	for id, o := range d.Objects {
		one := *o
		one.Rows, one.writer = slices.Clone(o.Rows), nil
		c.Objects[id] = &one
	}
	return &c
}
