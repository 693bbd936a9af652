package server

import (
	"bytes"
	"fmt"
	"slices"
	"time"

	"example.com/genarch/standin/sqlserver/tsql"
)

func (x *exec) freeDBID() int {
	for id := 5; ; id++ {
		if x.inst.dbs[id] == nil {
			return id
		}
	}
}

// createDatabase: Long: the rules of one statement, in the order in which the server looks at them.
func (x *exec) createDatabase(c tsql.CreateDatabase) {
	i := x.inst
	x.noTran("CREATE DATABASE")
	if !x.may("CREATE ANY DATABASE") && !i.dbHas(x.s.cur, i.dbs[1], "CREATE DATABASE", 0, 0, 0) {
		fail(262, 14, 1, "CREATE DATABASE permission denied in database 'master'.")
	}
	if i.db(c.Name) != nil {
		fail(1801, 16, 3, "Database '%s' already exists. Choose a different database name.", c.Name)
	}
	if c.Collation != "" && !collationKnown(c.Collation) {
		fail(448, 16, 3, "Invalid collation '%s'.", c.Collation)
	}
	if utf16len(c.Name) > 123 &&
		!slices.ContainsFunc(c.Files, func(f tsql.File) bool { return f.Log }) { // the log file's name gets a suffix
		fail(103, 15, 4, "The file that starts with '%s' is too long. Maximum length is 128.", c.Name)
	}
	if c.Containment == "PARTIAL" && i.config["contained database authentication"] == 0 {
		fail(
			12824,
			16,
			1,
			"The sp_configure value 'contained database authentication' must be set to 1 in order to create a "+
				"contained database.  You may need to use RECONFIGURE to set the value_in_use.",
		)
	}
	free := func() bool {
		if i.modelBusy != nil && i.modelBusy != x.s {
			return false
		}
		for _, s := range i.sessions {
			if s != x.s && s.DB.ID == 3 {
				return false
			}
		}
		return true
	}
	if !x.s.wait("LCK_M_X", "DATABASE: 3:0", nil, time.Second, free) {
		fail(1807, 16, 3, "Could not obtain exclusive lock on database 'model'. Retry the operation later.")
	}
	owner := []byte{1}
	if x.s.cur.login != nil {
		owner = x.s.cur.login.SID
	}
	d := i.newDatabase(x.freeDBID(), c.Name, owner)
	if c.Collation != "" {
		d.Collation = c.Collation
	}
	d.Contained = c.Containment == "PARTIAL"
	d.Recovery = i.dbs[3].Recovery
	for k := range d.Files {
		d.Files[k].Size, d.Files[k].Growth, d.Files[k].Percent = i.dbs[3].Files[k].Size, i.dbs[3].Files[k].Growth,
			i.dbs[3].Files[k].Percent
	}
	if c.Snapshot != "" {
		src := i.db(c.Snapshot)
		if src == nil {
			fail(911, 16, 1, "Database '%s' does not exist. Make sure that the name is entered correctly.", c.Snapshot)
		}
		d.SnapshotOf, d.ReadOnly = src.ID, true
	}
	if len(c.Files) > 0 && c.Snapshot == "" {
		x.files(d, c.Files)
	}
	for _, o := range c.Options {
		x.dbOption(d, o, true)
	}
	i.modelBusy = x.s
	x.s.wait("PREEMPTIVE_OS_WRITEFILEGATHER", "", nil, i.createTakes(), func() bool { return false })
	i.modelBusy = nil
	if i.db(c.Name) != nil { // somebody was quicker
		fail(1801, 16, 3, "Database '%s' already exists. Choose a different database name.", c.Name)
	}
	d.ID = x.freeDBID()
	i.dbs[d.ID] = d
	for _, f := range d.Files {
		_ = f
	}
}

func (i *Instance) createTakes() time.Duration { return time.Millisecond }

func also5069(p *Problem) {
	p.Also = append(p.Also, &Problem{Number: 5069, Class: 16, State: 1, Text: "ALTER DATABASE statement failed."})
	panic(p)
}

func failAlter(number, class, state int, format string, args ...any) {
	also5069(&Problem{Number: number, Class: class, State: state, Text: fmt.Sprintf(format, args...)})
}

// others are the sessions that are in a database beside this one.
func (x *exec) others(d *Database) []*Session {
	var out []*Session
	for _, s := range sorted(x.inst.sessions) {
		if s == x.s || s.system {
			continue
		}
		uses := s.DB == d
		if s.tx != nil {
			_, in := s.tx.bytes[d.ID]
			uses = uses || in
		}
		if uses {
			out = append(out, s)
		}
	}
	return out
}

// dropDatabase: Long: the rules of one statement, in the order in which the server looks at them.
func (x *exec) dropDatabase(dr tsql.DropDatabase) {
	i := x.inst
	x.noTran("DROP DATABASE")
	for _, name := range dr.Names {
		d := i.db(name)
		if d == nil && dr.IfExists {
			continue
		}
		may := d != nil &&
			(x.may("ALTER ANY "+
				"DATABASE") || d.State == "ONLINE" && i.dbHas(x.s.cur, d, "CONTROL", 0, 0, 0) ||
				x.s.cur.login != nil && bytes.Equal(d.Owner, x.s.cur.login.SID))
		switch {
		case !may:
			fail(
				3701,
				11,
				1,
				"Cannot drop the database '%s', because it does not exist or you do not have permission.",
				name,
			)
		case d.system():
			fail(3708, 16, 4, "Cannot drop the database '%s' because it is a system database.", d.Name)
		case d.Published:
			fail(3724, 16, 1, "Cannot drop the database '%s' because it is being used for replication.", d.Name)
		case d.Group != "":
			fail(
				3752,
				16,
				1,
				"The database '%s' is currently joined to an availability group.  Before you can drop the database, "+
					"you need to remove it from the availability group.",
				d.Name,
			)
		case d.Mirrored:
			fail(
				3743,
				16,
				1,
				"The database '%s' is enabled for database mirroring. Database mirroring must be removed before you "+
					"drop the database.",
				d.Name,
			)
		}
		for _, s := range i.dbs {
			if s.SnapshotOf == d.ID {
				fail(
					3709,
					16,
					2,
					"Cannot drop the database while the database snapshot \"%s\" refers to it. Drop that database "+
						"first.",
					s.Name,
				)
			}
		}
		if len(x.others(d)) > 0 || x.s.DB == d {
			fail(3702, 16, 3, "Cannot drop database \"%s\" because it is currently in use.", d.Name)
		}
		delete(i.dbs, d.ID)
	}
}
