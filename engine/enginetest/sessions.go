package enginetest

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/clearing"
	"example.com/genarch/engine"
	"example.com/genarch/testutil"
)

// clientOf opens a connection that is closed after the test.
func clientOf(t *testing.T, rig Rig, database, account string) *Conn {
	t.Helper()
	conn, err := Client(t.Context(), rig, database, account)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(conn.Close)
	return conn
}

// run sends statements.
func run(t *testing.T, conn *Conn, statements ...string) {
	t.Helper()
	for _, text := range statements {
		if _, err := conn.ExecContext(t.Context(), text); err != nil {
			t.Fatalf("%s: %v", text, err)
		}
	}
}

// number is the server's number of a connection.
func number(t *testing.T, rig Rig, conn *Conn) int64 {
	t.Helper()
	var n int64
	if err := conn.QueryRowContext(t.Context(), rig.Number).Scan(&n); err != nil {
		t.Fatal(err)
	}
	return n
}

// RunSessions puts an engine through the part of the suite that is about
// sessions, with real clients that come, write, wait for each other and fight.
func RunSessions(t *testing.T, rig Rig, names Names) {
	s := Open(t, rig.Engine, Target(rig.Engine, rig.Running, "suite"))
	admin := clientOf(t, rig, rig.Main, "")
	t.Run("classes", func(t *testing.T) { testClasses(t, rig, s, admin) })
	t.Run("ending", func(t *testing.T) { testEnding(t, rig, s, admin) })
	t.Run("a pool that fights", func(t *testing.T) { testFight(t, rig, s, admin) })
	t.Run("written work", func(t *testing.T) { testWrittenWork(t, rig, s, admin) })
	t.Run("dropping hostile names", func(t *testing.T) { testDropHostile(t, rig, admin, names) })
	t.Run("two at once", func(t *testing.T) { testDropTwice(t, rig, s, admin) })
	t.Run("an account that is connected", func(t *testing.T) { testAccountConnected(t, rig, s, admin) })
}

// furnish makes a database with a table of a few rows.
func furnish(t *testing.T, rig Rig, admin *Conn, name string) {
	t.Helper()
	run(t, admin, "CREATE DATABASE "+name)
	conn := clientOf(t, rig, name, "")
	run(t, conn, "CREATE TABLE shifts (id int PRIMARY KEY, n int)", "INSERT INTO shifts VALUES (1, 1), (2, 2), (3, 3)")
	conn.Close()
}

// sessions reads those of a database, by number.
func sessions(t *testing.T, s engine.Server, database string) map[int64]catalog.Session {
	t.Helper()
	list, err := s.Sessions(t.Context(), catalog.SessionQuery{Database: database})
	if err != nil {
		t.Fatal(err)
	}
	out := map[int64]catalog.Session{}
	for _, x := range list.Sessions {
		out[x.ID.Number] = x
	}
	return out
}

// testClasses: Long: one life is told from beginning to end, each step on the one before.
func testClasses(t *testing.T, rig Rig, s engine.Server, admin *Conn) {
	furnish(t, rig, admin, "classes_dev")
	idle, busy, open, written, waits := clientOf(t, rig, "classes_dev", ""), clientOf(t, rig, "classes_dev",
		""), clientOf(t, rig, "classes_dev", ""), clientOf(t, rig, "classes_dev", ""), clientOf(t, rig, "classes_dev",
		"")
	numbers := map[string]int64{"idle": number(t, rig, idle), "busy": number(t, rig, busy),
		"open": number(t, rig, open), "written": number(t, rig, written), "waits": number(t, rig, waits)}
	run(t, open, rig.Begin, "SELECT COUNT(*) FROM shifts")
	run(t, written, rig.Begin, "UPDATE shifts SET n = 7 WHERE id = 1")
	var ended sync.WaitGroup
	for conn, text := range map[*Conn]string{busy: rig.Sleep, waits: "UPDATE shifts SET n = 8 WHERE id = 1"} {
		ended.Go(func() { _, _ = conn.ExecContext(context.Background(), text) })
	}
	want := map[string]clearing.Class{"idle": clearing.Idle, "busy": clearing.Busy, "open": clearing.InTransaction,
		"written": clearing.Written}
	testutil.Wait(t, "every class to show", func() bool {
		there := sessions(t, s, "classes_dev")
		for name, class := range want {
			if clearing.Classify(there[numbers[name]]) != class {
				return false
			}
		}
		return slices.Contains(there[numbers["waits"]].BlockedBy, numbers["written"])
	})
	list, err := s.Sessions(t.Context(), catalog.SessionQuery{})
	if err != nil {
		t.Fatal(err)
	}
	if len(list.Unseen) == 0 || list.Read.IsZero() {
		t.Errorf("it does not say what cannot be seen, or when it was read: %+v", list)
	}
	if w := clearing.Waits(list.Sessions); len(w) != 2 || w[0].Session.ID.Number != numbers["written"] ||
		w[0].Blocks != 1 {
		t.Errorf("who waits for whom: %+v", w)
	}
	own, all := 0, map[string]bool{}
	for _, x := range list.Sessions {
		if x.ID.Mark == "" || all[x.ID.String()] {
			t.Errorf("session %v has no identity of its own", x.ID)
		}
		all[x.ID.String()] = true
		if x.Kind == catalog.OwnSession {
			own++
		}
	}
	if own == 0 || own > engine.MaxConns {
		t.Errorf("%d of its own sessions", own)
	}
	x := sessions(t, s, "classes_dev")[numbers["written"]]
	if x.Account.Name != rig.Running.Admin || x.Client == "" || x.Transaction.IsZero() ||
		!strings.Contains(x.Statement+"UPDATE", "UPDATE") || time.Since(x.Transaction) > time.Hour {
		t.Errorf("the one that has written: %+v", x)
	}
	// The ones that sleep and wait are let go.
	ids := []catalog.SessionID{}
	for _, name := range []string{"busy", "waits"} {
		ids = append(ids, sessions(t, s, "classes_dev")[numbers[name]].ID)
	}
	if _, err := s.End(t.Context(), ids, catalog.EndSession); err != nil {
		t.Error(err)
	}
	ended.Wait()
	for _, conn := range []*Conn{idle, open, written} {
		conn.Close()
	}
}

// testEnding: a session is ended by its whole identity or not at all.
func testEnding(t *testing.T, rig Rig, s engine.Server, admin *Conn) {
	furnish(t, rig, admin, "ending_dev")
	victim, bystander := clientOf(t, rig, "ending_dev", ""), clientOf(t, rig, "ending_dev", "")
	v, b := number(t, rig, victim), number(t, rig, bystander)
	there := sessions(t, s, "ending_dev")
	// The number of one with the mark of another: as if it had been used again.
	for _, id := range []catalog.SessionID{{Number: v, Mark: there[b].ID.Mark + "1"}, {Number: v, Mark: "0"},
		{Number: b, Mark: "zzzz"}, {Number: 1 << 30, Mark: there[b].ID.Mark}} {
		refused, err := s.End(t.Context(), []catalog.SessionID{id}, catalog.EndSession)
		if err != nil || len(refused) > 0 {
			t.Errorf("End(%v): %v, %v", id, refused, err)
		}
	}
	if now := sessions(t, s, "ending_dev"); len(now) != 2 {
		t.Fatalf("somebody was ended who was not meant: %+v", now)
	}
	id := there[v].ID
	if rig.Engine.Describe().Endings[catalog.EndStatement].Why == "" {
		stopStatement(t, rig, s, victim, v)
	} else {
		run(t, victim, rig.Begin, "UPDATE shifts SET n = 9 WHERE id = 1")
	}
	if err := Clear(t, s, clearing.Rules{Target: clearing.Target{IDs: []catalog.SessionID{id}},
		AcceptLoss: true}); err != nil {
		t.Fatal(err)
	}
	if now := sessions(t, s, "ending_dev"); len(now) != 1 || now[b].ID.Number != b {
		t.Errorf("after one was ended: %+v", now)
	}
	var n int
	if err := bystander.QueryRowContext(t.Context(), "SELECT n FROM shifts WHERE id = 1").Scan(&n); err != nil ||
		n != 1 {
		t.Errorf("what was not committed is %d, %v; want 1", n, err)
	}
}

// stopStatement: what runs is stopped, and the session with its transaction goes on.
func stopStatement(t *testing.T, rig Rig, s engine.Server, victim *Conn, v int64) {
	t.Helper()
	run(t, victim, rig.Begin, "UPDATE shifts SET n = 9 WHERE id = 1")
	stopped := make(chan error, 1)
	go func() {
		_, err := victim.ExecContext(context.Background(), rig.Sleep)
		stopped <- err
	}()
	testutil.Wait(t, "the statement to run",
		func() bool { return sessions(t, s, "ending_dev")[v].Activity == catalog.SessionActive })
	id := sessions(t, s, "ending_dev")[v].ID
	if err := Clear(t, s, clearing.Rules{Target: clearing.Target{IDs: []catalog.SessionID{id}},
		How: catalog.EndStatement}); err != nil {
		t.Fatal(err)
	}
	<-stopped
	if now := sessions(t, s, "ending_dev")[v]; now.ID != id || now.Activity == catalog.SessionActive {
		t.Errorf("after its statement was stopped: %+v", now)
	}
}

// dropBrief reads and plans a drop.
func dropBrief(t *testing.T, rig Rig, s engine.Server, name string, c *change.ClearingSpec) change.Brief {
	t.Helper()
	return BriefOf(t, rig.Engine, s,
		change.Intent{Kind: change.DropDatabase, Database: &change.DatabaseSpec{Name: name}, Clearing: c})
}

// testFight drops a database while a pool of fifty connects to it again and
// again as fast as it can, administrators among them.
func testFight(t *testing.T, rig Rig, s engine.Server, admin *Conn) {
	furnish(t, rig, admin, "fought_dev")
	word := rig.Running.Password.Reveal()
	run(t, admin, rig.Account("fighter", word, "fought_dev")...)
	ctx, cancel := context.WithCancel(t.Context())
	defer cancel()
	var pool sync.WaitGroup
	var in, at atomic.Int64
	// One more try the moment one ends, without a pause; a few at a time, as each
	// costs the server a process, and fifty would leave none to anybody else.
	trying := make(chan struct{}, 6)
	for i := range 50 {
		account := "fighter"
		if i%10 == 0 {
			account = ""
		}
		pool.Go(func() {
			for ctx.Err() == nil {
				trying <- struct{}{}
				conn, err := Client(ctx, rig, "fought_dev", account)
				<-trying
				if err != nil {
					at.Add(1)
					continue
				}
				in.Add(1)
				for err == nil && ctx.Err() == nil {
					_, err = conn.ExecContext(ctx, rig.Busy)
				}
				conn.Close()
			}
		})
	}
	testutil.Wait(t, "the pool to be in", func() bool { return in.Load() >= 50 })
	b := dropBrief(t, rig, s, "fought_dev", &change.ClearingSpec{AcceptLoss: true})
	_, err := Carry(t, s, b)
	cancel()
	pool.Wait()
	if err != nil {
		t.Fatalf("the drop: %v", err)
	}
	if _, err := s.Database(t.Context(), "fought_dev"); !errors.Is(err, engine.ErrNotFound) {
		t.Errorf("after the drop: %v", err)
	}
	t.Logf("%d sessions got in before, %d tries were refused", in.Load(), at.Load())
}

// testWrittenWork: a session that has written stops a drop that did not accept
// that, and the gate is open again as it was.
func testWrittenWork(t *testing.T, rig Rig, s engine.Server, admin *Conn) {
	furnish(t, rig, admin, "written_dev")
	writer := clientOf(t, rig, "written_dev", "")
	run(t, writer, rig.Begin, "UPDATE shifts SET n = 7")
	var b change.Brief
	testutil.Wait(t, "the caution about written work", func() bool {
		b = dropBrief(t, rig, s, "written_dev", nil)
		return slices.Contains(b.Codes(change.Caution), change.WorkLost)
	})
	// As if the caution had come up only after the brief.
	for i := range b.Steps {
		if b.Steps[i].Clear != nil {
			b.Steps[i].Clear.AcceptLoss = false
		}
	}
	done, err := Carry(t, s, b)
	if err == nil || !strings.Contains(err.Error(), "written work would be lost") {
		t.Fatalf("the drop: %v", err)
	}
	for _, step := range slices.Backward(done) {
		for range 2 {
			if _, err := s.Undo(t.Context(), step); err != nil {
				t.Errorf("Undo(%s): %v", step.Kind, err)
			}
		}
	}
	run(t, writer, "COMMIT")
	again := clientOf(t, rig, "written_dev", "")
	var n int
	if err := again.QueryRowContext(t.Context(), "SELECT n FROM shifts WHERE id = 1").Scan(&n); err != nil || n != 7 {
		t.Errorf("the work that was left alone is %d, %v; want 7", n, err)
	}
}

func testDropHostile(t *testing.T, rig Rig, admin *Conn, names Names) {
	target := Target(rig.Engine, rig.Running, "suite")
	target.Server.NameRule.Free = true
	s := Open(t, rig.Engine, target)
	for _, name := range names.of(hostile) {
		run(t, admin, "CREATE DATABASE "+rig.Quote(name))
		b := dropBrief(t, rig, s, name, nil)
		if b.Confirm != name {
			t.Errorf("%q is confirmed by %q", name, b.Confirm)
		}
		if _, err := Carry(t, s, b); err != nil {
			t.Errorf("drop %q: %v", name, err)
		}
		if _, err := s.Database(t.Context(), name); !errors.Is(err, engine.ErrNotFound) {
			t.Errorf("after dropping %q: %v", name, err)
		}
	}
}

// testDropTwice has two brief the same drop and carry it out side by side: the
// database goes once, and one that was made anew meanwhile is left alone.
func testDropTwice(t *testing.T, rig Rig, s engine.Server, admin *Conn) {
	run(t, admin, "CREATE DATABASE twice_dev")
	b := dropBrief(t, rig, s, "twice_dev", nil)
	if _, err := Carry(t, s, b); err != nil {
		t.Fatal(err)
	}
	if b := dropBrief(t, rig, s, "twice_dev", nil); !slices.Contains(b.Codes(change.Stop), change.DatabaseAbsent) {
		t.Errorf("a second drop: %+v", b.Findings)
	}
	if rig.Numbered {
		run(t, admin, "CREATE DATABASE twice_dev")
		if _, err := Carry(t, s, b); err == nil || !strings.Contains(err.Error(), "another one") {
			t.Errorf("an old brief on a database of the same name: %v", err)
		}
		if _, err := s.Database(t.Context(), "twice_dev"); err != nil {
			t.Errorf("the new one: %v", err)
		}
	}
	drop := b.Steps[slices.IndexFunc(b.Steps, func(s change.Step) bool { return s.Kind == "drop_database" })]
	if !rig.Numbered {
		if _, err := s.Do(t.Context(), drop); err == nil || !strings.Contains(err.Error(), "gone") {
			t.Errorf("dropping what is gone: %v", err)
		}
	}
}

// testAccountConnected drops an account that owns nothing and is connected, and
// locks another with its sessions ended.
func testAccountConnected(t *testing.T, rig Rig, s engine.Server, admin *Conn) {
	run(t, admin, "CREATE DATABASE kept_dev")
	word := rig.Running.Password.Reveal()
	if why := rig.Engine.Describe().Intents[change.DropAccount].Why; why != "" {
		t.Skip(why)
	}
	for _, name := range []string{"leaver", "stayer"} {
		run(t, admin, rig.Account(name, word, "kept_dev")...)
	}
	locked := true
	for _, in := range []change.Intent{
		{Kind: change.DropAccount, Account: &change.AccountSpec{Name: "leaver", Host: rig.Host}},
		{Kind: change.AlterAccount, Account: &change.AccountSpec{Name: "stayer", Host: rig.Host,
			Options: catalog.Values{"locked": locked}}, Clearing: &change.ClearingSpec{}},
	} {
		conn := clientOf(t, rig, "kept_dev", in.Account.Name)
		b := BriefOf(t, rig.Engine, s, in)
		if b.AffectedCount != 1 {
			t.Fatalf("%s: %d sessions shown: %+v", in.Kind, b.AffectedCount, b.Findings)
		}
		if _, err := Carry(t, s, b); err != nil {
			t.Fatalf("%s: %v", in.Kind, err)
		}
		if _, err := conn.ExecContext(t.Context(), "SELECT 1"); err == nil {
			t.Errorf("%s: the session goes on", in.Kind)
		}
		if c, err := Client(t.Context(), rig, "kept_dev", in.Account.Name); err == nil {
			c.Close()
			t.Errorf("%s: it gets in again", in.Kind)
		}
	}
	if now := sessions(t, s, "kept_dev"); len(now) > 0 {
		t.Errorf("left: %v", fmt.Sprint(now))
	}
}
