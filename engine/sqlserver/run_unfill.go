package sqlserver

import (
	"context"
	"database/sql"
	"errors"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/engine"
)

// dropFiller ends whatever session the login of a script has, takes back what it granted, gives its
// schemas to dbo, and drops the note, the user and the login. It can be done again.
func (s *server) dropFiller(ctx context.Context, step change.Step) (engine.Report, error) {
	if err := s.endFiller(ctx, step); err != nil {
		return engine.Report{}, engine.NeverSent(err)
	}
	texts, err := s.fillerLeavings(ctx, step)
	if err != nil {
		return engine.Report{}, engine.NeverSent(err)
	}
	return engine.Report{}, s.sendAll(ctx, step, texts)
}

// probeNoFiller drops it again, which does no harm: it has to go, whatever was cut off.
func (s *server) probeNoFiller(ctx context.Context, step change.Step) (bool, error) {
	_, err := s.dropFiller(ctx, step)
	return err == nil, err
}

// endFiller ends the sessions of a script's login, and waits until the server has rolled back what they
// did. Source: sys.dm_exec_sessions.
func (s *server) endFiller(ctx context.Context, step change.Step) error {
	for {
		var ids []catalog.SessionID
		err := s.query(ctx, "look for the sessions of the script", "SELECT s.session_id, "+markColumn+sessionTables+
			" WHERE s.original_login_name = @p1", func(r *sql.Rows) error {
			var id catalog.SessionID
			err := r.Scan(&id.Number, &id.Mark)
			ids = append(ids, id)
			return err
		}, step.Args["account"])
		if err != nil || len(ids) == 0 {
			return err
		}
		if _, err := s.End(ctx, ids, catalog.EndSession); err != nil {
			return err
		}
		if !engine.Pause(ctx, tryPause) {
			return &engine.Error{Op: step.Title, Kind: engine.NotSent, Passing: true,
				Text: "what the script did is still being rolled back", Next: "Wait until it is, then ask again."}
		}
	}
}

// fillerLeavings are the statements that take away what is there of the login of a script. A database that
// is gone holds nothing of it.
func (s *server) fillerLeavings(ctx context.Context, step change.Step) ([]string, error) {
	account, name := step.Args["account"], step.Args["name"]
	var texts []string
	bySID, err := s.readServerPrincipals(ctx, &catalog.Access{})
	if err != nil {
		return nil, err
	}
	_, err = s.readDatabase(ctx, name)
	if err != nil && !errors.Is(err, engine.ErrNotFound) {
		return nil, err
	}
	if err == nil {
		w := &within{}
		w.database.Name = name
		if err := s.readWithin(ctx, name, bySID, w); err != nil {
			return nil, err
		}
		for _, c := range w.database.Interior.Classes {
			for _, e := range c.Entries {
				if e.Grantor == account {
					set := e.Privileges.Or(e.Denied)
					texts = append(texts, granting(verbRevoke, set, c.Object, e.Grantee, true, account))
				}
			}
			if c.Object.Scope == catalog.ScopeSchema && c.Owner == account {
				texts = append(texts, schemaTo(name, c.Object.Schema, defaultSchema))
			}
		}
		there, err := s.objectThere(ctx, fillNote(step))
		if err != nil {
			return nil, err
		}
		if there {
			texts = append(texts, inDatabase(name, "DROP TABLE "+quoteIdent(defaultSchema)+"."+quoteIdent(account)))
		}
		texts = append(texts, dropUserSQL(account, name))
	}
	for _, login := range bySID {
		if login == account {
			texts = append(texts, dropLoginSQL(account))
		}
	}
	return texts, nil
}

// schemaTo gives a schema to somebody.
func schemaTo(database, schema, owner string) string {
	return inDatabase(database, "ALTER AUTHORIZATION ON SCHEMA::"+quoteIdent(schema)+" TO "+quoteIdent(owner))
}
