// Package memrecords keeps Genarch's records in memory, for tests of what uses them: one
// process, nothing kept. It holds to what the real store promises, not to how.
package memrecords

import (
	"context"
	"maps"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"example.com/genarch/core/blueprint"
	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/history"
	"example.com/genarch/core/journal"
	"example.com/genarch/core/policy"
	"example.com/genarch/core/record"
	"example.com/genarch/core/secret"
)

// Records are in memory. They may be used by many goroutines.
type Records struct {
	mu        sync.Mutex // guards all below
	away      error
	next      uint64
	servers   map[string]catalog.Server
	passwords map[string]secret.Text
	operators map[string]operator
	tokens    map[uint64]token
	sessions  map[string]record.Session
	changes   map[uint64]change.Change
	keys      map[string]uint64
	claims    map[string]claim
	stops     map[uint64]string
	secrets   map[uint64][]change.Secret
	journal   []journal.Entry
	history   map[string][]history.Point
	watched   map[uint64]catalog.Watched
	// blueprints are all versions, by name.
	blueprints map[string][]blueprint.Kept
}

type operator struct {
	policy.Operator
	hash string
}

type token struct {
	record.Token
	hash string
}

type claim struct {
	change uint64
	holder string
	until  time.Time
}

// New makes empty records.
func New() *Records {
	return &Records{servers: map[string]catalog.Server{}, passwords: map[string]secret.Text{},
		operators: map[string]operator{}, tokens: map[uint64]token{}, sessions: map[string]record.Session{},
		changes: map[uint64]change.Change{}, keys: map[string]uint64{}, claims: map[string]claim{},
		stops: map[uint64]string{}, secrets: map[uint64][]change.Secret{}, history: map[string][]history.Point{},
		watched: map[uint64]catalog.Watched{}, blueprints: map[string][]blueprint.Kept{}}
}

// GoAway makes every call fail with an error, until it is nil again.
func (r *Records) GoAway(err error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.away = err
}

// with does one thing, unless the records are away.
func (r *Records) with(f func() error) error {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.away != nil {
		return r.away
	}
	return f()
}

// read reads one thing, unless the records are away.
func read[T any](r *Records, f func() (T, error)) (out T, err error) {
	err = r.with(func() error {
		out, err = f()
		return err
	})
	return out, err
}

// enter adds to the journal; the caller holds the lock.
func (r *Records) enter(list ...journal.Entry) {
	for _, e := range list {
		e.Seq = uint64(len(r.journal) + 1)
		if e.At.IsZero() {
			e.At = time.Now().UTC()
		}
		r.journal = append(r.journal, e)
	}
}

func (r *Records) id() uint64 { r.next++; return r.next }

// Ping reports whether the records are there.
func (r *Records) Ping(context.Context) error { return r.with(func() error { return nil }) }

// Servers.

// AddServer keeps a registration.
func (r *Records) AddServer(_ context.Context, s catalog.Server, password secret.Text, e journal.Entry) (catalog.Server,
	error) {
	return read(r, func() (catalog.Server, error) {
		if _, there := r.servers[s.Name]; there {
			return s, record.ErrExists
		}
		s.ID, s.Version, s.Created, s.Updated = r.id(), 1, time.Now().UTC(), time.Now().UTC()
		r.servers[s.Name], r.passwords[s.Name] = s, password
		r.enter(e)
		return s, nil
	})
}

// Server is one registration.
func (r *Records) Server(_ context.Context, name string) (catalog.Server, error) {
	return read(r, func() (catalog.Server, error) { return found(r.servers, name) })
}

// Servers are all registrations, by name.
func (r *Records) Servers(context.Context) ([]catalog.Server, error) {
	return read(r, func() ([]catalog.Server, error) {
		return slices.SortedFunc(maps.Values(r.servers),
			func(x, y catalog.Server) int { return strings.Compare(x.Name, y.Name) }), nil
	})
}

// Secret is the password of a server's login.
func (r *Records) Secret(_ context.Context, name string) (secret.Text, error) {
	return read(r, func() (secret.Text, error) { return found(r.passwords, name) })
}

// UpdateServer alters a registration that was read in this version.
func (r *Records) UpdateServer(_ context.Context, s catalog.Server, password *secret.Text, e journal.Entry) error {
	return r.with(func() error {
		was, err := found(r.servers, s.Name)
		switch {
		case err != nil:
			return err
		case was.Version != s.Version:
			return record.ErrStale
		}
		s.Version++
		s.Updated = time.Now().UTC()
		if r.servers[s.Name] = s; password != nil {
			r.passwords[s.Name] = *password
		}
		r.enter(e)
		return nil
	})
}

// ForgetServer removes a registration.
func (r *Records) ForgetServer(_ context.Context, name string, e journal.Entry) error {
	return r.with(func() error {
		if _, err := found(r.servers, name); err != nil {
			return err
		}
		delete(r.servers, name)
		r.enter(e)
		return nil
	})
}

func found[K comparable, V any](m map[K]V, key K) (V, error) {
	v, there := m[key]
	if !there {
		return v, record.ErrNotFound
	}
	return v, nil
}

// Operators, tokens, sessions.

// AddOperator keeps an operator with the hash of their password.
func (r *Records) AddOperator(_ context.Context, o policy.Operator, hash string, e journal.Entry) error {
	return r.with(func() error {
		if _, there := r.operators[o.Name]; there {
			return record.ErrExists
		}
		o.Created = time.Now().UTC()
		r.operators[o.Name] = operator{o, hash}
		r.enter(e)
		return nil
	})
}

// Operators are all of them, by name.
func (r *Records) Operators(context.Context) ([]policy.Operator, error) {
	return read(r, func() ([]policy.Operator, error) {
		var out []policy.Operator
		for _, name := range slices.Sorted(maps.Keys(r.operators)) {
			out = append(out, r.operators[name].Operator)
		}
		return out, nil
	})
}

// Operator is one of them, with the hash of their password.
func (r *Records) Operator(_ context.Context, name string) (policy.Operator, string, error) {
	o, err := read(r, func() (operator, error) { return found(r.operators, name) })
	return o.Operator, o.hash, err
}

// UpdateOperator alters one; another password, and being disabled, end what was signed in,
// but for the session of this hash.
func (r *Records) UpdateOperator(
	_ context.Context,
	o policy.Operator,
	hash, keep string,
	e journal.Entry,
) (int, error) {
	return read(r, func() (int, error) {
		was, err := found(r.operators, o.Name)
		if err != nil {
			return 0, err
		}
		next := operator{o, was.hash}
		if hash != "" {
			next.hash = hash
		}
		r.operators[o.Name] = next
		admins := 0
		for _, x := range r.operators {
			if !x.Program && !x.Disabled && x.May(policy.Admin) {
				admins++
			}
		}
		if admins == 0 {
			r.operators[o.Name] = was
			return 0, record.ErrLastAdmin
		}
		ends := hash != "" || o.Disabled
		if ends {
			maps.DeleteFunc(
				r.sessions,
				func(h string, s record.Session) bool { return s.Operator == o.Name && h != keep },
			)
		}
		left := 0
		for id, t := range r.tokens {
			if t.Operator != o.Name || !t.Valid(time.Now()) {
				continue
			}
			if o.Disabled || ends && t.Login {
				t.Revoked = time.Now().UTC()
				r.tokens[id] = t
				continue
			}
			left++
		}
		r.enter(e)
		return left, nil
	})
}

// Notices are none: nothing is told later here.
func (r *Records) Notices(context.Context, string) ([]record.Notice, error) { return nil, nil }

// AddToken keeps a token by its hash.
func (r *Records) AddToken(_ context.Context, t record.Token, hash string, e journal.Entry) (record.Token, error) {
	return read(r, func() (record.Token, error) {
		t.ID, t.Created = r.id(), time.Now().UTC()
		r.tokens[t.ID] = token{t, hash}
		r.enter(e)
		return t, nil
	})
}

// Tokens are those of an operator; an empty name means all.
func (r *Records) Tokens(_ context.Context, operator string) ([]record.Token, error) {
	return read(r, func() ([]record.Token, error) {
		var out []record.Token
		for _, id := range slices.Sorted(maps.Keys(r.tokens)) {
			if t := r.tokens[id].Token; operator == "" || t.Operator == operator {
				out = append(out, t)
			}
		}
		return out, nil
	})
}

// TokenByHash is a token that can be used, and whose it is.
func (r *Records) TokenByHash(_ context.Context, hash string) (record.Token, policy.Operator, error) {
	var who policy.Operator
	t, err := read(r, func() (record.Token, error) {
		for _, t := range r.tokens {
			if o := r.operators[t.Operator]; t.hash == hash && t.Valid(time.Now()) && !o.Disabled {
				who = o.Operator
				return t.Token, nil
			}
		}
		return record.Token{}, record.ErrNotFound
	})
	return t, who, err
}

// RevokeToken ends one.
func (r *Records) RevokeToken(_ context.Context, id uint64, e journal.Entry) error {
	return r.with(func() error {
		t, err := found(r.tokens, id)
		if err != nil {
			return err
		}
		t.Revoked = time.Now().UTC()
		r.tokens[id] = t
		r.enter(e)
		return nil
	})
}

// AddSession keeps a session of the console by the hash of its cookie.
func (r *Records) AddSession(_ context.Context, s record.Session, hash string, e journal.Entry) error {
	return r.with(func() error {
		s.ID, s.Created, s.Used = r.id(), time.Now().UTC(), time.Now().UTC()
		r.sessions[hash] = s
		r.enter(e)
		return nil
	})
}

// SessionByHash is a session, and whose it is.
func (r *Records) SessionByHash(_ context.Context, hash string) (record.Session, policy.Operator, error) {
	var who policy.Operator
	s, err := read(r, func() (record.Session, error) {
		s, err := found(r.sessions, hash)
		who = r.operators[s.Operator].Operator
		return s, err
	})
	return s, who, err
}

// EndSession ends one.
func (r *Records) EndSession(_ context.Context, hash string, e journal.Entry) error {
	return r.with(func() error {
		delete(r.sessions, hash)
		r.enter(e)
		return nil
	})
}

// EndOtherSessions ends all but one of an operator.
func (r *Records) EndOtherSessions(_ context.Context, operator, hash string, e journal.Entry) error {
	return r.with(func() error {
		maps.DeleteFunc(
			r.sessions,
			func(h string, s record.Session) bool { return s.Operator == operator && h != hash },
		)
		r.enter(e)
		return nil
	})
}

// Sessions are those of an operator.
func (r *Records) Sessions(_ context.Context, operator string) ([]record.Session, error) {
	return read(r, func() ([]record.Session, error) {
		var out []record.Session
		for _, s := range r.sessions {
			if s.Operator == operator {
				out = append(out, s)
			}
		}
		return out, nil
	})
}

// The journal and its seals; here a seal is the text turned round.

// Seal marks what is handed out.
func (r *Records) Seal(text string) (string, error) { return reversed(text), nil }

// Sealed reports whether a text came from here.
func (r *Records) Sealed(text, seal string) bool { return reversed(text) == seal }

func reversed(text string) string {
	runes := []rune(text)
	slices.Reverse(runes)
	return string(runes)
}

// Append adds entries.
func (r *Records) Append(_ context.Context, e ...journal.Entry) error {
	return r.with(func() error { r.enter(e...); return nil })
}

// Journal reads entries, the newest first.
func (r *Records) Journal(_ context.Context, f journal.Filter) ([]journal.Entry, error) {
	return read(r, func() ([]journal.Entry, error) {
		var out []journal.Entry
		for _, e := range slices.Backward(r.journal) {
			if (f.Change == 0 || e.Change == f.Change) && (f.Operator == "" || e.Operator == f.Operator) &&
				(f.Action == "" || e.Action == f.Action || strings.HasPrefix(e.Action, f.Action+".")) &&
				(f.Subject == "" || e.Subject == f.Subject || strings.HasPrefix(e.Subject, f.Subject+"/")) &&
				within(e.At, f.Since, f.Until) && (f.Before == 0 || e.Seq < f.Before) && len(out) < f.Limit {
				out = append(out, e)
			}
		}
		return out, nil
	})
}

func within(at, since, until time.Time) bool {
	return (since.IsZero() || !at.Before(since)) && (until.IsZero() || at.Before(until))
}

// VerifyJournal finds nothing broken.
func (r *Records) VerifyJournal(context.Context, string) (count uint64, broken, err error) {
	count, err = read(r, func() (uint64, error) { return uint64(len(r.journal)), nil })
	return count, nil, err
}

// Checkpoint is the last entry.
func (r *Records) Checkpoint(context.Context) (journal.Checkpoint, error) {
	return read(r, func() (journal.Checkpoint, error) {
		return journal.Checkpoint{Seq: uint64(len(r.journal)), Hash: strconv.Itoa(len(r.journal))}, nil
	})
}

// History.

func point(server uint64, name string) string { return strconv.FormatUint(server, 10) + "/" + name }

// SaveHistory keeps points.
func (r *Records) SaveHistory(_ context.Context, server uint64, points map[string][]history.Point) error {
	return r.with(func() error {
		for name, list := range points {
			r.history[point(server, name)] = append(r.history[point(server, name)], list...)
		}
		return nil
	})
}

// History reads them, from a time on.
func (r *Records) History(_ context.Context, server uint64, name string, from time.Time) ([]history.Point, error) {
	return read(r, func() ([]history.Point, error) {
		var out []history.Point
		for _, p := range r.history[point(server, name)] {
			if !p.At.Before(from) {
				out = append(out, p)
			}
		}
		return out, nil
	})
}

// RenameHistory keeps points under another name.
func (r *Records) RenameHistory(_ context.Context, server uint64, from, to string) error {
	return r.with(func() error {
		if to != "" {
			r.history[point(server, to)] = r.history[point(server, from)]
		}
		delete(r.history, point(server, from))
		return nil
	})
}

// ThinHistory thins nothing.
func (r *Records) ThinHistory(context.Context, time.Time) error { return nil }

// Watched is what was seen of a server.
func (r *Records) Watched(_ context.Context, server uint64, _ string) (catalog.Watched, error) {
	return read(r, func() (catalog.Watched, error) { return found(r.watched, server) })
}

// SaveWatched keeps what was seen of a server.
func (r *Records) SaveWatched(_ context.Context, server uint64, w catalog.Watched) error {
	return r.with(func() error { r.watched[server] = w; return nil })
}
