package console

import (
	"net/http"
	"net/http/httptest"
	"regexp"
	"strings"
	"testing"
)

func TestHandler(t *testing.T) {
	h, err := Handler()
	if err != nil {
		t.Fatal(err)
	}
	get := func(path string, header ...string) *httptest.ResponseRecorder {
		r := httptest.NewRequest("GET", path, nil)
		for i := 0; i+1 < len(header); i += 2 {
			r.Header.Set(header[i], header[i+1])
		}
		w := httptest.NewRecorder()
		h.ServeHTTP(w, r)
		return w
	}
	page := get("/servers/harbour/databases/a%2Fb")
	if page.Code != 200 || !strings.HasPrefix(page.Header().Get("Content-Type"), "text/html") ||
		page.Header().Get("Cache-Control") != "no-cache" {
		t.Errorf("a deep link: %d %v", page.Code, page.Header())
	}
	if strings.Contains(page.Body.String(), "<style") ||
		regexp.MustCompile(`<script(?:[^>]*)>[^<]`).MatchString(page.Body.String()) {
		t.Error("the page has inline style or script, which the content policy forbids")
	}
	script := regexp.MustCompile(`/assets/[^"]+\.js`).FindString(page.Body.String())
	var etags []string
	for accept, want := range map[string]string{"": "", "gzip": "gzip", "gzip, br": "br"} {
		w := get(script, "Accept-Encoding", accept)
		if w.Code != 200 || w.Header().Get("Content-Encoding") != want ||
			!strings.Contains(w.Header().Get("Cache-Control"), "immutable") ||
			w.Header().Get("Vary") != "Accept-Encoding" {
			t.Errorf("%s with %q: %d %v", script, accept, w.Code, w.Header())
		}
		etag := w.Header().Get("ETag")
		for _, other := range etags {
			if other == etag {
				t.Error("two encodings share an ETag")
			}
		}
		etags = append(etags, etag)
		if again := get(script, "Accept-Encoding", accept, "If-None-Match",
			etag); again.Code != http.StatusNotModified {
			t.Errorf("asked again with its ETag: %d", again.Code)
		}
	}
	if w := get("/assets/gone.js"); w.Code != 404 {
		t.Errorf("a missing asset: %d", w.Code)
	}
}
