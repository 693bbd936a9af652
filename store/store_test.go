package store

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	driver "github.com/go-sql-driver/mysql"
	"gorm.io/gorm"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/clearing"
	"example.com/genarch/core/journal"
	"example.com/genarch/core/policy"
	"example.com/genarch/core/record"
	"example.com/genarch/core/secret"
	"example.com/genarch/engine/mariadb/marialocal"
	"example.com/genarch/localdb"
	"example.com/genarch/testutil"
)

func openStore(t *testing.T) (*Store, Config) {
	cfg := Config{DSN: testutil.MariaDB(t).DSN("records"), KeyFile: filepath.Join(t.TempDir(), "key")}
	s, err := Open(t.Context(), cfg)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	return s, cfg
}

var entry = journal.Entry{Operator: "dispatcher", Action: "test", Subject: "harbour"}

func TestStore(t *testing.T) {
	s, cfg := openStore(t)
	t.Run("deadlock", func(t *testing.T) { testDeadlock(t, s) })
	t.Run("servers", func(t *testing.T) { testServers(t, s) })
	t.Run("last use", func(t *testing.T) { testWatched(t, s) })
	t.Run("history", func(t *testing.T) { testHistory(t, s) })
	t.Run("operators", func(t *testing.T) { testOperators(t, s) })
	t.Run("changes", func(t *testing.T) { testChanges(t, s) })
	t.Run("stopping", func(t *testing.T) { testStopping(t, s) })
	t.Run("passwords of changes", func(t *testing.T) { testSecrets(t, s) })
	t.Run("the last admin", func(t *testing.T) { testLastAdmin(t, s) })
	t.Run("rotating the key", func(t *testing.T) { testRotate(t, s, cfg) })
	t.Run("a login for daily work", func(t *testing.T) { testDaily(t, testutil.MariaDB(t)) })
	t.Run("journal", func(t *testing.T) { testJournal(t, s, cfg) })
	t.Run("key file", func(t *testing.T) { testKeyFile(t, s, cfg) })
}

func testDeadlock(t *testing.T, s *Store) {
	tries := 0
	err := s.update(t.Context(), func(*gorm.DB) error {
		if tries++; tries < 3 {
			return &driver.MySQLError{Number: errDeadlock}
		}
		return nil
	})
	if err != nil || tries != 3 {
		t.Errorf("a transaction that met two deadlocks: %v after %d tries", err, tries)
	}
	tries = 0
	if err := s.update(t.Context(),
		func(*gorm.DB) error { tries++; return record.ErrStale }); !errors.Is(err, record.ErrStale) || tries != 1 {
		t.Errorf("a transaction that failed for another reason: %v after %d tries", err, tries)
	}
}

func testServers(t *testing.T, s *Store) {
	in := catalog.Server{Name: "harbour", Engine: "postgresql", Host: "127.0.0.1", Port: 5432, Admin: "keeper",
		Environment: catalog.Production,
		TLS:         catalog.TLSOff, Labels: map[string]string{"team": "sailings"},
		Identity: catalog.Identity{Key: "system identifier 7", Marks: map[string]string{"a": "b"}}}
	made, err := s.AddServer(t.Context(), in, secret.New("hush-hush"), entry)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := s.AddServer(t.Context(), in, secret.New("x"), entry); !errors.Is(err, record.ErrExists) {
		t.Errorf("a second one of that name: %v", err)
	}
	got, err := s.Server(t.Context(), "harbour")
	if err != nil || got.Labels["team"] != "sailings" || got.Identity.Marks["a"] != "b" || got.ID != made.ID {
		t.Errorf("read back %+v, %v", got, err)
	}
	if p, err := s.Secret(t.Context(), "harbour"); err != nil || p.Reveal() != "hush-hush" {
		t.Errorf("secret %q, %v", p.Reveal(), err)
	}
	var sealed string
	s.db.Raw("SELECT HEX(sealed_secret) FROM servers").Scan(&sealed)
	if strings.Contains(sealed, fmt.Sprintf("%X", "hush-hush")) {
		t.Error("the secret stands in the table in clear")
	}
	// A sealed secret is bound to its server.
	s.db.Exec("INSERT INTO servers SELECT 99, 'quay', engine, host, port, admin, options, client_addresses, environment, labels, tls, ca, name_rule, keeping, identity, sealed_secret, 1, created_at, updated_at FROM servers WHERE name = 'harbour'")
	if _, err := s.Secret(t.Context(), "quay"); err == nil {
		t.Error("a secret moved to another server could be opened")
	}
	got.Port = 6543
	next := secret.New("other")
	if err := s.UpdateServer(t.Context(), got, &next, entry); err != nil {
		t.Fatal(err)
	}
	if err := s.UpdateServer(t.Context(), got, nil, entry); !errors.Is(err, record.ErrStale) {
		t.Errorf("an update from an old reading: %v", err)
	}
	if again, _ := s.Server(t.Context(), "harbour"); again.Port != 6543 || again.Version != 2 {
		t.Errorf("after the update: %+v", again)
	}
	if err := s.ForgetServer(t.Context(), "quay", entry); err != nil {
		t.Error(err)
	}
	if err := s.ForgetServer(t.Context(), "quay", entry); !errors.Is(err, record.ErrNotFound) {
		t.Errorf("forgotten twice: %v", err)
	}
}

func testOperators(t *testing.T, s *Store) {
	o := policy.Operator{Name: "dispatcher", Permissions: []policy.Permission{policy.View, policy.Run}}
	if err := s.AddOperator(t.Context(), o, "hash", entry); err != nil {
		t.Fatal(err)
	}
	tok, err := s.AddToken(t.Context(), record.Token{Operator: "dispatcher", Title: "nightly"}, strings.Repeat("a", 64),
		entry)
	if err != nil {
		t.Fatal(err)
	}
	if got, who, err := s.TokenByHash(t.Context(), strings.Repeat("a", 64)); err != nil || got.ID != tok.ID ||
		!who.May(policy.Run) || who.May(policy.Admin) {
		t.Errorf("token %+v of %+v, %v", got, who, err)
	}
	if err := s.RevokeToken(t.Context(), tok.ID, entry); err != nil {
		t.Fatal(err)
	}
	if got, _, _ := s.TokenByHash(t.Context(), strings.Repeat("a", 64)); got.Valid(time.Now()) {
		t.Error("a revoked token is valid")
	}
	for hash, life := range map[string]time.Duration{strings.Repeat("b", 64): time.Hour,
		strings.Repeat("c", 64): -time.Hour} {
		if err := s.AddSession(t.Context(),
			record.Session{Operator: "dispatcher", CSRF: "x", Expires: time.Now().Add(life)}, hash, entry); err != nil {
			t.Fatal(err)
		}
		if _, _, err := s.SessionByHash(t.Context(), hash); (err == nil) != (life > 0) {
			t.Errorf("session that lasts %s: %v", life, err)
		}
	}
	o.Disabled = true
	if _, err := s.UpdateOperator(t.Context(), o, "", "", entry); err != nil {
		t.Fatal(err)
	}
	if _, _, err := s.SessionByHash(t.Context(), strings.Repeat("b", 64)); !errors.Is(err, record.ErrNotFound) {
		t.Errorf("a disabled operator's session: %v", err)
	}
}

func draft(name string) change.Change {
	spec := change.DatabaseSpec{Name: name}
	c := change.Change{Intent: change.Intent{Kind: change.CreateDatabase, Server: "harbour", Database: &spec},
		State:    change.Draft,
		Operator: "dispatcher", Created: time.Now().UTC().Truncate(time.Microsecond)}
	c.Brief = change.Brief{Target: "harbour/" + name,
		Steps: []change.Step{{Kind: "create_database", Title: "make " + name, Args: map[string]string{"name": name}},
			{Kind: change.Verify}}}
	c.Prepare()
	return c
}

func testChanges(t *testing.T, s *Store) {
	ctx := t.Context()
	c, err := s.AddChange(ctx, draft("tickets_prod"), "key-1", entry)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := s.AddChange(ctx, draft("tickets_prod"), "key-1", entry); !errors.Is(err, record.ErrExists) {
		t.Errorf("the same key again: %v", err)
	}
	if same, err := s.ChangeByKey(ctx, "dispatcher", "key-1"); err != nil || same.ID != c.ID || len(same.Steps) != 2 {
		t.Errorf("by key: %+v, %v", same, err)
	}
	other, err := s.AddChange(ctx, draft("tickets_prod"), "", entry)
	if err != nil {
		t.Fatal(err)
	}
	c.State, c.RunBy, c.Started = change.Running, "dispatcher", time.Now()
	other.State, other.RunBy, other.Started = change.Running, "deckhand", time.Now()
	// Both want the same target at the same moment: one gets it.
	var wg sync.WaitGroup
	errs := make([]error, 2)
	for i, x := range []change.Change{c, other} {
		wg.Go(func() { errs[i] = s.Claim(ctx, x, change.Draft, time.Now(), "svc", time.Minute, entry) })
	}
	wg.Wait()
	winner, loser := c, 1
	if errs[0] != nil {
		winner, loser = other, 0
	}
	busy, isBusy := errors.AsType[*record.Busy](errs[loser])
	if errs[1-loser] != nil || !isBusy || busy.Change != winner.ID || busy.Operator != winner.RunBy {
		t.Fatalf("two claims: %v", errs)
	}
	winner.Steps[0].Status, winner.Steps[0].Messages = change.Begun, []change.Message{{Severity: "NOTICE",
		Text: "it's \"so\""}}
	winner.Steps[0].Sender = &catalog.SessionID{Number: 4711, Mark: "m"}
	if err := s.SaveRunning(ctx, winner, "svc", entry); err != nil {
		t.Fatal(err)
	}
	if err := s.SaveRunning(ctx, winner, "another", entry); !errors.Is(err, record.ErrStale) {
		t.Errorf("another service writes a change that this one holds: %v", err)
	}
	if got, err := s.Change(ctx, winner.ID); err != nil || got.Steps[0].Status != change.Begun ||
		len(got.Steps[0].Messages) != 1 || got.Steps[0].Sender == nil || got.Steps[0].Sender.Number != 4711 ||
		got.Steps[0].Args["name"] != "tickets_prod" {
		t.Errorf("read back %+v, %v", got.Steps, err)
	}
	if err := s.Renew(ctx, winner.ID, "svc", -time.Second); err != nil {
		t.Fatal(err)
	}
	if none, err := s.Orphans(ctx, "svc2", time.Minute, 0); err != nil || len(none) != 0 {
		t.Errorf("without a free slot %d are taken over, %v", len(none), err)
	}
	taken, err := s.Orphans(ctx, "svc2", time.Minute, 5)
	if err != nil || len(taken) != 1 || taken[0].ID != winner.ID {
		t.Errorf("orphans %+v, %v", taken, err)
	}
	if err := s.Renew(ctx, winner.ID, "svc", time.Minute); !errors.Is(err, record.ErrStale) {
		t.Errorf("the old holder renews: %v", err)
	}
	// The service that was held up writes nothing any more, not even the same.
	if err := s.SaveRunning(ctx, winner, "svc", entry); !errors.Is(err, record.ErrStale) {
		t.Errorf("the old holder writes a step: %v", err)
	}
	winner.State, winner.Ended = change.Done, time.Now()
	if err := s.Finish(ctx, winner, "svc", entry); !errors.Is(err, record.ErrStale) {
		t.Errorf("the old holder ends the change: %v", err)
	}
	if err := s.Finish(ctx, winner, "svc2", entry); err != nil {
		t.Fatal(err)
	}
	if err := s.Finish(ctx, winner, "svc2", entry); !errors.Is(err, record.ErrStale) {
		t.Errorf("finished twice: %v", err)
	}
	// One that read the server before the winner ended must look again.
	late, err := s.AddChange(ctx, draft("tickets_prod"), "", entry)
	if err != nil {
		t.Fatal(err)
	}
	late.State, late.RunBy = change.Running, "deckhand"
	if err := s.Claim(ctx, late, change.Draft, winner.Ended.Add(-time.Second), "svc", time.Minute,
		entry); !errors.Is(err, record.ErrMoved) {
		t.Errorf("a claim on an old reading: %v", err)
	}
	if err := s.Claim(ctx, late, change.Draft, winner.Ended.Add(time.Second), "svc", time.Minute, entry); err != nil {
		t.Errorf("a claim on a fresh reading: %v", err)
	}
	if list, err := s.Changes(ctx, change.Filter{State: change.Done, Limit: 5}); err != nil || len(list) != 1 {
		t.Errorf("list %d, %v", len(list), err)
	}
}

// testStopping keeps who wanted a change to stop, the first one of several, and
// how its clearing went.
func testStopping(t *testing.T, s *Store) {
	c, err := s.AddChange(t.Context(), draft("stopped_prod"), "", entry)
	if err != nil {
		t.Fatal(err)
	}
	if err := s.AskStop(t.Context(), c.ID, "mate", entry); !errors.Is(err, record.ErrStale) {
		t.Errorf("stopping a draft: %v", err)
	}
	c.State, c.Started = change.Running, time.Now()
	if err := s.Claim(t.Context(), c, change.Draft, time.Now(), "holder", time.Minute, entry); err != nil {
		t.Fatal(err)
	}
	for _, who := range []string{"mate", "bosun"} {
		if err := s.AskStop(t.Context(), c.ID, who, entry); err != nil {
			t.Fatal(err)
		}
	}
	if who, err := s.StopAsked(t.Context(), c.ID); who != "mate" || err != nil {
		t.Errorf("asked by %q, %v; want mate", who, err)
	}
	c.Steps[0].Status, c.Steps[0].Clearing = change.Failed, &clearing.Progress{Phase: clearing.GivenUp, Found: 3,
		Left: 1, Series: []clearing.Point{{At: 5, Left: 3}}}
	c.State, c.Ended = change.Reverted, time.Now()
	if err := s.Finish(t.Context(), c, "holder", entry); err != nil {
		t.Fatal(err)
	}
	kept, err := s.Change(t.Context(), c.ID)
	if p := kept.Steps[0].Clearing; err != nil || p == nil || p.Left != 1 || len(p.Series) != 1 ||
		kept.StopBy != "mate" {
		t.Errorf("kept %+v, stopped by %q, %v", kept.Steps[0].Clearing, kept.StopBy, err)
	}
	if !s.Owns(ownConnection(t, s)) || s.Owns(1, "somebody else") {
		t.Error("the store does not know its own connections")
	}
}

// ownConnection is one of the store's own connections, as its server shows it.
func ownConnection(t *testing.T, s *Store) (number int64, client string) {
	t.Helper()
	if err := s.sql.QueryRowContext(t.Context(),
		"SELECT ID, HOST FROM information_schema.PROCESSLIST WHERE ID = CONNECTION_ID()").Scan(&number,
		&client); err != nil {
		t.Fatal(err)
	}
	return number, client
}

func testJournal(t *testing.T, s *Store, cfg Config) {
	ctx := t.Context()
	var wg sync.WaitGroup
	for range 8 {
		wg.Go(func() {
			if err := s.Append(ctx, entry, entry); err != nil {
				t.Error(err)
			}
		})
	}
	wg.Wait()
	n, broken, err := s.VerifyJournal(ctx, "")
	if err != nil || broken != nil || n < 16 {
		t.Fatalf("verify: %d entries, %v, %v", n, broken, err)
	}
	if err := s.db.Exec("UPDATE journal SET operator = 'nobody' WHERE seq = 3").Error; err == nil ||
		!strings.Contains(err.Error(), "append-only") {
		t.Errorf("an entry could be altered: %v", err)
	}
	if err := s.db.Exec("DELETE FROM journal WHERE seq = 3").Error; err == nil {
		t.Error("an entry could be deleted")
	}
	// Somebody with all rights on the server takes the triggers away first.
	s.db.Exec("DROP TRIGGER journal_keep")
	s.db.Exec("UPDATE journal SET operator = 'nobody' WHERE seq = 3")
	if _, broken, _ := s.VerifyJournal(ctx, ""); broken == nil ||
		!strings.Contains(broken.Error(), "entry 3 was altered") {
		t.Errorf("an altered entry: %v", broken)
	}
	// Sealing what was altered anew needs the key: without, no hash is right.
	sum := sha256.Sum256([]byte("any text"))
	s.db.Exec("UPDATE journal SET hash = ? WHERE seq = 3", hex.EncodeToString(sum[:]))
	if _, broken, _ := s.VerifyJournal(ctx, ""); broken == nil {
		t.Error("a hash without the key passes for a seal")
	}
	s.db.Exec("UPDATE journal j JOIN journal k ON k.seq = 4 SET j.hash = k.prev_hash, j.operator = 'dispatcher' WHERE j.seq = 3")
	kept, err := s.Checkpoint(ctx)
	if err != nil {
		t.Fatal(err)
	}
	if _, broken, err := s.VerifyJournal(ctx, kept.String()); broken != nil || err != nil {
		t.Fatalf("whole again: %v, %v", broken, err)
	}
	if _, _, err := s.VerifyJournal(ctx, strings.Replace(kept.String(), ":", "0:", 1)); !errors.Is(err,
		journal.ErrCheckpoint) {
		t.Errorf("a checkpoint that was made up: %v", err)
	}
	// The end is cut and the head mended, as somebody can who may write all tables.
	s.db.Exec("DROP TRIGGER journal_hold")
	s.db.Exec("DELETE FROM journal ORDER BY seq DESC LIMIT 5")
	if _, broken, _ := s.VerifyJournal(ctx, ""); !errors.Is(broken, journal.ErrCutShort) {
		t.Errorf("a cut end: %v", broken)
	}
	s.db.Exec("UPDATE journal_head h JOIN (SELECT seq, hash FROM journal ORDER BY seq DESC LIMIT 1) l SET h.seq = l.seq, h.hash = l.hash")
	if _, broken, _ := s.VerifyJournal(ctx, ""); !errors.Is(broken, journal.ErrCutShort) {
		t.Errorf("a cut end with its head mended, to the service that wrote it: %v", broken)
	}
	again, err := Open(ctx, cfg)
	if err != nil {
		t.Fatal(err)
	}
	defer again.Close()
	if _, broken, err := again.VerifyJournal(ctx, ""); broken != nil || err != nil {
		t.Fatalf("to a service that started since it looks whole: %v, %v", broken, err)
	}
	if _, broken, _ := again.VerifyJournal(ctx, kept.String()); broken == nil {
		t.Error("the checkpoint that was kept does not show that the end is missing")
	}
	if err := again.Expect(kept.String()); err != nil {
		t.Fatal(err)
	}
	if _, broken, _ := again.VerifyJournal(ctx, ""); broken == nil {
		t.Error("the checkpoint beside the store does not show that the end is missing")
	}
}

// testRotate makes a new key: what was sealed is sealed anew, the journal stays
// whole, and a service that runs meanwhile goes on.
func testRotate(t *testing.T, s *Store, cfg Config) {
	if _, err := s.AddServer(t.Context(),
		catalog.Server{Name: "rotated", Engine: "postgresql", Host: "127.0.0.1", Port: 1, Admin: "x",
			Environment: catalog.Staging}, secret.New("kept"), entry); err != nil {
		t.Fatal(err)
	}
	other, err := Open(t.Context(), cfg)
	if err != nil {
		t.Fatal(err)
	}
	defer other.Close()
	var before, after string
	s.db.Raw("SELECT HEX(LEFT(sealed_secret, 5)) FROM servers WHERE name = 'rotated'").Scan(&before)
	for range 3 {
		if n, err := other.RotateKey(t.Context(), entry); err != nil || n == 0 {
			t.Fatalf("rotated %d, %v", n, err)
		}
		if p, err := s.Secret(t.Context(), "rotated"); err != nil || p.Reveal() != "kept" {
			t.Errorf("the running service opens %q, %v", p.Reveal(), err)
		}
	}
	s.db.Raw("SELECT HEX(LEFT(sealed_secret, 5)) FROM servers WHERE name = 'rotated'").Scan(&after)
	if before == after { // the number of the key
		t.Error("the secret is sealed with the old key")
	}
	if _, broken, err := s.VerifyJournal(t.Context(), ""); broken != nil || err != nil {
		t.Errorf("the journal afterwards: %v, %v", broken, err)
	}
}

// testDaily works with a login that cannot touch what the journal holds.
func testDaily(t *testing.T, srv *localdb.Server) {
	daily, err := marialocal.Login(t.Context(), srv, "genarch_daily", "daily")
	if err != nil {
		t.Fatal(err)
	}
	cfg := Config{DSN: daily, AdminDSN: srv.DSN("daily"), KeyFile: filepath.Join(t.TempDir(), "key")}
	s, err := Open(t.Context(), cfg)
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	if err := s.Append(t.Context(), entry); err != nil {
		t.Fatal(err)
	}
	if _, err := s.AddServer(t.Context(),
		catalog.Server{Name: "harbour", Engine: "postgresql", Host: "127.0.0.1", Port: 1, Admin: "x",
			Environment: catalog.Staging}, secret.New("x"), entry); err != nil {
		t.Error(err)
	}
	if err := s.ForgetServer(t.Context(), "harbour", entry); err != nil {
		t.Error(err)
	}
	for _, text := range []string{"TRUNCATE journal", "DROP TRIGGER journal_keep", "ALTER TABLE journal ADD x INT",
		"DROP TABLE journal", "DELETE FROM journal", "UPDATE journal SET operator = 'x'"} {
		if err := s.db.Exec(text).Error; err == nil || !strings.Contains(err.Error(), "denied") {
			t.Errorf("%s: %v", text, err)
		}
	}
	if text, err := s.Sealable(t.Context()); text != "" || err != nil {
		t.Errorf("what the login could do: %q, %v", text, err)
	}
	if n, broken, err := s.VerifyJournal(t.Context(), ""); n != 3 || broken != nil || err != nil {
		t.Errorf("the journal: %d, %v, %v", n, broken, err)
	}
	if all, err := Open(t.Context(), Config{DSN: cfg.AdminDSN, KeyFile: cfg.KeyFile}); err != nil {
		t.Error(err)
	} else {
		if text, _ := all.Sealable(t.Context()); text == "" {
			t.Error("a login that may do everything is not pointed out")
		}
		all.Close()
	}
	// Once more, as at the next start; and with a key file of the first version,
	// which had no key for the journal.
	var form map[string]json.RawMessage
	text, _ := os.ReadFile(cfg.KeyFile)
	if err := json.Unmarshal(text, &form); err != nil {
		t.Fatal(err)
	}
	os.WriteFile(cfg.KeyFile, form["secrets"], 0o600)
	old, err := Open(t.Context(), cfg)
	if err != nil {
		t.Fatal(err)
	}
	defer old.Close()
	if n, broken, err := old.VerifyJournal(t.Context(), ""); n != 3 || broken != nil || err != nil {
		t.Errorf("the journal, sealed anew once: %d, %v, %v", n, broken, err)
	}
	if err := old.db.Exec("UPDATE journal SET operator = 'x'").Error; err == nil {
		t.Error("afterwards an entry can be altered")
	}
}

// testLastAdmin: whatever is asked for at the same moment, somebody remains who
// can manage Genarch; and there is a way back from the machine itself.
func testLastAdmin(t *testing.T, s *Store) {
	all := []policy.Permission{policy.View, policy.Admin}
	for _, name := range []string{"bosun", "purser"} {
		if err := s.AddOperator(t.Context(), policy.Operator{Name: name, Permissions: all}, "hash", entry); err != nil {
			t.Fatal(err)
		}
	}
	if err := s.AddOperator(t.Context(), policy.Operator{Name: "robot", Permissions: all, Program: true}, "",
		entry); err != nil {
		t.Fatal(err)
	}
	for round := range 20 {
		var wg sync.WaitGroup
		errs := make([]error, 2)
		for i, name := range []string{"bosun", "purser"} {
			wg.Go(func() {
				_, errs[i] = s.UpdateOperator(t.Context(),
					policy.Operator{Name: name, Permissions: all, Disabled: true}, "", "", entry)
			})
		}
		wg.Wait()
		if (errs[0] == nil) == (errs[1] == nil) || !errors.Is(errors.Join(errs...), record.ErrLastAdmin) {
			t.Fatalf("round %d: two who disable each other: %v", round, errs)
		}
		for _, name := range []string{"bosun", "purser"} {
			if _, err := s.UpdateOperator(t.Context(), policy.Operator{Name: name, Permissions: all}, "", "",
				entry); err != nil {
				t.Fatal(err)
			}
		}
	}
	// A new password ends what was got by the old one, and not a program's token.
	for hash, login := range map[string]bool{strings.Repeat("1", 64): true, strings.Repeat("2", 64): false} {
		if _, err := s.AddToken(t.Context(),
			record.Token{Operator: "purser", Title: "t", Login: login, Expires: time.Now().Add(time.Hour)}, hash,
			entry); err != nil {
			t.Fatal(err)
		}
	}
	left, err := s.UpdateOperator(t.Context(), policy.Operator{Name: "purser", Permissions: all}, "other hash", "",
		entry)
	if err != nil || left != 1 {
		t.Errorf("tokens left after a new password: %d, %v; want 1", left, err)
	}
	if tok, _, _ := s.TokenByHash(t.Context(), strings.Repeat("1", 64)); tok.Valid(time.Now()) {
		t.Error("a token that was got with the old password is still good")
	}
	if told, err := s.Notices(t.Context(), "purser"); err != nil || len(told) == 0 ||
		!strings.Contains(told[len(told)-1].Text, "password") {
		t.Errorf("what the owner is told: %+v, %v", told, err)
	}
	for _, off := range []bool{true, false} {
		if _, err := s.UpdateOperator(t.Context(), policy.Operator{Name: "purser", Permissions: all, Disabled: off}, "",
			"", entry); err != nil {
			t.Fatal(err)
		}
	}
	if tok, _, _ := s.TokenByHash(t.Context(), strings.Repeat("2", 64)); tok.Valid(time.Now()) {
		t.Error("a token came alive again with its operator")
	}
	if _, err := s.UpdateOperator(t.Context(), policy.Operator{Name: "bosun", Permissions: all, Disabled: true}, "", "",
		entry); err != nil {
		t.Fatal(err)
	}
	if err := s.ResetOperator(t.Context(), "bosun", "fresh", entry); err != nil {
		t.Fatal(err)
	}
	if o, hash, err := s.Operator(t.Context(), "bosun"); err != nil || o.Disabled || hash != "fresh" ||
		!o.May(policy.Run) {
		t.Errorf("reset: %+v %q, %v", o, hash, err)
	}
}

func testKeyFile(t *testing.T, s *Store, cfg Config) {
	if info, err := os.Stat(cfg.KeyFile); err != nil || info.Mode().Perm() != 0o600 {
		t.Fatalf("key file: %v, %v", info, err)
	}
	for what, spoil := range map[string]func(){
		"missing":          func() { os.Rename(cfg.KeyFile, cfg.KeyFile+".away") },
		"readable by all":  func() { os.Chmod(cfg.KeyFile, 0o644) },
		"not a key at all": func() { os.WriteFile(cfg.KeyFile, []byte("{}"), 0o600) },
	} {
		saved, _ := os.ReadFile(cfg.KeyFile)
		spoil()
		if _, err := Open(t.Context(), cfg); err == nil || !strings.Contains(err.Error(), "key file") {
			t.Errorf("%s: %v", what, err)
		}
		os.WriteFile(cfg.KeyFile, saved, 0o600)
		os.Chmod(cfg.KeyFile, 0o600)
	}
}

// testWatched keeps what was seen of a server: the latest counts, names that are
// alike are told apart, and another instance begins anew.
func testWatched(t *testing.T, s *Store) {
	srv, err := s.AddServer(t.Context(),
		catalog.Server{Name: "jetty", Engine: "mariadb", Host: "127.0.0.1", Port: 1, Admin: "genarch",
			Environment: catalog.Staging, Identity: catalog.Identity{Key: "one"}}, secret.New("x"), entry)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := s.Watched(t.Context(), srv.ID, "one"); !errors.Is(err, record.ErrNotFound) {
		t.Errorf("before anything was seen: %v", err)
	}
	at := time.Date(2026, 11, 2, 8, 30, 0, 0, time.UTC)
	uses := map[catalog.Used]time.Time{}
	for i := range 1200 {
		uses[catalog.Used{Database: fmt.Sprintf("tides_%d", i)}] = at
	}
	alike := []catalog.Used{{Database: "a"}, {Database: "A"}, {Database: "a "}, {Database: "ä"},
		{Account: catalog.Principal{Name: "a"}}, {Account: catalog.Principal{Name: "a", Host: "%"}},
		{Account: catalog.Principal{Host: "localhost"}}, {Database: strings.Repeat("🚢", 63)}}
	for i, x := range alike {
		uses[x] = at.Add(time.Duration(i) * time.Hour)
	}
	w := catalog.Watched{Identity: "one", Since: at, Until: at.Add(time.Hour), Unobserved: 90 * time.Second, Uses: uses}
	save := func(w catalog.Watched) {
		t.Helper()
		if err := s.SaveWatched(t.Context(), srv.ID, w); err != nil {
			t.Fatal(err)
		}
	}
	save(w)
	// Later on: one was seen again, one is told too late, one was dropped.
	w.Until, w.Uses = at.Add(2*time.Hour), map[catalog.Used]time.Time{alike[0]: at.Add(50 * time.Hour),
		alike[1]: at.Add(-time.Hour), alike[2]: {}}
	save(w)
	got, err := s.Watched(t.Context(), srv.ID, "one")
	if err != nil || !got.Since.Equal(at) || !got.Until.Equal(w.Until) || got.Unobserved != w.Unobserved ||
		len(got.Uses) != len(uses)-1 {
		t.Fatalf("read back: %v, since %v, until %v, blind %v, %d uses; want %d", err, got.Since, got.Until,
			got.Unobserved,
			len(got.Uses), len(uses)-1)
	}
	if got.Uses[alike[0]] != at.Add(50*time.Hour) || got.Uses[alike[1]] != at.Add(time.Hour) ||
		got.Uses[alike[5]] != at.Add(5*time.Hour) {
		t.Errorf("read back: %v, %v, %v", got.Uses[alike[0]], got.Uses[alike[1]], got.Uses[alike[5]])
	}
	save(catalog.Watched{Identity: "two", Since: at, Until: at})
	if got, err := s.Watched(t.Context(), srv.ID, "two"); err != nil || len(got.Uses) != 0 {
		t.Errorf("another instance has %d uses, %v", len(got.Uses), err)
	}
	if _, err := s.Watched(t.Context(), srv.ID, "one"); !errors.Is(err, record.ErrNotFound) {
		t.Errorf("the instance before is still known: %v", err)
	}
	if err := s.ForgetServer(t.Context(), "jetty", entry); err != nil {
		t.Fatal(err)
	}
	save(w) // the watch may come late
	if _, err := s.Watched(t.Context(), srv.ID, "one"); !errors.Is(err, record.ErrNotFound) {
		t.Errorf("a forgotten server is watched: %v", err)
	}
}
