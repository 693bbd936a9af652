package server

import (
	"bytes"
	"crypto/md5"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/sha512"
	"slices"
	"strings"
	"time"

	"example.com/genarch/standin/sqlserver/tds"
	"example.com/genarch/standin/sqlserver/tsql"
)

// builtin is a function of the language.
type builtin struct {
	min, max int
	t        tds.Type
	f        func(x *exec, a []any) any
}

// text makes the arguments of a builtin easy to take.
func text(v any) string {
	switch p := v.(type) {
	case nil:
		return ""
	case string:
		return p
	}
	return toText(v, typeOf(v), 121)
}

func num(v any) int64 {
	n, _ := convert(v, typeOf(v), tBig, 0).(int64)
	return n
}

func bit(b bool) any {
	if b {
		return int64(1)
	}
	return int64(0)
}

var builtins map[string]builtin

// init: Long: a list of functions.
func init() {
	builtins = map[string]builtin{
		"SERVERPROPERTY": {1, 1, tAny, func(x *exec, a []any) any { return x.inst.property(text(a[0])) }},
		"DB_ID": {0, 1, tds.Type{Kind: tds.SmallInt}, func(x *exec, a []any) any {
			if len(a) == 0 {
				return int64(x.s.DB.ID)
			}
			if d := x.inst.db(text(a[0])); d != nil && a[0] != nil {
				return int64(d.ID)
			}
			return nil
		}},
		"DB_NAME": {0, 1, tName, func(x *exec, a []any) any {
			if len(a) == 0 {
				return x.s.DB.Name
			}
			if d := x.inst.dbs[int(num(a[0]))]; d != nil && a[0] != nil {
				return d.Name
			}
			return nil
		}},
		"SUSER_SNAME": {0, 1, tName, func(x *exec, a []any) any {
			if len(a) == 0 {
				return x.loginName()
			}
			b, _ := a[0].([]byte)
			if p := x.inst.bySID(b); p != nil {
				return p.Name
			}
			return nil
		}},
		"SUSER_SID": {0, 2, tSID, func(x *exec, a []any) any {
			n, _ := x.loginName().(string)
			if len(a) > 0 {
				n = text(a[0])
			}
			if p := x.inst.principal(n); p != nil {
				return p.SID
			}
			return nil
		}},
		"SUSER_ID": {0, 1, tInt, func(x *exec, a []any) any {
			n, _ := x.loginName().(string)
			if len(a) > 0 {
				n = text(a[0])
			}
			if p := x.inst.principal(n); p != nil {
				return int64(p.ID)
			}
			return nil
		}},
		"ORIGINAL_LOGIN": {0, 0, tName, func(x *exec, a []any) any { return x.s.original }},
		"USER_NAME": {0, 1, tName, func(x *exec, a []any) any {
			if len(a) > 0 {
				if u := x.s.DB.Users[int(num(a[0]))]; u != nil {
					return u.Name
				}
				return nil
			}
			return x.userName()
		}},
		"USER_ID":               {1, 1, tInt, func(x *exec, a []any) any { return x.principalID(text(a[0])) }},
		"DATABASE_PRINCIPAL_ID": {1, 1, tInt, func(x *exec, a []any) any { return x.principalID(text(a[0])) }},
		"IS_SRVROLEMEMBER": {1, 2, tInt, func(x *exec, a []any) any {
			p := x.s.cur.login
			if len(a) > 1 {
				p = x.inst.principal(text(a[1]))
			}
			r := x.inst.principal(text(a[0]))
			if p == nil || r == nil || r.Type != "R" {
				return nil
			}
			set := x.inst.serverSet(p)
			return bit(set[r.ID])
		}},
		"IS_MEMBER": {
			1,
			1,
			tInt,
			func(x *exec, a []any) any { return x.isMember(text(a[0]), x.inst.userOf(x.s.cur, x.s.DB)) },
		},
		"IS_ROLEMEMBER": {1, 2, tInt, func(x *exec, a []any) any {
			u := x.inst.userOf(x.s.cur, x.s.DB)
			if len(a) > 1 {
				u = x.s.DB.user(x.inst, text(a[1]))
			}
			return x.isMember(text(a[0]), u)
		}},
		"HAS_DBACCESS": {1, 1, tInt, func(x *exec, a []any) any {
			d := x.inst.db(text(a[0]))
			if d == nil {
				return nil
			}
			return bit(x.inst.mayEnter(x.s.cur, d))
		}},
		"HAS_PERMS_BY_NAME": {3, 5, tInt, func(x *exec, a []any) any { return x.hasPerms(a) }},
		"DATABASEPROPERTYEX": {2, 2, tAny, func(x *exec, a []any) any {
			d := x.inst.db(text(a[0]))
			if d == nil {
				return nil
			}
			switch strings.ToUpper(text(a[1])) {
			case "STATUS":
				return d.State
			case "USERACCESS":
				return d.Access
			case "RECOVERY":
				return d.Recovery
			case "COLLATION":
				if d.State != "ONLINE" {
					return nil
				}
				return d.Collation
			case "UPDATEABILITY":
				if d.ReadOnly {
					return "READ_ONLY"
				}
				return "READ_WRITE"
			case "ISPUBLISHED":
				return bit(d.Published)
			case "VERSION":
				if d.State != "ONLINE" {
					return nil
				}
				return int64(957)
			}
			return nil
		}},
		"FILEPROPERTY": {2, 2, tInt, func(x *exec, a []any) any {
			for _, f := range x.s.DB.Files {
				if x.inst.same(f.Name, text(a[0])) {
					switch strings.ToUpper(text(a[1])) {
					case "SPACEUSED":
						return f.Used / 8192
					case "ISLOGFILE":
						return bit(f.Log)
					case "ISPRIMARYFILE":
						return bit(f.ID == 1)
					case "ISREADONLY":
						return int64(0)
					}
				}
			}
			return nil
		}},
		"COLLATIONPROPERTY": {2, 2, tAny, func(x *exec, a []any) any {
			if !collationKnown(text(a[0])) {
				return nil
			}
			switch strings.ToUpper(text(a[1])) {
			case "CODEPAGE":
				if strings.Contains(strings.ToUpper(text(a[0])), "UTF8") {
					return int64(65001)
				}
				return int64(1252)
			case "LCID":
				return int64(1033)
			}
			return nil
		}},
		"LOGINPROPERTY": {2, 2, tAny, func(x *exec, a []any) any {
			p := x.inst.principal(text(a[0]))
			if p == nil || p.Type != "S" {
				return nil
			}
			switch strings.ToUpper(text(a[1])) {
			case "PASSWORDHASH":
				return p.Hash
			case "PASSWORDLASTSETTIME":
				return tds.RoundDateTime(p.PasswordSet)
			case "ISLOCKED":
				return bit(p.Locked)
			case "ISMUSTCHANGE":
				return bit(p.MustChange)
			case "ISEXPIRED":
				return int64(0)
			case "BADPASSWORDCOUNT":
				return int64(p.BadCount)
			case "PASSWORDHASHALGORITHM":
				return int64(2)
			case "DEFAULTDATABASE":
				return p.DefaultDB
			}
			return nil
		}},
		"PWDCOMPARE": {2, 3, tInt, func(x *exec, a []any) any {
			h, ok := a[1].([]byte)
			if !ok || a[0] == nil {
				return nil
			}
			return bit(checkPassword(h, text(a[0])))
		}},
		"PWDENCRYPT": {
			1,
			1,
			tds.Type{Kind: tds.VarBinary, Len: 128},
			func(x *exec, a []any) any { return HashPassword(text(a[0]), nil) },
		},
		"HASHBYTES": {2, 2, tds.Type{Kind: tds.VarBinary, Len: 8000}, func(x *exec, a []any) any {
			if a[1] == nil {
				return nil
			}
			b, ok := a[1].([]byte)
			if !ok {
				b = tds.ToUCS2(text(a[1]))
			}
			switch strings.ToUpper(text(a[0])) {
			case "MD5":
				h := md5.Sum(b)
				return h[:]
			case "SHA1", "SHA":
				h := sha1.Sum(b)
				return h[:]
			case "SHA2_256":
				h := sha256.Sum256(b)
				return h[:]
			case "SHA2_512":
				h := sha512.Sum512(b)
				return h[:]
			}
			return nil
		}},
		"NEWID": {0, 0, tUUID, func(x *exec, a []any) any { return uuid() }},
		"QUOTENAME": {1, 2, tds.Type{Kind: tds.NVarChar, Len: 258}, func(x *exec, a []any) any {
			if a[0] == nil || utf16len(text(a[0])) > 128 {
				return nil
			}
			q := "["
			if len(a) > 1 {
				q = text(a[1])
			}
			switch q {
			case "[", "]":
				return "[" + strings.ReplaceAll(text(a[0]), "]", "]]") + "]"
			case "'":
				return "'" + strings.ReplaceAll(text(a[0]), "'", "''") + "'"
			case `"`:
				return `"` + strings.ReplaceAll(text(a[0]), `"`, `""`) + `"`
			}
			return nil
		}},
		"LEN": {
			1,
			1,
			tInt,
			nilSafe(func(x *exec, a []any) any { return int64(utf16len(strings.TrimRight(text(a[0]), " "))) }),
		},
		"DATALENGTH": {1, 1, tInt, nilSafe(func(x *exec, a []any) any {
			switch p := a[0].(type) {
			case string:
				return int64(2 * utf16len(p))
			case []byte:
				return int64(len(p))
			case bool:
				return int64(1)
			}
			return int64(8)
		})},
		"UPPER": {1, 1, tMax, nilSafe(func(x *exec, a []any) any { return strings.ToUpper(text(a[0])) })},
		"LOWER": {1, 1, tMax, nilSafe(func(x *exec, a []any) any { return strings.ToLower(text(a[0])) })},
		"LTRIM": {1, 1, tMax, nilSafe(func(x *exec, a []any) any { return strings.TrimLeft(text(a[0]), " ") })},
		"RTRIM": {1, 1, tMax, nilSafe(func(x *exec, a []any) any { return strings.TrimRight(text(a[0]), " ") })},
		"TRIM":  {1, 1, tMax, nilSafe(func(x *exec, a []any) any { return strings.Trim(text(a[0]), " ") })},
		"LEFT": {2, 2, tMax, nilSafe(func(x *exec, a []any) any {
			r := []rune(text(a[0]))
			return string(r[:min(max(0, int(num(a[1]))), len(r))])
		})},
		"RIGHT": {2, 2, tMax, nilSafe(func(x *exec, a []any) any {
			r := []rune(text(a[0]))
			return string(r[max(0, len(r)-max(0, int(num(a[1])))):])
		})},
		"SUBSTRING": {3, 3, tMax, nilSafe(func(x *exec, a []any) any {
			r := []rune(text(a[0]))
			from := int(num(a[1])) - 1
			to := from + int(num(a[2]))
			from, to = min(max(0, from), len(r)), min(max(0, to), len(r))
			return string(r[from:max(from, to)])
		})},
		"REPLACE": {
			3,
			3,
			tMax,
			nilSafe(func(x *exec, a []any) any { return strings.ReplaceAll(text(a[0]), text(a[1]), text(a[2])) }),
		},
		"CHARINDEX": {2, 2, tInt, nilSafe(func(x *exec, a []any) any {
			return int64(strings.Index(strings.ToLower(text(a[1])), strings.ToLower(text(a[0]))) + 1)
		})},
		"REPLICATE": {
			2,
			2,
			tMax,
			nilSafe(func(x *exec, a []any) any { return strings.Repeat(text(a[0]), int(min(num(a[1]), 8000))) }),
		},
		"CONCAT": {2, 254, tMax, func(x *exec, a []any) any {
			s := ""
			for _, v := range a {
				s += text(v)
			}
			return s
		}},
		"ABS":               {1, 1, tBig, nilSafe(func(x *exec, a []any) any { return max(num(a[0]), -num(a[0])) })},
		"GETDATE":           {0, 0, tDT, func(x *exec, a []any) any { return tds.RoundDateTime(clock()) }},
		"GETUTCDATE":        {0, 0, tDT, func(x *exec, a []any) any { return tds.RoundDateTime(clock()) }},
		"CURRENT_TIMESTAMP": {0, 0, tDT, func(x *exec, a []any) any { return tds.RoundDateTime(clock()) }},
		"SYSDATETIME":       {0, 0, tDT2, func(x *exec, a []any) any { return clock().Truncate(100) }},
		"SYSUTCDATETIME":    {0, 0, tDT2, func(x *exec, a []any) any { return clock().Truncate(100) }},
		"SYSDATETIMEOFFSET": {
			0,
			0,
			tds.Type{Kind: tds.DateTimeOffset, Scale: 7},
			func(x *exec, a []any) any { return clock().Truncate(100) },
		},
		"DATEDIFF": {
			3,
			3,
			tInt,
			nilSafe(func(x *exec, a []any) any { return datediff(text(a[0]), a[1], a[2]) }),
		},
		"DATEDIFF_BIG": {
			3,
			3,
			tBig,
			nilSafe(func(x *exec, a []any) any { return datediff(text(a[0]), a[1], a[2]) }),
		},
		"DATEADD": {3, 3, tDT2, nilSafe(func(x *exec, a []any) any {
			t, _ := convert(a[2], typeOf(a[2]), tDT2, 0).(time.Time)
			return dateadd(text(a[0]), int(num(a[1])), t)
		})},
		"OBJECT_ID": {1, 2, tInt, func(x *exec, a []any) any {
			if _, o := x.findObject(text(a[0])); o != nil {
				return int64(o.ID)
			}
			return nil
		}},
		"OBJECT_NAME": {1, 2, tName, func(x *exec, a []any) any {
			if o := x.s.DB.Objects[int(num(a[0]))]; o != nil {
				return o.Name
			}
			return nil
		}},
		"SCHEMA_ID": {0, 1, tInt, func(x *exec, a []any) any {
			n := "dbo"
			if len(a) > 0 {
				n = text(a[0])
			}
			if s := x.s.DB.schema(x.inst, n); s != nil {
				return int64(s.ID)
			}
			return nil
		}},
		"SCHEMA_NAME": {0, 1, tName, func(x *exec, a []any) any {
			id := 1
			if len(a) > 0 {
				id = int(num(a[0]))
			}
			if s := x.s.DB.Schemas[id]; s != nil {
				return s.Name
			}
			return nil
		}},
		"APP_NAME":  {0, 0, tName, func(x *exec, a []any) any { return x.s.Program }},
		"HOST_NAME": {0, 0, tName, func(x *exec, a []any) any { return x.s.Host }},
		"XACT_STATE": {
			0,
			0,
			tds.Type{Kind: tds.SmallInt},
			func(x *exec, a []any) any { return x.xactState() },
		},
		"CURRENT_TRANSACTION_ID": {0, 0, tBig, func(x *exec, a []any) any { return x.inst.nextXact }},
		"ERROR_NUMBER": {
			0,
			0,
			tInt,
			func(x *exec, a []any) any { return x.caught(func(p *Problem) any { return int64(p.Number) }) },
		},
		"ERROR_SEVERITY": {
			0,
			0,
			tInt,
			func(x *exec, a []any) any { return x.caught(func(p *Problem) any { return int64(p.Class) }) },
		},
		"ERROR_STATE": {
			0,
			0,
			tInt,
			func(x *exec, a []any) any { return x.caught(func(p *Problem) any { return int64(p.State) }) },
		},
		"ERROR_LINE": {
			0,
			0,
			tInt,
			func(x *exec, a []any) any { return x.caught(func(p *Problem) any { return int64(p.Line) }) },
		},
		"ERROR_MESSAGE": {
			0,
			0,
			tMax,
			func(x *exec, a []any) any { return x.caught(func(p *Problem) any { return p.Text }) },
		},
		"ERROR_PROCEDURE": {0, 0, tName, func(x *exec, a []any) any { return nil }},
		"CONNECTIONPROPERTY": {1, 1, tAny, func(x *exec, a []any) any {
			switch strings.ToLower(text(a[0])) {
			case "net_transport", "physical_net_transport":
				return "TCP"
			case "auth_scheme":
				return "SQL"
			case "client_net_address":
				return x.s.addr
			case "local_tcp_port":
				return int64(x.s.localPort)
			}
			return nil
		}},
	}
	for _, n := range []string{"SYSTEM_USER", "SUSER_NAME"} {
		builtins[n] = builtins["SUSER_SNAME"]
	}
	for _, n := range []string{"CURRENT_USER", "SESSION_USER", "USER"} {
		builtins[n] = builtins["USER_NAME"]
	}
}

func nilSafe(f func(*exec, []any) any) func(*exec, []any) any {
	return func(x *exec, a []any) any {
		if slices.Contains(a, nil) {
			return nil
		}
		return f(x, a)
	}
}

// clock is the server's own time: UTC, as in a container.
func clock() time.Time { return time.Now().UTC() }

func datediff(part string, a, b any) any {
	p, _ := convert(a, typeOf(a), tDT2, 0).(time.Time)
	q, _ := convert(b, typeOf(b), tDT2, 0).(time.Time)
	unit := func(d time.Duration) int64 { return q.Truncate(d).Sub(p.Truncate(d)).Nanoseconds() / int64(d) }
	switch part {
	case "YEAR", "YY", "YYYY":
		return int64(q.Year() - p.Year())
	case "MONTH", "MM", "M":
		return int64(12*(q.Year()-p.Year()) + int(q.Month()) - int(p.Month()))
	case "DAY", "DD", "D":
		return unit(24 * time.Hour)
	case "HOUR", "HH":
		return unit(time.Hour)
	case "MINUTE", "MI", "N":
		return unit(time.Minute)
	case "SECOND", "SS", "S":
		return unit(time.Second)
	case "MILLISECOND", "MS":
		return unit(time.Millisecond)
	case "MICROSECOND", "MCS":
		return unit(time.Microsecond)
	}
	fail(155, 15, 1, "'%s' is not a recognized datediff option.", part)
	return nil
}

func dateadd(part string, n int, t time.Time) any {
	d := time.Duration(n)
	switch part {
	case "YEAR", "YY", "YYYY":
		return t.AddDate(n, 0, 0)
	case "MONTH", "MM", "M":
		return t.AddDate(0, n, 0)
	case "DAY", "DD", "D":
		return t.AddDate(0, 0, n)
	case "HOUR", "HH":
		return t.Add(d * time.Hour)
	case "MINUTE", "MI", "N":
		return t.Add(d * time.Minute)
	case "SECOND", "SS", "S":
		return t.Add(d * time.Second)
	case "MILLISECOND", "MS":
		return t.Add(d * time.Millisecond)
	}
	fail(155, 15, 1, "'%s' is not a recognized dateadd option.", part)
	return nil
}

func (i *Instance) property(name string) any {
	major := strings.Split(i.Version, ".")[0]
	switch strings.ToUpper(name) {
	case "MACHINENAME", "COMPUTERNAMEPHYSICALNETBIOS":
		return i.Machine
	case "INSTANCENAME":
		if i.Name == "" {
			return nil
		}
		return i.Name
	case "SERVERNAME":
		return i.serverName()
	case "PRODUCTVERSION":
		return i.Version
	case "PRODUCTMAJORVERSION":
		return major
	case "PRODUCTMINORVERSION":
		return strings.Split(i.Version, ".")[1]
	case "PRODUCTLEVEL":
		return "RTM"
	case "EDITION":
		return i.Edition
	case "ENGINEEDITION":
		return int64(i.EngineEdition)
	case "COLLATION":
		return i.Collation
	case "ISHADRENABLED":
		return bit(len(i.groups) > 0)
	case "ISCLUSTERED", "ISSINGLEUSER", "ISINTEGRATEDSECURITYONLY", "ISLOCALDB":
		return int64(0)
	case "INSTANCEDEFAULTDATAPATH", "INSTANCEDEFAULTLOGPATH", "INSTANCEDEFAULTBACKUPPATH":
		return i.DataPath
	case "PROCESSID":
		return int64(412)
	}
	return nil
}

func (i *Instance) serverName() string {
	if i.Name == "" {
		return i.Machine
	}
	return i.Machine + "\\" + i.Name
}

func (x *exec) loginName() any {
	if x.s.cur.login != nil {
		return x.s.cur.login.Name
	}
	if x.s.cur.user != nil {
		return x.s.cur.user.Name
	}
	return nil
}

func (x *exec) userName() any {
	if u := x.inst.userOf(x.s.cur, x.s.DB); u != nil {
		return u.Name
	}
	return nil
}

func (x *exec) principalID(name string) any {
	if u := x.s.DB.user(x.inst, name); u != nil {
		return int64(u.ID)
	}
	return nil
}

func (x *exec) isMember(role string, u *User) any {
	r := x.s.DB.user(x.inst, role)
	if r == nil || u == nil || r.Type != "R" {
		return nil
	}
	if u.ID == 1 && r.ID != 16392 && r.ID != 16393 {
		return int64(1)
	}
	return bit(x.inst.dbSet(x.s.DB, u)[r.ID])
}

func (x *exec) caught(f func(*Problem) any) any {
	if n := len(x.catching); n > 0 {
		return f(x.catching[n-1])
	}
	return nil
}

func (x *exec) xactState() any {
	switch {
	case x.s.tx == nil:
		return int64(0)
	case x.s.tx.doomed:
		return int64(-1)
	}
	return int64(1)
}

// splitName takes apart a name written with dots and brackets.
func splitName(s string) []string {
	stmts, err := tsql.Parse("SELECT * FROM " + s)
	if err != nil || len(stmts) != 1 {
		return []string{s}
	}
	if n, ok := stmts[0].Do.(tsql.SelectS).Sel.From.(tsql.Named); ok {
		return n.Parts
	}
	return []string{s}
}

func (x *exec) findObject(name string) (*Database, *Object) {
	p := splitName(name)
	d, schema := x.s.DB, "dbo"
	switch len(p) {
	case 2:
		schema = p[0]
	case 3:
		if d = x.inst.db(p[0]); d == nil {
			return nil, nil
		}
		if p[1] != "" {
			schema = p[1]
		}
	}
	s := d.schema(x.inst, schema)
	if s == nil {
		return d, nil
	}
	o := d.object(x.inst, s.ID, p[len(p)-1])
	if o != nil && !x.visible(d, o) {
		return d, nil
	}
	return d, o
}

// visible: somebody sees what he has any permission on.
func (x *exec) visible(d *Database, o *Object) bool {
	for _, p := range []string{"VIEW DEFINITION", "SELECT", "INSERT", "UPDATE", "DELETE", "EXECUTE", "ALTER"} {
		if x.inst.dbHas(x.s.cur, d, p, 1, o.ID, 0) {
			return true
		}
	}
	return false
}

// hasPerms: Long: a list of functions.
func (x *exec) hasPerms(a []any) any {
	perm := strings.ToUpper(text(a[2]))
	class := strings.ToUpper(text(a[1]))
	w := x.s.cur
	any1 := func(list []string, f func(string) bool) any {
		if perm != "ANY" {
			if !slices.Contains(list, perm) {
				return nil
			}
			return bit(f(perm))
		}
		return bit(slices.ContainsFunc(list, f))
	}
	switch {
	case a[0] == nil && (a[1] == nil || class == "SERVER"):
		return any1(serverPerms, func(p string) bool { return x.inst.serverHas(w, p) })
	case class == "DATABASE":
		d := x.s.DB
		if a[0] != nil {
			if d = x.inst.db(splitName(text(a[0]))[0]); d == nil {
				return nil
			}
		}
		if d.State != "ONLINE" && !x.inst.sysadmin(w.login) && !(w.login != nil && bytes.Equal(d.Owner, w.login.SID)) {
			return int64(0)
		}
		return any1(dbPerms, func(p string) bool { return x.inst.dbHas(w, d, p, 0, 0, 0) })
	case class == "SCHEMA":
		s := x.s.DB.schema(x.inst, splitName(text(a[0]))[0])
		if s == nil {
			return nil
		}
		return any1(schemaPerms, func(p string) bool { return x.inst.dbHas(w, x.s.DB, p, 3, s.ID, 0) })
	case class == "OBJECT":
		d, o := x.findObject(text(a[0]))
		if o == nil {
			return nil
		}
		minor := 0
		if len(a) > 3 && a[3] != nil {
			for k, c := range o.Cols {
				if x.inst.same(c.Name, text(a[3])) {
					minor = k + 1
				}
			}
		}
		return any1(objectPerms, func(p string) bool { return x.inst.dbHas(w, d, p, 1, o.ID, minor) })
	case class == "LOGIN":
		p := x.inst.principal(splitName(text(a[0]))[0])
		if p == nil {
			return nil
		}
		return bit(
			x.inst.serverHas(w, "ALTER ANY LOGIN") || perm == "VIEW DEFINITION" && w.login == p ||
				perm == "IMPERSONATE" && x.inst.serverHas(w, "IMPERSONATE ANY LOGIN"),
		)
	case class == "USER", class == "ROLE":
		u := x.s.DB.user(x.inst, splitName(text(a[0]))[0])
		if u == nil {
			return nil
		}
		return bit(x.inst.dbHas(w, x.s.DB, perm, 4, u.ID, 0))
	}
	return nil
}

var aggregates = map[string]bool{
	"COUNT":      true,
	"COUNT_BIG":  true,
	"SUM":        true,
	"MIN":        true,
	"MAX":        true,
	"AVG":        true,
	"STRING_AGG": true,
}

// bindFunc: Long: a list of functions.
func (x *exec) bindFunc(e tsql.Func, sc *scope) bound {
	if aggregates[e.Name] {
		return x.bindAggregate(e, sc)
	}
	switch e.Name {
	case "COALESCE":
		c := tsql.Case{}
		for _, a := range e.Args {
			c.Whens = append(c.Whens, [2]tsql.Expr{tsql.IsNull{X: a, Not: true}, a})
		}
		return x.bindCase(c, sc)
	case "ISNULL":
		x.arity(e, 2, 2)
		a, b := x.bind(e.Args[0], sc), x.bind(e.Args[1], sc)
		t := a.t
		if t.Kind == tds.Null {
			t = b.t
		}
		return bound{t, func(v *env) any {
			if r := a.f(v); r != nil {
				return r
			}
			return convert(b.f(v), b.t, t, 0)
		}}
	case "IIF":
		x.arity(e, 3, 3)
		return x.bindCase(tsql.Case{Whens: [][2]tsql.Expr{{e.Args[0], e.Args[1]}}, Else: e.Args[2]}, sc)
	case "NULLIF":
		x.arity(e, 2, 2)
		return x.bindCase(
			tsql.Case{
				Whens: [][2]tsql.Expr{{tsql.Bin{Op: "=", L: e.Args[0], R: e.Args[1]}, tsql.Lit{}}},
				Else:  e.Args[0],
			},
			sc,
		)
	case "ROW_NUMBER", "RANK", "DENSE_RANK", "LAG", "LEAD":
		fail(50000, 16, 1, "The stand-in has no window functions: %s.", e.Name)
	}
	b, ok := builtins[e.Name]
	if !ok {
		if strings.Contains(e.Name, ".") {
			fail(
				4121,
				16,
				1,
				"Cannot find either column \"%s\" or the user-defined function or aggregate \"%s\", or the name is "+
					"ambiguous.",
				e.Parts[0],
				strings.Join(e.Parts, "."),
			)
		}
		fail(195, 15, 10, "'%s' is not a recognized built-in function name.", e.Name)
	}
	x.arity(e, b.min, b.max)
	var args []bound
	for _, a := range e.Args {
		args = append(args, x.bind(a, sc))
	}
	t := b.t
	if e.Name == "DATEADD" && args[2].t.Time() {
		t = args[2].t
	}
	return bound{t, func(v *env) any {
		vals := make([]any, len(args))
		for k, a := range args {
			vals[k] = a.f(v)
		}
		r := b.f(x, vals)
		if e.Name == "DATEADD" && r != nil {
			return convert(r, tDT2, t, 0)
		}
		return r
	}}
}

func (x *exec) arity(e tsql.Func, lo, hi int) {
	if n := len(e.Args); n < lo || n > hi {
		fail(174, 15, 1, "The %s function requires %d argument(s).", strings.ToLower(e.Name), lo)
	}
}

func (x *exec) bindAggregate(e tsql.Func, sc *scope) bound {
	if sc == nil || sc.aggs == nil || e.Over {
		if e.Over {
			fail(50000, 16, 1, "The stand-in has no window functions: %s.", e.Name)
		}
		fail(
			147,
			15,
			1,
			"An aggregate may not appear in the WHERE clause unless it is in a subquery contained in a HAVING clause "+
				"or a select list, and the column being aggregated is an outer reference.",
		)
	}
	a := aggregate{name: e.Name, distinct: e.Distinct}
	t := tInt
	if e.Name == "COUNT_BIG" {
		t = tBig
	}
	if !e.Star {
		if len(e.Args) == 0 {
			fail(174, 15, 1, "The %s function requires 1 argument(s).", strings.ToLower(e.Name))
		}
		arg := x.bind(e.Args[0], sc.rows)
		a.arg = &arg
		switch e.Name {
		case "MIN", "MAX":
			t = arg.t
		case "SUM", "AVG":
			t = arg.t
			if t.Kind == tds.TinyInt || t.Kind == tds.SmallInt {
				t = tInt
			}
		case "STRING_AGG":
			t = tMax
			sep := x.bind(e.Args[1], sc.rows)
			a.sep = &sep
			a.order = x.bindOrder(e.Order, sc.rows, nil, nil)
		}
	}
	k := len(*sc.aggs)
	*sc.aggs = append(*sc.aggs, a)
	return bound{t, func(v *env) any {
		r := v.aggs[k]
		if t == tInt {
			if n, ok := r.(int64); ok && (n > 1<<31-1 || n < -1<<31) {
				fail(8115, 16, 2, "Arithmetic overflow error converting expression to data type int.")
			}
		}
		return r
	}}
}
