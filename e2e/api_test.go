package e2e

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"strings"
	"sync"
	"testing"

	"example.com/genarch/testutil"
)

// TestAPI drives the HTTP interface by hand, as a program without our client does.
func TestAPI(t *testing.T) {
	t.Parallel()
	s := newService(t)
	s.add("harbour", "postgresql", "production", testutil.Postgres(t), "--free-names")
	t.Run("who may in", func(t *testing.T) { testDoors(t, s) })
	t.Run("strict input", func(t *testing.T) { testStrict(t, s) })
	t.Run("console session", func(t *testing.T) { testCookie(t, s) })
	t.Run("change", func(t *testing.T) { testChange(t, s) })
	t.Run("hostile names", func(t *testing.T) { testHostileNames(t, s) })
	t.Run("two at once", func(t *testing.T) { testTwoAtOnce(t, s) })
	t.Run("guessing", func(t *testing.T) { testGuessing(t, s) })
}

func testDoors(t *testing.T, s *service) {
	for path, want := range map[string]int{"/healthz": 200, "/readyz": 200, "/metrics": 401, "/api/v1/servers": 401,
		"/api/v1/openapi.json": 401, "/api/v1/events": 401,
		"/api/v1/session": 401, "/api/v1/nothing": 404, "/": 200, "/servers/harbour": 200, "/assets/nothing.js": 404} {
		status, body, header := s.call("GET", path, "", "")
		if status != want {
			t.Errorf("GET %s without a sign-in: %d, want %d", path, status, want)
		}
		if want >= 400 && strings.HasPrefix(path, "/api/") &&
			(header.Get("Content-Type") != "application/problem+json" || body["code"] == "") {
			t.Errorf("GET %s answers %q: %v", path, header.Get("Content-Type"), body)
		}
		csp := header.Get("Content-Security-Policy")
		if !strings.Contains(csp, "default-src 'none'") || strings.Contains(csp, "unsafe") ||
			header.Get("X-Content-Type-Options") != "nosniff" {
			t.Errorf("GET %s: headers %v", path, header)
		}
	}
	for path, want := range map[string]int{"/metrics": 200, "/api/v1/openapi.json": 200,
		"/api/v1/servers?live=true": 200} {
		if status, _, _ := s.call("GET", path, s.token, ""); status != want {
			t.Errorf("GET %s with a token: %d", path, status)
		}
	}
	if status, _, _ := s.call("GET", "/api/v1/servers", s.token+"x", ""); status != 401 {
		t.Errorf("a wrong token: %d", status)
	}
	req, _ := http.NewRequest("GET", s.url+"/metrics", nil)
	req.Header.Set("Authorization", "Bearer "+s.token)
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		t.Fatal(err)
	}
	defer res.Body.Close()
	text, _ := io.ReadAll(res.Body)
	has(t, "metrics", string(text), "genarch_http_request_seconds_bucket", "genarch_event_subscribers",
		`go_sql_open_connections{db_name="records"}`, "go_goroutines")
}

func testStrict(t *testing.T, s *service) {
	for _, tt := range []struct {
		method, path, body string
		status             int
		says               string
	}{
		{"POST", "/api/v1/changes", `{"kind":"database.create","server":"harbour","database":{"name":"x","ownr":"y"}}`,
			422, "body.database.ownr"},
		{"POST", "/api/v1/changes", `{"kind":"database.explode","server":"harbour"}`, 422, "body.kind"},
		{"POST", "/api/v1/changes", `{"kind":"database.create","server":"harbour"}`, 422, "needs the part database"},
		{"POST", "/api/v1/changes", `{"kind":"database.create","server":"nowhere","database":{"name":"x"}}`, 404,
			"No server nowhere"},
		{"POST", "/api/v1/changes", `{"kind":`, 400, ""},
		{"POST", "/api/v1/changes", `{"kind":"database.create","server":"harbour","database":{"name":"x","options":{"connection_limit":"many"}}}`, 422, "body.database.options.connection_limit"},
		{"POST", "/api/v1/changes", `{"kind":"database.create","server":"harbour","database":{"name":"x","options":{"conection_limit":1,"stratgy":"x"}}}`, 422, "Did you mean connection_limit?"},
		{"POST", "/api/v1/changes", `{"kind":"database.create","server":"harbour","database":{"name":"x","options":{"owner":1.5}}}`, 422, "database.options.owner: 1.5 is no whole number"},
		{"POST", "/api/v1/changes", `"` + strings.Repeat("x", 70<<10) + `"`, 413, ""},
		{"POST", "/api/v1/changes/1/run", `{"fingerprint":"x","accept":[],"force":true}`, 422, "body.force"},
		{"GET", "/api/v1/servers/harbour/databases?limt=3", "", 422, "limt"},
		{"GET", "/api/v1/servers/harbour/databases?limit=0", "", 422, "limit"},
		{"DELETE", "/api/v1/changes", "", 405, "DELETE"},
		{"POST", "/api/v1/servers", `{"name":"Bad Name","engine":"postgresql","host":"h","admin":"a","secret":"s","environment":"production"}`, 422, "lower-case letter"},
	} {
		status, body, header := s.call(tt.method, tt.path, s.token, tt.body)
		text, _ := json.Marshal(body)
		if status != tt.status || !strings.Contains(string(text), tt.says) ||
			header.Get("Content-Type") != "application/problem+json" {
			t.Errorf("%s %s %.80s: %d %s; want %d with %q", tt.method, tt.path, tt.body, status, text, tt.status,
				tt.says)
		}
	}
}

// testCookie signs in as a browser does.
func testCookie(t *testing.T, s *service) {
	jar, err := cookiejar.New(nil)
	if err != nil {
		t.Fatal(err)
	}
	web := &http.Client{Jar: jar}
	do := func(method, path, body string, header ...string) (int, map[string]any, *http.Response) {
		req, _ := http.NewRequest(method, s.url+path, strings.NewReader(body))
		if body != "" {
			req.Header.Set("Content-Type", "application/json")
		}
		for i := 0; i+1 < len(header); i += 2 {
			req.Header.Set(header[i], header[i+1])
		}
		res, err := web.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		defer res.Body.Close()
		out := map[string]any{}
		_ = json.NewDecoder(res.Body).Decode(&out)
		return res.StatusCode, out, res
	}
	status, session, res := do("POST", "/api/v1/session", `{"name":"keeper","password":"`+password+`"}`)
	cookie := res.Header.Get("Set-Cookie")
	if status != 201 || !strings.Contains(cookie, "HttpOnly") || !strings.Contains(cookie, "SameSite=Strict") {
		t.Fatalf("sign-in: %d, cookie %q", status, cookie)
	}
	csrf, _ := session["csrf"].(string)
	brief := `{"kind":"database.create","server":"harbour","database":{"name":"from_browser"}}`
	if status, body, _ := do("POST", "/api/v1/briefs", brief); status != 403 || body["code"] != "csrf" {
		t.Errorf("a cookie without the CSRF token: %d %v", status, body)
	}
	if status, _, _ := do("POST", "/api/v1/briefs", brief, "X-Genarch-CSRF", csrf); status != 200 {
		t.Errorf("with it: %d", status)
	}
	if status, body, _ := do("POST", "/api/v1/briefs", brief, "X-Genarch-CSRF", csrf, "Sec-Fetch-Site",
		"cross-site"); status != 403 || body["code"] != "cross_origin" {
		t.Errorf("from another site: %d %v", status, body)
	}
	if status, _, _ := do("DELETE", "/api/v1/session", "", "X-Genarch-CSRF", csrf); status != 204 {
		t.Errorf("sign-out: %d", status)
	}
	u, _ := url.Parse(s.url)
	jar.SetCookies(u, []*http.Cookie{{Name: "genarch_session",
		Value: strings.TrimPrefix(strings.Split(cookie, ";")[0], "genarch_session=")}})
	if status, _, _ := do("GET", "/api/v1/session", ""); status != 401 {
		t.Errorf("the cookie after signing out: %d", status)
	}
}

func testChange(t *testing.T, s *service) {
	intent := `{"kind":"database.create","server":"harbour","database":{"name":"by_api","options":{"comment":"c"}}}`
	status, draft, header := s.call("POST", "/api/v1/changes", s.token, intent, "Idempotency-Key", "k1")
	if status != 201 || draft["state"] != "draft" ||
		header.Get("Location") != fmt.Sprintf("/api/v1/changes/%v", draft["id"]) {
		t.Fatalf("draft: %d %v", status, draft)
	}
	if _, again, _ := s.call("POST", "/api/v1/changes", s.token, intent, "Idempotency-Key",
		"k1"); again["id"] != draft["id"] {
		t.Errorf("the same key gave change %v", again["id"])
	}
	run := fmt.Sprintf("/api/v1/changes/%v/run", draft["id"])
	fingerprint := draft["brief"].(map[string]any)["fingerprint"].(string)
	if status, body, _ := s.call("POST", run, s.token, `{"fingerprint":"another"}`); status != 409 ||
		body["code"] != "brief.outdated" {
		t.Errorf("a brief that was not seen: %d %v", status, body)
	}
	// The old one is withdrawn then; a new draft took its place.
	status, draft, _ = s.call("POST", "/api/v1/changes", s.token, intent)
	if status != 201 {
		t.Fatalf("draft: %d", status)
	}
	run = fmt.Sprintf("/api/v1/changes/%v/run", draft["id"])
	status, done, _ := s.call("POST", run, s.token, `{"fingerprint":"`+fingerprint+`","wait":30}`)
	if status != 200 || done["state"] != "done" || done["ended"] != true {
		t.Fatalf("run: %d %v", status, done)
	}
	if status, body, _ := s.call("POST", run, s.token, `{"fingerprint":"`+fingerprint+`"}`); status != 409 ||
		body["code"] != "change.state" {
		t.Errorf("run twice: %d %v", status, body)
	}
	if _, page, _ := s.call("GET", "/api/v1/changes?limit=1", s.token, ""); page["next"] == nil {
		t.Errorf("a page of one has no next: %v", page)
	}
	_, list, _ := s.call("GET", "/api/v1/servers/harbour/databases?limit=1", s.token, "")
	if n := len(list["databases"].([]any)); n != 1 || list["total"].(float64) < 1 {
		t.Errorf("a page of one has %d of %v", n, list["total"])
	}
}

func testHostileNames(t *testing.T, s *service) {
	for _, name := range []string{`a b`, `q"uo'te`, `semi;colon`, `sl/ash`, `per%cent`, `que?ry#x`, "日本", `back\slash`,
		`role:x`, `x+y,z`, `x y,z`, `a+b`, `50%25,x`} {
		intent, _ := json.Marshal(map[string]any{"kind": "database.create", "server": "harbour",
			"database": map[string]any{"name": name}})
		_, draft, _ := s.call("POST", "/api/v1/changes", s.token, string(intent))
		fingerprint := draft["brief"].(map[string]any)["fingerprint"].(string)
		status, done, _ := s.call("POST", fmt.Sprintf("/api/v1/changes/%v/run", draft["id"]), s.token,
			`{"fingerprint":"`+fingerprint+`","wait":30}`)
		if status != 200 || done["state"] != "done" {
			t.Errorf("create %q: %d %v", name, status, done["failure"])
			continue
		}
		if status, d, _ := s.call("GET", "/api/v1/servers/harbour/databases/"+url.PathEscape(name), s.token,
			""); status != 200 || d["name"] != name {
			t.Errorf("show %q: %d %v", name, status, d["name"])
		}
	}
	for _, name := range []string{"nul\x00", "new\nline", strings.Repeat("x", 300), "", "rtl\u202e",
		"⛴" + strings.Repeat("y", 70)} {
		intent, _ := json.Marshal(map[string]any{"kind": "database.create", "server": "harbour",
			"database": map[string]any{"name": name}})
		status, draft, _ := s.call("POST", "/api/v1/changes", s.token, string(intent))
		if status != 201 || draft["brief"].(map[string]any)["stopped"] != true {
			t.Errorf("create %.20q: %d %v", name, status, draft["code"])
		}
	}
}

// testTwoAtOnce has six programs make the same database at the same moment.
func testTwoAtOnce(t *testing.T, s *service) {
	intent := `{"kind":"database.create","server":"harbour","database":{"name":"contested"}}`
	type drafted struct {
		id          any
		fingerprint string
	}
	var drafts []drafted
	for range 6 {
		_, d, _ := s.call("POST", "/api/v1/changes", s.token, intent)
		drafts = append(drafts, drafted{d["id"], d["brief"].(map[string]any)["fingerprint"].(string)})
	}
	var wg sync.WaitGroup
	var mu sync.Mutex
	won := 0
	for _, d := range drafts {
		wg.Go(func() {
			status, body, _ := s.call("POST", fmt.Sprintf("/api/v1/changes/%v/run", d.id), s.token,
				`{"fingerprint":"`+d.fingerprint+`","wait":30}`)
			mu.Lock()
			defer mu.Unlock()
			text, _ := json.Marshal(body)
			switch {
			case status == 200 && body["state"] == "done":
				won++
			case status == 409 && body["code"] == "target.busy" && bytes.Contains(text, []byte("keeper since")):
			case status == 409 && body["code"] == "brief.outdated" && bytes.Contains(text, []byte("name.taken")):
			default:
				t.Errorf("a loser was told %d %s", status, text)
			}
		})
	}
	wg.Wait()
	if won != 1 {
		t.Errorf("%d of 6 won", won)
	}
}

func testGuessing(t *testing.T, s *service) {
	slowed := false
	for range 12 {
		status, body, _ := s.call("POST", "/api/v1/session", "", `{"name":"keeper","password":"guess"}`)
		if status == 429 && strings.Contains(fmt.Sprint(body["next"]), "Try again in") {
			slowed = true
			break
		}
		if status != 401 || body["code"] != "sign_in.refused" {
			t.Fatalf("a wrong password: %d %v", status, body)
		}
	}
	if !slowed {
		t.Error("twelve guesses in a row were all taken")
	}
	if _, body, _ := s.call("POST", "/api/v1/session", "",
		`{"name":"nobody-here","password":"guess"}`); body["detail"] != "Name or password is wrong." {
		t.Errorf("an unknown name is told apart: %v", body)
	}
}
