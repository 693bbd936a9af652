package mysqlfamily

import (
	"database/sql"
	"strings"
	"testing"

	"example.com/genarch/core/change"
	"example.com/genarch/engine/enginetest"
	"example.com/genarch/testutil"
	"example.com/genarch/testutil/rigs"
)

// maria is the member of the family that most tests are about.
type maria = Engine[MariaDB]

func TestSuite(t *testing.T) {
	t.Parallel()
	s := testutil.MariaDB(t)
	enginetest.Run(t, maria{}, s, enginetest.AllNames)
	enginetest.RunAccounts(t, maria{}, s, enginetest.AllNames)
}

// mysql8 is MySQL.
type mysql8 = Engine[MySQL]

func TestMySQL(t *testing.T) {
	t.Parallel()
	s := testutil.MySQL(t, "8.0.36")
	enginetest.Run(t, mysql8{}, s, enginetest.AllNames)
	enginetest.RunAccounts(t, mysql8{}, s, enginetest.AllNames)
}

// TestAnotherProduct: a server that is registered as another one of the family says what it is.
func TestAnotherProduct(t *testing.T) {
	t.Parallel()
	s := testutil.MariaDB(t)
	_, err := enginetest.Open(t, mysql8{}, enginetest.Target(mysql8{}, s, "quay")).Inspect(t.Context())
	if err == nil || !strings.Contains(err.Error(), "this is no MySQL: it calls itself 1") {
		t.Errorf("MariaDB as MySQL: %v", err)
	}
	old := testutil.MySQL(t, "8.0.16")
	_, err = enginetest.Open(t, mysql8{}, enginetest.Target(mysql8{}, old, "jetty")).Inspect(t.Context())
	if err == nil || !strings.Contains(err.Error(), "this is version 8.0.16") {
		t.Errorf("a version that is too old: %v", err)
	}
	_, err = enginetest.Open(t, maria{}, enginetest.Target(maria{}, old, "jetty")).Inspect(t.Context())
	if err == nil || !strings.Contains(err.Error(), "this is no MariaDB: it calls itself 8.0.16") {
		t.Errorf("MySQL as MariaDB: %v", err)
	}
}

// TestGroups: of servers that replicate to each other, one that alone can be written to is looked
// after as any other, and a drop is left to others where several can.
func TestGroups(t *testing.T) {
	t.Parallel()
	running := testutil.MySQL(t, "8.4.3")
	db, err := sql.Open("mysql", running.DSN(""))
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	exec := func(text string) {
		t.Helper()
		if _, err := db.ExecContext(t.Context(), text); err != nil {
			t.Fatalf("%s: %v", text, err)
		}
	}
	members := func(second string) {
		exec("CREATE OR REPLACE SQL SECURITY INVOKER VIEW mysql8.replication_group_members AS SELECT 'a' AS MEMBER_ID, " +
			"'ONLINE' AS MEMBER_STATE, 'PRIMARY' AS MEMBER_ROLE UNION ALL SELECT 'b', 'ONLINE', '" + second + "'")
	}
	s := enginetest.Open(t, mysql8{}, enginetest.Target(mysql8{}, running, "jetty"))
	exec("CREATE DATABASE grouped")
	exec("CREATE OR REPLACE SQL SECURITY INVOKER VIEW mysql8.replication_connection_status AS " +
		"SELECT 'group_replication_applier' AS CHANNEL_NAME, 'ON' AS SERVICE_STATE")
	in, err := s.Inspect(t.Context())
	if err != nil || in.ReadOnly != "" {
		t.Errorf("a primary: %q, %v", in.ReadOnly, err)
	}
	for second, want := range map[string]bool{"SECONDARY": false, "PRIMARY": true} {
		members(second)
		snap, err := s.Snapshot(t.Context(), dropping(change.DatabaseSpec{Name: "grouped"}, nil))
		if err != nil || dropDetailsOf(snap.DropImpact.Details).Cluster != want {
			t.Errorf("beside a %s: %+v, %v", second, snap.DropImpact, err)
		}
	}
	exec("CREATE OR REPLACE SQL SECURITY INVOKER VIEW mysql8.replication_connection_status AS " +
		"SELECT '' AS CHANNEL_NAME, 'OFF' AS SERVICE_STATE")
	if in, err = s.Inspect(t.Context()); err != nil || in.ReadOnly == "" {
		t.Errorf("a replica that is stopped: %q, %v", in.ReadOnly, err)
	}
}

func TestMySQLSessions(t *testing.T) {
	t.Parallel()
	enginetest.RunSessions(t, rigs.Of(mysql8{}, testutil.MySQL(t, "8.4.3")), enginetest.AllNames)
}

func TestTLS(t *testing.T) {
	t.Parallel()
	ca, cert, key := enginetest.Certificate(t, testutil.Dir(t))
	s := testutil.MariaDB(t, "ssl-cert="+cert, "ssl-key="+key)
	enginetest.RunTLS(t, maria{}, enginetest.Target(maria{}, s, "quay"), ca, cert, false)
}

// TestSessions runs beside the suite, on a server of its own that shows who holds
// metadata locks.
func TestSessions(t *testing.T) {
	t.Parallel()
	enginetest.RunSessions(t, rigs.Of(maria{},
		testutil.MariaDB(t, "plugin-load-add=metadata_lock_info", "max-connections=300")), enginetest.AllNames)
}
