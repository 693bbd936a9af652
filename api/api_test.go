package api_test

import (
	"errors"
	"fmt"
	"net/http"
	"strings"
	"testing"
	"time"

	"example.com/genarch/core/history"
	"example.com/genarch/core/record"
	"example.com/genarch/testutil"
	"example.com/genarch/testutil/bench"
)

// Servers are registered, read, altered and forgotten, by those who may.
func TestServers(t *testing.T) {
	b := bench.New(t)
	b.Want(401, "nobody", "GET", "/servers", "", `"code":"sign_in"`, `"actions":[{"do":"login"}]`)
	b.Want(403, "clerk", "POST", "/servers", b.Registration("cellar"), "clerk lacks the permission admin",
		`{"do":"operator.edit","at":"clerk"}`)
	b.Want(201, "keeper", "POST", "/servers", b.Registration("cellar"), `"name":"cellar"`, `"hall":"main"`)
	b.Want(409, "keeper", "POST", "/servers", b.Registration("cellar"), `"code":"exists"`)
	b.Want(422, "keeper", "POST", "/servers", strings.Replace(b.Registration("attic"), `"hall":"main"`, "", 1),
		"needs hall", `"option":"options.hall"`)
	wrong := strings.Replace(b.Registration("attic"), b.Warehouse.Password.Reveal(), "wrong", 1)
	if a := b.Want(502, "keeper", "POST", "/servers", wrong); strings.Contains(a.Body, "wrong") {
		t.Errorf("the refusal says the password: %s", a.Body)
	}
	b.Want(200, "clerk", "GET", "/servers?live=true", "", `"reachable":true`, `"databases":0`)
	b.Want(404, "clerk", "GET", "/servers/celar", "", "No server celar is registered.", "cellar", `"do":"server.list"`)
	b.Want(200, "clerk", "GET", "/servers/cellar/check", "", `"reachable":true`)
	b.Want(200, "clerk", "GET", "/servers/cellar/choices", "", `"choices"`)
	b.Want(404, "clerk", "GET", "/servers/cellar/choices?keys=colours", "", "has no list of colours")

	b.Want(
		200,
		"keeper",
		"PATCH",
		"/servers/cellar",
		`{"version":1,"name_rule":{"free":false,"suffix":"_x","max_length":0}}`,
		`"suffix":"_x"`,
	)
	b.Want(409, "keeper", "PATCH", "/servers/cellar", `{"version":1,"environment":"production"}`, `"code":"stale"`)
	b.Want(
		422,
		"keeper",
		"PATCH",
		"/servers/cellar",
		`{"version":2,"host":"127.0.0.2"}`,
		"secret.needed",
		`"option":"secret"`,
	)
	b.Want(204, "keeper", "DELETE", "/servers/cellar", "")
	b.Want(404, "keeper", "DELETE", "/servers/cellar", "")
	b.Want(200, "clerk", "GET", "/journal?action=server", "", "server.add", "server.edit", "server.forget")
}

// A change goes from what was asked to its end; what stands in its way is said with a code.
func TestChanges(t *testing.T) {
	b := bench.New(t)
	b.Want(201, "keeper", "POST", "/servers", b.Registration("cellar"))
	create := `{"kind":"database.create","server":"cellar","database":{"name":"fares","options":{"region":"south"}}}`
	b.Want(200, "clerk", "POST", "/briefs", create, `"outcome":"acts"`, `"stopped":false`, "reserve the vault fares")
	b.Want(422, "clerk", "POST", "/briefs", strings.Replace(create, "region", "rigion", 1), "has no option rigion",
		"Did you mean region?")
	b.Want(404, "clerk", "POST", "/briefs", strings.Replace(create, "cellar", "attic", 1), "No server attic")
	b.Want(422, "clerk", "POST", "/briefs", strings.Replace(create, "database.create", "database.burn", 1))
	type change struct {
		ID    uint64
		State string
		Asked struct {
			Database struct{ Options map[string]any }
		}
	}
	first := bench.In[change](t, b.Want(201, "clerk", "POST", "/changes", create, `"state":"draft"`))
	if first.Asked.Database.Options["region"] != "south" {
		t.Errorf("what was asked is told as %+v", first.Asked)
	}
	path := fmt.Sprintf("/changes/%d", first.ID)
	b.Want(403, "clerk", "POST", path+"/run", `{"fingerprint":"x"}`, "lacks the permission run")
	b.Want(200, "clerk", "POST", path+"/submit", "", `"state":"waiting"`)
	b.Want(200, "keeper", "GET", "/attention", "", "change.waiting", fmt.Sprintf("change %d of clerk waits", first.ID))
	// What was read is another brief by now: nothing runs, and there is a change to go on with.
	next := bench.In[struct{ Change change }](t, b.Want(409, "keeper", "POST", path+"/run", `{"fingerprint":"another"}`,
		"brief.outdated")).Change.ID
	b.Want(200, "clerk", "GET", path, "", `"state":"withdrawn"`)
	path = fmt.Sprintf("/changes/%d", next)
	if a := b.Run("keeper", next, ""); a.Status != 200 || !strings.Contains(a.Body, `"state":"done"`) {
		t.Fatalf("it ran: %d %s", a.Status, a.Body)
	}
	b.Want(409, "keeper", "POST", path+"/run", `{"fingerprint":"x"}`, "change.state")
	b.Want(200, "clerk", "GET", "/servers/cellar/databases", "", `"name":"fares"`, `"total":1`)
	b.Want(200, "clerk", "GET", "/servers/cellar/databases/fares", "", fmt.Sprintf(`"change":%d`, next))
	b.Want(404, "clerk", "GET", "/servers/cellar/databases/fears", "", "There is no database fears on cellar.",
		`{"do":"database.list","at":"cellar"}`)
	b.Want(200, "clerk", "GET", path+"/script", "", "reserve")

	// Asked for twice with one key it is one change; another request cannot have the key.
	ask := func(body, key string) bench.Answer {
		req, err := http.NewRequestWithContext(t.Context(), "POST", b.URL+"/api/v1/changes", strings.NewReader(body))
		if err != nil {
			t.Fatal(err)
		}
		req.Header.Set("Authorization", "Bearer "+b.Tokens["clerk"])
		req.Header.Set("Content-Type", "application/json")
		req.Header.Set("Idempotency-Key", key)
		res, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		defer res.Body.Close()
		return bench.Answer{Status: res.StatusCode, Header: res.Header}
	}
	tolls := strings.Replace(create, "fares", "tolls", 1)
	one, other := ask(tolls, "k"), ask(tolls, "k")
	if one.Header.Get("Location") == "" || one.Header.Get("Location") != other.Header.Get("Location") {
		t.Errorf("asked twice it is %q and %q", one.Header.Get("Location"), other.Header.Get("Location"))
	}
	if a := ask(strings.Replace(create, "fares", "piers", 1), "k"); a.Status != 409 {
		t.Errorf("another request with the key: %d", a.Status)
	}
	b.Want(409, "keeper", "POST", "/changes/3/decline", `{"reason":"not now"}`, "change.state")
	b.Want(200, "clerk", "POST", "/changes/3/submit", "", `"state":"waiting"`)
	b.Want(200, "keeper", "POST", "/changes/3/decline", `{"reason":"not now"}`, `"state":"declined"`, "not now")
	b.Want(409, "keeper", "POST", "/changes/3/withdraw", "", "change.state")
	b.Want(200, "clerk", "GET", "/changes?state=done&kind=database.create&operator=clerk", "", `"id":2`)
	if list := b.Want(200, "clerk", "GET", "/changes?since=2100-01-01T00:00:00Z", ""); strings.Contains(
		list.Body,
		`"id":2`,
	) {
		t.Errorf("changes of the future: %s", list.Body)
	}
	b.Want(200, "clerk", "GET", "/changes?limit=1", "", `"next":3`)
	b.Want(404, "clerk", "GET", "/changes/99", "", "There is no change 99.")
	b.Want(200, "clerk", "GET", "/search?q=far", "", "cellar/fares")
	// A drop asks for the name, and for nothing less.
	drop := bench.In[change](t, b.Want(201, "clerk", "POST", "/changes",
		`{"kind":"database.drop","server":"cellar","database":{"name":"fares"}}`, `"final":true`))
	if a := b.Run("keeper", drop.ID, ""); a.Status != 409 || !strings.Contains(a.Body, "confirm.missing") {
		t.Errorf("without the name: %d %s", a.Status, a.Body)
	}
	if a := b.Run("keeper", drop.ID, `,"confirm":"fares"`); a.Status != 200 ||
		!strings.Contains(a.Body, `"state":"done"`) {
		t.Errorf("with the name: %d %s", a.Status, a.Body)
	}
}

// Accounts and what they may do, read back through every view of it.
func TestAccess(t *testing.T) {
	b := bench.New(t)
	b.Want(201, "keeper", "POST", "/servers", b.Registration("cellar"))
	do := func(body string) {
		t.Helper()
		id := bench.In[struct{ ID uint64 }](t, b.Want(201, "keeper", "POST", "/changes", body)).ID
		if a := b.Run("keeper", id, ""); a.Status != 200 || !strings.Contains(a.Body, `"state":"done"`) {
			t.Fatalf("%s: %d %s", body, a.Status, a.Body)
		}
	}
	do(`{"kind":"database.create","server":"cellar","database":{"name":"fares"}}`)
	do(
		`{"kind":"account.create","server":"cellar","account":{"name":"ines","database":"fares","options":{"badge":"blue"}}}`,
	)
	do(
		`{"kind":"privilege.grant","server":"cellar","grant":{"database":"fares","to":{"name":"ines"},"bundle":"write"}}`,
	)
	b.Want(200, "clerk", "GET", "/servers/cellar/accounts", "", "cellar/fares/account:ines")
	b.Want(200, "clerk", "GET", "/servers/cellar/accounts/ines?within=fares", "", `"badge":"blue"`)
	b.Want(404, "clerk", "GET", "/servers/cellar/accounts/otto", "", "There is no account or role otto on cellar.")
	b.Want(200, "clerk", "GET", "/servers/cellar/grants?database=fares", "", "STORE")
	b.Want(200, "clerk", "GET", "/servers/cellar/access", "", `"fares"`)
	why := "/servers/cellar/access/why?account=ines&within=fares&database=fares&scope=database&privilege="
	b.Want(200, "clerk", "GET", why+"STORE", "", `"allowed":true`)
	b.Want(422, "clerk", "GET", why+"SELECT", "", "There is no privilege", `{"do":"engine.show","at":"invented"}`)
	b.Want(200, "clerk", "GET", "/comparison?left=cellar/fares/account:ines&right=cellar/fares/account:ines", "",
		`"differences":[]`)
	b.Want(422, "clerk", "GET", "/comparison?left=cellar&right=cellar", "", "is no address of an account")
	b.Want(200, "clerk", "GET", "/servers/cellar/sessions?all=true", "", `"sessions"`)
	b.Want(422, "clerk", "GET", "/servers/cellar/sessions?class=sleepy", "", "there is no class", "written")
	b.Want(200, "clerk", "GET", "/servers/cellar/sessions/history", "", `"samples":[]`)
	b.Want(200, "clerk", "GET", "/servers/cellar/databases/fares/handover", "", "vault://")
	b.Want(200, "clerk", "GET", "/engines", "", `"id":"invented"`)
	b.Want(200, "clerk", "GET", "/engines/invented", "", "clerk")
	b.Want(404, "clerk", "GET", "/engines/other", "", `"do":"engine.list"`)
}

// Operators and tokens, and what a password that was given long ago is not enough for.
func TestOperatorsAndTokens(t *testing.T) {
	b := bench.New(t)
	b.Want(403, "clerk", "GET", "/operators", "")
	b.Want(201, "keeper", "POST", "/operators", `{"name":"robot","permissions":["view"],"program":true}`)
	b.Want(409, "keeper", "POST", "/operators", `{"name":"robot","permissions":["view"],"program":true}`)
	b.Want(422, "keeper", "POST", "/operators", `{"name":"purser","permissions":["view"],"password":"short"}`)
	b.Want(
		422,
		"keeper",
		"POST",
		"/operators",
		`{"name":"purser","permissions":["fly"],"password":"a-long-enough-password-8"}`,
	)
	made := bench.In[struct {
		ID     uint64
		Secret string
	}](t, b.Want(201, "keeper", "POST", "/tokens", `{"operator":"robot","title":"nightly"}`))
	b.Tokens["robot"] = made.Secret
	b.Want(200, "robot", "GET", "/servers", "")
	b.Want(403, "robot", "POST", "/changes", `{"kind":"database.create","server":"cellar","database":{"name":"x"}}`)
	b.Want(422, "keeper", "POST", "/tokens", `{"operator":"keeper","title":"x","permissions":["fly"]}`)
	b.Want(200, "keeper", "PATCH", "/operators/robot", `{"permissions":["view","request"]}`, `"tokens_left":1`)
	b.Want(422, "keeper", "PATCH", "/operators/keeper", `{"permissions":["view"]}`, "lock yourself out")
	b.Want(404, "keeper", "PATCH", "/operators/robt", `{"disabled":true}`, "Do you mean robot?")
	b.Want(204, "keeper", "DELETE", fmt.Sprintf("/tokens/%d", made.ID), "")
	b.Want(401, "robot", "GET", "/servers", "")
	b.Want(200, "keeper", "GET", "/tokens", "", "nightly", `"revoked"`)
	b.Want(200, "keeper", "GET", "/journal/check", "", `"whole":true`)

	// A console: the cookie alone alters nothing, and the sign-in tells no more than it must.
	b.Want(401, "nobody", "POST", "/session", `{"name":"keeper","password":"wrong"}`, "Name or password is wrong")
	b.Want(401, "nobody", "POST", "/session", `{"name":"nobody","password":"wrong"}`, "Name or password is wrong")
	in1 := b.Want(
		201,
		"nobody",
		"POST",
		"/session",
		`{"name":"keeper","password":"a-long-enough-password-7"}`,
		`"csrf"`,
	)
	cookie := strings.Split(in1.Header.Get("Set-Cookie"), ";")[0]
	csrf := bench.In[struct{ Csrf string }](t, in1).Csrf
	alter := func(csrf string) int {
		req, err := http.NewRequestWithContext(t.Context(), "PATCH", b.URL+"/api/v1/operators/robot",
			strings.NewReader(`{"disabled":true}`))
		if err != nil {
			t.Fatal(err)
		}
		req.Header.Set("Cookie", cookie)
		req.Header.Set("Content-Type", "application/json")
		if csrf != "" {
			req.Header.Set("X-Genarch-CSRF", csrf)
		}
		res, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		res.Body.Close()
		return res.StatusCode
	}
	if without, with := alter(""), alter(csrf); without != 403 || with != 200 {
		t.Errorf("by the cookie alone %d, with the token beside it %d", without, with)
	}
}

// History and attention, and what is answered while the records are away.
func TestHistoryAndAway(t *testing.T) {
	b := bench.New(t)
	b.Want(201, "keeper", "POST", "/servers", b.Registration("cellar"))
	srv, err := b.Records.Server(t.Context(), "cellar")
	if err != nil {
		t.Fatal(err)
	}
	size, at := int64(4096), time.Now().UTC().Add(-time.Hour).Truncate(history.Every)
	for i := range 7 {
		p := history.Point{At: at.Add(time.Duration(i) * history.Every), Size: &size, Sessions: i}
		points := map[string][]history.Point{"": {p}}
		if i == 2 {
			points["fares"] = []history.Point{p}
		}
		if err := b.Records.SaveHistory(t.Context(), srv.ID, points); err != nil {
			t.Fatal(err)
		}
	}
	type series struct {
		Seconds int
		Points  []struct {
			Sessions int
			Missing  bool
		}
	}
	day := bench.In[series](t, b.Want(200, "clerk", "GET", "/servers/cellar/databases/fares/history?days=1", ""))
	known := 0
	for _, p := range day.Points {
		if !p.Missing {
			if known++; p.Sessions != 2 {
				t.Errorf("a point of %d sessions", p.Sessions)
			}
		}
	}
	if day.Seconds != 600 || known < 4 || known > 5 {
		t.Errorf("%d points are known, one every %d s", known, day.Seconds)
	}
	b.Want(422, "clerk", "GET", "/servers/cellar/history?days=91", "")
	b.Want(404, "clerk", "GET", "/servers/attic/history", "")
	b.Want(200, "clerk", "GET", "/attention", "", `"trends":[{"address":"cellar"`, `"items":[]`)

	b.Records.GoAway(fmt.Errorf("%w: the test says so", record.ErrUnavailable))
	testutil.Wait(t, "what was remembered of the token to be too old", func() bool {
		return b.Call("clerk", "GET", "/api/v1/servers", "").Status == 503
	})
	if a := b.Call("clerk", "GET", "/api/v1/servers", ""); !strings.Contains(a.Body, "store.unavailable") ||
		strings.Contains(a.Body, "the test says so") {
		t.Errorf("while the records are away: %s", a.Body)
	}
	if a := b.Call("nobody", "GET", "/readyz", ""); a.Status != 503 {
		t.Errorf("ready while the records are away: %d", a.Status)
	}
	if a := b.Call("nobody", "GET", "/healthz", ""); a.Status != 200 {
		t.Errorf("alive: %d", a.Status)
	}
	b.Records.GoAway(errors.New("something else"))
	if a := b.Call("clerk", "GET", "/api/v1/servers", ""); a.Status != 500 ||
		strings.Contains(a.Body, "something else") {
		t.Errorf("an unknown error is told: %d %s", a.Status, a.Body)
	}
	b.Records.GoAway(nil)
	b.Want(200, "clerk", "GET", "/servers", "")
	b.Want(404, "clerk", "GET", "/nothing/here", "")
	b.Want(405, "clerk", "PUT", "/servers", "")
	b.Want(422, "clerk", "POST", "/briefs", `{"kind":7}`)
	b.Want(400, "clerk", "POST", "/briefs", `{"kind":`)
}
