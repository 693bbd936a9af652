package api

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
)

// Servers are registered, read, altered and forgotten, by those who may.
func TestServers(t *testing.T) {
	b := newBench(t)
	b.want(401, "nobody", "GET", "/servers", "", `"code":"sign_in"`, `"actions":[{"do":"login"}]`)
	b.want(403, "clerk", "POST", "/servers", b.registration("cellar"), "clerk lacks the permission admin",
		`{"do":"operator.edit","at":"clerk"}`)
	b.want(201, "keeper", "POST", "/servers", b.registration("cellar"), `"name":"cellar"`, `"hall":"main"`)
	b.want(409, "keeper", "POST", "/servers", b.registration("cellar"), `"code":"exists"`)
	b.want(422, "keeper", "POST", "/servers", strings.Replace(b.registration("attic"), `"hall":"main"`, "", 1),
		"needs hall", `"option":"options.hall"`)
	wrong := strings.Replace(b.registration("attic"), b.warehouse.Password.Reveal(), "wrong", 1)
	if a := b.want(502, "keeper", "POST", "/servers", wrong); strings.Contains(a.body, "wrong") {
		t.Errorf("the refusal says the password: %s", a.body)
	}
	b.want(200, "clerk", "GET", "/servers?live=true", "", `"reachable":true`, `"databases":0`)
	b.want(404, "clerk", "GET", "/servers/celar", "", "No server celar is registered.", "cellar", `"do":"server.list"`)
	b.want(200, "clerk", "GET", "/servers/cellar/check", "", `"reachable":true`)
	b.want(200, "clerk", "GET", "/servers/cellar/choices", "", `"choices"`)
	b.want(404, "clerk", "GET", "/servers/cellar/choices?keys=colours", "", "has no list of colours")

	b.want(200, "keeper", "PATCH", "/servers/cellar", `{"version":1,"name_rule":{"free":false,"suffix":"_x","max_length":0}}`,
		`"suffix":"_x"`)
	b.want(409, "keeper", "PATCH", "/servers/cellar", `{"version":1,"environment":"production"}`, `"code":"stale"`)
	b.want(422, "keeper", "PATCH", "/servers/cellar", `{"version":2,"host":"127.0.0.2"}`, "secret.needed", `"option":"secret"`)
	b.want(204, "keeper", "DELETE", "/servers/cellar", "")
	b.want(404, "keeper", "DELETE", "/servers/cellar", "")
	b.want(200, "clerk", "GET", "/journal?action=server", "", "server.add", "server.edit", "server.forget")
}

// A change goes from what was asked to its end; what stands in its way is said with a code.
func TestChanges(t *testing.T) {
	b := newBench(t)
	b.want(201, "keeper", "POST", "/servers", b.registration("cellar"))
	create := `{"kind":"database.create","server":"cellar","database":{"name":"fares","options":{"region":"south"}}}`
	b.want(200, "clerk", "POST", "/briefs", create, `"outcome":"acts"`, `"stopped":false`, "reserve the vault fares")
	b.want(422, "clerk", "POST", "/briefs", strings.Replace(create, "region", "rigion", 1), "has no option rigion",
		"Did you mean region?")
	b.want(404, "clerk", "POST", "/briefs", strings.Replace(create, "cellar", "attic", 1), "No server attic")
	b.want(422, "clerk", "POST", "/briefs", strings.Replace(create, "database.create", "database.burn", 1))
	type change struct {
		ID    uint64
		State string
		Asked struct{ Database struct{ Options map[string]any } }
	}
	first := in[change](t, b.want(201, "clerk", "POST", "/changes", create, `"state":"draft"`))
	if first.Asked.Database.Options["region"] != "south" {
		t.Errorf("what was asked is told as %+v", first.Asked)
	}
	path := fmt.Sprintf("/changes/%d", first.ID)
	b.want(403, "clerk", "POST", path+"/run", `{"fingerprint":"x"}`, "lacks the permission run")
	b.want(200, "clerk", "POST", path+"/submit", "", `"state":"waiting"`)
	b.want(200, "keeper", "GET", "/attention", "", "change.waiting", fmt.Sprintf("change %d of clerk waits", first.ID))
	// What was read is another brief by now: nothing runs, and there is a change to go on with.
	next := in[struct{ Change change }](t, b.want(409, "keeper", "POST", path+"/run", `{"fingerprint":"another"}`,
		"brief.outdated")).Change.ID
	b.want(200, "clerk", "GET", path, "", `"state":"withdrawn"`)
	path = fmt.Sprintf("/changes/%d", next)
	if a := b.run("keeper", next, ""); a.status != 200 || !strings.Contains(a.body, `"state":"done"`) {
		t.Fatalf("it ran: %d %s", a.status, a.body)
	}
	b.want(409, "keeper", "POST", path+"/run", `{"fingerprint":"x"}`, "change.state")
	b.want(200, "clerk", "GET", "/servers/cellar/databases", "", `"name":"fares"`, `"total":1`)
	b.want(200, "clerk", "GET", "/servers/cellar/databases/fares", "", fmt.Sprintf(`"change":%d`, next))
	b.want(404, "clerk", "GET", "/servers/cellar/databases/fears", "", "There is no database fears on cellar.",
		`{"do":"database.list","at":"cellar"}`)
	b.want(200, "clerk", "GET", path+"/script", "", "reserve")

	// Asked for twice with one key it is one change; another request cannot have the key.
	ask := func(body, key string) answerOf {
		req, err := http.NewRequestWithContext(t.Context(), "POST", b.url+"/api/v1/changes", strings.NewReader(body))
		if err != nil {
			t.Fatal(err)
		}
		req.Header.Set("Authorization", "Bearer "+b.tokens["clerk"])
		req.Header.Set("Content-Type", "application/json")
		req.Header.Set("Idempotency-Key", key)
		res, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		defer res.Body.Close()
		return answerOf{status: res.StatusCode, header: res.Header}
	}
	tolls := strings.Replace(create, "fares", "tolls", 1)
	one, other := ask(tolls, "k"), ask(tolls, "k")
	if one.header.Get("Location") == "" || one.header.Get("Location") != other.header.Get("Location") {
		t.Errorf("asked twice it is %q and %q", one.header.Get("Location"), other.header.Get("Location"))
	}
	if a := ask(strings.Replace(create, "fares", "piers", 1), "k"); a.status != 409 {
		t.Errorf("another request with the key: %d", a.status)
	}
	b.want(409, "keeper", "POST", "/changes/3/decline", `{"reason":"not now"}`, "change.state")
	b.want(200, "clerk", "POST", "/changes/3/submit", "", `"state":"waiting"`)
	b.want(200, "keeper", "POST", "/changes/3/decline", `{"reason":"not now"}`, `"state":"declined"`, "not now")
	b.want(409, "keeper", "POST", "/changes/3/withdraw", "", "change.state")
	b.want(200, "clerk", "GET", "/changes?state=done&kind=database.create&operator=clerk", "", `"id":2`)
	if list := b.want(200, "clerk", "GET", "/changes?since=2100-01-01T00:00:00Z", ""); strings.Contains(list.body, `"id":2`) {
		t.Errorf("changes of the future: %s", list.body)
	}
	b.want(200, "clerk", "GET", "/changes?limit=1", "", `"next":3`)
	b.want(404, "clerk", "GET", "/changes/99", "", "There is no change 99.")
	b.want(200, "clerk", "GET", "/search?q=far", "", "cellar/fares")
	// A drop asks for the name, and for nothing less.
	drop := in[change](t, b.want(201, "clerk", "POST", "/changes",
		`{"kind":"database.drop","server":"cellar","database":{"name":"fares"}}`, `"final":true`))
	if a := b.run("keeper", drop.ID, ""); a.status != 409 || !strings.Contains(a.body, "confirm.missing") {
		t.Errorf("without the name: %d %s", a.status, a.body)
	}
	if a := b.run("keeper", drop.ID, `,"confirm":"fares"`); a.status != 200 || !strings.Contains(a.body, `"state":"done"`) {
		t.Errorf("with the name: %d %s", a.status, a.body)
	}
}

// Accounts and what they may do, read back through every view of it.
func TestAccess(t *testing.T) {
	b := newBench(t)
	b.want(201, "keeper", "POST", "/servers", b.registration("cellar"))
	do := func(body string) {
		t.Helper()
		id := in[struct{ ID uint64 }](t, b.want(201, "keeper", "POST", "/changes", body)).ID
		if a := b.run("keeper", id, ""); a.status != 200 || !strings.Contains(a.body, `"state":"done"`) {
			t.Fatalf("%s: %d %s", body, a.status, a.body)
		}
	}
	do(`{"kind":"database.create","server":"cellar","database":{"name":"fares"}}`)
	do(`{"kind":"account.create","server":"cellar","account":{"name":"ines","database":"fares","options":{"badge":"blue"}}}`)
	do(`{"kind":"privilege.grant","server":"cellar","grant":{"database":"fares","to":{"name":"ines"},"bundle":"write"}}`)
	b.want(200, "clerk", "GET", "/servers/cellar/accounts", "", "cellar/fares/account:ines")
	b.want(200, "clerk", "GET", "/servers/cellar/accounts/ines?within=fares", "", `"badge":"blue"`)
	b.want(404, "clerk", "GET", "/servers/cellar/accounts/otto", "", "There is no account or role otto on cellar.")
	b.want(200, "clerk", "GET", "/servers/cellar/grants?database=fares", "", "STORE")
	b.want(200, "clerk", "GET", "/servers/cellar/access", "", `"fares"`)
	why := "/servers/cellar/access/why?account=ines&within=fares&database=fares&scope=database&privilege="
	b.want(200, "clerk", "GET", why+"STORE", "", `"allowed":true`)
	b.want(422, "clerk", "GET", why+"SELECT", "", "There is no privilege", `{"do":"engine.show","at":"invented"}`)
	b.want(200, "clerk", "GET", "/comparison?left=cellar/fares/account:ines&right=cellar/fares/account:ines", "",
		`"differences":[]`)
	b.want(422, "clerk", "GET", "/comparison?left=cellar&right=cellar", "", "is no address of an account")
	b.want(200, "clerk", "GET", "/servers/cellar/sessions?all=true", "", `"sessions"`)
	b.want(422, "clerk", "GET", "/servers/cellar/sessions?class=sleepy", "", "there is no class", "written")
	b.want(200, "clerk", "GET", "/servers/cellar/sessions/history", "", `"samples":[]`)
	b.want(200, "clerk", "GET", "/servers/cellar/databases/fares/handover", "", "vault://")
	b.want(200, "clerk", "GET", "/engines", "", `"id":"invented"`)
	b.want(200, "clerk", "GET", "/engines/invented", "", "clerk")
	b.want(404, "clerk", "GET", "/engines/other", "", `"do":"engine.list"`)
}

// Operators and tokens, and what a password that was given long ago is not enough for.
func TestOperatorsAndTokens(t *testing.T) {
	b := newBench(t)
	b.want(403, "clerk", "GET", "/operators", "")
	b.want(201, "keeper", "POST", "/operators", `{"name":"robot","permissions":["view"],"program":true}`)
	b.want(409, "keeper", "POST", "/operators", `{"name":"robot","permissions":["view"],"program":true}`)
	b.want(422, "keeper", "POST", "/operators", `{"name":"purser","permissions":["view"],"password":"short"}`)
	b.want(422, "keeper", "POST", "/operators", `{"name":"purser","permissions":["fly"],"password":"a-long-enough-password-8"}`)
	made := in[struct {
		ID     uint64
		Secret string
	}](t, b.want(201, "keeper", "POST", "/tokens", `{"operator":"robot","title":"nightly"}`))
	b.tokens["robot"] = made.Secret
	b.want(200, "robot", "GET", "/servers", "")
	b.want(403, "robot", "POST", "/changes", `{"kind":"database.create","server":"cellar","database":{"name":"x"}}`)
	b.want(422, "keeper", "POST", "/tokens", `{"operator":"keeper","title":"x","permissions":["fly"]}`)
	b.want(200, "keeper", "PATCH", "/operators/robot", `{"permissions":["view","request"]}`, `"tokens_left":1`)
	b.want(422, "keeper", "PATCH", "/operators/keeper", `{"permissions":["view"]}`, "lock yourself out")
	b.want(404, "keeper", "PATCH", "/operators/robt", `{"disabled":true}`, "Do you mean robot?")
	b.want(204, "keeper", "DELETE", fmt.Sprintf("/tokens/%d", made.ID), "")
	b.want(401, "robot", "GET", "/servers", "")
	b.want(200, "keeper", "GET", "/tokens", "", "nightly", `"revoked"`)
	b.want(200, "keeper", "GET", "/journal/check", "", `"whole":true`)

	// A console: the cookie alone alters nothing, and the sign-in tells no more than it must.
	b.want(401, "nobody", "POST", "/session", `{"name":"keeper","password":"wrong"}`, "Name or password is wrong")
	b.want(401, "nobody", "POST", "/session", `{"name":"nobody","password":"wrong"}`, "Name or password is wrong")
	in1 := b.want(201, "nobody", "POST", "/session", `{"name":"keeper","password":"a-long-enough-password-7"}`, `"csrf"`)
	cookie := strings.Split(in1.header.Get("Set-Cookie"), ";")[0]
	csrf := in[struct{ Csrf string }](t, in1).Csrf
	alter := func(csrf string) int {
		req, err := http.NewRequestWithContext(t.Context(), "PATCH", b.url+"/api/v1/operators/robot",
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
	b := newBench(t)
	b.want(201, "keeper", "POST", "/servers", b.registration("cellar"))
	srv, err := b.records.Server(t.Context(), "cellar")
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
		if err := b.records.SaveHistory(t.Context(), srv.ID, points); err != nil {
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
	day := in[series](t, b.want(200, "clerk", "GET", "/servers/cellar/databases/fares/history?days=1", ""))
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
	b.want(422, "clerk", "GET", "/servers/cellar/history?days=91", "")
	b.want(404, "clerk", "GET", "/servers/attic/history", "")
	b.want(200, "clerk", "GET", "/attention", "", `"trends":[{"address":"cellar"`, `"items":[]`)

	b.records.GoAway(fmt.Errorf("%w: the test says so", record.ErrUnavailable))
	testutil.Wait(t, "what was remembered of the token to be too old", func() bool {
		return b.call("clerk", "GET", "/api/v1/servers", "").status == 503
	})
	if a := b.call("clerk", "GET", "/api/v1/servers", ""); !strings.Contains(a.body, "store.unavailable") ||
		strings.Contains(a.body, "the test says so") {
		t.Errorf("while the records are away: %s", a.body)
	}
	if a := b.call("nobody", "GET", "/readyz", ""); a.status != 503 {
		t.Errorf("ready while the records are away: %d", a.status)
	}
	if a := b.call("nobody", "GET", "/healthz", ""); a.status != 200 {
		t.Errorf("alive: %d", a.status)
	}
	b.records.GoAway(errors.New("something else"))
	if a := b.call("clerk", "GET", "/api/v1/servers", ""); a.status != 500 || strings.Contains(a.body, "something else") {
		t.Errorf("an unknown error is told: %d %s", a.status, a.body)
	}
	b.records.GoAway(nil)
	b.want(200, "clerk", "GET", "/servers", "")
	b.want(404, "clerk", "GET", "/nothing/here", "")
	b.want(405, "clerk", "PUT", "/servers", "")
	b.want(422, "clerk", "POST", "/briefs", `{"kind":7}`)
	b.want(400, "clerk", "POST", "/briefs", `{"kind":`)
}
