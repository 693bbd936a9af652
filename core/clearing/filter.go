package clearing

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"example.com/genarch/core/catalog"
)

// Filter picks client sessions by what they are. Zero fields do not narrow; an
// empty filter fits nobody.
type Filter struct {
	Database    string `json:"database,omitempty"`
	Account     string `json:"account,omitempty"` // a name, or name@host
	Application string `json:"application,omitempty"`
	// Client is an address, without a port.
	Client string `json:"client,omitempty"`
	Class  Class  `json:"class,omitempty"`
	// IdleLonger is for how many seconds a session must have been idle, whether
	// in a transaction or not; Older how long ago it, or its open transaction
	// where the engine does not tell that, must have begun.
	IdleLonger int `json:"idle_longer,omitempty"`
	Older      int `json:"older,omitempty"`
}

// Empty reports whether nothing was asked for.
func (f Filter) Empty() bool { return f == Filter{} }

// Check says what is wrong with a filter.
func (f Filter) Check() error {
	if f.Class != "" && !slices.Contains(Classes, f.Class) {
		return fmt.Errorf("there is no class %q; there are %s", string(f.Class), codes())
	}
	if f.IdleLonger < 0 || f.Older < 0 {
		return fmt.Errorf("a length of time cannot be below zero")
	}
	return nil
}

// Fits reports whether a session is meant, at a time.
func (f Filter) Fits(s catalog.Session, now time.Time) bool {
	name, host, hosted := strings.Cut(f.Account, "@")
	switch {
	case f.Empty(),
		f.Database != "" && s.Database != f.Database && !slices.Contains(s.Uses, f.Database),
		f.Account != "" && (s.Account.Name != name || hosted && s.Account.Host != host) && s.Account.Name != f.Account,
		f.Application != "" && s.Application != f.Application,
		f.Client != "" && Address(s.Client) != f.Client,
		f.Class != "" && Classify(s) != f.Class:
		return false
	}
	if f.IdleLonger > 0 && (s.Activity == catalog.SessionActive || s.Activity == catalog.SessionEnding ||
		s.StateSince.IsZero() || now.Sub(s.StateSince) < seconds(f.IdleLonger)) {
		return false
	}
	began := s.Started
	if began.IsZero() {
		began = s.Transaction
	}
	return f.Older == 0 || !began.IsZero() && now.Sub(began) >= seconds(f.Older)
}

// Pick returns the sessions that a filter fits and that may be ended by one:
// never Genarch's own, the server's, replication, backups or workers.
func (f Filter) Pick(list []catalog.Session, now time.Time) []catalog.Session {
	return slices.DeleteFunc(slices.Clone(list),
		func(s catalog.Session) bool { return !f.Fits(s, now) || !Classify(s).Endable() })
}

// codes lists the classes as they are written in a filter.
func codes() string {
	var out []string
	for _, c := range Classes {
		out = append(out, string(c))
	}
	return strings.Join(out, ", ")
}

// String says in words whom it means.
func (f Filter) String() string {
	var parts []string
	add := func(text, value string) {
		if value != "" {
			parts = append(parts, text+" "+value)
		}
	}
	add("of the account", f.Account)
	add("of the program", f.Application)
	add("from", f.Client)
	add("in", f.Database)
	add("of class", f.Class.String())
	if f.IdleLonger > 0 {
		parts = append(parts, "idle for longer than "+Span(f.IdleLonger))
	}
	if f.Older > 0 {
		parts = append(parts, "older than "+Span(f.Older))
	}
	return strings.Join(parts, " ")
}

func seconds(n int) time.Duration { return time.Duration(n) * time.Second }

// Span writes seconds as people do: 90s as 1m30s, 600 as 10m.
func Span(n int) string {
	text := seconds(n).String()
	if strings.HasSuffix(text, "m0s") {
		text = strings.TrimSuffix(text, "0s")
	}
	if strings.HasSuffix(text, "h0m") {
		text = strings.TrimSuffix(text, "0m")
	}
	return text
}
