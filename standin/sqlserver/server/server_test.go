package server

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"errors"
	"fmt"
	"net/url"
	"strings"
	"testing"
	"time"

	mssql "github.com/microsoft/go-mssqldb"
)

const saPassword = "Sa-Password-1"

func start(t *testing.T) (*Server, string) {
	t.Helper()
	s := &Server{Instance: New("standin", "", saPassword)}
	var err error
	if s.TLS, _, err = SelfSigned("localhost", "127.0.0.1"); err != nil {
		t.Fatal(err)
	}
	addr, err := s.Listen("127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Close)
	return s, addr
}

func dsn(addr, user, password, db string, more ...string) string {
	q := url.Values{"encrypt": {"disable"}, "app name": {"genarch-test"}, "dial timeout": {"5"}}
	if db != "" {
		q.Set("database", db)
	}
	for k := 0; k+1 < len(more); k += 2 {
		q.Set(more[k], more[k+1])
	}
	return (&url.URL{Scheme: "sqlserver", User: url.UserPassword(user, password), Host: addr,
		RawQuery: q.Encode()}).String()
}

// conn opens one connection that keeps its session.
func conn(t *testing.T, addr, user, password, db string, more ...string) *sql.Conn {
	t.Helper()
	c, err := open(t, addr, user, password, db, more...)
	if err != nil {
		t.Fatal(err)
	}
	return c
}

func open(t *testing.T, addr, user, password, db string, more ...string) (*sql.Conn, error) {
	t.Helper()
	pool, err := sql.Open("sqlserver", dsn(addr, user, password, db, more...))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = pool.Close() })
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	return pool.Conn(ctx)
}

// number is the server's number of an error; 0 for none.
func number(err error) int32 {
	if e, ok := errors.AsType[mssql.Error](err); ok {
		return e.Number
	}
	if err != nil {
		return -1
	}
	return 0
}

func must(t *testing.T, c *sql.Conn, stmts ...string) {
	t.Helper()
	for _, s := range stmts {
		if _, err := c.ExecContext(context.Background(), s); err != nil {
			t.Fatalf("%s: %v", s, err)
		}
	}
}

// comes waits until a query gives rows that look so.
func comes(t *testing.T, c *sql.Conn, want, query string, args ...any) {
	t.Helper()
	limit, tick := time.After(10*time.Second), time.NewTicker(5*time.Millisecond)
	defer tick.Stop()
	for {
		got := fmt.Sprint(lines(t, c, query, args...))
		if got == want {
			return
		}
		select {
		case <-limit:
			t.Fatalf("%s\n  gives %s, want %s", query, got, want)
		case <-tick.C:
		}
	}
}

// gone waits until a login has no session.
func gone(t *testing.T, c *sql.Conn, login string) {
	t.Helper()
	comes(t, c, "[]", "SELECT session_id FROM sys.dm_exec_sessions WHERE login_name = @p1", login)
}

func refused(t *testing.T, c *sql.Conn, stmt string, want ...int32) {
	t.Helper()
	_, err := c.ExecContext(context.Background(), stmt)
	e, ok := errors.AsType[mssql.Error](err)
	if !ok {
		t.Fatalf("%s: %v, want %v", stmt, err, want)
	}
	var got []int32
	for _, one := range e.All {
		got = append(got, one.Number)
	}
	if fmt.Sprint(got) != fmt.Sprint(want) {
		t.Errorf("%s: %v %q, want %v", stmt, got, e.Message, want)
	}
}

func scalar[T any](t *testing.T, c *sql.Conn, query string, args ...any) T {
	t.Helper()
	var v T
	if err := c.QueryRowContext(context.Background(), query, args...).Scan(&v); err != nil {
		t.Fatalf("%s: %v", query, err)
	}
	return v
}

func lines(t *testing.T, c *sql.Conn, query string, args ...any) []string {
	t.Helper()
	rows, err := c.QueryContext(context.Background(), query, args...)
	if err != nil {
		t.Fatalf("%s: %v", query, err)
	}
	defer rows.Close()
	var out []string
	cols, _ := rows.Columns()
	for rows.Next() {
		vals := make([]any, len(cols))
		ptrs := make([]any, len(cols))
		for k := range vals {
			ptrs[k] = &vals[k]
		}
		if err := rows.Scan(ptrs...); err != nil {
			t.Fatal(err)
		}
		var words []string
		for _, v := range vals {
			words = append(words, fmt.Sprint(v))
		}
		out = append(out, strings.Join(words, "|"))
	}
	if err := rows.Err(); err != nil {
		t.Fatalf("%s: %v", query, err)
	}
	return out
}

func TestSmoke(t *testing.T) {
	_, addr := start(t)
	c := conn(t, addr, "sa", saPassword, "")
	if got := lines(t, c, "SELECT name, database_id FROM sys.databases ORDER BY name"); fmt.Sprint(
		got,
	) != "[master|1 model|3 msdb|4 tempdb|2]" {
		t.Error(got)
	}
	if got := scalar[string](t, c, "SELECT @p1 + N'!'", "é😀"); got != "é😀!" {
		t.Error(got)
	}
	must(t, c, "CREATE DATABASE [a]]b]")
	if got := lines(t, c, "SELECT name, SUSER_SNAME(owner_sid), collation_name FROM sys.databases WHERE database_id "+
		"> @p1", 4); len(
		got,
	) != 1 ||
		got[0] != "a]b|sa|SQL_Latin1_General_CP1_CI_AS" {
		t.Error(got)
	}
}

var _ driver.Conn = (*mssql.Conn)(nil)
