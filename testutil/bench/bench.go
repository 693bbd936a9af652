// Package bench runs the API on records in memory and the invented engine, within a test:
// everything between is the real thing, and nothing has to be started.
package bench

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"example.com/genarch/api"
	"example.com/genarch/core/catalog"
	"example.com/genarch/core/journal"
	"example.com/genarch/core/policy"
	"example.com/genarch/core/record"
	"example.com/genarch/engine/enginetest/invented"
	"example.com/genarch/events"
	"example.com/genarch/fleet"
	"example.com/genarch/localdb"
	"example.com/genarch/runner"
	"example.com/genarch/testutil/memrecords"
)

// Bench is a service within a test.
type Bench struct {
	t       *testing.T
	Records *memrecords.Records
	// URL is where it answers.
	URL string
	// Warehouse is a server that can be registered.
	Warehouse *localdb.Server
	// Tokens are of operators, by the name: keeper may everything, clerk view and request.
	Tokens map[string]string
}

// Password is that of the operator keeper.
const Password = "a-long-enough-password-7"

// unwatched is a watch that has seen nothing.
type unwatched struct{}

func (unwatched) History(string) ([]catalog.Sample, time.Duration) { return nil, time.Second }
func (unwatched) Use(string, catalog.Used) catalog.Use             { return catalog.Use{} }
func (unwatched) Gone(string, catalog.Used)                        {}
func (unwatched) Renamed(string, catalog.Used, catalog.Used)       {}

// New starts a service; it ends with the test.
func New(t *testing.T) *Bench {
	t.Helper()
	records := memrecords.New()
	servers := fleet.New(records, invented.Engine{})
	t.Cleanup(servers.Close)
	hub := &events.Hub{}
	changes := runner.New(runner.Config{Store: records, Fleet: servers, Events: hub, Watch: unwatched{}})
	t.Cleanup(func() {
		hub.Close()
		changes.Shutdown(context.Background())
	})
	h := api.New(api.Config{Records: records, Fleet: servers, Changes: changes, Watch: unwatched{}, Events: hub,
		Version: "test"})
	web := httptest.NewServer(h)
	t.Cleanup(web.Close)
	b := &Bench{t: t, Records: records, URL: web.URL, Tokens: map[string]string{}}
	_, b.Warehouse = invented.Start(t)
	for name, may := range map[string][]policy.Permission{"keeper": policy.Permissions,
		"clerk": {policy.View, policy.Request}} {
		o := policy.Operator{Name: name, Permissions: may, Program: name != "keeper"}
		hash := ""
		if !o.Program {
			var err error
			if hash, err = api.HashPassword(Password, name); err != nil {
				t.Fatal(err)
			}
		}
		if err := records.AddOperator(t.Context(), o, hash, journal.Entry{}); err != nil {
			t.Fatal(err)
		}
		text := "token of " + name
		sum := sha256.Sum256([]byte(text))
		if _, err := records.AddToken(t.Context(), record.Token{Operator: name, Title: "test", Login: !o.Program},
			hex.EncodeToString(sum[:]),
			journal.Entry{}); err != nil {
			t.Fatal(err)
		}
		b.Tokens[name] = text
	}
	return b
}

// Answer is what a call came back with.
type Answer struct {
	Status int
	Header http.Header
	Body   string
}

// Call makes one call as an operator; body is JSON, or empty.
func (b *Bench) Call(who, method, path, body string) Answer {
	b.t.Helper()
	ctx, cancel := context.WithTimeout(b.t.Context(), 20*time.Second)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, method, b.URL+path, strings.NewReader(body))
	if err != nil {
		b.t.Fatal(err)
	}
	if token := b.Tokens[who]; token != "" {
		req.Header.Set("Authorization", "Bearer "+token)
	}
	if body != "" {
		req.Header.Set("Content-Type", "application/json")
	}
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		b.t.Fatal(err)
	}
	defer res.Body.Close()
	text, err := io.ReadAll(res.Body)
	if err != nil {
		b.t.Fatal(err)
	}
	return Answer{res.StatusCode, res.Header, string(text)}
}

// Want makes a call that has to come back with a status, and with each of the texts in it.
func (b *Bench) Want(status int, who, method, path, body string, texts ...string) Answer {
	b.t.Helper()
	a := b.Call(who, method, "/api/v1"+path, body)
	if a.Status != status {
		b.t.Fatalf("%s %s as %s: %d, want %d: %s", method, path, who, a.Status, status, a.Body)
	}
	for _, text := range texts {
		if !strings.Contains(a.Body, text) {
			b.t.Errorf("%s %s as %s lacks %q: %s", method, path, who, text, a.Body)
		}
	}
	return a
}

// In reads an answer.
func In[T any](t *testing.T, a Answer) (out T) {
	t.Helper()
	if err := json.NewDecoder(bytes.NewReader([]byte(a.Body))).Decode(&out); err != nil {
		t.Fatalf("%v: %s", err, a.Body)
	}
	return out
}

// Registration is the body that registers the warehouse under a name.
func (b *Bench) Registration(name string) string {
	return fmt.Sprintf(`{"name":%q,"engine":"invented","host":%q,"port":%d,"admin":%q,"secret":%q,`+
		`"environment":"staging","options":{"hall":"main"}}`, name, b.Warehouse.Host, b.Warehouse.Port,
		b.Warehouse.Admin, b.Warehouse.Password.Reveal())
}

// Run lets a change run and waits for its end.
func (b *Bench) Run(who string, id uint64, more string) Answer {
	b.t.Helper()
	type brief struct {
		Brief struct{ Fingerprint string }
	}
	now := In[brief](b.t, b.Want(200, who, "GET", fmt.Sprintf("/changes/%d", id), ""))
	return b.Call(who, "POST", fmt.Sprintf("/api/v1/changes/%d/run", id),
		fmt.Sprintf(`{"fingerprint":%q,"wait":20%s}`, now.Brief.Fingerprint, more))
}
