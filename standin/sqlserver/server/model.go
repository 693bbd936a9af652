// Package server is the stand-in: an instance in memory that keeps the server's
// rules, and the listener that clients speak to.
package server

import (
	"bytes"
	"context"
	"crypto/rand"
	"crypto/sha512"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"
	"unicode/utf16"

	"example.com/genarch/standin/sqlserver/tds"
	"example.com/genarch/standin/sqlserver/tsql"
)

// Problem is an error as the server reports it.
type Problem struct {
	Number, Class, State, Line int
	Text                       string
	// Also follow it: 5069 after 5070.
	Also []*Problem
	// Fatal: the connection ends.
	Fatal bool
	// Rethrown: it passes through as it was.
	Rethrown bool
}

func (p *Problem) Error() string { return fmt.Sprintf("%d: %s", p.Number, p.Text) }

func fail(number, class, state int, format string, args ...any) {
	panic(&Problem{Number: number, Class: class, State: state, Text: fmt.Sprintf(format, args...)})
}

func failAlso(also *Problem, number, class, state int, format string, args ...any) {
	panic(
		&Problem{
			Number: number,
			Class:  class,
			State:  state,
			Text:   fmt.Sprintf(format, args...),
			Also:   []*Problem{also},
		},
	)
}

// Principal is a login or server role.
type Principal struct {
	ID                int
	Name              string
	SID               []byte
	Type              string // S U G R C
	Disabled, Fixed   bool
	Created, Modified time.Time
	DefaultDB         string
	Owner             int
	Members           map[int]bool
	Hash              []byte
	Policy, Expire    bool
	MustChange        bool
	Locked            bool
	BadCount          int
	PasswordSet       time.Time
}

// Perm is one line of a permission catalogue.
type Perm struct {
	Class, Major, Minor int
	Grantee, Grantor    int
	Name, State         string // G W D
}

// User is a principal of a database.
type User struct {
	ID      int
	Name    string
	Type    string // S R
	SID     []byte
	Schema  string
	Owner   int
	Fixed   bool
	Auth    int // 0 none, 1 instance, 2 database
	Hash    []byte
	Created time.Time
	Members map[int]bool
}

// Schema is a schema.
type Schema struct {
	ID, Owner int
	Name      string
}

// Object is a table or module.
type Object struct {
	ID, Schema int
	Name, Type string
	Owner      int // 0: the schema's
	Created    time.Time
	Cols       []tsql.ColumnDef
	Rows       [][]any
	Text       string
	writer     *Session
}

// File is a file of a database.
type File struct {
	ID                int
	Name, Path, Group string
	Log               bool
	Size, Max, Growth int64 // bytes; Max -1 unlimited
	Percent           bool
	Used              int64
	GUID              tds.UUID
}

// Database is a database.
type Database struct {
	Groups                                           []string // of files; the first is PRIMARY
	ID                                               int
	Name, Collation                                  string
	Owner                                            []byte
	Created                                          time.Time
	Compat                                           int
	Recovery, State, Access                          string
	Contained                                        bool
	ReadOnly, RCSI, Snapshot, AutoClose, AutoShrink  bool
	AutoCreate, AutoUpdate, AutoAsync, Trust, Broker bool
	Encrypted, Published, CDC, Chaining              bool
	PageVerify                                       string
	Target                                           int
	Group                                            string // availability group
	Mirrored, Shipped                                bool
	SnapshotOf                                       int
	BrokerGUID                                       tds.UUID
	Family                                           tds.UUID // of all that were restored of its backups too
	Files                                            []*File
	Users                                            map[int]*User
	Schemas                                          map[int]*Schema
	Objects                                          map[int]*Object
	Perms                                            []*Perm
	Props                                            []*Prop
	nextUser, nextSchema, nextObject                 int
	// exclusive is the session whose statement needs it alone.
	exclusive *Session
	guest     bool
	// single is who sits in the slot of SINGLE_USER.
}

// Prop is an extended property.
type Prop struct {
	Class, Major, Minor int
	Name                string
	Value               any
}

// Job is a job of the agent.
type Job struct {
	ID       tds.UUID
	Name     string
	Enabled  bool
	Owner    []byte
	Database string
	Command  string
}

// Tx is an open transaction.
type Tx struct {
	ID     int64
	Name   string
	Began  time.Time
	undo   []func()
	bytes  map[int]int64
	count  map[int]int64
	locked []*Object
	doomed bool
}

// Request is what a session runs just now.
type Request struct {
	Began          time.Time
	Command, Text  string
	DB             int
	Wait, Resource string
	WaitSince      time.Time
	Blocker        int
	Percent        float64
	cancel         context.CancelCauseFunc
}

// Instance is one running server.
type Instance struct {
	mu      sync.Mutex
	changed chan struct{}

	Machine, Name string // Name "" is the default instance
	Version       string
	Edition       string
	EngineEdition int
	Collation     string
	Started       time.Time
	DataPath      string
	dbs           map[int]*Database
	onDisk        map[string]*Database // backups, by their paths
	principals    map[int]*Principal
	perms         []*Perm
	sessions      map[int]*Session
	config        map[string]int
	jobs          []*Job
	groups        []string
	backups       []backup
	nextLogin     int
	nextXact      int64
	modelBusy     *Session
	hooks         Hooks
}

type backup struct {
	DB       string
	Finished time.Time
}

// Hooks change what the stand-in does, for tests. They are asked under no lock.
type Hooks struct {
	// Before is called before each statement of a client with its text; the
	// fault says what happens.
	Before func(session int, text string) Fault
	// BackupTakes is how long a backup or a restore lasts.
	BackupTakes func() time.Duration
	// RollbackPerRow is how long taking back one row lasts.
	RollbackPerRow time.Duration
}

// Fault is what goes wrong with a statement.
type Fault struct {
	// Cut the line: before the statement runs, or after it ran, without an answer.
	CutBefore, CutAfter bool
	// Hang says nothing more, and does nothing, until the client goes away.
	Hang bool
	// Slow waits before the statement; an attention ends the wait.
	Slow time.Duration
	// Fail answers with this in place of running it.
	Fail *Problem
}

func uuid() (u tds.UUID) {
	_, _ = rand.Read(u[:])
	u[6], u[8] = u[6]&0x0F|0x40, u[8]&0x3F|0x80
	return u
}

// SetMark gives the server what it is known by, which is that of its database msdb.
func (i *Instance) SetMark(mark [16]byte) {
	i.mu.Lock()
	defer i.mu.Unlock()
	for _, d := range i.dbs {
		if d.Name == "msdb" {
			d.BrokerGUID = mark
		}
	}
}

func randomBytes(n int) []byte {
	b := make([]byte, n)
	_, _ = rand.Read(b)
	return b
}

var fixedServerRoles = map[int]string{
	3:  "sysadmin",
	4:  "securityadmin",
	5:  "serveradmin",
	6:  "setupadmin",
	7:  "processadmin",
	8:  "diskadmin",
	9:  "dbcreator",
	10: "bulkadmin",
}

// New makes an instance with sa and the given password.
//
// Long: what a new server has stands in one place.
func New(machine, name, saPassword string) *Instance {
	now := time.Now()
	i := &Instance{
		changed: make(
			chan struct{},
		), Machine: machine, Name: name, Version: "16.0.4125.3", Edition: "Developer Edition " +
			"(64-bit)", EngineEdition: 3,
		Collation: "SQL_Latin1_General_CP1_CI_AS", Started: now, DataPath: "/var/opt/mssql/data/",
		dbs: map[int]*Database{}, onDisk: map[string]*Database{}, principals: map[int]*Principal{},
		sessions: map[int]*Session{}, nextLogin: 260,
		nextXact: 1000,
		config: map[string]int{
			"contained database authentication": 0,
			"user connections":                  0,
			"max degree of parallelism":         0,
			"show advanced options":             0,
			"default trace enabled":             1,
			"remote admin connections":          0,
		},
	}
	i.principals[1] = &Principal{
		ID:          1,
		Name:        "sa",
		SID:         []byte{1},
		Type:        "S",
		Created:     now,
		Modified:    now,
		DefaultDB:   "master",
		Hash:        HashPassword(saPassword, nil),
		Policy:      true,
		PasswordSet: now,
	}
	i.principals[2] = &Principal{
		ID:       2,
		Name:     "public",
		SID:      []byte{2},
		Type:     "R",
		Created:  now,
		Modified: now,
		Owner:    1,
		Members:  map[int]bool{},
	}
	for id, n := range fixedServerRoles {
		i.principals[id] = &Principal{
			ID:       id,
			Name:     n,
			SID:      []byte{byte(id)},
			Type:     "R",
			Fixed:    true,
			Created:  now,
			Modified: now,
			Owner:    1,
			Members:  map[int]bool{},
		}
	}
	i.principals[3].Members[1] = true
	i.perms = append(
		i.perms,
		&Perm{Class: 100, Grantee: 2, Grantor: 1, Name: "VIEW ANY DATABASE", State: "G"},
		&Perm{Class: 100, Grantee: 1, Grantor: 1, Name: "CONNECT SQL", State: "G"},
	)
	for id := 2; id <= 5; id++ {
		i.perms = append(i.perms, &Perm{Class: 105, Major: id, Grantee: 2, Grantor: 1, Name: "CONNECT", State: "G"})
	}
	for id, n := range []string{"", "master", "tempdb", "model", "msdb"} {
		if n == "" {
			continue
		}
		d := i.newDatabase(id, n, []byte{1})
		d.guest = n != "model"
		if n == "tempdb" || n == "master" {
			d.Recovery = "SIMPLE"
		}
		if n == "msdb" {
			d.Recovery = "SIMPLE"
			d.Trust, d.Broker = true, true
		}
		i.dbs[id] = d
	}
	return i
}

var fixedDBRoles = map[int]string{
	16384: "db_owner",
	16385: "db_accessadmin",
	16386: "db_securityadmin",
	16387: "db_ddladmin",
	16389: "db_backupoperator",
	16390: "db_datareader",
	16391: "db_datawriter",
	16392: "db_denydatareader",
	16393: "db_denydatawriter",
}

func (i *Instance) newDatabase(id int, name string, owner []byte) *Database {
	now := time.Now()
	d := &Database{
		ID: id, Name: name, Owner: owner, Created: tds.RoundDateTime(now), Collation: i.Collation, Compat: 160,
		Recovery: "FULL", State: "ONLINE", Access: "MULTI_USER",
		AutoCreate: true, AutoUpdate: true, PageVerify: "CHECKSUM", Target: 60, BrokerGUID: uuid(), Family: uuid(),
		Users: map[int]*User{}, Schemas: map[int]*Schema{}, Objects: map[int]*Object{}, nextUser: 5, nextSchema: 5,
		nextObject: 581577110,
	}
	for uid, n := range []string{"public", "dbo", "guest", "INFORMATION_SCHEMA", "sys"} {
		u := &User{ID: uid, Name: n, Type: "S", Created: now, Schema: n}
		switch uid {
		case 0:
			u.Type, u.Owner, u.Schema, u.Members = "R", 1, "", map[int]bool{}
		case 1:
			u.SID, u.Auth = owner, 1
		case 2:
			u.SID = []byte{0}
		}
		d.Users[uid] = u
		if uid > 0 {
			d.Schemas[uid] = &Schema{ID: uid, Owner: uid, Name: n}
		}
	}
	d.Perms = append(d.Perms, &Perm{Class: 0, Grantee: 1, Grantor: 1, Name: "CONNECT", State: "G"})
	for uid, n := range fixedDBRoles {
		d.Users[uid] = &User{ID: uid, Name: n, Type: "R", Fixed: true, Owner: 1, Created: now, Members: map[int]bool{}}
		d.Schemas[uid] = &Schema{ID: uid, Owner: uid, Name: n}
	}
	d.Groups = []string{"PRIMARY"}
	path := i.DataPath + name
	d.Files = []*File{
		{
			ID:     1,
			Name:   name,
			Path:   path + ".mdf",
			Group:  "PRIMARY",
			Size:   8 << 20,
			Max:    -1,
			Growth: 64 << 20,
			Used:   3 << 20,
			GUID:   uuid(),
		},
		{
			ID:     2,
			Name:   name + "_log",
			Path:   path + "_log.ldf",
			Log:    true,
			Size:   8 << 20,
			Max:    2 << 40,
			Growth: 64 << 20,
			Used:   1 << 20,
			GUID:   uuid(),
		},
	}
	return d
}

// same compares names as the instance's collation does: trailing blanks do not
// count, and neither does case unless the collation is case-sensitive.
func (i *Instance) same(a, b string) bool {
	a, b = strings.TrimRight(a, " "), strings.TrimRight(b, " ")
	if strings.Contains(i.Collation, "_CS") || strings.Contains(i.Collation, "_BIN") {
		return a == b
	}
	return strings.EqualFold(a, b)
}

func (i *Instance) db(name string) *Database {
	for _, d := range i.dbs {
		if i.same(d.Name, name) {
			return d
		}
	}
	return nil
}

func (i *Instance) principal(name string) *Principal {
	for _, p := range i.principals {
		if i.same(p.Name, name) {
			return p
		}
	}
	return nil
}

func (i *Instance) bySID(sid []byte) *Principal {
	for _, p := range i.principals {
		if bytes.Equal(p.SID, sid) {
			return p
		}
	}
	return nil
}

func (i *Instance) ownerName(d *Database) any {
	if p := i.bySID(d.Owner); p != nil {
		return p.Name
	}
	return nil
}

func (d *Database) system() bool { return d.ID <= 4 }

func (d *Database) user(i *Instance, name string) *User {
	for _, u := range d.Users {
		if i.same(u.Name, name) {
			return u
		}
	}
	return nil
}

func (d *Database) schema(i *Instance, name string) *Schema {
	for _, s := range d.Schemas {
		if i.same(s.Name, name) {
			return s
		}
	}
	return nil
}

func (d *Database) object(i *Instance, schema int, name string) *Object {
	for _, o := range d.Objects {
		if o.Schema == schema && i.same(o.Name, name) {
			return o
		}
	}
	return nil
}

func sorted[V any](m map[int]V) []V {
	var out []V
	for _, k := range slices.Sorted(maps.Keys(m)) {
		out = append(out, m[k])
	}
	return out
}

// HashPassword computes what the server keeps: 0x0200, four bytes of salt, and
// SHA-512 of the password in UTF-16LE followed by the salt.
func HashPassword(password string, salt []byte) []byte {
	if salt == nil {
		salt = randomBytes(4)
	}
	h := sha512.New()
	h.Write(tds.ToUCS2(password))
	h.Write(salt)
	return h.Sum(append([]byte{0x02, 0x00}, salt...))
}

func checkPassword(hash []byte, password string) bool {
	return len(hash) == 70 && bytes.Equal(hash, HashPassword(password, hash[2:6]))
}

// broadcast wakes whoever waits for something to change.
func (i *Instance) broadcast() {
	close(i.changed)
	i.changed = make(chan struct{})
}

// wait waits under the lock until ok; it ends with an error when the session's
// request is cancelled.
func (s *Session) wait(kind, resource string, blocker func() int, limit time.Duration, ok func() bool) bool {
	i := s.inst
	deadline := time.Time{}
	if limit >= 0 {
		deadline = time.Now().Add(limit)
	}
	for first := true; !ok(); first = false {
		if limit >= 0 && !time.Now().Before(deadline) {
			return false
		}
		if s.req != nil {
			if first {
				s.req.WaitSince = time.Now()
			}
			s.req.Wait, s.req.Resource, s.req.Blocker = kind, resource, 0
			if blocker != nil {
				s.req.Blocker = blocker()
			}
		}
		ch := i.changed
		i.mu.Unlock()
		var timer <-chan time.Time
		if limit >= 0 {
			timer = time.After(min(time.Until(deadline), 50*time.Millisecond))
		}
		select {
		case <-ch:
		case <-timer:
		case <-s.ctx.Done():
		}
		i.mu.Lock()
		if s.ctx.Err() != nil {
			s.clearWait()
			panic(errCancelled)
		}
	}
	s.clearWait()
	return true
}

func (s *Session) clearWait() {
	if s.req != nil {
		s.req.Wait, s.req.Resource, s.req.Blocker = "", "", 0
	}
}

func utf16len(s string) int { return len(utf16.Encode([]rune(s))) }
