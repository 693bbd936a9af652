package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"example.com/genarch/testutil"
)

// testCopySQLServer copies a database of the fourth engine: by a backup that is restored.
func testCopySQLServer(t *testing.T, c customs) {
	c.exec(t, "CREATE DATABASE [store's ]] prod]", "USE [store's ]] prod]; CREATE TABLE dbo.goods (id int)",
		"USE [store's ]] prod]; INSERT dbo.goods VALUES (1), (2), (3)",
		"USE [store's ]] prod]; CREATE USER harbour_app",
		"ALTER DATABASE [store's ]] prod] ADD FILEGROUP cold",
		"ALTER DATABASE [store's ]] prod] ADD FILE (NAME = N'it''s cold', FILENAME = N'/var/opt/mssql/data/x.ndf') TO "+
			"FILEGROUP cold", "USE master")
	has(t, "said", c.run(0, "database", "copy", "customs/store's ] prod", "stored_prod", "--set", "recovery=simple",
		"--yes").err, "copy.what", "1 table and all else", "copy.people", "MOVE N'it''s cold' TO "+
		"N'/var/opt/mssql/data/stored_prod_it''s cold.ndf'", "written over with one of the database model")
	if got := c.one(t, `SELECT CONCAT((SELECT COUNT(*) FROM stored_prod.dbo.goods), ' ', recovery_model_desc, ' ',
		(SELECT COUNT(*) FROM stored_prod.sys.database_principals WHERE name = N'harbour_app')) FROM sys.databases
		WHERE name = N'stored_prod'`); got != "3 SIMPLE 1" {
		t.Errorf("the copy has %s", got)
	}
	has(t, "a user as its owner", c.run(1, "database", "copy", "customs/store's ] prod", "other_prod", "--owner",
		"harbour_app", "--yes").err, "owner.denied")
	has(t, "what it has of its template", c.run(1, "database", "create", "customs/other_prod", "--template",
		"stored_prod", "--collation", "Finnish_Swedish_CI_AS", "--yes").err, "A copy has that of its template")
	for i, text := range []string{"BACKUP DATABASE [stored_prod]", "RESTORE DATABASE", "BACKUP DATABASE [model]",
		"SET RECOVERY FULL"} {
		name := fmt.Sprintf("cut_copy%d_prod", i)
		if err := os.WriteFile(filepath.Join(c.srv.Dir, "cut"), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		r := c.cli("", "database", "copy", "customs/stored_prod", name, "--set", "recovery=full", "--yes")
		there := c.one(t, "SELECT CONVERT(varchar(9), COUNT(*)) FROM sys.databases WHERE state = 0 AND name = N'"+
			name+"'")
		if (r.code == 0) != (there == "1") || i > 0 && r.code != 0 {
			t.Errorf("cut after %s: it ended with %d, and there are %s copies: %s", text, r.code, there, r.err)
		}
		if _, err := os.Stat(filepath.Join(c.srv.Dir, "cut")); err == nil {
			t.Errorf("nothing was sent with %s", text)
		}
	}
}

// testCopyStoppedSQLServer stops a copy while it is backed up, and kills the service while it is restored:
// nothing of it stays.
func testCopyStoppedSQLServer(t *testing.T, c customs) {
	pace := filepath.Join(c.srv.Dir, "pace")
	slow := func(text string) {
		if err := os.WriteFile(pace, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	begun := func(name, kind string) (path string) {
		t.Helper()
		slow("2s")
		status, draft, _ := c.call("POST", "/api/v1/changes", c.token, fmt.Sprintf(`{"kind":"database.create",
			"server":"customs","database":{"name":%q,"options":{"template":"stored_prod"}}}`, name))
		if status != 201 {
			t.Fatalf("ask: %d %v", status, draft)
		}
		path = fmt.Sprintf("/api/v1/changes/%v", draft["id"])
		if status, begun, _ := c.call("POST", path+"/run", c.token, fmt.Sprintf(`{"fingerprint":%q,"wait":0}`,
			draft["brief"].(map[string]any)["fingerprint"])); status/100 != 2 {
			t.Fatalf("run: %d %v", status, begun)
		}
		testutil.Wait(t, "the step to be worked on", func() bool {
			_, change, _ := c.call("GET", path, c.token, "")
			for _, x := range change["brief"].(map[string]any)["steps"].([]any) {
				step := x.(map[string]any)
				if step["kind"] == kind && step["status"] == "begun" && step["work"] != nil {
					return true
				}
			}
			return false
		})
		slow("10m") // from then on
		return path
	}
	gone := func(name string) {
		t.Helper()
		if c.one(t, "SELECT CONVERT(varchar(9), COUNT(*)) FROM sys.databases WHERE name = N'"+name+"'") != "0" {
			t.Errorf("%s is there", name)
		}
	}
	f := filler{service: c.service}
	path := begun("stopped_prod", "back_up")
	has(t, "stopped", c.run(0, "change", "stop", path[strings.LastIndexByte(path, '/')+1:]).out, "reverted")
	gone("stopped_prod")
	path = begun("killed_prod", "restore")
	c.end(syscall.SIGKILL)
	os.Remove(pace)
	c.startAt(strings.TrimPrefix(c.url, "http://"))
	testutil.Wait(t, "the next service to end the change", func() bool {
		return !strings.HasPrefix(f.state(path), "running")
	})
	has(t, "killed while it ran", f.state(path), "reverted")
	gone("killed_prod")
}
