package api

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

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

// bench is the API on a service whose records are in memory and whose one engine is the
// invented one: everything between is the real thing, and nothing has to be started.
type bench struct {
	t       *testing.T
	records *memrecords.Records
	handler *Handler
	url     string
	// warehouse is a server that can be registered.
	warehouse *localdb.Server
	// tokens are of operators, by the name: keeper may everything, clerk view and request.
	tokens map[string]string
}

// unwatched is a watch that has seen nothing.
type unwatched struct{}

func (unwatched) History(string) ([]catalog.Sample, time.Duration) { return nil, time.Second }
func (unwatched) Use(string, catalog.Used) catalog.Use             { return catalog.Use{} }
func (unwatched) Gone(string, catalog.Used)                        {}
func (unwatched) Renamed(string, catalog.Used, catalog.Used)       {}

func newBench(t *testing.T) *bench {
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
	h := New(Config{Records: records, Fleet: servers, Changes: changes, Watch: unwatched{}, Events: hub,
		Version: "test"})
	web := httptest.NewServer(h)
	t.Cleanup(web.Close)
	b := &bench{t: t, records: records, handler: h, url: web.URL, tokens: map[string]string{}}
	_, b.warehouse = invented.Start(t)
	for name, may := range map[string][]policy.Permission{"keeper": policy.Permissions,
		"clerk": {policy.View, policy.Request}} {
		o := policy.Operator{Name: name, Permissions: may, Program: name != "keeper"}
		hash := ""
		if !o.Program {
			var err error
			if hash, err = HashPassword("a-long-enough-password-7", name); err != nil {
				t.Fatal(err)
			}
		}
		if err := records.AddOperator(t.Context(), o, hash, journal.Entry{}); err != nil {
			t.Fatal(err)
		}
		text, hashed := newSecret()
		if _, err := records.AddToken(t.Context(), record.Token{Operator: name, Title: "test", Login: !o.Program}, hashed,
			journal.Entry{}); err != nil {
			t.Fatal(err)
		}
		b.tokens[name] = text
	}
	return b
}

// answer is what a call came back with.
type answerOf struct {
	status int
	header http.Header
	body   string
}

// call makes one call as an operator; body is JSON, or empty.
func (b *bench) call(who, method, path, body string) answerOf {
	b.t.Helper()
	ctx, cancel := context.WithTimeout(b.t.Context(), 20*time.Second)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, method, b.url+path, strings.NewReader(body))
	if err != nil {
		b.t.Fatal(err)
	}
	if token := b.tokens[who]; token != "" {
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
	return answerOf{res.StatusCode, res.Header, string(text)}
}

// want makes a call that has to come back with a status, and with each of the texts in it.
func (b *bench) want(status int, who, method, path, body string, texts ...string) answerOf {
	b.t.Helper()
	a := b.call(who, method, "/api/v1"+path, body)
	if a.status != status {
		b.t.Fatalf("%s %s as %s: %d, want %d: %s", method, path, who, a.status, status, a.body)
	}
	for _, text := range texts {
		if !strings.Contains(a.body, text) {
			b.t.Errorf("%s %s as %s lacks %q: %s", method, path, who, text, a.body)
		}
	}
	return a
}

// in reads an answer.
func in[T any](t *testing.T, a answerOf) (out T) {
	t.Helper()
	if err := json.NewDecoder(bytes.NewReader([]byte(a.body))).Decode(&out); err != nil {
		t.Fatalf("%v: %s", err, a.body)
	}
	return out
}

// registration is the body that registers the warehouse under a name.
func (b *bench) registration(name string) string {
	return fmt.Sprintf(`{"name":%q,"engine":"invented","host":%q,"port":%d,"admin":%q,"secret":%q,`+
		`"environment":"staging","options":{"hall":"main"}}`, name, b.warehouse.Host, b.warehouse.Port,
		b.warehouse.Admin, b.warehouse.Password.Reveal())
}

// run lets a change run and waits for its end.
func (b *bench) run(who string, id uint64, more string) answerOf {
	b.t.Helper()
	type brief struct {
		Brief struct{ Fingerprint string }
	}
	now := in[brief](b.t, b.want(200, who, "GET", fmt.Sprintf("/changes/%d", id), ""))
	return b.call(who, "POST", fmt.Sprintf("/api/v1/changes/%d/run", id),
		fmt.Sprintf(`{"fingerprint":%q,"wait":20%s}`, now.Brief.Fingerprint, more))
}
