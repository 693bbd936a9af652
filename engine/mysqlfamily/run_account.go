package mysqlfamily

import (
	"context"
	"database/sql"
	"errors"
	"strconv"
	"time"

	"github.com/go-sql-driver/mysql"

	"example.com/genarch/core/change"
	"example.com/genarch/core/naming"
	"example.com/genarch/core/remedy"
	"example.com/genarch/engine"
)

// runStatement sends one short statement, with what the server keeps of a
// password in place of the mask.
func (s *server) runStatement(ctx context.Context, step change.Step) (engine.Report, error) {
	if step.Statement == "" {
		return engine.Report{}, engine.Checked(s.check(ctx, step))
	}
	text := step.Statement
	if names := step.SecretsNeeded(); len(names) == 1 {
		password, ok := step.Secrets[names[0]]
		if !ok {
			return engine.Report{}, &engine.Error{Op: step.Title, Kind: engine.NotSent,
				Text: "the password of " + naming.Show(names[0]) + " is not kept any more", Next: "Ask again."}
		}
		hash, err := s.product.verifier(step.Args["method"], password.Reveal())
		if err != nil {
			return engine.Report{}, &engine.Error{Op: step.Title, Kind: engine.NotSent, Err: err}
		}
		text = step.Filled(quoteText(hash))
	}
	rep, err := s.send(ctx, step.Title, text, step)
	if err == nil && (step.Kind == stepCreateAccount || step.Kind == stepCreateRole) {
		rep.Learned = map[string]string{"made": "yes"}
	}
	return rep, err
}

// undoCreateAccount drops the account or role that this change made, and only that.
func (s *server) undoCreateAccount(ctx context.Context, step change.Step) (engine.Report, error) {
	const op = "take the account back"
	p := principalOf(step.Args)
	_, found, err := s.readAccount(ctx, p)
	if err != nil || !found {
		return engine.Report{}, err
	}
	if step.Args["made"] == "" {
		// The answer was lost: its password tells whether it is the one.
		bad, err := s.checkPassword(ctx, step, p)
		if err != nil || len(bad) > 0 || len(step.SecretsNeeded()) == 0 {
			return engine.Report{}, &engine.Error{Op: op, Kind: engine.Refused,
				Text: "it is not certain that this change made " + naming.Show(p.String()) + ", so it was left alone",
				Next: "Look at it, and drop it if it is not needed."}
		}
	}
	return s.send(ctx, op, step.Undo, step)
}

// prove signs in as each account, side by side, and tries what it may and what
// not. Without bundles only the sign-in is tried.
func (s *server) prove(ctx context.Context, step change.Step) (engine.Report, error) {
	database := step.Args["database"]
	if step.Args["bundles"] != "" {
		table := quoteIdent(database) + "." + quoteIdent(proofTable)
		if _, err := s.send(ctx, "make a table to try the accounts on", "CREATE TABLE IF NOT EXISTS "+table+" (id INT)",
			change.Step{}); err != nil {
			return engine.Report{}, err
		}
		defer func() {
			ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), 10*time.Second)
			defer cancel()
			_, _ = s.send(ctx, "remove it", "DROP TABLE IF EXISTS "+table, change.Step{})
		}()
	}
	return engine.Prove(step, func(account, bundle string, say func(string)) error {
		return s.proveOne(ctx, account, database, bundle, step, say)
	})
}

// proveOne: Long: each try of the sign-in rests on the one before.
func (s *server) proveOne(ctx context.Context, account, database, bundle string, step change.Step,
	say func(string)) error {
	op := "sign in as " + account
	name, _ := splitAccount(account)
	password, ok := step.Secrets[name]
	if !ok {
		return &engine.Error{Op: op, Kind: engine.NotSent, Text: "its password is not kept any more",
			Next: "Set another one.", Actions: []remedy.Action{remedy.Command("account.password", "")}}
	}
	differs := func(text string) error { return &engine.Error{Op: op, Kind: engine.Differs, Text: text} }
	cfg := s.config.Clone()
	cfg.User = name
	cfg.Passwd, cfg.DBName = password.Reveal(), database
	connector, err := mysql.NewConnector(cfg)
	if err != nil {
		return &engine.Error{Op: op, Kind: engine.NotSent, Err: err}
	}
	db := sql.OpenDB(connector)
	var session int64
	defer func() {
		db.Close()
		s.waitGone(ctx, session)
	}()
	db.SetMaxOpenConns(1)
	var current string
	err = db.QueryRowContext(ctx, "SELECT CURRENT_USER(), CONNECTION_ID()").Scan(&current, &session)
	if me, answered := errors.AsType[*mysql.MySQLError](err); answered {
		switch me.Number {
		case 1226, 1820, 1862: // too many, to be changed first: the password was taken
			say(account + " was let in by its password; the server then said: " + me.Message)
			return nil
		}
		return &engine.Error{Op: op, Kind: engine.Differs, Code: strconv.Itoa(int(me.Number)), Text: me.Message}
	}
	if err != nil {
		return wrap(op, err)
	}
	if current != account {
		return differs("the server took it for " + current + ", another account")
	}
	say(account + " signed in")
	if bundle == "" {
		return nil
	}
	table := quoteIdent(database) + "." + quoteIdent(proofTable)
	for _, try := range []struct {
		what, text string
		may        bool
	}{
		{"read a table", "SELECT * FROM " + table, true},
		{"insert", "INSERT INTO " + table + " VALUES (1)", bundle == "write"},
		{"make a table", "CREATE TABLE " + quoteIdent(database) + ".genarch_refused (id INT)", false},
	} {
		_, err := db.ExecContext(ctx, try.text)
		me, refused := errors.AsType[*mysql.MySQLError](err)
		refused = refused && (me.Number == 1142 || me.Number == 1044)
		switch {
		case err == nil && try.may:
			say(account + " may " + try.what)
		case refused && !try.may:
			say(account + " is refused to " + try.what)
		case err == nil:
			return differs(account + " may " + try.what + ", which is not part of the bundle " + bundle)
		default:
			return differs(account + " cannot " + try.what + ": " + err.Error())
		}
	}
	return nil
}

// waitGone waits a moment until the server has ended a session that was just
// closed: it would count as one of the account's.
func (s *server) waitGone(ctx context.Context, session int64) {
	ctx, cancel := context.WithTimeout(ctx, 2*time.Second)
	defer cancel()
	for session > 0 && ctx.Err() == nil {
		var n int
		if err := s.db.QueryRowContext(ctx, `SELECT COUNT(*) FROM `+s.product.processlist+` WHERE ID = ?`,
			session).Scan(&n); err != nil || n == 0 {
			return
		}
		select {
		case <-ctx.Done():
		case <-time.After(2 * time.Millisecond):
		}
	}
}
