// Package clearing empties a database or an account of sessions: who is in the
// way, what each would lose, what to do with each, and when to give up. It is a
// pure state machine ([Machine]): it is told what was seen and says what to do
// next. It knows no server and no clock; the runner looks, ends and waits for it.
package clearing

import (
	"fmt"
	"slices"
	"strings"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/naming"
)

// Class says what ending a session would mean. Its text is a code; [Class.String] has the words.
type Class string

// The classes, the harmless ones first.
const (
	Idle          Class = "idle"
	Busy          Class = "busy"
	InTransaction Class = "in_transaction"
	// Written: its transaction has written; ending it loses that work.
	Written Class = "written"
	// Ending: it was ended already, and rolls its work back.
	Ending Class = "ending"
	// Hidden: what it does cannot be seen, so it counts as having written.
	Hidden      Class = "hidden"
	Own         Class = "own"
	Engine      Class = "engine"
	Worker      Class = "worker"
	Backup      Class = "backup"
	Replication Class = "replication"
)

// Classes lists them all, what ending them would lose rising; those that are never
// ended implicitly come last.
var Classes = []Class{Idle, Ending, Busy, InTransaction, Written, Hidden, Own, Engine, Worker, Backup, Replication}

// String is the class in words.
func (c Class) String() string {
	switch c {
	case InTransaction:
		return "in transaction"
	case Written:
		return "written work"
	case Hidden:
		return "not visible"
	case Own:
		return "Genarch"
	}
	return string(c)
}

// Classify tells the class of a session.
func Classify(s catalog.Session) Class {
	switch s.Kind {
	case catalog.OwnSession:
		return Own
	case catalog.EngineSession:
		return Engine
	case catalog.ReplicationSession:
		return Replication
	case catalog.WorkerSession:
		return Worker
	case catalog.BackupSession:
		return Backup
	}
	switch {
	case s.Hidden:
		return Hidden
	case s.Activity == catalog.SessionEnding:
		return Ending
	case s.Written:
		return Written
	case s.Activity == catalog.SessionActive:
		return Busy
	case s.Activity == catalog.SessionInTransaction || !s.Transaction.IsZero():
		return InTransaction
	}
	return Idle
}

// Loss says in words what a session would lose by being ended.
func Loss(s catalog.Session) string {
	switch Classify(s) {
	case Idle:
		return "nothing but its connection"
	case Busy:
		return "the statement that runs"
	case InTransaction:
		return "its open transaction, which has written nothing"
	case Written:
		if much := Amount(s); much != "" {
			return "what its transaction has written: " + much
		}
		return "what its transaction has written"
	case Ending:
		return "nothing more: it is rolling its work back"
	case Hidden:
		return "not known: what it does cannot be seen"
	}
	return "nothing: it is never ended implicitly"
}

// Amount says how much the open transaction of a session has written, as the engine counts it; empty: it does
// not tell.
func Amount(s catalog.Session) string {
	switch {
	case s.Rows != nil && *s.Rows > 0:
		return naming.Count(*s.Rows, "row")
	case s.LogBytes > 0:
		return naming.SizeText(s.LogBytes) + " of log"
	}
	return ""
}

// Endable reports whether sessions of a class may be ended at all.
func (c Class) Endable() bool {
	return slices.Contains([]Class{Idle, Busy, InTransaction, Written, Ending, Hidden}, c)
}

// bars reports whether sessions of a class stop a clearing.
func (c Class) bars() bool { return c == Replication || c == Backup || c == Worker }

// Target is whose sessions are to go. Exactly one of its fields is set.
type Target struct {
	// Database: those that are in it, or use it.
	Database string `json:"database,omitempty"`
	// Account: those that signed in as it.
	Account *catalog.Principal `json:"account,omitempty"`
	// IDs: just these, whatever they do.
	IDs []catalog.SessionID `json:"ids,omitempty"`
}

// Has reports whether a session belongs to the target. Genarch's own sessions
// and those of the server never do.
func (t Target) Has(s catalog.Session) bool {
	if s.Kind == catalog.OwnSession || s.Kind == catalog.EngineSession || s.ID.Number == 0 {
		return false
	}
	switch {
	case t.Database != "":
		return s.Database == t.Database || slices.Contains(s.Uses, t.Database)
	case t.Account != nil:
		return s.Account == *t.Account
	}
	return slices.Contains(t.IDs, s.ID)
}

// Of picks the target's sessions out of a list.
func (t Target) Of(list []catalog.Session) []catalog.Session {
	var out []catalog.Session
	for _, s := range list {
		if t.Has(s) {
			out = append(out, s)
		}
	}
	return out
}

// Who writes a session for a sentence: its number, program, account and client.
func Who(s catalog.Session) string {
	text := fmt.Sprintf("session %d", s.ID.Number)
	var parts []string
	if s.Application != "" {
		parts = append(parts, naming.Show(s.Application))
	}
	if s.Account.Name != "" {
		parts = append(parts, naming.Show(s.Account.Name))
	}
	if len(parts) > 0 {
		text += " (" + strings.Join(parts, ", ") + ")"
	}
	if s.Client != "" {
		text += " from " + s.Client
	}
	return text
}

// Group is the sessions of one program, account and client address together.
type Group struct {
	Application string            `json:"application,omitempty"`
	Account     catalog.Principal `json:"account"`
	Client      string            `json:"client,omitempty"`
	Counts      []catalog.Count   `json:"counts"` // by class
	N           int               `json:"n"`
}

// String writes it for a sentence: "booking-desk as tickets_app from 10.0.0.3: 4 idle, 1 busy".
func (g Group) String() string {
	text := naming.Show(g.Application)
	if g.Application == "" {
		text = "no program named,"
	}
	if g.Account.Name != "" {
		text += " as " + naming.Show(g.Account.String())
	}
	if g.Client != "" {
		text += " from " + g.Client
	}
	var counts []string
	for _, c := range g.Counts {
		counts = append(counts, fmt.Sprintf("%d %s", c.N, c.What))
	}
	return text + ": " + strings.Join(counts, ", ")
}

// Groups gathers sessions by program, account and client address, the largest
// group first.
func Groups(list []catalog.Session) []Group {
	var out []Group
	at := map[string]int{}
	for _, s := range list {
		client := Address(s.Client)
		key := s.Application + "\x00" + s.Account.String() + "\x00" + client
		i, known := at[key]
		if !known {
			i = len(out)
			at[key] = i
			out = append(out, Group{Application: s.Application, Account: s.Account, Client: client})
		}
		g := &out[i]
		g.N++
		class := Classify(s).String()
		j := slices.IndexFunc(g.Counts, func(c catalog.Count) bool { return c.What == class })
		if j < 0 {
			g.Counts = append(g.Counts, catalog.Count{What: class, N: 1})
		} else {
			g.Counts[j].N++
		}
	}
	slices.SortStableFunc(out, func(x, y Group) int { return y.N - x.N })
	return out
}

// Address is a client without its port: 127.0.0.1 of 127.0.0.1:47314, ::1 of
// [::1]:47314.
func Address(client string) string {
	if host, _, found := strings.Cut(strings.TrimPrefix(client, "["), "]:"); found && client[0] == '[' {
		return host
	}
	if host, _, found := strings.Cut(client, ":"); found && strings.Count(client, ":") == 1 {
		return host
	}
	return client
}
