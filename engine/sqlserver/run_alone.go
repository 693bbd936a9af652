package sqlserver

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"time"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/clearing"
	"example.com/genarch/engine"
)

// In a database that is set for a single session, the place belongs to whoever comes first, be it a
// program that connects again and again. So it is set from within, by a session that stays in it until
// the last: as long as it is there nobody else gets in.

// tryTime bounds how long a place is fought for that others take again and again; tryPause stands
// between two tries.
const (
	tryTime  = 20 * time.Second
	tryPause = 20 * time.Millisecond
)

// inTheWay are the errors of a place that somebody has taken: 5064 and 924 single-user, 5061 and 5070
// locked, 5030 and 3702 in use.
var inTheWay = map[string]bool{"5064": true, "924": true, "5061": true, "5070": true, "5030": true, "3702": true}

// alone takes a database for a session, has f do there what has to be done, and gives it free again: as
// access says, under the name that f leaves it with; "" where nothing is to be given free.
func (s *server) alone(ctx context.Context, step change.Step, name, access string,
	f func(c *sender) (now string, err error)) error {
	d, err := s.same(ctx, step, name)
	if err != nil {
		return err
	}
	if err := s.nobodyWrote(ctx, step, name); err != nil {
		return err
	}
	s.counts.Looking.Lock() // our own counting of tables is not to be in the way
	defer s.counts.Looking.Unlock()
	return s.withConn(ctx, step.Title, step, func(c *sender) error {
		if err := announce(ctx, c, step); err != nil {
			return err
		}
		if err := s.enter(ctx, c, step, name); err != nil {
			// It is not to stay there, in everybody's way.
			return cmp.Or(err, exec(context.WithoutCancel(ctx), c, step.Title, useDatabase(master)))
		}
		now, err := f(c)
		if err != nil {
			// Whoever was let in before is to get in again, whatever became of the rest.
			after := context.WithoutCancel(ctx)
			if free := exec(after, c, "give it free again", freeStatement(name, d)); free == nil {
				return cmp.Or(err, exec(after, c, step.Title, useDatabase(master)))
			}
			if e, ok := err.(*engine.Error); ok && e.Kind == engine.Refused {
				if freed := s.free(after, step, d.Key, d.Properties.Text("access")); freed != nil {
					e.Next = "Nobody can connect to it until it is given free: " + freeStatement(name, d)
				}
			}
			return err
		}
		if now != "" {
			if err := exec(ctx, c, step.Title, setOption(now, clause("access", access), "")); err != nil {
				return err
			}
			return exec(ctx, c, step.Title, useDatabase(master))
		}
		return nil
	})
}

// same reads the database that a step is about, and refuses another one of its name.
func (s *server) same(ctx context.Context, step change.Step, name string) (catalog.Database, error) {
	d, err := s.readDatabase(ctx, name)
	refuse := func(format string, args ...any) error {
		return &engine.Error{Op: step.Title, Kind: engine.Refused, Text: fmt.Sprintf(format, args...),
			Next: "Look what there is, and ask again."}
	}
	switch {
	case errors.Is(err, engine.ErrNotFound):
		return d, refuse("%s is gone", shown(name))
	case err != nil:
		return d, engine.NeverSent(err)
	case d.Key != step.Args["key"]:
		return d, refuse("%s is another one than was looked at: it was made anew meanwhile", shown(name))
	}
	return d, nil
}

// nobodyWrote refuses to end somebody who came back after all were gone, and has written since.
func (s *server) nobodyWrote(ctx context.Context, step change.Step, name string) error {
	list, err := s.Sessions(ctx, catalog.SessionQuery{Database: name, Brief: true})
	if err != nil {
		return engine.NeverSent(err)
	}
	for _, x := range (clearing.Target{Database: name}).Of(list.Sessions) {
		switch {
		case x.Kind == catalog.BackupSession:
			return &engine.Error{Op: step.Title, Kind: engine.NotSent, Passing: true,
				Text: "a backup has begun: " + clearing.Who(x), Next: "Let it finish, then ask again."}
		case x.Written && step.Args["accept_loss"] != "yes":
			return &engine.Error{Op: step.Title, Kind: engine.NotSent, Passing: true,
				Text: "somebody came back and has written, which would be lost: " + clearing.Who(x),
				Next: "Let them finish, then ask again; or accept the loss."}
		}
	}
	return nil
}

// enter goes into a database and takes it for the session alone. Who has taken the one place before is
// ended, by its identity.
func (s *server) enter(ctx context.Context, c *sender, step change.Step, name string) error {
	termination, until := noWait, time.Now()
	if step.Args["ends"] == "yes" {
		termination, until = atOnce, until.Add(tryTime)
	}
	return s.fight(ctx, c, name, until, func() error {
		if err := exec(ctx, c, step.Title, useDatabase(name)); err != nil {
			return err
		}
		return exec(ctx, c, step.Title, setOption(name, singleUser, termination))
	})
}

// fight tries something until nobody is in the way any more, and ends who is.
func (s *server) fight(ctx context.Context, c *sender, name string, until time.Time, try func() error) error {
	for {
		err := try()
		e, ok := err.(*engine.Error)
		if !ok || e.Kind != engine.Refused || !inTheWay[e.Code] || time.Now().After(until) {
			return err
		}
		ended, err := s.endHolders(ctx, name)
		if err != nil {
			return err
		}
		// Between the end of one and the next who takes the place there is hardly any time.
		if ended == 0 && !engine.Pause(ctx, tryPause) {
			return e
		}
	}
}

// endHolders ends the clients that are in a database, each by its identity, and says how many.
func (s *server) endHolders(ctx context.Context, name string) (int, error) {
	list, err := s.Sessions(ctx, catalog.SessionQuery{Database: name, Brief: true})
	if err != nil {
		return 0, err
	}
	var ids []catalog.SessionID
	for _, x := range list.Sessions {
		if x.Kind == catalog.ClientSession {
			ids = append(ids, x.ID)
		}
	}
	_, err = s.End(ctx, ids, catalog.EndSession)
	return len(ids), err
}

// free lets everybody into a database again that was left for a single session. One that is not there
// any more needs nothing.
func (s *server) free(ctx context.Context, step change.Step, key, access string) error {
	d, err := s.byKey(ctx, key)
	if errors.Is(err, engine.ErrNotFound) {
		return nil
	}
	if err != nil || d.Closed || d.Properties.Text("access") == access || access == "" {
		return err
	}
	return s.withConn(ctx, "give it free again", step, func(c *sender) error {
		if err := announce(ctx, c, step); err != nil {
			return err
		}
		return s.fight(ctx, c, d.Name, time.Now().Add(tryTime), func() error {
			return exec(ctx, c, "give it free again", setOption(d.Name, clause("access", access), ""))
		})
	})
}

// dropNow drops a database from within: the last two statements go as one text, so that hardly
// anybody can come in between; who does is ended, and it is tried again.
func (s *server) dropNow(ctx context.Context, step change.Step) (engine.Report, error) {
	name := step.Args["name"]
	return engine.Report{}, s.alone(ctx, step, name, "", func(c *sender) (string, error) {
		act := step.Args["act"]
		if err := engine.Single(step.Title, act, dialect); err != nil {
			return "", err
		}
		return "", s.fight(ctx, c, name, time.Now().Add(tryTime), func() error {
			return send(ctx, c, step.Title, useDatabase(master)+"; "+act)
		})
	})
}

// probeDrop looks whether it is gone; one that is still there is given free again.
func (s *server) probeDrop(ctx context.Context, step change.Step) (bool, error) {
	_, err := s.byKey(ctx, step.Args["key"])
	if errors.Is(err, engine.ErrNotFound) {
		return true, nil
	}
	if err != nil {
		return false, err
	}
	return false, s.free(ctx, step, step.Args["key"], step.Args["access"])
}

func (s *server) undoDrop(ctx context.Context, step change.Step) (engine.Report, error) {
	return engine.Report{}, s.free(ctx, step, step.Args["key"], step.Args["access"])
}

// alterAlone sets an option that needs the database alone.
func (s *server) alterAlone(ctx context.Context, step change.Step) (engine.Report, error) {
	return s.setAlone(ctx, step, step.Args["act"], step.Args["access"])
}

func (s *server) setAlone(ctx context.Context, step change.Step, statement, access string) (engine.Report, error) {
	name := step.Args["name"]
	return engine.Report{}, s.alone(ctx, step, name, access, func(c *sender) (string, error) {
		return name, exec(ctx, c, step.Title, statement)
	})
}

// probeAlone looks whether the option is set, and gives the database free.
func (s *server) probeAlone(ctx context.Context, step change.Step) (bool, error) {
	before := step
	before.Args = map[string]string{}
	for name, value := range step.Args {
		if name != "access" || step.Args["former"] != value {
			before.Args[name] = value
		}
	}
	took, err := s.probeAlter(ctx, before)
	if err != nil {
		return took, err
	}
	access := step.Args["former"]
	if took {
		access = step.Args["access"]
	}
	return took, s.free(ctx, step, step.Args["key"], access)
}

func (s *server) undoAlone(ctx context.Context, step change.Step) (engine.Report, error) {
	if _, err := s.byKey(ctx, step.Args["key"]); errors.Is(err, engine.ErrNotFound) {
		return engine.Report{}, nil
	}
	return s.setAlone(ctx, step, step.Undo, step.Args["former"])
}

// rename gives a database another name.
func (s *server) rename(ctx context.Context, step change.Step) (engine.Report, error) {
	return engine.Report{}, s.renameTo(ctx, step, step.Args["name"], step.Args["new"], step.Args["access"], false)
}

// renameTo renames from within; with off, it goes offline under its new name, and stays for a single
// session until it comes back.
func (s *server) renameTo(ctx context.Context, step change.Step, from, to, access string, off bool) error {
	return s.alone(ctx, step, from, access, func(c *sender) (string, error) {
		if err := exec(ctx, c, step.Title, renameDatabase(from, to)); err != nil {
			return from, err
		}
		if !off {
			return to, nil
		}
		err := exec(ctx, c, step.Title, setOption(to, "OFFLINE", atOnce))
		if err != nil {
			return to, cmp.Or(err, exec(context.WithoutCancel(ctx), c, step.Title, renameDatabase(to, from)))
		}
		return "", nil
	})
}

// probeRename looks whether it has its new name, and gives it free.
func (s *server) probeRename(ctx context.Context, step change.Step) (bool, error) {
	d, err := s.byKey(ctx, step.Args["key"])
	if errors.Is(err, engine.ErrNotFound) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	return d.Name == step.Args["new"] && !d.Closed, s.free(ctx, step, step.Args["key"], step.Args["access"])
}

func (s *server) undoRename(ctx context.Context, step change.Step) (engine.Report, error) {
	d, err := s.byKey(ctx, step.Args["key"])
	if errors.Is(err, engine.ErrNotFound) {
		return engine.Report{}, nil
	}
	if err != nil || d.Name == step.Args["name"] {
		return engine.Report{}, cmp.Or(err, s.free(ctx, step, step.Args["key"], step.Args["access"]))
	}
	return engine.Report{}, s.renameTo(ctx, step, d.Name, step.Args["name"], step.Args["access"], false)
}

// setAside renames a database and takes it offline.
func (s *server) setAside(ctx context.Context, step change.Step) (engine.Report, error) {
	return engine.Report{}, s.renameTo(ctx, step, step.Args["name"], step.Args["new"], "", true)
}

// probeAside looks whether it waits, offline; one that does not is given free.
func (s *server) probeAside(ctx context.Context, step change.Step) (bool, error) {
	d, err := s.byKey(ctx, step.Args["key"])
	if errors.Is(err, engine.ErrNotFound) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	if d.Name == step.Args["new"] && d.Closed {
		return true, nil
	}
	return false, s.free(ctx, step, step.Args["key"], step.Args["access"])
}

// undoAside brings it online, and gives it its name back.
func (s *server) undoAside(ctx context.Context, step change.Step) (engine.Report, error) {
	return engine.Report{}, s.online(ctx, step, step.Args["name"], step.Args["access"])
}

// bringBack brings it online, and gives it its name.
func (s *server) bringBack(ctx context.Context, step change.Step) (engine.Report, error) {
	return engine.Report{}, s.online(ctx, step, step.Args["new"], step.Args["access"])
}

// online brings a database online whatever it is called now, gives it a name, and free.
func (s *server) online(ctx context.Context, step change.Step, name, access string) error {
	d, err := s.byKey(ctx, step.Args["key"])
	if errors.Is(err, engine.ErrNotFound) {
		return nil
	}
	if err != nil {
		return err
	}
	if d.Closed {
		if _, err := s.sendOne(ctx, step.Title, setOption(d.Name, "ONLINE", ""), step); err != nil {
			return err
		}
	}
	if d.Name == name {
		return s.free(ctx, step, step.Args["key"], access)
	}
	step.Learn(map[string]string{"ends": "yes"}) // it is nobody's until it has its name
	return s.renameTo(ctx, step, d.Name, name, access, false)
}

// undoBack sets it aside again.
func (s *server) undoBack(ctx context.Context, step change.Step) (engine.Report, error) {
	d, err := s.byKey(ctx, step.Args["key"])
	if errors.Is(err, engine.ErrNotFound) || err == nil && d.Name == step.Args["name"] && d.Closed {
		return engine.Report{}, nil
	}
	if err != nil {
		return engine.Report{}, err
	}
	if d.Name == step.Args["name"] {
		return s.sendOne(ctx, "undo: "+step.Title, setOption(d.Name, "OFFLINE", atOnce), step)
	}
	return engine.Report{}, s.renameTo(ctx, step, d.Name, step.Args["name"], "", true)
}
