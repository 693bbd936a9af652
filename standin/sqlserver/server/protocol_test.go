package server

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"encoding/pem"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/golang-sql/civil"
	"github.com/golang-sql/sqlexp"
	mssql "github.com/microsoft/go-mssqldb"
)

func TestTLS(t *testing.T) {
	s := &Server{Instance: New("standin", "", saPassword)}
	cfg, cert, err := SelfSigned("localhost", "127.0.0.1")
	if err != nil {
		t.Fatal(err)
	}
	s.TLS = cfg
	addr, err := s.Listen("127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	ca := filepath.Join(t.TempDir(), "ca.pem")
	if err := os.WriteFile(ca, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: cert.Raw}),
		0o600); err != nil {
		t.Fatal(err)
	}
	for _, try := range []struct{ encrypt, trust, ca, want string }{
		{"disable", "", "", "FALSE"},
		{"false", "true", "", "FALSE"}, // the log-in alone is encrypted
		{"true", "true", "", "TRUE"},
		{"true", "false", ca, "TRUE"},
		{"strict", "false", ca, "TRUE"},
	} {
		more := []string{"encrypt", try.encrypt}
		if try.trust != "" {
			more = append(more, "TrustServerCertificate", try.trust)
		}
		if try.ca != "" {
			more = append(more, "certificate", try.ca)
		}
		c := conn(t, addr, "sa", saPassword, "", more...)
		if got := scalar[string](t, c, "SELECT encrypt_option FROM sys.dm_exec_connections WHERE session_id = "+
			"@@SPID"); got != try.want {
			t.Errorf("encrypt=%s: %s", try.encrypt, got)
		}
		// A reply of many packets.
		if got := scalar[int](t, c, "SELECT LEN(REPLICATE('x', 8000) + REPLICATE(N'y', 8000))"); got != 16000 {
			t.Error(got)
		}
		if got := scalar[string](t, c, "SELECT REPLICATE(N'z', 8000) + @p1", strings.Repeat("w", 60000)); len(
			got,
		) != 68000 {
			t.Error(len(got))
		}
	}
	if _, err := open(t, addr, "sa", saPassword, "", "encrypt", "true", "TrustServerCertificate", "false"); err == nil {
		t.Error("an unknown certificate was trusted")
	}
	strict := &Server{Instance: New("standin2", "", saPassword), TLS: cfg, Force: true}
	if addr, err = strict.Listen("127.0.0.1:0"); err != nil {
		t.Fatal(err)
	}
	defer strict.Close()
	if _, err := open(t, addr, "sa", saPassword, ""); err == nil {
		t.Error("clear text was let in")
	}
}

func TestTypes(t *testing.T) {
	_, addr := start(t)
	c := conn(t, addr, "sa", saPassword, "")
	ctx := context.Background()
	now := time.Date(2026, 11, 27, 3, 4, 5, 123456700, time.UTC)
	type row struct {
		s  sql.NullString
		i  sql.NullInt64
		b  sql.NullBool
		at sql.NullTime
		v  []byte
	}
	var got row
	err := c.QueryRowContext(ctx, "SELECT @p1, @p2, @p3, CAST(@p4 AS datetime2(7)), "+
		"@p5", "Ünï", int64(1)<<40, true, now, []byte{1, 2, 0, 255}).
		Scan(&got.s, &got.i, &got.b, &got.at, &got.v)
	if err != nil || got.s.String != "Ünï" || got.i.Int64 != 1<<40 || !got.b.Bool || !got.at.Time.Equal(now) ||
		fmt.Sprint(got.v) != "[1 2 0 255]" {
		t.Errorf("%+v %v", got, err)
	}
	err = c.QueryRowContext(ctx, "SELECT CAST(NULL AS nvarchar(max)), CAST(NULL AS bigint), CAST(NULL AS bit), "+
		"CAST(NULL AS datetime2), CAST(NULL AS varbinary(max))").
		Scan(&got.s, &got.i, &got.b, &got.at, &got.v)
	if err != nil || got.s.Valid || got.i.Valid || got.b.Valid || got.at.Valid || got.v != nil {
		t.Errorf("%+v %v", got, err)
	}
	var x [9]any
	err = c.QueryRowContext(ctx, "SELECT CAST(7 AS tinyint), CAST(-3 AS smallint), 2147483647, CAST(1.5 AS float), "+
		"CAST('2026-01-02' AS date), CAST('2026-01-02T03:04:05.997' AS datetime), SERVERPROPERTY('EngineEdition'), "+
		"SERVERPROPERTY('ProductVersion'), SERVERPROPERTY('InstanceName')").
		Scan(&x[0], &x[1], &x[2], &x[3], &x[4], &x[5], &x[6], &x[7], &x[8])
	if err != nil ||
		fmt.Sprint(
			x,
		) != "[7 -3 2147483647 1.5 2026-01-02 00:00:00 +0000 UTC 2026-01-02 03:04:05.997 +0000 UTC 3 16.0.4125.3 "+
			"<nil>]" {
		t.Errorf("%v %v", x, err)
	}
	var id mssql.UniqueIdentifier
	if err := c.QueryRowContext(ctx, "SELECT CAST('6F9619FF-8B86-D011-B42D-00C04FC964FF' AS "+
		"uniqueidentifier)").Scan(&id); err != nil ||
		id.String() != "6F9619FF-8B86-D011-B42D-00C04FC964FF" {
		t.Error(id, err)
	}
	if got := scalar[bool](t, c, "SELECT CAST(CASE WHEN @p1 = @p2 THEN 1 ELSE 0 END AS "+
		"bit)", id, "6f9619ff-8b86-d011-b42d-00c04fc964ff"); !got {
		t.Error("a uniqueidentifier does not come back as it went")
	}
	if got := scalar[string](t, c, "SELECT CONVERT(nvarchar(40), @p1, "+
		"126)", civil.DateTimeOf(now)); got != "2026-11-27T03:04:05.1234567" {
		t.Error(got)
	}
	types, err := c.QueryContext(
		ctx,
		"SELECT name, database_id, is_read_only, create_date, owner_sid, service_broker_guid FROM sys.databases "+
			"WHERE 1 = 0",
	)
	if err != nil {
		t.Fatal(err)
	}
	ct, _ := types.ColumnTypes()
	var names []string
	for _, k := range ct {
		names = append(names, k.DatabaseTypeName())
	}
	_ = types.Close()
	if fmt.Sprint(names) != "[NVARCHAR INT BIT DATETIME VARBINARY UNIQUEIDENTIFIER]" {
		t.Error(names)
	}
}

func TestResultsAndMessages(t *testing.T) {
	_, addr := start(t)
	c := conn(t, addr, "sa", saPassword, "")
	ctx := context.Background()
	rows, err := c.QueryContext(
		ctx,
		"SELECT 1 AS a; SELECT N'x', N'y' UNION ALL SELECT N'z', NULL; SELECT 3 WHERE 1 = 0",
	)
	if err != nil {
		t.Fatal(err)
	}
	var counts []int
	for {
		n := 0
		for rows.Next() {
			n++
		}
		counts = append(counts, n)
		if !rows.NextResultSet() {
			break
		}
	}
	if err := rows.Err(); err != nil || fmt.Sprint(counts) != "[1 2 0]" {
		t.Error(counts, err)
	}
	// Messages beside rows, in order.
	ret := &sqlexp.ReturnMessage{}
	rows, err = c.QueryContext(
		ctx,
		"PRINT N'first'; SELECT 1; RAISERROR(N'note %d of %s', 5, 7, 42, N'x'); RAISERROR(N'bad', 16, 3); SELECT 2",
		ret,
	)
	if err != nil {
		t.Fatal(err)
	}
	var seen []string
	for active := true; active; {
		switch m := ret.Message(ctx).(type) {
		case sqlexp.MsgNotice:
			seen = append(seen, "notice "+m.Message.String())
		case sqlexp.MsgError:
			e, _ := errors.AsType[mssql.Error](m.Error)
			seen = append(seen, fmt.Sprintf("error %d/%d/%d line %d "+
				"%s", e.Number, e.Class, e.State, e.LineNo, e.Message))
		case sqlexp.MsgNext:
			for rows.Next() {
				var v int
				_ = rows.Scan(&v)
				seen = append(seen, fmt.Sprint("row ", v))
			}
		case sqlexp.MsgNextResultSet:
			active = rows.NextResultSet()
		}
	}
	want := "notice first;row 1;notice note 42 of x;error 50000/16/3 line 1 bad;row 2"
	if got := strings.Join(seen, ";"); got != want {
		t.Errorf("%s\nwant %s", got, want)
	}
	_ = rows.Close()
	// An error has its line; a text that cannot be read does nothing at all.
	_, err = c.ExecContext(ctx, "CREATE DATABASE one\n\nSELECT nothing FROM sys.databases")
	if e, _ := errors.AsType[mssql.Error](err); e.Number != 207 || e.LineNo != 3 {
		t.Error(err, e.LineNo)
	}
	refused(t, c, "CREATE DATABASE two; SELEC 1", 102)
	if got := lines(t, c, "SELECT name FROM sys.databases WHERE name IN (N'one', N'two')"); fmt.Sprint(got) != "[one]" {
		t.Error(got)
	}
	// TRY and CATCH.
	if got := lines(t, c, "BEGIN TRY CREATE DATABASE one END TRY BEGIN CATCH SELECT ERROR_NUMBER(), ERROR_MESSAGE() "+
		"END CATCH"); fmt.Sprint(
		got,
	) != "[1801|Database 'one' already exists. Choose a different database name.]" {
		t.Error(got)
	}
	refused(t, c, "BEGIN TRY CREATE DATABASE one END TRY BEGIN CATCH THROW END CATCH", 1801)
}

func TestLogIn(t *testing.T) {
	s, addr := start(t)
	c := conn(t, addr, "sa", saPassword, "")
	must(
		t,
		c,
		"CREATE LOGIN app WITH PASSWORD = 'Secret-123', CHECK_POLICY = OFF",
		"CREATE DATABASE d1",
		"CREATE DATABASE d2",
		"ALTER LOGIN app WITH DEFAULT_DATABASE = d1",
	)
	try := func(user, password, db string, want ...int32) {
		t.Helper()
		one, err := open(t, addr, user, password, db)
		if err == nil {
			_ = one.Raw(func(any) error { return driver.ErrBadConn }) // leaves at once, not to the pool
		}
		var got []int32
		if e, ok := errors.AsType[mssql.Error](err); ok {
			got = append(got, e.Number)
			if len(e.All) > 1 {
				got = nil
				for _, one := range e.All {
					got = append(got, one.Number)
				}
			}
		} else if err != nil {
			t.Errorf("%s: %v", user, err)
		}
		if fmt.Sprint(got) != fmt.Sprint(want) {
			t.Errorf("%s/%s: %v, want %v", user, db, got, want)
		}
	}
	try("sa", "wrong", "", 18456)
	try("nobody", "x", "", 18456)
	try("app", "Secret-123", "", 4064, 18456) // its default database has no user for it
	try("app", "Secret-123", "master")
	try("app", "Secret-123", "d2", 4060, 18456)
	try("app", "Secret-123", "absent", 4060, 18456)
	must(t, c, "USE d1; CREATE USER app FOR LOGIN app")
	try("app", "Secret-123", "")
	must(t, c, "ALTER DATABASE d1 SET OFFLINE")
	try("app", "Secret-123", "d1", 4060, 18456)
	must(t, c, "ALTER DATABASE d1 SET ONLINE", "ALTER LOGIN app DISABLE")
	try("app", "Secret-123", "d1", 18470)
	try("app", "wrong", "d1", 18456)
	must(t, c, "ALTER LOGIN app ENABLE; USE master; DENY CONNECT SQL TO app")
	try("app", "Secret-123", "d1", 18456)
	must(t, c, "REVOKE CONNECT SQL TO app; GRANT CONNECT SQL TO app", "ALTER DATABASE d1 SET RESTRICTED_USER")
	try("app", "Secret-123", "d1", 4060, 18456)
	// A hash in place of the password: the clear text does not travel.
	must(
		t,
		c,
		fmt.Sprintf(
			"CREATE LOGIN hashed WITH PASSWORD = 0x%X HASHED, SID = 0x%032X, CHECK_POLICY = OFF",
			HashPassword("Pässwörd 1", []byte{1, 2, 3, 4}),
			77,
		),
	)
	try("hashed", "Pässwörd 1", "")
	if got := scalar[int](t, c, "SELECT PWDCOMPARE(N'Pässwörd 1', password_hash) FROM sys.sql_logins WHERE name = "+
		"N'hashed'"); got != 1 {
		t.Error("the hash does not fit")
	}
	// A contained user.
	must(
		t,
		c,
		"EXEC sp_configure 'contained database authentication', 1; RECONFIGURE",
		"CREATE DATABASE d3 CONTAINMENT = PARTIAL",
		"USE d3; CREATE USER inner1 WITH PASSWORD = 'Inner-12345'",
	)
	try("inner1", "Inner-12345", "d3")
	try("inner1", "Inner-12345", "", 18456)
	_ = s
}

func TestTransactions(t *testing.T) {
	_, addr := start(t)
	c := conn(t, addr, "sa", saPassword, "")
	must(
		t,
		c,
		"CREATE DATABASE d1",
		"USE d1; CREATE TABLE t (id int PRIMARY KEY, x nvarchar(20))",
		"INSERT INTO t VALUES (1, N'a'), (2, N'b')",
	)
	ctx := context.Background()
	tx, err := c.BeginTx(ctx, nil)
	if err != nil {
		t.Fatal(err)
	}
	for _, q := range []string{"INSERT t (id, x) VALUES (3, " +
		"N'c')", "UPDATE t SET x = x + N'!' WHERE id < 3", "DELETE FROM t WHERE id = 2", "CREATE USER u WITHOUT " +
		"LOGIN", "GRANT SELECT ON t TO u"} {
		if _, err := tx.ExecContext(ctx, q); err != nil {
			t.Fatal(q, err)
		}
	}
	var inside string
	if err := tx.QueryRowContext(ctx,
		"SELECT STRING_AGG(x, ',') WITHIN GROUP (ORDER BY id) FROM t").Scan(&inside); err != nil ||
		inside != "a!,c" {
		t.Error(inside, err)
	}
	if _, err := tx.ExecContext(ctx, "DROP DATABASE d1"); number(err) != 226 {
		t.Error(err)
	}
	if err := tx.Rollback(); err != nil {
		t.Error(err)
	}
	if got := lines(t, c, "SELECT id, x FROM t ORDER BY id"); fmt.Sprint(got) != "[1|a 2|b]" {
		t.Error(got)
	}
	if got := scalar[int](t, c, "SELECT count(*) FROM sys.database_principals WHERE name = N'u'"); got != 0 {
		t.Error("the user was not taken back")
	}
	refused(t, c, "COMMIT", 3902)
	refused(t, c, "ROLLBACK", 3903)
	// Without XACT_ABORT an error leaves the transaction open; with it, not.
	must(t, c, "BEGIN TRAN")
	refused(t, c, "INSERT t VALUES (1, N'again')", 2627)
	if got := scalar[int](t, c, "SELECT @@TRANCOUNT"); got != 1 {
		t.Error(got)
	}
	must(t, c, "ROLLBACK")
	refused(
		t,
		c,
		"SET XACT_ABORT ON; BEGIN TRAN; INSERT t VALUES (9, N'i'); INSERT t VALUES (1, N'again'); COMMIT",
		2627,
	)
	if got := lines(t, c, "SELECT @@TRANCOUNT, count(*) FROM t"); fmt.Sprint(got) != "[0|2]" {
		t.Error(got)
	}
}

func TestAttention(t *testing.T) {
	_, addr := start(t)
	c := conn(t, addr, "sa", saPassword, "")
	must(t, c, "CREATE DATABASE d1", "USE d1; CREATE TABLE t (id int)", "BEGIN TRAN; INSERT t VALUES (1)")
	spid := scalar[int](t, c, "SELECT @@SPID")
	attention := func() error {
		ctx, cancel := context.WithCancel(context.Background())
		time.AfterFunc(150*time.Millisecond, cancel)
		_, err := c.ExecContext(ctx, "WAITFOR DELAY '00:00:30'")
		return err
	}
	began := time.Now()
	if err := attention(); !errors.Is(err, context.Canceled) || time.Since(began) > 3*time.Second {
		t.Error(err, time.Since(began))
	}
	// The session lives on, and so does its transaction.
	if got := lines(t, c, "SELECT @@SPID, @@TRANCOUNT"); fmt.Sprint(got) != fmt.Sprintf("[%d|1]", spid) {
		t.Error(got)
	}
	must(t, c, "SET XACT_ABORT ON")
	_ = attention()
	if got := scalar[int](t, c, "SELECT @@TRANCOUNT"); got != 0 {
		t.Error("with XACT_ABORT an attention ends the transaction")
	}
	// A deadline is another matter: the driver throws the connection away (its
	// error is a net.Error), though the server has confirmed the attention.
	ctx, cancel := context.WithTimeout(context.Background(), 150*time.Millisecond)
	defer cancel()
	_, err := c.ExecContext(ctx, "WAITFOR DELAY '00:00:30'")
	if !errors.Is(err, context.DeadlineExceeded) {
		t.Error(err)
	}
	if _, err := c.ExecContext(context.Background(), "SELECT 1"); !errors.Is(err, driver.ErrBadConn) {
		t.Error("the connection was kept:", err)
	}
}

func TestFaults(t *testing.T) {
	s, addr := start(t)
	watch := conn(t, addr, "sa", saPassword, "")
	hook := func(f Fault) {
		s.Instance.SetHooks(Hooks{Before: func(_ int, text string) Fault {
			if strings.HasPrefix(text, "CREATE DATABASE") {
				return f
			}
			return Fault{}
		}})
	}
	for _, try := range []struct {
		name string
		f    Fault
		made bool
	}{{"before", Fault{CutBefore: true}, false}, {"after", Fault{CutAfter: true}, true}, {"hang", Fault{Hang: true},
		false}, {"slow", Fault{Slow: 100 * time.Millisecond}, true}, {"failed", Fault{Fail: &Problem{Number: 1807,
		Class: 16, State: 3,
		Text: "Could not obtain exclusive lock on database 'model'. Retry the operation later."}}, false}} {
		hook(try.f)
		c := conn(t, addr, "sa", saPassword, "")
		ctx, cancel := context.WithTimeout(context.Background(), 500*time.Millisecond)
		_, err := c.ExecContext(ctx, "CREATE DATABASE f_"+try.name)
		cancel()
		if (err == nil) != (try.name == "slow") {
			t.Error(try.name, err)
		}
		t.Log(try.name, err)
		if got := len(lines(t, watch, "SELECT 1 FROM sys.databases WHERE name = "+
			"@p1", "f_"+try.name)); (got == 1) != try.made {
			t.Error(try.name, got)
		}
	}
	hook(Fault{})
	// Another instance at the same address.
	broker := scalar[string](
		t,
		watch,
		"SELECT CONVERT(varchar(36), service_broker_guid) FROM sys.databases WHERE name = N'msdb'",
	)
	if err := s.Restart(New("standin", "", saPassword)); err != nil {
		t.Fatal(err)
	}
	if _, err := watch.ExecContext(context.Background(), "SELECT 1"); err == nil {
		t.Error("the old session lives")
	}
	again := conn(t, addr, "sa", saPassword, "")
	if got := scalar[string](t, again, "SELECT CONVERT(varchar(36), service_broker_guid) FROM sys.databases WHERE "+
		"name = N'msdb'"); got == broker {
		t.Error("the other instance looks the same")
	}
}

func TestReset(t *testing.T) {
	_, addr := start(t)
	pool, err := sql.Open("sqlserver", dsn(addr, "sa", saPassword, ""))
	if err != nil {
		t.Fatal(err)
	}
	defer pool.Close()
	pool.SetMaxOpenConns(1)
	ctx := context.Background()
	if _, err := pool.ExecContext(ctx, "CREATE DATABASE d1; USE d1; BEGIN TRAN"); err != nil {
		t.Fatal(err)
	}
	// The next user of the connection starts anew: the database too.
	var db string
	var open int
	if err := pool.QueryRowContext(ctx, "SELECT DB_NAME(), @@TRANCOUNT").Scan(&db, &open); err != nil ||
		db != "master" ||
		open != 0 {
		t.Error(db, open, err)
	}
}
