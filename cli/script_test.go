package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"

	"golang.org/x/tools/txtar"
)

var (
	update = flag.Bool("update", false, "write the expected output of the scripts anew")
	record = flag.Bool("record", false,
		"ask the service of GENARCH_URL with the token of GENARCH_TOKEN_FILE what a script has no answer for")
)

// TestScripts plays the scripts of testdata/script: command lines against answers that are
// kept beside them. A script is an archive; its comment has a line for each step:
//
//	genarch ARGUMENTS       runs a command; it has to end well
//	fails CODE ARGUMENTS    runs one that has to end with this code
//	stdin TEXT              is what the next command reads
//	stdout TEXT, stderr TEXT, none TEXT
//	                        TEXT is part of what the last command wrote; or of neither
//	cmp FILE                what it wrote on standard output is the file of the archive
//	asked METHOD PATH BODY  the last call of this kind had this in its body
//
// The files of an archive are answers, named METHOD PATH; a first line of three digits is
// the status. -record asks a running service (the demo) for those that are missing.
func TestScripts(t *testing.T) {
	paths, err := filepath.Glob("testdata/script/*.txtar")
	if err != nil || len(paths) == 0 {
		t.Fatal("no scripts", err)
	}
	for _, path := range paths {
		t.Run(strings.TrimSuffix(filepath.Base(path), ".txtar"), func(t *testing.T) { playScript(t, path) })
	}
}

// script is one that is played.
type script struct {
	t       *testing.T
	archive *txtar.Archive
	changed bool
	// stdout and stderr are of the last command.
	stdout, stderr, stdin string
	args                  []string

	mu    sync.Mutex // guards asked
	asked map[string]string
	given map[string]int
}

func playScript(t *testing.T, path string) {
	archive, err := txtar.ParseFile(path)
	if err != nil {
		t.Fatal(err)
	}
	s := &script{t: t, archive: archive, asked: map[string]string{}, given: map[string]int{}}
	service := httptest.NewServer(s)
	defer service.Close()
	token := filepath.Join(t.TempDir(), "token")
	if err := os.WriteFile(token, []byte("a-token"), 0o600); err != nil {
		t.Fatal(err)
	}
	s.args = []string{"genarch", "--url", service.URL, "--token-file", token}
	for i, line := range strings.Split(string(archive.Comment), "\n") {
		if line = strings.TrimSpace(line); line != "" && !strings.HasPrefix(line, "#") {
			if err := s.step(line); err != nil {
				t.Errorf("%s:%d: %s\n%v\n[stdout]\n%s[stderr]\n%s", path, i+1, line, err, s.stdout, s.stderr)
			}
		}
	}
	if s.changed {
		if err := os.WriteFile(path, txtar.Format(archive), 0o644); err != nil {
			t.Error(err)
		}
	}
}

func (s *script) step(line string) error {
	verb, rest, _ := strings.Cut(line, " ")
	switch verb {
	case "genarch":
		return s.run(rest, ExitDone)
	case "fails":
		code, rest, _ := strings.Cut(rest, " ")
		n, err := strconv.Atoi(code)
		if err != nil {
			return err
		}
		return s.run(rest, n)
	case "stdin":
		s.stdin = strings.ReplaceAll(rest, `\n`, "\n")
	case "stdout", "stderr":
		text := map[string]string{"stdout": s.stdout, "stderr": s.stderr}[verb]
		if !strings.Contains(text, rest) {
			return fmt.Errorf("%s lacks %q", verb, rest)
		}
	case "none":
		if strings.Contains(s.stdout+s.stderr, rest) {
			return fmt.Errorf("%q is there", rest)
		}
	case "cmp":
		return s.compare(rest)
	case "asked":
		call, part := rest, ""
		if fields := strings.SplitN(rest, " ", 3); len(fields) == 3 {
			call, part = fields[0]+" "+fields[1], fields[2]
		}
		s.mu.Lock()
		defer s.mu.Unlock()
		if body, there := s.asked[call]; !there || !strings.Contains(body, part) {
			return fmt.Errorf("%s was asked with %q (%v)", call, body, there)
		}
	default:
		return fmt.Errorf("no such step: %s", verb)
	}
	return nil
}

// run runs one command in this process.
func (s *script) run(line string, code int) error {
	words, err := splitWords(line)
	if err != nil {
		return err
	}
	var stdout, stderr bytes.Buffer
	root := Root("test", Streams{In: strings.NewReader(s.stdin), Out: &stdout, Err: &stderr})
	got := Run(context.Background(), root, append(slices.Clone(s.args), words...))
	s.stdout, s.stderr, s.stdin = stdout.String(), stderr.String(), ""
	if got != code {
		return fmt.Errorf("it ended with %d, not %d", got, code)
	}
	return nil
}

func (s *script) compare(name string) error {
	i := slices.IndexFunc(s.archive.Files, func(f txtar.File) bool { return f.Name == name })
	switch {
	case *update && i < 0:
		s.archive.Files = append(s.archive.Files, txtar.File{Name: name, Data: []byte(s.stdout)})
		s.changed = true
		return nil
	case i < 0:
		return fmt.Errorf("the archive has no file %s; write it with -update", name)
	case string(s.archive.Files[i].Data) == s.stdout:
		return nil
	case *update:
		s.archive.Files[i].Data, s.changed = []byte(s.stdout), true
		return nil
	}
	return fmt.Errorf("it differs from %s:\n%s", name, s.archive.Files[i].Data)
}

// ServeHTTP answers what the archive has.
func (s *script) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	body, _ := io.ReadAll(r.Body)
	call := r.Method + " " + r.URL.RequestURI()
	s.mu.Lock()
	defer s.mu.Unlock()
	s.asked[call] = string(body)
	i := s.answer(call)
	// A stream of events is never whole; a client looks itself where there is none.
	if i < 0 && *record && !strings.Contains(call, "/events") {
		s.archive.Files = append(s.archive.Files, txtar.File{Name: call, Data: s.recorded(r, body)})
		i, s.changed = len(s.archive.Files)-1, true
	}
	status, text := http.StatusNotFound, fmt.Sprintf(
		`{"status":404,"code":"not_found","detail":"the script has no %s"}`,
		call,
	)
	if i >= 0 {
		status, text = http.StatusOK, string(s.archive.Files[i].Data)
		if first, rest, cut := strings.Cut(text, "\n"); cut && len(first) == 3 {
			if n, err := strconv.Atoi(first); err == nil {
				status, text = n, rest
			}
		}
	}
	kind := "application/json"
	if status >= 400 {
		kind = "application/problem+json"
	}
	w.Header().Set("Content-Type", kind)
	w.WriteHeader(status)
	_, _ = io.WriteString(w, text)
}

// answer is which file answers a call; below 0: none does. Where there are several answers
// to calls that send something, each is given once, in their order.
func (s *script) answer(call string) int {
	var all []int
	for i, f := range s.archive.Files {
		if f.Name == call {
			all = append(all, i)
		}
	}
	n := 0
	if !strings.HasPrefix(call, "GET ") {
		n = s.given[call]
		s.given[call]++
	}
	if n >= len(all) {
		return -1
	}
	return all[n]
}

// recorded asks a running service, and lays its answer out for people to read.
func (s *script) recorded(r *http.Request, body []byte) []byte {
	token, err := os.ReadFile(os.Getenv("GENARCH_TOKEN_FILE"))
	if err != nil {
		s.t.Fatal(err)
	}
	req, err := http.NewRequest(r.Method, os.Getenv("GENARCH_URL")+r.URL.RequestURI(), bytes.NewReader(body))
	if err != nil {
		s.t.Fatal(err)
	}
	req.Header = r.Header.Clone()
	req.Header.Set("Authorization", "Bearer "+strings.TrimSpace(string(token)))
	req.Header.Del("Accept-Encoding")
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		s.t.Fatal(err)
	}
	defer res.Body.Close()
	text, err := io.ReadAll(res.Body)
	if err != nil {
		s.t.Fatal(err)
	}
	var laid bytes.Buffer
	if json.Indent(&laid, text, "", " ") == nil {
		text = append(laid.Bytes(), '\n')
	}
	if res.StatusCode != http.StatusOK {
		text = append([]byte(strconv.Itoa(res.StatusCode)+"\n"), text...)
	}
	return text
}

// splitWords breaks a line as a shell does, with single quotes alone.
func splitWords(line string) ([]string, error) {
	var out []string
	word, inside, begun := strings.Builder{}, false, false
	for _, r := range line {
		switch {
		case r == '\'':
			inside, begun = !inside, true
		case r == ' ' && !inside:
			if begun {
				out = append(out, word.String())
			}
			word.Reset()
			begun = false
		default:
			word.WriteRune(r)
			begun = true
		}
	}
	if inside {
		return nil, fmt.Errorf("a quote is not closed: %s", line)
	}
	if begun {
		out = append(out, word.String())
	}
	return out, nil
}
