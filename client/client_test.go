package client_test

import (
	"context"
	"errors"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"testing"

	"example.com/genarch/api/wire"
	"example.com/genarch/client"
	"example.com/genarch/testutil/bench"
)

// A program's round through the client: every kind of call, against the real API.
func TestClient(t *testing.T) {
	b := bench.New(t)
	ctx := t.Context()
	must := func(what string, err error) {
		t.Helper()
		if err != nil {
			t.Fatalf("%s: %v", what, err)
		}
	}
	c, err := client.New(b.URL, b.Tokens["keeper"])
	must("the client", err)
	_, err = c.AddServer(ctx, wire.ServerInput{Name: "cellar", Engine: "invented", Host: b.Warehouse.Host,
		Port: b.Warehouse.Port, Admin: b.Warehouse.Admin, Secret: b.Warehouse.Password.Reveal(),
		Environment: "staging", Options: map[string]any{"hall": "main"}})
	must("registering", err)
	srv, err := c.Server(ctx, "cellar")
	must("the server", err)
	suffix := wire.NameRule{Free: true}
	_, err = c.EditServer(ctx, "cellar", wire.ServerPatch{Version: srv.Version, NameRule: &suffix})
	must("altering it", err)
	list, err := c.Servers(ctx, true)
	must("the servers", err)
	if len(list) != 1 || list[0].Status == nil || !list[0].Status.Reachable {
		t.Errorf("the servers are %+v", list)
	}
	for what, call := range map[string]func() error{
		"checking":     func() error { _, err := c.CheckServer(ctx, "cellar"); return err },
		"engines":      func() error { _, err := c.Engines(ctx); return err },
		"engine":       func() error { _, err := c.Engine(ctx, "invented"); return err },
		"choices":      func() error { _, err := c.Choices(ctx, "cellar"); return err },
		"a login":      func() error { _, err := c.PrepareLogin(ctx, "invented", "x", ""); return err },
		"sessions":     func() error { _, err := c.Sessions(ctx, "cellar", url.Values{"all": {"true"}}); return err },
		"operators":    func() error { _, err := c.Operators(ctx); return err },
		"tokens":       func() error { _, err := c.Tokens(ctx); return err },
		"the journal":  func() error { _, err := c.Journal(ctx, url.Values{"limit": {"3"}}); return err },
		"its check":    func() error { _, err := c.CheckJournal(ctx, ""); return err },
		"history":      func() error { _, err := c.ServerHistory(ctx, "cellar", 1); return err },
		"its history":  func() error { _, err := c.DatabaseHistory(ctx, "cellar", "a/b", 1); return err },
		"attention":    func() error { _, err := c.Attention(ctx); return err },
		"a search":     func() error { _, err := c.Search(ctx, "cell", 5); return err },
		"the access":   func() error { _, err := c.Matrix(ctx, "cellar", url.Values{}); return err },
		"the accounts": func() error { _, err := c.Accounts(ctx, "cellar", url.Values{}); return err },
		"own sessions": func() error { _, err := c.OwnSessions(ctx); return err },
		"adding a robot": func() error {
			_, err := c.AddOperator(ctx, wire.OperatorInput{Name: "robot", Permissions: []string{"view"}, Program: true})
			return err
		},
	} {
		must(what, call())
	}
	token, err := c.AddToken(ctx, wire.TokenInput{Operator: "robot", Title: "x"})
	must("a token", err)
	must("revoking it", c.RevokeToken(ctx, token.ID))
	no := true
	_, err = c.EditOperator(ctx, "robot", wire.OperatorPatch{Disabled: &no})
	must("disabling", err)

	in := wire.Intent{Kind: wire.KindCreateDatabase, Server: "cellar", Database: &wire.DatabaseSpec{Name: "a/b; --"}}
	brief, err := c.Brief(ctx, in)
	must("a brief", err)
	asked, err := c.Ask(ctx, in, "once")
	must("asking", err)
	if again, err := c.Ask(ctx, in, "once"); err != nil || again.ID != asked.ID {
		t.Errorf("asked again with the key it is change %d, was %d (%v)", again.ID, asked.ID, err)
	}
	if brief.Summary != asked.Brief.Summary {
		t.Errorf("the brief says %q, the change %q", brief.Summary, asked.Brief.Summary)
	}
	_, err = c.Run(ctx, asked.ID, wire.Run{Fingerprint: asked.Brief.Fingerprint})
	must("running", err)
	var states []string
	for now, err := range c.Follow(ctx, asked.ID) {
		must("following", err)
		states = append(states, now.State)
	}
	if len(states) == 0 || states[len(states)-1] != wire.StateDone {
		t.Errorf("followed, it was %q", states)
	}
	d, err := c.Database(ctx, "cellar", "a/b; --")
	must("the database", err)
	if d.Name != "a/b; --" {
		t.Errorf("the database is called %q", d.Name)
	}
	dbs, err := c.Databases(ctx, "cellar", client.DatabaseQuery{Limit: 10})
	must("the databases", err)
	if dbs.Total != 1 {
		t.Errorf("%d databases", dbs.Total)
	}
	if text, err := c.Script(ctx, asked.ID); err != nil || !strings.Contains(text, "reserve") {
		t.Errorf("the script: %q, %v", text, err)
	}
	changes, err := c.Changes(ctx, url.Values{"state": {"done"}})
	must("the changes", err)
	if len(changes.Changes) != 1 {
		t.Errorf("%d changes are done", len(changes.Changes))
	}
	must("forgetting", c.ForgetServer(ctx, "cellar"))
}

// What goes wrong is an error that says what the service said.
func TestClientErrors(t *testing.T) {
	b := bench.New(t)
	c, err := client.New(b.URL, b.Tokens["clerk"])
	if err != nil {
		t.Fatal(err)
	}
	_, err = c.Server(t.Context(), "nowhere")
	problem, ok := errors.AsType[*client.Error](err)
	if !ok || problem.Status != 404 || problem.Code != "not_found" || len(problem.Actions) != 1 ||
		problem.Error() != "No server nowhere is registered." {
		t.Errorf("a server that is not there: %+v", err)
	}
	if err := c.ForgetServer(t.Context(), "nowhere"); err == nil || !strings.Contains(err.Error(), "admin") {
		t.Errorf("what one may not: %v", err)
	}
	for _, address := range []string{"", "genarch", "ftp://x", "http://"} {
		if _, err := client.New(address, ""); err == nil {
			t.Errorf("%q is taken for an address", address)
		}
	}
	for address, fine := range map[string]bool{"http://127.0.0.1:7": true, "http://[::1]:7": true, "http://localhost": true,
		"https://genarch.ossavik.example": true, "http://genarch.ossavik.example": false, "http://10.0.0.1": false} {
		if err := client.CheckAddress(address); (err == nil) != fine {
			t.Errorf("%s: %v", address, err)
		}
	}
	gone, err := client.New("http://127.0.0.1:1", "")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := gone.Servers(t.Context(), false); !errors.Is(err, client.ErrUnreachable) {
		t.Errorf("nobody answers there: %v", err)
	}
	ended, cancel := context.WithCancel(t.Context())
	cancel()
	if _, err := c.Servers(ended, false); err == nil {
		t.Error("a call that was given up came back well")
	}
	// A proxy's page, a redirection and a broken answer are told as what they are.
	kind := ""
	other := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch kind {
		case "page":
			w.WriteHeader(http.StatusBadGateway)
			_, _ = w.Write([]byte("<html>bad gateway</html>"))
		case "elsewhere":
			http.Redirect(w, r, "https://elsewhere.example/", http.StatusFound)
		case "broken":
			_, _ = w.Write([]byte(`[{"name":`))
		}
	}))
	defer other.Close()
	strange, err := client.New(other.URL, "a-secret-token")
	if err != nil {
		t.Fatal(err)
	}
	for _, kind = range []string{"page", "elsewhere", "broken"} {
		if _, err := strange.Servers(t.Context(), false); err == nil ||
			strings.Contains(err.Error(), "a-secret-token") {
			t.Errorf("%s: %v", kind, err)
		}
	}
}
