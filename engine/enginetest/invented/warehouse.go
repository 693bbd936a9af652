package invented

import (
	"bufio"
	"encoding/json"
	"fmt"
	"maps"
	"net"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"example.com/genarch/core/secret"
	"example.com/genarch/localdb"
)

// request is one command, a line of JSON. It is what a step shows as its statement,
// without the password.
type request struct {
	Do       string         `json:"do"`
	Vault    string         `json:"vault,omitempty"`
	Key      string         `json:"key,omitempty"`
	Settings map[string]any `json:"settings,omitempty"`
	Clerk    string         `json:"clerk,omitempty"`
	Box      string         `json:"box,omitempty"`
	May      []string       `json:"may,omitempty"`
	Denied   []string       `json:"denied,omitempty"`
	Visit    int64          `json:"visit,omitempty"`
	Mark     string         `json:"mark,omitempty"`
	Password string         `json:"password,omitempty"`
	Program  string         `json:"program,omitempty"`
}

// answer is the line that comes back.
type answer struct {
	Code   string   `json:"code,omitempty"` // of an error
	Text   string   `json:"text,omitempty"`
	Key    string   `json:"key,omitempty"`
	Notice string   `json:"notice,omitempty"`
	Visit  int64    `json:"visit,omitempty"`
	Mark   string   `json:"mark,omitempty"`
	State  *reading `json:"state,omitempty"`
}

// reading is all that the warehouse tells of itself.
type reading struct {
	Identity string
	Vaults   []vault
	Clerks   []clerk
	Permits  []permit
	Visits   []visit
}

type vault struct {
	Name, Key string
	Settings  map[string]any
	// Built: a vault that was reserved is not there for anybody until it is built.
	Built bool
	Boxes []string
}

type clerk struct{ Vault, Name, Badge, Password string }

// permit is what a clerk may, or must not, in a vault or with one of its boxes.
type permit struct {
	Vault, Clerk, Box string
	May, Denied       []string
}

type visit struct {
	Number       int64
	Mark         string
	Vault, Clerk string
	Program      string
	Since        time.Time
	conn         net.Conn
}

// Warehouse is a running server of the invented engine, in the memory of a test.
type Warehouse struct {
	password string

	mu    sync.Mutex // guards what follows
	state reading
	next  int64
}

// Start starts a warehouse and ends it after the test.
func Start(tb testing.TB) (*Warehouse, *localdb.Server) {
	tb.Helper()
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		tb.Fatal(err)
	}
	tb.Cleanup(func() { listener.Close() })
	w := &Warehouse{password: "open sesame, said the clerk",
		state: reading{Identity: fmt.Sprintf("warehouse %d", time.Now().UnixNano())}}
	go func() {
		for {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			go w.serve(conn)
		}
	}()
	return w, &localdb.Server{Host: "127.0.0.1", Port: listener.Addr().(*net.TCPAddr).Port, Admin: "warden",
		Password: secret.New(w.password), Version: Version}
}

// serve answers one connection until it ends.
func (w *Warehouse) serve(conn net.Conn) {
	defer conn.Close()
	lines := bufio.NewScanner(conn)
	lines.Buffer(nil, 1<<20)
	var self visit
	defer func() { w.leave(self.Number) }()
	for lines.Scan() {
		var r request
		out := answer{Code: "W00", Text: "that is no command"}
		switch err := json.Unmarshal(lines.Bytes(), &r); {
		case err != nil:
		case r.Do == "sign in":
			self, out = w.signIn(r, conn)
		case self.Number == 0:
			out = answer{Code: "W01", Text: "sign in first"}
		default:
			w.mu.Lock()
			out = w.do(r, self)
			w.mu.Unlock()
		}
		text, _ := json.Marshal(out)
		if _, err := conn.Write(append(text, '\n')); err != nil {
			return
		}
	}
}

func (w *Warehouse) leave(number int64) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.state.Visits = slices.DeleteFunc(w.state.Visits, func(v visit) bool { return v.Number == number })
}

func (w *Warehouse) signIn(r request, conn net.Conn) (visit, answer) {
	w.mu.Lock()
	defer w.mu.Unlock()
	known := r.Clerk == "warden" && r.Vault == "" && r.Password == w.password ||
		slices.ContainsFunc(w.state.Clerks,
			func(c clerk) bool { return c.Vault == r.Vault && c.Name == r.Clerk && c.Password == r.Password })
	if !known {
		return visit{}, answer{Code: "W02", Text: "nobody is known by that name and password"}
	}
	w.next++
	v := visit{Number: w.next, Mark: fmt.Sprintf("v%d", time.Now().UnixNano()), Vault: r.Vault, Clerk: r.Clerk,
		Program: r.Program, Since: time.Now(), conn: conn}
	w.state.Visits = append(w.state.Visits, v)
	return v, answer{Visit: v.Number, Mark: v.Mark}
}

// do carries a command out; the caller holds the lock.
//
// Long: a case for each command.
func (w *Warehouse) do(r request, self visit) answer {
	s := &w.state
	at := slices.IndexFunc(s.Vaults, func(v vault) bool { return v.Name == r.Vault })
	if at >= 0 && r.Key != "" && s.Vaults[at].Key != r.Key {
		return answer{Code: "W07", Text: "another vault of that name is there"}
	}
	if at < 0 && slices.Contains([]string{"build", "set", "empty", "box", "admit", "permit", "deny", "revoke", "put"},
		r.Do) {
		return answer{Code: "W04", Text: "there is no such vault"}
	}
	switch r.Do {
	case "look":
		state := *s
		state.Vaults, state.Visits = slices.Clone(s.Vaults), slices.Clone(s.Visits)
		return answer{State: &state}
	case "enter":
		for i := range s.Visits {
			if s.Visits[i].Number == self.Number {
				s.Visits[i].Vault = r.Vault
			}
		}
	case "reserve":
		if at >= 0 {
			return answer{Code: "W03", Text: "there is a vault of that name"}
		}
		w.next++
		key := fmt.Sprintf("shelf-%x", w.next)
		s.Vaults = append(s.Vaults, vault{Name: r.Vault, Key: key, Settings: maps.Clone(r.Settings)})
		return answer{Key: key}
	case "build":
		s.Vaults[at].Built = true
		return answer{Notice: "it is ready"}
	case "set":
		settings := maps.Clone(s.Vaults[at].Settings)
		if settings == nil {
			settings = map[string]any{}
		}
		maps.Copy(settings, r.Settings)
		s.Vaults[at].Settings = settings
	case "box":
		s.Vaults[at].Boxes = append(s.Vaults[at].Boxes, r.Box)
	case "empty":
		s.Vaults = slices.Delete(s.Vaults, at, at+1)
		s.Clerks = slices.DeleteFunc(s.Clerks, func(c clerk) bool { return c.Vault == r.Vault })
		s.Permits = slices.DeleteFunc(s.Permits, func(p permit) bool { return p.Vault == r.Vault })
	case "admit":
		if w.clerk(r) >= 0 {
			return answer{Code: "W05", Text: "there is such a clerk"}
		}
		badge, _ := r.Settings["badge"].(string)
		s.Clerks = append(s.Clerks, clerk{r.Vault, r.Clerk, badge, r.Password})
	case "dismiss":
		i := w.clerk(r)
		if i < 0 {
			return answer{Code: "W06", Text: "there is no such clerk"}
		}
		s.Clerks = slices.Delete(s.Clerks, i, i+1)
		s.Permits = slices.DeleteFunc(s.Permits,
			func(p permit) bool { return p.Vault == r.Vault && p.Clerk == r.Clerk })
	case "permit", "deny", "revoke", "put":
		if w.clerk(r) < 0 {
			return answer{Code: "W06", Text: "there is no such clerk"}
		}
		w.permit(r)
	case "end":
		for _, v := range s.Visits {
			if v.Number == r.Visit && v.Mark == r.Mark {
				v.conn.Close()
			}
		}
	default:
		return answer{Code: "W00", Text: "that is no command: " + r.Do}
	}
	return answer{}
}

func (w *Warehouse) clerk(r request) int {
	return slices.IndexFunc(w.state.Clerks, func(c clerk) bool { return c.Vault == r.Vault && c.Name == r.Clerk })
}

// permit alters what a clerk may: permitting and denying add, revoking takes both away,
// and putting sets them.
func (w *Warehouse) permit(r request) {
	s := &w.state
	i := slices.IndexFunc(s.Permits,
		func(p permit) bool { return p.Vault == r.Vault && p.Clerk == r.Clerk && p.Box == r.Box })
	if i < 0 {
		s.Permits = append(s.Permits, permit{Vault: r.Vault, Clerk: r.Clerk, Box: r.Box})
		i = len(s.Permits) - 1
	}
	p := &s.Permits[i]
	if r.Do == "put" {
		p.May, p.Denied = slices.Clone(r.May), slices.Clone(r.Denied)
		r.May = nil
	}
	for _, right := range r.May {
		drop := func(have string) bool { return have == right }
		if r.Do != "deny" {
			p.Denied = slices.DeleteFunc(slices.Clone(p.Denied), drop)
		}
		p.May = slices.DeleteFunc(slices.Clone(p.May), drop)
		switch r.Do {
		case "permit":
			p.May = append(p.May, right)
		case "deny":
			if !slices.Contains(p.Denied, right) {
				p.Denied = append(p.Denied, right)
			}
		}
	}
	if len(p.May)+len(p.Denied) == 0 {
		s.Permits = slices.Delete(s.Permits, i, i+1)
	}
}

// text is a command as it is shown and sent.
func (r request) text() string {
	var b strings.Builder
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	if e.Encode(r) != nil {
		return ""
	}
	return strings.TrimSuffix(b.String(), "\n")
}

// Visit has a clerk of a vault come in, as its own programs do, and stay until the test
// is over or it is shown out.
func Visit(tb testing.TB, running *localdb.Server, vault, name, password string) *Visitor {
	tb.Helper()
	conn, err := net.Dial("tcp", net.JoinHostPort(running.Host, fmt.Sprint(running.Port)))
	if err != nil {
		tb.Fatal(err)
	}
	tb.Cleanup(func() { conn.Close() })
	v := &Visitor{line{Conn: conn, answers: bufio.NewScanner(conn)}}
	if _, err := v.ask("sign in", request{Do: "sign in", Vault: vault, Clerk: name, Password: password,
		Program: "desk"}); err != nil {
		tb.Fatal(err)
	}
	return v
}

// Visitor is one who came in.
type Visitor struct{ line }

// Enter goes into a vault.
func (v *Visitor) Enter(vault string) { _, _ = v.ask("enter", request{Do: "enter", Vault: vault}) }

// Inside reports whether the visitor was not shown out.
func (v *Visitor) Inside() bool {
	_, err := v.ask("look", request{Do: "look"})
	return err == nil
}
