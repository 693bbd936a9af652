package e2e

import (
	"bufio"
	"context"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"example.com/genarch/testutil"
)

// signIn signs in as a browser does.
func (s *service) signIn(name, password string, header ...string) (int, map[string]any, http.Header) {
	s.tb.Helper()
	return s.call("POST", "/api/v1/session", "", `{"name":"`+name+`","password":"`+password+`"}`, header...)
}

// stream opens the stream of events, and returns what tells that it has ended.
func (s *service) stream(t *testing.T, token string) (ended func() bool) {
	t.Helper()
	ctx, cancel := context.WithCancel(context.Background())
	t.Cleanup(cancel)
	req, err := http.NewRequestWithContext(ctx, "GET", s.url+"/api/v1/events", nil)
	if err != nil {
		t.Fatal(err)
	}
	req.Header.Set("Authorization", "Bearer "+token)
	res, err := http.DefaultClient.Do(req)
	if err != nil || res.StatusCode != 200 {
		t.Fatalf("the stream: %v %v", err, res)
	}
	over := make(chan struct{})
	go func() {
		defer close(over)
		defer res.Body.Close()
		for lines := bufio.NewScanner(res.Body); lines.Scan(); {
		}
	}()
	return func() bool {
		select {
		case <-over:
			return true
		default:
			return false
		}
	}
}

// secretFile writes a password where a command can read it.
func secretFile(t *testing.T, text string) string {
	t.Helper()
	name := filepath.Join(t.TempDir(), "secret")
	if err := os.WriteFile(name, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	return name
}

// Who may come in, for how long, and that it ends when it is taken away.
func TestOperators(t *testing.T) {
	t.Parallel()
	s := newService(t)
	s.run(0, "operator", "add", "purser", "--permissions", "view", "--password-file", secretFile(t, password))
	s.run(0, "operator", "add", "robot", "--permissions", "view,request,run", "--program")
	type token struct {
		ID      uint64
		Secret  string
		Expires time.Time
	}

	t.Run("tokens", func(t *testing.T) {
		has(t, "a token for a person", s.run(2, "token", "create", "purser", "--title", "x").err, "purser is a person",
			"operator add")
		s.run(0, "operator", "add", "chief", "--permissions", "admin", "--program")
		kept := decode[token](t, s.run(0, "token", "create", "robot", "--title", "nightly", "--permissions", "view",
			"-o", "json").out)
		if d := time.Until(kept.Expires); d < 89*24*time.Hour || d > 91*24*time.Hour {
			t.Errorf("it lasts %v", d)
		}
		if status, body, _ := s.call("POST", "/api/v1/changes", kept.Secret,
			`{"kind":"database.create","server":"x","database":{"name":"y"}}`); status != 403 {
			t.Errorf("a token for seeing asks: %d %v", status, body)
		}
		far := decode[token](t, s.run(0, "token", "create", "robot", "--title", "far", "--from", "192.0.2.0/24", "-o",
			"json").out)
		if status, body, _ := s.call("GET", "/api/v1/servers", far.Secret, ""); status != 401 && status != 403 {
			t.Errorf("a token of another place: %d %v", status, body)
		}
		has(t, "no network", s.run(2, "token", "create", "robot", "--title", "x", "--from", "harbour").err,
			"no address and no network")
	})

	t.Run("no token in clear", func(t *testing.T) {
		file := secretFile(t, "not-a-token")
		for _, args := range [][]string{{"server", "list", "--url", "http://192.0.2.7:7437", "--token-file", file},
			{"login", "http://192.0.2.7:7437", "--name", "keeper", "--password-file", file}} {
			has(t, strings.Join(args, " "), s.run(2, args...).err, "has no TLS", "use https://")
		}
	})

	t.Run("what was read already", func(t *testing.T) {
		_, _, first := s.call("GET", "/api/v1/operators", s.token, "")
		mark := first.Get("ETag")
		if status, _, _ := s.call("GET", "/api/v1/operators", s.token, "", "If-None-Match", mark); status != 304 ||
			mark == "" {
			t.Errorf("read again with %q: %d", mark, status)
		}
		s.run(0, "operator", "add", "another", "--permissions", "view", "--program")
		if status, _, _ := s.call("GET", "/api/v1/operators", s.token, "", "If-None-Match", mark); status != 200 {
			t.Errorf("read again after an alteration: %d", status)
		}
		has(t, "a name that is nearly right", s.run(4, "token", "create", "robt", "--title", "x").err,
			"No operator is called robt", "Do you mean robot?")
		has(t, "a server that is nearly right", s.run(4, "server", "show", "harbour").err,
			"No server harbour is registered")
	})

	t.Run("a stream ends", func(t *testing.T) {
		one := decode[token](t, s.run(0, "token", "create", "robot", "--title", "one", "-o", "json").out)
		two := decode[token](t, s.run(0, "token", "create", "robot", "--title", "two", "-o", "json").out)
		first, second := s.stream(t, one.Secret), s.stream(t, two.Secret)
		s.run(0, "token", "revoke", itoa(int(one.ID)))
		testutil.Wait(t, "the stream of a revoked token to end", first)
		if status, _, _ := s.call("GET", "/api/v1/servers", one.Secret, ""); status != 401 {
			t.Errorf("a revoked token: %d", status)
		}
		if second() {
			t.Error("the other stream ended too")
		}
		s.run(0, "operator", "edit", "robot", "--disable")
		testutil.Wait(t, "the stream of a disabled operator to end", second)
	})

	t.Run("somebody can always manage", func(t *testing.T) {
		r := s.run(2, "operator", "edit", "keeper", "--permissions", "view")
		has(t, "locking oneself out", r.err, "lock yourself out")
		s.run(0, "operator", "add", "second", "--permissions", "view,request,run,admin", "--password-file",
			secretFile(t, password))
		s.run(0, "operator", "edit", "second", "--permissions", "view")
	})

	t.Run("passwords", func(t *testing.T) {
		const fresh = "mooring-anvil-tangent-4"
		has(t, "a weak one", s.run(2, "operator", "edit", "purser", "--password-file", secretFile(t, "purser-purser")).
			err, "password")
		_, body, _ := s.call("POST", "/api/v1/session", "",
			`{"name":"purser","password":"`+password+`","token_title":"laptop"}`)
		login, _ := body["token"].(string)
		s.run(0, "operator", "edit", "purser", "--password-file", secretFile(t, fresh))
		if status, _, _ := s.call("GET", "/api/v1/servers", login, ""); status != 401 {
			t.Errorf("a login made with the old password: %d", status)
		}
		status, body, _ := s.signIn("purser", fresh)
		notices, _ := body["notices"].([]any)
		if status != 201 || len(notices) != 1 ||
			!strings.Contains(notices[0].(map[string]any)["text"].(string), "keeper") {
			t.Errorf("what was done to the account is not told: %d %v", status, body)
		}
		has(t, "a wrong present password",
			s.run(2, "operator", "password", "--old-password-file", secretFile(t, "wrong"), "--password-file",
				secretFile(t, fresh)).err, "present password")
		s.run(0, "operator", "password", "--old-password-file", secretFile(t, password), "--password-file",
			secretFile(t, fresh))
		if status, _, _ := s.signIn("keeper", password); status != 401 {
			t.Errorf("the old password: %d", status)
		}
		s.run(0, "login", s.url, "--name", "keeper", "--password-file", secretFile(t, fresh))
		s.run(0, "operator", "sessions", "--end-others")
		s.run(0, "operator", "password", "--old-password-file", secretFile(t, fresh), "--password-file",
			secretFile(t, password))
		s.login()
	})

	t.Run("other hosts' names", func(t *testing.T) {
		req, _ := http.NewRequest("GET", s.url+"/api/v1/servers", nil)
		req.Host = "genarch.example.net"
		req.Header.Set("Authorization", "Bearer "+s.token)
		res, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		res.Body.Close()
		if res.StatusCode != 421 {
			t.Errorf("by another name than its own: %d", res.StatusCode)
		}
	})

	t.Run("guessing", func(t *testing.T) {
		status, _, header := s.signIn("keeper", password)
		if status != 201 {
			t.Fatal(status)
		}
		var device string
		for _, c := range (&http.Response{Header: header}).Cookies() {
			if strings.Contains(c.Name, "device") {
				device = c.Name + "=" + c.Value
			}
		}
		var last int
		for range 12 {
			last, _, _ = s.signIn("keeper", "guess")
		}
		if last != 429 {
			t.Errorf("the twelfth guess: %d", last)
		}
		if status, body, _ := s.signIn("keeper", password, "Cookie", device); device == "" || status != 201 {
			t.Errorf("whoever guesses keeps the operator out of the browser they use: %d %v (%q)", status, body, device)
		}
		// Guesses are one entry of the journal, and what stands for a name is not in it.
		_, _, _ = s.signIn("Tugboat-lantern", "x")
		text := s.run(0, "journal", "list", "--limit", "100").out
		if n := strings.Count(text, "sign_in.refused"); n == 0 || n > 4 || strings.Contains(text, "Tugboat-lantern") {
			t.Errorf("the journal has %d refusals:\n%s", n, text)
		}
	})
}

// The journal's check finds what was done to the records behind Genarch's back, the
// key is another one at will, and there is a way back when nobody can sign in.
func TestKeysAndJournal(t *testing.T) {
	t.Parallel()
	s := newService(t)
	pg := testutil.Postgres(t)
	s.add("harbour", "postgresql", "production", pg)
	command := func(args ...string) (string, error) {
		cmd := exec.Command(binary, args...)
		cmd.Env = append(os.Environ(), "GENARCH_STORE_DSN="+s.dsn, "GENARCH_FIRST_PASSWORD=")
		out, err := cmd.CombinedOutput()
		return string(out), err
	}
	before, err := os.ReadFile(filepath.Join(s.dir, "key.json"))
	if err != nil {
		t.Fatal(err)
	}
	empty := t.TempDir()
	if out, err := command("key", "rotate", "--data", empty); err == nil {
		t.Errorf("a folder without a key has one rotated: %s", out)
	} else {
		has(t, "the wrong folder", out, "there is no key file", "--data")
	}
	if made, _ := os.ReadDir(empty); len(made) > 0 {
		t.Errorf("looking for a key made %v", made)
	}
	out, err := command("key", "rotate", "--data", s.dir)
	if err != nil {
		t.Fatalf("key rotate: %v\n%s", err, out)
	}
	has(t, "a new key", out, "secrets that were sealed anew: 1")
	if after, _ := os.ReadFile(filepath.Join(s.dir, "key.json")); string(after) == string(before) {
		t.Error("the key file is as it was")
	}
	s.run(0, "server", "check", "harbour") // by the service that runs, with the secret sealed anew
	s.run(0, "database", "create", "harbour/sealed_prod", "--yes")
	s.stop()
	s.start()
	s.login()
	s.run(0, "server", "check", "harbour")
	s.run(0, "journal", "check")

	db := onMariaDB(t, s.dsn)
	mark := decode[struct{ Checkpoint string }](t, s.run(0, "journal", "check", "-o", "json").out).Checkpoint
	s.run(0, "database", "create", "harbour/later_prod", "--yes")
	s.run(0, "journal", "check", "--since", mark)
	// Nobody can sign in any more: there is a way back, for who has the machine.
	if _, err := db.Exec("UPDATE operators SET disabled = TRUE"); err != nil {
		t.Fatal(err)
	}
	if status, _, _ := s.signIn("keeper", password); status != 401 {
		t.Errorf("a disabled operator signs in: %d", status)
	}
	s.stop()
	s.flags = []string{"--reset-operator", "keeper"}
	s.start()
	s.flags = nil
	s.login()
	has(t, "the way back", s.run(0, "journal", "list", "--limit", "20").out, "operator.reset")
	// Whoever owns the records' tables can drop the triggers that keep the journal.
	for _, text := range []string{"DROP TRIGGER journal_keep", "DROP TRIGGER journal_hold"} {
		if _, err := db.Exec(text); err != nil {
			t.Fatal(err)
		}
	}
	alter := func(text string, args ...any) {
		t.Helper()
		if _, err := db.Exec(text, args...); err != nil {
			t.Fatalf("%s: %v", text, err)
		}
	}
	var subject string
	if err := db.QueryRow("SELECT subject FROM journal WHERE seq = 3").Scan(&subject); err != nil {
		t.Fatal(err)
	}
	alter("UPDATE journal SET subject = 'somebody else' WHERE seq = 3")
	has(t, "an entry that was altered", s.run(1, "journal", "check").err, "3")
	alter("UPDATE journal SET subject = ? WHERE seq = 3", subject)
	s.run(0, "journal", "check")
	// The end is cut off, to before the mark: the chain is whole, and the mark finds it.
	alter("CREATE TABLE kept AS SELECT * FROM journal ORDER BY seq DESC LIMIT 10")
	alter("DELETE FROM journal WHERE seq IN (SELECT seq FROM kept)")
	alter("UPDATE journal_head SET seq = (SELECT MAX(seq) FROM journal), hash = (SELECT hash FROM journal ORDER BY seq DESC LIMIT 1)")
	r := s.run(1, "journal", "check", "--since", mark)
	has(t, "an end that was cut off", r.err+r.out, "missing")
}
