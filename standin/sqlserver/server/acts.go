package server

import (
	"bytes"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"example.com/genarch/standin/sqlserver/tds"
	"example.com/genarch/standin/sqlserver/tsql"
)

func (x *exec) may(perm string) bool { return x.inst.serverHas(x.s.cur, perm) }

func (x *exec) kill(k tsql.Kill) {
	s := x.s
	if s.trancount > 0 && !k.Status {
		fail(6115, 16, 1, "KILL command cannot be used inside user transactions.")
	}
	if !x.may("ALTER ANY CONNECTION") {
		fail(6102, 14, 1, "User does not have permission to use the KILL statement.")
	}
	if k.ID < 1 || k.ID > 32767 {
		fail(6101, 16, 1, "Session ID %d is not valid.", k.ID)
	}
	t := x.inst.sessions[int(k.ID)]
	switch {
	case t == s:
		fail(6104, 16, 1, "Cannot use KILL to kill your own process.")
	case t == nil:
		fail(6106, 16, 2, "Process ID %d is not an active process ID.", k.ID)
	case t.system:
		fail(6107, 14, 1, "Only user processes can be killed.")
	case k.Status && !t.rolling:
		fail(
			6120,
			16,
			1,
			"Status report cannot be obtained. Rollback operation for Process ID %d is not in progress.",
			k.ID,
		)
	case k.Status:
		x.say(
			&Problem{
				Number: 6109,
				Class:  10,
				State:  1,
				Text: fmt.Sprintf(
					"SPID %d: transaction rollback in progress. Estimated rollback completion: %d%%. Estimated time "+
						"remaining: %d seconds.",
					t.ID,
					int(t.req.Percent),
					1,
				),
			},
			0,
		)
		return
	}
	t.end()
}

// end kills a session: at once when it is idle, else at its next step.
func (t *Session) end() {
	if t.killed {
		return
	}
	t.killed = true
	if t.conn == nil { // a pretended backup
		t.drop()
		return
	}
	if t.req != nil && t.req.cancel != nil {
		t.req.cancel(errCancelled)
		return
	}
	go func() {
		i := t.inst
		i.mu.Lock()
		defer i.mu.Unlock()
		t.rollback()
		t.drop()
		_ = t.conn.Close()
	}()
}

// drop takes a session off the list, with what it holds.
func (t *Session) drop() {
	i := t.inst
	if i.sessions[t.ID] == t {
		delete(i.sessions, t.ID)
		close(t.gone)
	}
	for _, d := range i.dbs {
		if d.exclusive == t {
			d.exclusive = nil
		}
	}
	if i.modelBusy == t {
		i.modelBusy = nil
	}
	i.broadcast()
}

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

// fileOf is a new file as a statement asks for it.
func fileOf(s tsql.File) *File {
	f := &File{Name: s.Name, Path: s.Path, Group: s.Group, Log: s.Log, Size: 8 << 20, Max: -1, Growth: 64 << 20,
		GUID: uuid(), Used: 1 << 20}
	if s.HasSize {
		f.Size = s.Size
	}
	if s.HasMax && s.Max != 0 {
		f.Max = s.Max
	}
	if s.HasGrowth {
		f.Growth, f.Percent = s.Growth, s.Percent
	}
	return f
}

// files: Long: the rules of one statement, in the order in which the server looks at them.
func (x *exec) files(d *Database, specs []tsql.File) {
	var data, logs []*File
	broken := func(p *Problem) {
		p.Also = append(
			p.Also,
			&Problem{
				Number: 1802,
				Class:  16,
				State:  4,
				Text:   "CREATE DATABASE failed. Some file names listed could not be created. Check related errors.",
			},
		)
		panic(p)
	}
	for _, s := range specs {
		f := fileOf(s)
		if !s.Log && !slices.ContainsFunc(d.Groups, func(g string) bool { return x.inst.same(g, s.Group) }) {
			d.Groups = append(d.Groups, s.Group)
		}
		if s.Path == "" {
			fail(153, 15, 1, "Invalid usage of the option FILENAME in the CREATE/ALTER DATABASE statement.")
		}
		for _, o := range x.inst.dbs {
			for _, g := range o.Files {
				if strings.EqualFold(g.Path, f.Path) {
					broken(
						&Problem{
							Number: 5170,
							Class:  16,
							State:  1,
							Text: fmt.Sprintf(
								"Cannot create file '%s' because it already exists. Change the file path or the file "+
									"name, and retry the operation.",
								f.Path,
							),
						},
					)
				}
			}
		}
		if !strings.HasPrefix(f.Path, x.inst.DataPath) && !strings.HasPrefix(f.Path, "/data/") {
			broken(
				&Problem{
					Number: 5133,
					Class:  16,
					State:  1,
					Text: fmt.Sprintf(
						"Directory lookup for the file \"%s\" failed with the operating system error 2(The system "+
							"cannot find the file specified.).",
						f.Path,
					),
				},
			)
		}
		for _, g := range append(slices.Clone(data), logs...) {
			if x.inst.same(g.Name, f.Name) {
				fail(1828, 16, 4, "The logical file name \"%s\" is already in use. Choose a different name.", f.Name)
			}
		}
		if s.Log {
			logs = append(logs, f)
		} else {
			data = append(data, f)
		}
	}
	if len(data) > 0 && data[0].Size < x.inst.dbs[3].Files[0].Size {
		fail(
			1803,
			16,
			1,
			"The CREATE DATABASE statement failed. The primary file must be at least %d MB to accommodate a copy of "+
				"the model database.",
			x.inst.dbs[3].Files[0].Size>>20,
		)
	}
	if len(data) == 0 {
		data = d.Files[:1]
	}
	if len(logs) == 0 {
		logs = d.Files[1:]
	}
	d.Files = nil
	id := 1
	for k, f := range append(append([]*File{}, data[0]), append(logs, data[1:]...)...) {
		_ = k
		f.ID = id
		id++
		d.Files = append(d.Files, f)
	}
}

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

var exclusiveOptions = []string{
	"SINGLE_USER",
	"RESTRICTED_USER",
	"OFFLINE",
	"READ_ONLY",
	"READ_WRITE",
	"READ_COMMITTED_SNAPSHOT",
	"EMERGENCY",
	"ENABLE_BROKER",
	"NEW_BROKER",
}

// alterDatabase: Long: the rules of one statement, in the order in which the server looks at them.
func (x *exec) alterDatabase(a tsql.AlterDatabase) {
	i := x.inst
	x.noTran("ALTER DATABASE")
	d := x.s.DB
	if a.Name != "" {
		d = i.db(a.Name)
	}
	if d == nil || !i.mayAlterDB(x.s.cur, d) {
		failAlter(
			5011,
			14,
			5,
			"User does not have permission to alter database '%s', the database does not exist, or the database is "+
				"not in a state that allows access checks.",
			a.Name,
		)
	}
	fails := func(p *Problem) { also5069(p) }
	switch {
	case a.NewName != "":
		if d.system() {
			fails(
				&Problem{
					Number: 5058,
					Class:  16,
					State:  1,
					Text:   "Option 'NAME' cannot be set in database '" + d.Name + "'.",
				},
			)
		}
		if d.State != "ONLINE" {
			fails(
				&Problem{
					Number: 942,
					Class:  14,
					State:  4,
					Text:   "Database '" + d.Name + "' cannot be opened because it is offline.",
				},
			)
		}
		if o := i.db(a.NewName); o != nil && o != d {
			failAlter(1801, 16, 4, "Database '%s' already exists. Choose a different database name.", a.NewName)
		}
		if !x.s.wait(
			"LCK_M_X",
			fmt.Sprintf("DATABASE: %d:0", d.ID),
			nil,
			300*time.Millisecond,
			func() bool { return len(x.others(d)) == 0 },
		) {
			failAlter(5030, 16, 2, "The database could not be exclusively locked to perform the operation.")
		}
		old := d.Name
		d.Name = a.NewName
		x.info(5021, 1, "The database name '%s' has been set.", a.NewName)
		if x.s.DB == d {
			x.env(tds.EnvDatabase, d.Name, old)
		}
	case a.Collation != "":
		if !collationKnown(a.Collation) {
			failAlter(448, 16, 3, "Invalid collation '%s'.", a.Collation)
		}
		if len(x.others(d)) > 0 {
			panic(
				&Problem{
					Number: 5030,
					Class:  16,
					State:  2,
					Text:   "The database could not be exclusively locked to perform the operation.",
					Also: []*Problem{
						{
							Number: 5072,
							Class:  16,
							State:  1,
							Text: fmt.Sprintf(
								"ALTER DATABASE failed. The default collation of database '%s' cannot be set to %s.",
								d.Name,
								a.Collation,
							),
						}},
				},
			)
		}
		d.Collation = a.Collation
	case a.Modify != nil:
		for _, f := range d.Files {
			if i.same(f.Name, a.Modify.Name) {
				m := a.Modify
				if m.HasSize {
					if m.Size <= f.Size {
						failAlter(
							5039,
							16,
							1,
							"MODIFY FILE failed. Specified size is less than or equal to current size.",
						)
					}
					f.Size = m.Size
				}
				if m.HasMax {
					f.Max = m.Max
				}
				if m.HasGrowth {
					f.Growth, f.Percent = m.Growth, m.Percent
				}
				if m.NewName != "" {
					f.Name = m.NewName
				}
				if m.Path != "" {
					f.Path = m.Path
				}
				return
			}
		}
		failAlter(5041, 16, 1, "MODIFY FILE failed. File '%s' does not exist.", a.Modify.Name)
	case len(a.Add) > 0:
		for _, f := range a.Add {
			if !f.Log && !slices.ContainsFunc(d.Groups, func(g string) bool { return i.same(g, f.Group) }) {
				failAlter(1921, 16, 1, "Invalid filegroup '%s' specified.", f.Group)
			}
			nf := fileOf(f)
			nf.ID = len(d.Files) + 1
			d.Files = append(d.Files, nf)
		}
	case a.AddGroup != "":
		if slices.ContainsFunc(d.Groups, func(g string) bool { return i.same(g, a.AddGroup) }) {
			failAlter(50000, 16, 1, "stand-in: the filegroup '%s' exists.", a.AddGroup)
		}
		d.Groups = append(d.Groups, a.AddGroup)
	case a.RemoveGroup != "":
		if slices.ContainsFunc(d.Files, func(f *File) bool { return i.same(f.Group, a.RemoveGroup) && !f.Log }) {
			failAlter(5042, 16, 1, "The filegroup '%s' cannot be removed because it is not empty.", a.RemoveGroup)
		}
		d.Groups = slices.DeleteFunc(d.Groups, func(g string) bool { return i.same(g, a.RemoveGroup) })
	case a.Remove != "":
		k := slices.IndexFunc(d.Files, func(f *File) bool { return i.same(f.Name, a.Remove) })
		if k < 0 {
			failAlter(
				5009,
				16,
				1,
				"One or more files listed in the statement could not be found or could not be initialized.",
			)
		}
		d.Files = slices.Delete(d.Files, k, k+1)
	default:
		for _, o := range a.Options {
			x.setDatabase(d, o, a)
		}
	}
}

// setDatabase: Long: the rules of one statement, in the order in which the server looks at them.
func (x *exec) setDatabase(d *Database, o tsql.Option, a tsql.AlterDatabase) {
	i := x.inst
	if d.system() && slices.Contains([]string{"SINGLE_USER", "RESTRICTED_USER", "OFFLINE", "READ_ONLY"}, o.Name) &&
		d.ID != 3 &&
		d.ID != 4 {
		failAlter(5058, 16, 1, "Option '%s' cannot be set in database '%s'.", o.Name, d.Name)
	}
	if o.Name == "ONLINE" {
		if !x.may("ALTER ANY DATABASE") {
			failAlter(
				5011,
				14,
				5,
				"User does not have permission to alter database '%s', the database does not exist, or the database "+
					"is not in a state that allows access checks.",
				a.Name,
			)
		}
		d.State = "ONLINE"
		return
	}
	if d.State != "ONLINE" && o.Name != "OFFLINE" && o.Name != "EMERGENCY" {
		failAlter(
			5052,
			16,
			1,
			"ALTER DATABASE is not permitted while a database is in the %s state.",
			strings.ToUpper(d.State[:1])+strings.ToLower(d.State[1:]),
		)
	}
	others := x.others(d)
	if d.Access == "SINGLE_USER" && len(others) > 0 && slices.Contains(append(exclusiveOptions, "MULTI_USER"), o.Name) {
		failAlter(
			5064,
			16,
			1,
			"Changes to the state or options of database '%s' cannot be made at this time. The database is in "+
				"single-user mode, and a user is currently connected to it.",
			d.Name,
		)
	}
	if slices.Contains(exclusiveOptions, o.Name) {
		resource := fmt.Sprintf("DATABASE: %d:0", d.ID)
		empty := func() bool { return len(x.others(d)) == 0 }
		blocker := func() int {
			if l := x.others(d); len(l) > 0 {
				return l[0].ID
			}
			return 0
		}
		killAll := func() {
			if len(x.others(d)) == 0 {
				return
			}
			x.info(5060, 1, "Nonqualified transactions are being rolled back. Estimated rollback completion: 0%%.")
			for _, s := range x.others(d) {
				s.end()
			}
			x.s.wait("LCK_M_X", resource, blocker, -1, empty)
			x.info(5060, 1, "Nonqualified transactions are being rolled back. Estimated rollback completion: 100%%.")
		}
		d.exclusive = x.s
		func() {
			defer func() { d.exclusive = nil }()
			switch a.Termination {
			case "NO_WAIT":
				if !empty() {
					failAlter(
						5070,
						16,
						2,
						"Database state cannot be changed while other users are using the database '%s'",
						d.Name,
					)
				}
			case "IMMEDIATE":
				killAll()
			case "AFTER":
				if !x.s.wait("LCK_M_X", resource, blocker, time.Duration(a.After)*time.Second, empty) {
					killAll()
				}
			default:
				d.exclusive = nil // newcomers are not kept out by one who waits
				x.s.wait("LCK_M_X", resource, blocker, -1, empty)
			}
		}()
	}
	_ = i
	x.dbOption(d, o, false)
}

// dbOption: Long: the rules of one statement, in the order in which the server looks at them.
func (x *exec) dbOption(d *Database, o tsql.Option, creating bool) {
	on := strings.EqualFold(o.Value, "ON")
	switch o.Name {
	case "SINGLE_USER", "RESTRICTED_USER", "MULTI_USER":
		d.Access = o.Name
	case "OFFLINE", "EMERGENCY":
		if x.s.DB == d && o.Name == "OFFLINE" {
			x.setDB(x.inst.dbs[1])
		}
		d.State = o.Name
	case "READ_ONLY":
		d.ReadOnly = true
	case "READ_WRITE":
		d.ReadOnly = false
	case "RECOVERY":
		if !slices.Contains([]string{"FULL", "SIMPLE", "BULK_LOGGED"}, strings.ToUpper(o.Value)) {
			fail(102, 15, 6, "Incorrect syntax near '%s'.", o.Value)
		}
		d.Recovery = strings.ToUpper(o.Value)
	case "COMPATIBILITY_LEVEL":
		v, _ := strconv.Atoi(o.Value)
		if !slices.Contains([]int{100, 110, 120, 130, 140, 150, 160}, v) {
			failAlter(
				15048,
				16,
				1,
				"Valid values of the database compatibility level are 100, 110, 120, 130, 140, 150, or 160.",
			)
		}
		d.Compat = v
	case "READ_COMMITTED_SNAPSHOT":
		d.RCSI = on
	case "ALLOW_SNAPSHOT_ISOLATION":
		d.Snapshot = on
	case "AUTO_CLOSE":
		d.AutoClose = on
	case "AUTO_SHRINK":
		d.AutoShrink = on
	case "AUTO_CREATE_STATISTICS":
		d.AutoCreate = on
	case "AUTO_UPDATE_STATISTICS":
		d.AutoUpdate = on
	case "AUTO_UPDATE_STATISTICS_ASYNC":
		d.AutoAsync = on
	case "TRUSTWORTHY":
		d.Trust = on
	case "DB_CHAINING":
		d.Chaining = on
	case "PAGE_VERIFY":
		d.PageVerify = strings.ToUpper(o.Value)
	case "ENABLE_BROKER":
		d.Broker = true
	case "DISABLE_BROKER":
		d.Broker = false
	case "NEW_BROKER":
		d.Broker, d.BrokerGUID = true, uuid()
	case "TARGET_RECOVERY_TIME":
		d.Target, _ = strconv.Atoi(o.Value)
	case "CONTAINMENT":
		if strings.EqualFold(o.Value, "PARTIAL") && x.inst.config["contained database authentication"] == 0 {
			failAlter(
				12824,
				16,
				1,
				"The sp_configure value 'contained database authentication' must be set to 1 in order to alter a "+
					"contained database.  You may need to use RECONFIGURE to set the value_in_use.",
			)
		}
		d.Contained = strings.EqualFold(o.Value, "PARTIAL")
	case "QUERY_STORE",
		"DELAYED_DURABILITY",
		"PARAMETERIZATION",
		"ANSI_NULLS",
		"ANSI_PADDING",
		"QUOTED_IDENTIFIER",
		"RECURSIVE_TRIGGERS",
		"CURSOR_DEFAULT",
		"ACCELERATED_DATABASE_RECOVERY":
	default:
		fail(102, 15, 6, "Incorrect syntax near '%s'.", o.Name)
	}
	_ = creating
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

func (x *exec) createModule(c tsql.CreateModule) {
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

func (x *exec) property(proc string, arg func(int, ...string) any) {
	d := x.s.DB
	if !x.inst.dbHas(x.s.cur, d, "ALTER", 0, 0, 0) {
		fail(15247, 16, 1, "User does not have permission to perform this action.")
	}
	name := text(arg(0, "@name"))
	k := slices.IndexFunc(d.Props, func(p *Prop) bool { return p.Class == 0 && x.inst.same(p.Name, name) })
	before := slices.Clone(d.Props)
	switch proc {
	case "sp_addextendedproperty":
		if k >= 0 {
			fail(15233, 16, 1, "Property cannot be added. Property '%s' already exists for 'object specified'.", name)
		}
		d.Props = append(d.Props, &Prop{Name: name, Value: arg(1, "@value")})
	case "sp_updateextendedproperty":
		if k < 0 {
			fail(
				15217,
				16,
				1,
				"Property cannot be updated or deleted. Property '%s' does not exist for 'object specified'.",
				name,
			)
		}
		d.Props[k] = &Prop{Name: name, Value: arg(1, "@value")}
	default:
		if k < 0 {
			fail(
				15217,
				16,
				1,
				"Property cannot be updated or deleted. Property '%s' does not exist for 'object specified'.",
				name,
			)
		}
		d.Props = slices.Delete(d.Props, k, k+1)
	}
	x.undo(func() { d.Props = before })
	x.finish(0, 0, 0)
}
