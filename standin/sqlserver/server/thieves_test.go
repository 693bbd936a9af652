package server

import (
	"context"
	"database/sql"
	"fmt"
	"strings"
	"testing"
	"time"
)

// TestThieves drops databases that a pool of sysadmins wants to get back into.
func TestThieves(t *testing.T) {
	_, addr := start(t)
	c := conn(t, addr, "sa", saPassword, "")
	ctx := context.Background()
	thieve := func(db string) (stop func()) {
		quit, done := make(chan bool), make(chan bool)
		for range 3 {
			go func() {
				defer func() { done <- true }()
				for {
					select {
					case <-quit:
						return
					default:
					}
					pool, _ := sql.Open("sqlserver", dsn(addr, "sa", saPassword, db))
					pool.SetMaxOpenConns(1)
					for range 10 {
						if _, err := pool.ExecContext(ctx, "SELECT 1"); err != nil {
							break
						}
						time.Sleep(2 * time.Millisecond)
					}
					_ = pool.Close()
					time.Sleep(time.Millisecond)
				}
			}()
		}
		return func() {
			close(quit)
			for range 3 {
				<-done
			}
		}
	}
	for _, way := range []struct {
		name  string
		steps []string
	}{
		{"from master, two calls", []string{"ALTER DATABASE [x] SET SINGLE_USER WITH ROLLBACK IMMEDIATE", "DROP " +
			"DATABASE [x]"}},
		{"from master, one batch", []string{"ALTER DATABASE [x] SET SINGLE_USER WITH ROLLBACK IMMEDIATE; DROP " +
			"DATABASE [x]"}},
		{"held from inside, then one batch", []string{"USE [x]; ALTER DATABASE [x] SET SINGLE_USER WITH ROLLBACK " +
			"IMMEDIATE", "SELECT 1", "USE master; DROP DATABASE [x]"}},
		{"held from inside, offline, drop", []string{"USE [x]; ALTER DATABASE [x] SET SINGLE_USER WITH ROLLBACK " +
			"IMMEDIATE", "ALTER DATABASE [x] SET OFFLINE WITH ROLLBACK IMMEDIATE", "DROP DATABASE [x]"}},
	} {
		failed := map[string]int{}
		for n := range 30 {
			must(t, c, "CREATE DATABASE [x]")
			stop := thieve("x")
			time.Sleep(10 * time.Millisecond)
			for k, s := range way.steps {
				if _, err := c.ExecContext(ctx, s); err != nil {
					failed[fmt.Sprintf("step %d: %d", k+1, number(err))]++
					break
				}
				if k < len(way.steps)-1 {
					time.Sleep(3 * time.Millisecond)
				}
			}
			stop()
			time.Sleep(3 * time.Millisecond)
			// Mend: end whoever sits there, and drop.
			for range 50 {
				must(t, c, "USE master")
				for _, id := range lines(t, c, "SELECT session_id FROM sys.dm_exec_sessions WHERE database_id = "+
					"DB_ID(N'x')") {
					_, _ = c.ExecContext(ctx, "KILL "+id)
				}
				if _, err := c.ExecContext(ctx, "DROP DATABASE IF EXISTS [x]"); err == nil {
					break
				}
				time.Sleep(2 * time.Millisecond)
			}
			if got := lines(t, c, "SELECT 1 FROM sys.databases WHERE name = N'x'"); len(got) > 0 {
				t.Fatal(n, "cannot mend")
			}
		}
		t.Logf("%s: failures of 30: %v", way.name, failed)
		if strings.Contains(way.name, "offline") && len(failed) > 0 {
			t.Error("the gate leaks")
		}
	}
}
