package mysqlfamily

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/clearing"
	"example.com/genarch/core/naming"
	"example.com/genarch/core/remedy"
	"example.com/genarch/engine"
	"example.com/genarch/engine/planning"
)

const (
	stepGate    = "close_gate"
	stepDrop    = "drop_database"
	stepRestore = "restore_grants"
)

// dropSeconds bounds a drop that is past its wait for locks: it cannot be
// stopped then, and takes as long as its tables are many.
const dropSeconds = 900

// alterDatabase puts back the settings that a drop which failed has lost.
func alterDatabase(d catalog.Database) string {
	return "ALTER DATABASE " + quoteIdent(d.Name) + "\n  CHARACTER SET " + quoteWord(d.Encoding) + "\n  COLLATE " +
		quoteWord(d.Collation) +
		"\n  COMMENT " + quoteText(d.Comment)
}

// runAll sends statements one after the other on one connection, and stops at
// the first that the server refuses, unless its code is among those passed over.
func (s *server) runAll(ctx context.Context, op string, statements []string, step change.Step, pass ...string) error {
	if len(statements) == 0 {
		return nil
	}
	return s.withConn(ctx, op, step, func(c *sender) error {
		if err := announce(ctx, c, step); err != nil {
			return err
		}
		for _, text := range statements {
			if e, ok := exec(ctx, c, op, text).(*engine.Error); ok && !slices.Contains(pass, e.Code) {
				e.Detail = "at: " + strings.Join(strings.Fields(text), " ")
				return e
			}
		}
		return nil
	})
}

// ignoredCodes are the errors of taking what is not there any more: grants 1141 and
// 1147 (and 1403), accounts 1133 and 1396, tables 1146, databases 1049, events 1539.
var ignoredCodes = []string{"1141", "1147", "1403", "1133", "1396", "1146", "1049", "1539", "1305"}

func (s *server) closeGate(ctx context.Context, step change.Step) (engine.Report, error) {
	return engine.Report{}, s.runAll(ctx, "close the gate", engine.DecodeList(step.Args["do"]), step, "1141", "1147")
}

// openGate puts back what the gate has taken. All that it does can be done again.
func (s *server) openGate(ctx context.Context, step change.Step) (engine.Report, error) {
	return engine.Report{}, s.runAll(ctx, "open the gate again", engine.DecodeList(step.Args["undo"]), step,
		ignoredCodes...)
}

func (s *server) settle(ctx context.Context, step change.Step) (engine.Report, error) {
	return engine.Report{}, s.runAll(
		ctx,
		"settle the grants",
		engine.DecodeList(step.Args["do"]),
		step,
		ignoredCodes...)
}

// dropNow looks once more for whatever would make the drop fail after it has
// begun, tries every table for a lock, and then drops.
func (s *server) dropNow(ctx context.Context, step change.Step) (engine.Report, error) {
	op := "drop database " + naming.Show(step.Args["name"])
	var rep engine.Report
	name := step.Args["name"]
	select {
	case s.drops <- struct{}{}:
		defer func() { <-s.drops }()
	case <-ctx.Done():
		return rep, engine.Classify(op, ctx.Err(), false)
	}
	err := s.withConn(ctx, op, step, func(c *sender) error {
		if err := s.recheckBlockers(ctx, op, name, step); err != nil {
			return err
		}
		if err := s.tryAll(ctx, c, op, name); err != nil {
			return err
		}
		if err := announce(ctx, c, step); err != nil {
			return err
		}
		// Once sent, it is waited for: past its wait for locks a drop is final.
		if set := s.product.bounded; set != "" {
			defer c.Spend()
			if err := exec(ctx, c, op, set); err != nil {
				return err
			}
		}
		return exec(context.WithoutCancel(ctx), c, op, s.product.dropping+step.Statement)
	})
	if err == nil {
		rep.Messages = s.endReturned(context.WithoutCancel(ctx), name)
	}
	return rep, err
}

// recheckBlockers reads again what the brief looked at.
func (s *server) recheckBlockers(ctx context.Context, op, name string, step change.Step) error {
	d, err := s.readDatabase(ctx, name)
	if errors.Is(err, engine.ErrNotFound) {
		return &engine.Error{Op: op, Kind: engine.NotSent, Text: "it is gone by now; somebody else dropped it",
			Next:    "Look again.",
			Actions: []remedy.Action{remedy.Command("database.list", "")}}
	}
	if err != nil {
		return engine.NeverSent(err)
	}
	impact := catalog.DropImpact{Details: &dropDetails{}}
	if err := s.readBlockers(ctx, name, &impact); err != nil {
		return engine.NeverSent(err)
	}
	var b change.Brief
	planBlockers(&b, d, impact, s.product)
	for _, f := range b.Findings {
		return &engine.Error{Op: step.Title, Kind: engine.NotSent, Text: f.Text, Next: f.Next}
	}
	return nil
}

const (
	// tryTime is how long tables are tried for a lock: a statement that is over
	// within a moment keeps nobody from dropping.
	tryTime = 2 * time.Second
	// tryPause lies between two tries.
	tryPause = 20 * time.Millisecond
)

// tryAll makes sure that nobody holds a lock in a database.
func (s *server) tryAll(ctx context.Context, c *sender, op, name string) error {
	if s.product.looksForLocks {
		return s.lookForLocks(ctx, op, name)
	}
	return s.tryLocks(ctx, c, op, name)
}

// tryLocks takes a write lock on every table at once without waiting, and gives
// it back: what holds a lock makes this fail instead of the drop.
func (s *server) tryLocks(ctx context.Context, conn *sender, op, name string) error {
	var tables []string
	rows, err := conn.QueryContext(
		ctx,
		`SELECT TABLE_NAME FROM information_schema.TABLES WHERE TABLE_SCHEMA = ? AND TABLE_TYPE NOT IN ('VIEW', 'SYSTEM VIEW')`,
		name,
	)
	if err != nil {
		return engine.NeverSent(wrap(op, err))
	}
	for rows.Next() {
		var t string
		if err = rows.Scan(&t); err != nil {
			break
		}
		tables = append(tables, quoteIdent(name)+"."+quoteIdent(t)+" WRITE")
	}
	rows.Close()
	if err = errors.Join(err, rows.Err()); err != nil {
		return engine.NeverSent(wrap(op, err)) // an untried table is no table without a lock
	}
	if len(tables) == 0 {
		return nil
	}
	for until := time.Now().Add(tryTime); ; {
		err = exec(ctx, conn, op, "SET STATEMENT lock_wait_timeout=0 FOR LOCK TABLES "+strings.Join(tables, ", "))
		e, ok := err.(*engine.Error)
		if !ok || e.Code != "1205" || time.Now().After(until) || !engine.Pause(ctx, tryPause) {
			break
		}
	}
	if _, freed := conn.ExecContext(context.WithoutCancel(ctx), "UNLOCK TABLES"); freed != nil {
		return engine.NeverSent(wrap(op, freed))
	}
	e, ok := wrap(op, err).(*engine.Error)
	switch {
	case !ok:
		return nil
	case e.Code == "1205":
		return &engine.Error{Op: op, Kind: engine.NotSent, Code: e.Code,
			Text:    "somebody holds a lock on a table of it" + s.holders(ctx, name),
			Next:    "Look who it is, then ask again.",
			Actions: []remedy.Action{remedy.Command("session.list", "").With("tree", remedy.Yes)}}
	case e.Kind == engine.Refused:
		// The login may not lock, or a table cannot be opened at all: the drop
		// itself waits two seconds at most.
		return nil
	}
	return engine.NeverSent(e)
}

// lookForLocks waits a moment for those who hold a lock in a database: a drop would wait for
// them, and would keep everybody else waiting meanwhile.
func (s *server) lookForLocks(ctx context.Context, op, name string) error {
	for until := time.Now().Add(tryTime); ; {
		held, err := s.readMetadataLocks(ctx)
		if err != nil {
			return engine.NeverSent(wrap(op, err))
		}
		own, busy := s.ownNow(), false
		for id, locks := range held {
			_, ours := own[id]
			busy = busy || !ours && slices.ContainsFunc(locks, func(l metadataLock) bool { return l.database == name })
		}
		if !busy {
			return nil
		}
		if time.Now().After(until) || !engine.Pause(ctx, tryPause) {
			return &engine.Error{Op: op, Kind: engine.NotSent, Text: "somebody holds a lock on a table of it" +
				s.holders(ctx, name), Next: "Look who it is, then ask again.",
				Actions: []remedy.Action{remedy.Command("session.list", "").With("tree", remedy.Yes)}}
		}
	}
}

// holders says who holds locks in a database, as far as the server shows it.
func (s *server) holders(ctx context.Context, name string) string {
	list, err := s.Sessions(ctx, catalog.SessionQuery{Database: name, Brief: true})
	if err != nil {
		return ""
	}
	var who []string
	for _, x := range list.Sessions {
		if x.Kind != catalog.OwnSession && clearing.Classify(x) != clearing.Idle {
			who = append(who, clearing.Who(x))
		}
	}
	if len(who) == 0 {
		return ", and the server does not show who"
	}
	return ": " + strings.Join(who, "; ")
}

// endReturned ends the sessions that still have the database as theirs after it
// was dropped: made again under the name, they would be in it with old rights.
func (s *server) endReturned(ctx context.Context, name string) []change.Message {
	ctx, cancel := context.WithTimeout(ctx, 15*time.Second)
	defer cancel()
	list, err := s.Sessions(ctx, catalog.SessionQuery{Database: name, Brief: true})
	if err != nil {
		return []change.Message{{Severity: "NOTE",
			Text: "whether somebody had come back could not be read: " + err.Error()}}
	}
	back := (clearing.Target{Database: name}).Of(list.Sessions)
	if len(back) == 0 {
		return nil
	}
	ids := make([]catalog.SessionID, len(back))
	for i, x := range back {
		ids[i] = x.ID
	}
	refused, err := s.End(ctx, ids, catalog.EndSession)
	var out []change.Message
	for _, x := range back[:min(len(back), 50)] {
		became := "was ended after the drop"
		switch why, no := refused[x.ID]; {
		case no:
			became = "could not be ended (" + why + ")"
		case err != nil:
			became = "may still be there (" + err.Error() + ")"
		}
		out = append(out, change.Message{Severity: "NOTE",
			Text: "had come back while the gate was closed, and " + became + ": " + clearing.Who(x)})
	}
	return out
}

// mendDrop puts back what a drop that failed has lost, and says what is missing
// of what was there.
func (s *server) mendDrop(ctx context.Context, step change.Step) (engine.Report, error) {
	const op = "put the database's settings back"
	name := step.Args["name"]
	if _, err := s.readDatabase(ctx, name); errors.Is(err, engine.ErrNotFound) {
		return engine.Report{}, nil
	} else if err != nil {
		return engine.Report{}, err
	}
	rep, err := s.send(ctx, op, step.Repair, step)
	if err != nil {
		return rep, err
	}
	impact := catalog.DropImpact{Details: &dropDetails{}}
	if err := s.readContents(ctx, name, &impact); err != nil {
		return rep, err
	}
	before, _ := strconv.Atoi(step.Args["objects"])
	if now := total(impact.Objects); now < before {
		var left []string
		for _, c := range impact.Objects {
			left = append(left, fmt.Sprintf("%d %s", c.N, c.What))
		}
		return rep, &engine.Error{Op: "drop database " + naming.Show(name), Kind: engine.Differs,
			Text: fmt.Sprintf(
				"it is partially dropped: %d of %d tables, views, routines, triggers and events are left (%s); the others are gone for good. Character set, collation and comment were put back",
				now,
				before,
				strings.Join(left, ", "),
			),
			Next: "Put right what stopped it and drop it again, or restore it from a backup."}
	}
	return rep, nil
}

// probeDrop looks whether the database is gone.
func (s *server) probeDrop(ctx context.Context, step change.Step) (bool, error) {
	_, err := s.readDatabase(ctx, step.Args["name"])
	if errors.Is(err, engine.ErrNotFound) {
		return true, nil
	}
	if err != nil {
		return false, err
	}
	return false, nil
}

// probeGate looks whether the gate is wholly closed: no right is left that it
// was to take. Part of it counts as not closed, and is put back.
func (s *server) probeGate(ctx context.Context, step change.Step) (bool, error) {
	grants, err := s.readGrants(ctx)
	if err != nil {
		return false, err
	}
	name := step.Args["name"]
	kept := append(engine.DecodeList(step.Args["kept"]), step.Args["self"]) // Genarch's own login keeps its rights
	for _, g := range grants {
		if slices.Contains(kept, g.Grantee.String()) {
			continue
		}
		if onName(g, name) && (g.Scope != catalog.ScopeDatabase || !s.product.placeholder.Has(g.Privileges)) {
			return false, nil
		}
	}
	// Events and accounts are looked at by trying: both can be done again.
	err = s.runAll(ctx, "close the gate", engine.DecodeList(step.Args["again"]), step, ignoredCodes...)
	return err == nil, err
}

// checkDatabaseGone reads that a database is not there, and, where asked, that
// no grant on exactly its name is.
func (s *server) checkDatabaseGone(ctx context.Context, args map[string]string) ([]string, error) {
	_, err := s.readDatabase(ctx, args["name"])
	if err == nil {
		return []string{naming.Show(args["name"]) + " is still there, or there again"}, nil
	}
	if !errors.Is(err, engine.ErrNotFound) {
		return nil, err
	}
	if args["leftovers"] != "none" {
		return nil, nil
	}
	grants, err := s.readGrants(ctx)
	var left []string
	for _, g := range grants {
		if onName(g, args["name"]) {
			left = append(left, g.Grantee.String())
		}
	}
	if len(left) > 0 {
		return []string{"grants on the name are left: " + planning.Shorten(left)}, err
	}
	return nil, err
}
