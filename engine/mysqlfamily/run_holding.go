package mysqlfamily

import (
	"bytes"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"example.com/genarch/core/change"
	"example.com/genarch/core/naming"
	"example.com/genarch/engine"
	"example.com/genarch/engine/planning"
)

// saveDefinitions makes the database in which another one will wait, and keeps there
// whatever cannot be moved. The note comes last: with it, all of it is there.
func (s *server) saveDefinitions(ctx context.Context, step change.Step) (engine.Report, error) {
	op := step.Title
	name, held := step.Args["name"], step.Args["held"]
	has, err := s.readObjects(ctx, name)
	if err != nil {
		return engine.Report{}, engine.NeverSent(err)
	}
	if len(has.Broken) > 0 {
		return engine.Report{}, &engine.Error{Op: op, Kind: engine.NotSent,
			Text: "views that do not work as they are could not be made again: " + planning.Shorten(has.Broken),
			Next: "Drop these views first, or mend them."}
	}
	return engine.Report{}, s.withConn(ctx, op, step, func(c *sender) error {
		defer c.Spend()
		list, err := s.toSave(ctx, c, step, has)
		if err != nil {
			return engine.NeverSent(err)
		}
		if err := announce(ctx, c, step); err != nil {
			return err
		}
		for _, text := range engine.DecodeList(step.Args["do"]) {
			if err := exec(ctx, c, op, text); err != nil {
				return err
			}
		}
		for i, d := range list {
			_, err := c.ExecContext(ctx, "INSERT INTO "+quoteIdent(held)+"."+quoteIdent(heldTable)+
				" (position, kind, name, mode, client, connection, collation, body) VALUES (?, ?, ?, ?, ?, ?, ?, ?)",
				i, d.Kind, d.Name, d.Mode, d.Client, d.Connection, d.Database, d.Body)
			if err != nil {
				return wrap(op, err)
			}
		}
		return nil
	})
}

// showDefinitions reads the definitions of a database byte for byte, as they were sent
// once: converted into another character set they could become something else.
func showDefinitions(ctx context.Context, c *sender, name string, has objects) ([]definition, error) {
	const op = "read the definitions"
	// From within, views name their own tables without the database, so that they can be
	// made in one of another name.
	for _, text := range []string{"USE " + quoteIdent(name), "SET character_set_results = binary"} {
		if err := exec(ctx, c, op, text); err != nil {
			return nil, err
		}
	}
	var out []definition
	show := func(kind, name string) error {
		d, err := showCreate(ctx, c, kind, name)
		out = append(out, d)
		return err
	}
	for _, r := range has.Routines {
		if err := show(r.Kind, r.Name); err != nil {
			return nil, err
		}
	}
	for _, v := range has.Views {
		if err := show("view", v); err != nil {
			return nil, err
		}
	}
	for _, t := range has.Triggers {
		if err := show("trigger", t); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// showCreate reads one definition. Source: SHOW CREATE, whose columns differ by kind.
func showCreate(ctx context.Context, c *sender, kind, name string) (definition, error) {
	d := definition{Kind: kind, Name: name}
	op := "read the definition of " + kind + " " + naming.Show(name)
	rows, err := c.QueryContext(ctx, "SHOW CREATE "+strings.ToUpper(kind)+" "+quoteIdent(name))
	if err != nil {
		return d, wrap(op, err)
	}
	defer rows.Close()
	columns, err := rows.Columns()
	if err != nil || !rows.Next() {
		return d, wrap(op, errors.Join(err, rows.Err(), sql.ErrNoRows))
	}
	values, into := make([][]byte, len(columns)), make([]any, len(columns))
	for i := range values {
		into[i] = &values[i]
	}
	if err := rows.Scan(into...); err != nil {
		return d, wrap(op, err)
	}
	for i, column := range columns {
		switch {
		case column == "sql_mode":
			d.Mode = string(values[i])
		case column == "character_set_client":
			d.Client = string(values[i])
		case column == "collation_connection":
			d.Connection = string(values[i])
		case column == "Database Collation":
			d.Database = string(values[i])
		case strings.HasPrefix(column, "Create ") || column == "SQL Original Statement":
			d.Body = values[i]
		}
	}
	if len(d.Body) == 0 {
		return d, &engine.Error{Op: op, Kind: engine.Refused, Text: "the server does not show it to Genarch's login",
			Next: "Give the login the privileges on everything that server check asks for."}
	}
	return d, nil
}

// toSave is whatever has to be kept of a database to make it again: definitions, enabled
// events, grants, the seal on all of these, and last the note.
func (s *server) toSave(ctx context.Context, c *sender, step change.Step, has objects) ([]definition, error) {
	name, held := step.Args["name"], step.Args["held"]
	note := planning.ReadNote(held, step.Args["note"])
	if note == nil {
		return nil, &engine.Error{Op: step.Title, Kind: engine.NotSent, Text: "the step has no note"}
	}
	list, err := showDefinitions(ctx, c, name, has)
	if err != nil {
		return nil, err
	}
	others, err := triggersElsewhere(ctx, c, name, list)
	if err != nil {
		return nil, err
	}
	list = append(list, others...)
	note.Kept["definitions"], note.Kept["elsewhere"] = digest(list), digest(elsewhere(list))
	events := engine.DecodeList(step.Args["events"])
	for i := 0; i+1 < len(events); i += 2 {
		list = append(list, definition{Kind: savedEvent, Name: events[i], Body: []byte(events[i+1])})
	}
	for _, text := range engine.DecodeList(step.Args["grants"]) {
		list = append(list, definition{Kind: savedRight, Body: []byte(text)})
	}
	if sealer := s.target.Sealer; sealer != nil {
		seal, err := sealer.Seal(sealText(held, list))
		if err != nil {
			return nil, err
		}
		list = append(list, definition{Kind: savedSeal, Body: []byte(seal)})
	}
	return append(list, definition{Kind: savedNote, Body: []byte(planning.WriteNote(*note))}), nil
}

// triggersElsewhere are the triggers among definitions, without the name of the database
// that they were made in: the head of each is written anew before its body. One whose body
// is not found at the end of its text is left out.
func triggersElsewhere(ctx context.Context, c *sender, name string, list []definition) ([]definition, error) {
	const op = "read the bodies of triggers"
	var out []definition
	for _, d := range list {
		if d.Kind != "trigger" {
			continue
		}
		var body []byte
		var definer, timing, event, table string
		err := c.QueryRowContext(ctx, "SELECT CAST(CONVERT(ACTION_STATEMENT USING "+quoteIdent(d.Client)+
			") AS BINARY), DEFINER, ACTION_TIMING, EVENT_MANIPULATION, EVENT_OBJECT_TABLE"+
			" FROM information_schema.TRIGGERS WHERE TRIGGER_SCHEMA = ? AND TRIGGER_NAME = ?", name, d.Name).
			Scan(&body, &definer, &timing, &event, &table)
		if err != nil {
			return nil, wrap(op, err)
		}
		if len(body) == 0 || !bytes.HasSuffix(d.Body, body) {
			continue
		}
		head := "CREATE DEFINER=" + definerIn(d.Mode, definer) + " TRIGGER " + quoteIdent(d.Name) + " " + timing + " " +
			event + " ON " + quoteIdent(table) + " FOR EACH ROW "
		d.Kind, d.Body = savedElsewhere, append([]byte(head), body...)
		out = append(out, d)
	}
	return out, nil
}

// probeSaved looks whether all was saved.
func (s *server) probeSaved(ctx context.Context, step change.Step) (bool, error) {
	if _, err := s.readDatabase(ctx, step.Args["held"]); err != nil {
		if errors.Is(err, engine.ErrNotFound) {
			err = nil
		}
		return false, err
	}
	h, err := s.heldNote(ctx, step.Args["held"])
	return h != nil, err
}

// undoSaved drops the database in which another one was to wait, while nothing waits there.
func (s *server) undoSaved(ctx context.Context, step change.Step) (engine.Report, error) {
	held := step.Args["held"]
	if _, err := s.readDatabase(ctx, held); errors.Is(err, engine.ErrNotFound) {
		return engine.Report{}, nil
	}
	if err := s.onlyNotes(ctx, held); err != nil {
		return engine.Report{}, err
	}
	return s.send(ctx, "drop "+naming.Show(held)+" again", dropDatabase(held), step)
}

// onlyNotes refuses what would take more along than what Genarch itself keeps there.
func (s *server) onlyNotes(ctx context.Context, held string) error {
	has, err := s.readObjects(ctx, held)
	if err != nil {
		return err
	}
	others := slices.DeleteFunc(slices.Clone(has.Tables), func(t string) bool { return t == heldTable })
	if n := len(others) + len(has.Views) + len(has.Routines) + len(has.Events); n > 0 {
		return &engine.Error{Op: "drop " + naming.Show(held), Kind: engine.Refused,
			Text: fmt.Sprintf("there is more in %s than what Genarch keeps there: %s", naming.Show(held),
				naming.Count(n, "object")), Next: "Look what it is, and move it away."}
	}
	return nil
}

// movedPast are the errors of dropping what is not there any more: triggers 1360, routines
// 1305, views 1051, 1146 and 4092, events 1539.
var movedPast = []string{"1360", "1305", "1051", "1146", "4092", "1539"}

// moveAside moves everything away once nobody is at it.
func (s *server) moveAside(ctx context.Context, step change.Step) (engine.Report, error) {
	name := step.Args["name"]
	err := s.withConn(ctx, step.Title, step, func(c *sender) error {
		if err := s.tryAll(ctx, c, step.Title, name); err != nil {
			return err
		}
		return s.sendAll(ctx, c, step, engine.DecodeList(step.Args["do"]))
	})
	return engine.Report{}, err
}

// sendAll sends statements one after the other. Those that drop pass over what is gone;
// the one that moves the tables is waited for only shortly: it would hold everybody up.
func (s *server) sendAll(ctx context.Context, c *sender, step change.Step, texts []string) error {
	if err := announce(ctx, c, step); err != nil {
		return err
	}
	for _, text := range texts {
		pass := movedPast
		if strings.HasPrefix(text, "RENAME ") {
			text, pass = s.product.waiting+text, nil
		}
		if e, ok := exec(ctx, c, step.Title, text).(*engine.Error); ok && !slices.Contains(pass, e.Code) {
			return e
		}
	}
	return nil
}

// probeMoved looks whether nothing is left where it was.
func (s *server) probeMoved(ctx context.Context, step change.Step) (bool, error) {
	n, err := s.contents(ctx, step.Args["name"])
	return n == 0, err
}

// undoAside brings everything back to where it was.
func (s *server) undoAside(ctx context.Context, step change.Step) (engine.Report, error) {
	return s.restore(ctx, step, step.Args["to"], step.Args["name"])
}

// moveBack brings everything to where it belongs.
func (s *server) moveBack(ctx context.Context, step change.Step) (engine.Report, error) {
	return s.restore(ctx, step, step.Args["name"], step.Args["to"])
}

// probeBack looks whether all is where it belongs.
func (s *server) probeBack(ctx context.Context, step change.Step) (bool, error) {
	if s.onlyNotes(ctx, step.Args["name"]) != nil {
		return false, nil
	}
	list, err := s.readDefinitions(ctx, step.Args["name"])
	if err != nil {
		return false, err
	}
	has, err := s.readObjects(ctx, step.Args["to"])
	n := 0
	for _, d := range list {
		if slices.Contains(made, d.Kind) {
			n++
		}
	}
	return err == nil && len(has.Views)+len(has.Triggers)+len(has.Routines) == n, err
}

// undoBack moves everything away again: what was saved is still there.
func (s *server) undoBack(ctx context.Context, step change.Step) (engine.Report, error) {
	from, to := step.Args["to"], step.Args["name"]
	if _, err := s.readDatabase(ctx, from); errors.Is(err, engine.ErrNotFound) {
		return engine.Report{}, nil
	}
	has, err := s.readObjects(ctx, from)
	if err != nil {
		return engine.Report{}, err
	}
	return engine.Report{}, s.withConn(ctx, "move it away again", step, func(c *sender) error {
		return s.sendAll(ctx, c, step, has.moved(from, to))
	})
}

// restore moves the tables and events that lie in held to a database, and makes again
// there what was saved. What is done already is passed over, so it can be done again.
func (s *server) restore(ctx context.Context, step change.Step, held, name string) (engine.Report, error) {
	if _, err := s.readDatabase(ctx, held); errors.Is(err, engine.ErrNotFound) {
		return engine.Report{}, nil // nothing was moved
	}
	has, err := s.readObjects(ctx, held)
	if err != nil {
		return engine.Report{}, engine.NeverSent(err)
	}
	list, err := s.readDefinitions(ctx, held)
	if err != nil {
		return engine.Report{}, engine.NeverSent(err)
	}
	// What is made again is made with the rights of Genarch's login: it must be what Genarch
	// saved, or somebody has said that it is good.
	if step.Args["unsealed"] == "" && s.target.Sealer != nil && !s.sealed(held, list) {
		return engine.Report{}, &engine.Error{Op: step.Title, Kind: engine.NotSent,
			Text: "what was saved in " + naming.Show(held) + " was altered since",
			Next: "Look through its table " + heldTable + ", and ask again."}
	}
	note, err := s.heldNote(ctx, held)
	if err != nil {
		return engine.Report{}, engine.NeverSent(err)
	}
	if note == nil {
		return engine.Report{}, &engine.Error{Op: step.Title, Kind: engine.NotSent,
			Text: "what was noted of it cannot be read",
			Next: "Ask again; if it stays like that, look into " + naming.Show(held) + "."}
	}
	away := objects{Events: has.Events,
		Tables: slices.DeleteFunc(has.Tables, func(t string) bool { return t == heldTable })}
	return engine.Report{}, s.withConn(ctx, step.Title, step, func(c *sender) error {
		defer c.Spend()
		if err := s.sendAll(ctx, c, step, away.moved(held, name)); err != nil {
			return err
		}
		if name != note.Name {
			list = elsewhere(list)
		}
		return s.makeAgain(ctx, c, step, name, note.Kept["collation"], list)
	})
}

// makeAgain makes what was saved, each with the sql_mode, the character sets and the
// collation of its database that it was made with. That collation is the database's own
// again afterwards, also when an earlier try was cut off.
func (s *server) makeAgain(ctx context.Context, c *sender, step change.Step, name, own string,
	list []definition) error {
	if err := exec(ctx, c, step.Title, "USE "+quoteIdent(name)); err != nil {
		return err
	}
	current := own
	err := inOrder(list, func(d definition) error {
		if d.Database != "" && d.Database != current {
			if err := exec(ctx, c, step.Title, alterCollation(name, d.Database)); err != nil {
				return err
			}
			current = d.Database
		}
		return sendDefinition(ctx, c, step.Title, d)
	})
	if slices.ContainsFunc(list, func(d definition) bool { return d.Database != "" && d.Database != own }) {
		if reset := exec(ctx, c, step.Title, alterCollation(name, own)); err == nil {
			err = reset
		}
	}
	return err
}

// there are the errors of making what is there: routines 1304, views 1050, triggers 1359.
var there = []string{"1304", "1050", "1359"}

// inOrder makes definitions by kind. Views may need each other: those that fail are tried
// again after the others. What is there is passed over.
func inOrder(list []definition, send func(definition) error) error {
	for _, kind := range made {
		left := slices.DeleteFunc(slices.Clone(list), func(d definition) bool { return d.Kind != kind })
		for len(left) > 0 {
			var failed []definition
			var first error
			for _, d := range left {
				err := send(d)
				e, ok := err.(*engine.Error)
				switch {
				case err == nil || ok && slices.Contains(there, e.Code):
				case !ok || e.Kind != engine.Refused || kind != "view":
					return err
				default:
					failed = append(failed, d)
					if first == nil {
						first = err
					}
				}
			}
			if len(failed) == len(left) {
				return first
			}
			left = failed
		}
	}
	return nil
}

// sendDefinition makes one thing again. Its text is what the server itself showed of it
// and goes back byte for byte under the same sql_mode and character set, so that it is read
// as it was once; a body has semicolons of its own, and the line takes one statement only.
func sendDefinition(ctx context.Context, c *sender, op string, d definition) error {
	client := d.Client
	if client == "" {
		client = "utf8mb4"
	}
	connection := d.Connection
	if connection == "" {
		connection = "utf8mb4_general_ci"
	}
	for _, set := range []string{"SET sql_mode = " + quoteText(d.Mode),
		"SET collation_connection = " + quoteText(connection), "SET character_set_client = " + quoteText(client)} {
		if err := exec(ctx, c, op, set); err != nil {
			return err
		}
	}
	_, err := c.ExecContext(ctx, string(d.Body))
	_, reset := c.ExecContext(ctx, "SET character_set_client = 'utf8mb4', sql_mode = ''")
	if err == nil && reset != nil {
		err = reset
	}
	if e, ok := wrap(op, err).(*engine.Error); ok {
		e.Detail = "at: " + d.Kind + " " + naming.Show(d.Name)
		return e
	}
	return nil
}

// dropShell drops what is left of a database that was moved away: nothing.
func (s *server) dropShell(ctx context.Context, step change.Step) (engine.Report, error) {
	name := step.Args["name"]
	n, err := s.contents(ctx, name)
	if err != nil {
		return engine.Report{}, engine.NeverSent(err)
	}
	if n > 0 {
		return engine.Report{}, &engine.Error{Op: step.Title, Kind: engine.NotSent,
			Text: "somebody made " + naming.Count(n, "object") + " in it meanwhile", Next: "Ask again."}
	}
	rep, err := s.send(ctx, step.Title, s.product.waiting+step.Statement, step)
	if err == nil {
		rep.Messages = append(rep.Messages, s.endReturned(context.WithoutCancel(ctx), name)...)
	}
	return rep, err
}

// undoShell makes the empty database again, if it is not there.
func (s *server) undoShell(ctx context.Context, step change.Step) (engine.Report, error) {
	if _, err := s.readDatabase(ctx, step.Args["name"]); !errors.Is(err, engine.ErrNotFound) {
		return engine.Report{}, err
	}
	return s.send(ctx, "make the database again", step.Undo, step)
}

// dropHeld compares what came back with what was saved, and drops what is left: the notes.
func (s *server) dropHeld(ctx context.Context, step change.Step) (engine.Report, error) {
	held, name := step.Args["name"], step.Args["to"]
	bad, err := s.comeBack(ctx, name, step.Args)
	switch {
	case err != nil:
		return engine.Report{}, engine.NeverSent(err)
	case len(bad) > 0:
		return engine.Report{}, &engine.Error{Op: step.Title, Kind: engine.Refused, Text: strings.Join(bad, "; "),
			Next: "Find out who works in it, and ask again."}
	}
	if err := s.onlyNotes(ctx, held); err != nil {
		return engine.Report{}, err
	}
	return s.send(ctx, step.Title, s.product.waiting+step.Statement, step)
}

// comeBack says in what a database differs from what was set aside.
func (s *server) comeBack(ctx context.Context, name string, args map[string]string) (bad []string, err error) {
	has, err := s.readObjects(ctx, name)
	if err != nil {
		return nil, err
	}
	if n := strconv.Itoa(len(has.Tables)); n != args["tables"] {
		bad = append(bad, fmt.Sprintf("it has %s tables and sequences, and had %s", n, args["tables"]))
	}
	err = s.withConn(ctx, "compare what came back", change.Step{}, func(c *sender) error {
		defer c.Spend()
		list, err := showDefinitions(ctx, c, name, has)
		if err == nil && digest(list) != args["definitions"] {
			bad = append(bad, "its views, routines and triggers are not as they were saved")
		}
		return err
	})
	return bad, err
}

// probeNoted looks whether a note is written.
func (s *server) probeNoted(ctx context.Context, step change.Step) (bool, error) {
	h, err := s.heldNote(ctx, step.Args["name"])
	return h != nil && planning.WriteNote(*h) == step.Args["note"], err
}

// checkHeld reads that a database waits as it should.
func (s *server) checkHeld(ctx context.Context, args map[string]string) ([]string, error) {
	h, err := s.heldNote(ctx, args["name"])
	if err != nil {
		return nil, err
	}
	if h == nil {
		return []string{"nothing waits as " + naming.Show(args["name"])}, nil
	}
	if note, asked := args["note"]; asked && planning.WriteNote(*h) != note {
		return []string{"it is not noted as asked"}, nil
	}
	if was, asked := args["held_as"]; asked {
		if h.Name != was {
			return []string{"it is noted that it was " + naming.Show(h.Name)}, nil
		}
		if _, err := s.readDatabase(ctx, was); !errors.Is(err, engine.ErrNotFound) {
			return []string{naming.Show(was) + " is still there, or there again"}, err
		}
		has, err := s.readObjects(ctx, args["name"])
		if n := strconv.Itoa(len(has.Tables) - 1); err == nil && n != args["tables"] {
			return []string{n + " tables and sequences wait, and there were " + args["tables"]}, nil
		}
		return nil, err
	}
	return nil, nil
}
