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
