package postgres

import (
	"context"
	"crypto/rand"
	"errors"
	"strconv"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"example.com/genarch/core/change"
	"example.com/genarch/core/naming"
	"example.com/genarch/core/remedy"
	"example.com/genarch/engine"
	"example.com/genarch/engine/planning"
)

// filled is the statement that is really sent: with a verifier in place of the
// mask, made anew each time.
func filled(step change.Step) (string, error) {
	names := step.SecretsNeeded()
	if len(names) != 1 || step.Kind == engine.StepProve {
		return step.Statement, nil
	}
	password, ok := step.Secrets[names[0]]
	if !ok {
		return "", &engine.Error{Op: step.Title, Kind: engine.NotSent,
			Text: "the password of " + naming.Show(names[0]) + " is not kept any more", Next: "Ask again."}
	}
	salt := make([]byte, 16)
	if _, err := rand.Read(salt); err != nil {
		return "", &engine.Error{Op: step.Title, Kind: engine.NotSent, Err: err}
	}
	verifier, err := scramVerifier(password.Reveal(), salt, scramIterations)
	if err != nil {
		return "", &engine.Error{Op: step.Title, Kind: engine.NotSent, Err: err}
	}
	return step.Filled("'" + verifier + "'"), nil
}

// runStatement sends one short statement.
func (s *server) runStatement(ctx context.Context, step change.Step) (engine.Report, error) {
	if step.Statement == "" {
		return engine.Report{}, engine.Checked(s.check(ctx, step))
	}
	text, err := filled(step)
	if err != nil {
		return engine.Report{}, err
	}
	return s.alter(ctx, step.Title, text, step)
}

// createRole makes a role and notes its number, by which it is known when it
// has to be rolled back.
func (s *server) createRole(ctx context.Context, step change.Step) (engine.Report, error) {
	rep, err := s.runStatement(ctx, step)
	if err == nil {
		var key uint32
		if s.pool.QueryRow(ctx, `SELECT oid FROM pg_catalog.pg_roles WHERE rolname::text = $1::text`,
			step.Args["name"]).Scan(&key) == nil {
			rep.Learned = map[string]string{"role_key": strconv.FormatUint(uint64(key), 10)}
		}
	}
	return rep, err
}

// undoCreateRole drops the role that this change made, and only that.
func (s *server) undoCreateRole(ctx context.Context, step change.Step) (engine.Report, error) {
	a, ok, err := s.account(ctx, step.Args["name"])
	if err != nil || !ok {
		return engine.Report{}, err
	}
	ours := step.Args["role_key"] == a.Key
	if step.Args["role_key"] == "" && len(step.SecretsNeeded()) == 1 {
		// The answer was lost: its password tells whether it is the one.
		bad, err := s.checkPassword(ctx, step)
		ours = err == nil && len(bad) == 0
	}
	if !ours {
		return engine.Report{}, &engine.Error{Op: "take the role back", Kind: engine.Refused,
			Text: "it is not certain that this change made the role " + naming.Show(a.Name) + ", so it was left alone",
			Next: "Look at the role, and drop it if it is not needed."}
	}
	return s.rollBack(ctx, "take the role back", step.Undo, step)
}

// maxRestore bounds the statements that are noted for putting privileges back.
const maxRestore = 20000

// alterAccess runs the statements of a step inside its database, in one
// transaction. Right before the commit, what it takes to put everything back as
// it was goes on record: whatever becomes of the answer, it can be undone.
func (s *server) alterAccess(ctx context.Context, step change.Step) (engine.Report, error) {
	op := step.Title
	var rep engine.Report
	conn, err := s.dialDatabase(ctx, step.Args["database"], func(m change.Message) {
		if len(rep.Messages) < maxNotices {
			rep.Messages = append(rep.Messages, m)
		}
	})
	if err != nil {
		return rep, engine.NeverSent(err)
	}
	defer conn.Close(context.WithoutCancel(ctx))
	tx, err := conn.Begin(ctx)
	if err != nil {
		return rep, engine.NeverSent(wrap(op, err))
	}
	defer tx.Rollback(context.WithoutCancel(ctx))
	n, err := noteBefore(ctx, tx, step)
	if err != nil {
		return rep, engine.NeverSent(err)
	}
	for _, text := range engine.DecodeList(step.Args["statements"]) {
		if err := exec(ctx, conn.Conn, text); err != nil {
			// Nothing holds before the commit, whatever became of the answer.
			return rep, notCommitted(op, err)
		}
	}
	learned, err := n.after(ctx, tx)
	if err != nil {
		return rep, engine.NeverSent(err)
	}
	if err := announce(ctx, conn.Conn, step,
		change.Sending{Learned: learned, Undo: undoText(step, learned)}); err != nil {
		return rep, err
	}
	err = tx.Commit(ctx)
	s.interiors.forget()
	rep.Learned = learned
	if _, answered := errors.AsType[*pgconn.PgError](err); err != nil && !answered {
		return rep, engine.Classify(op, err, true)
	}
	return rep, wrap(op, err)
}

// notCommitted marks an error that came before the commit was sent: nothing
// took effect, even if the line was cut.
func notCommitted(op string, err error) error {
	if _, answered := errors.AsType[*pgconn.PgError](err); answered {
		return wrap(op, err)
	}
	return engine.NeverSent(wrap(op, err))
}

// undoAccess puts privileges and owners back as they were before the step, from
// what went on record right before it took effect. What cannot be put back is
// said, one by one.
func (s *server) undoAccess(ctx context.Context, step change.Step) (engine.Report, error) {
	const op = "put the privileges back"
	var rep engine.Report
	noted, ok := step.Args[argRestore]
	if !ok {
		return rep, &engine.Error{Op: op, Kind: engine.Refused,
			Text: "what was there before is not on record (" + orElse(step.Args[argUnnoted], "it was never noted") +
				"), so nothing was put back",
			Next: "Look at the statements of this step, and grant by hand what they revoked."}
	}
	conn, err := s.dialDatabase(ctx, step.Args["database"])
	if err != nil {
		return rep, err
	}
	defer conn.Close(context.WithoutCancel(ctx))
	tx, err := conn.Begin(ctx)
	if err != nil {
		return rep, wrap(op, err)
	}
	defer tx.Rollback(context.WithoutCancel(ctx))
	for _, text := range engine.DecodeList(noted) {
		if err := exec(ctx, conn.Conn, text); err != nil {
			e, _ := wrap(op, err).(*engine.Error)
			e.Detail = "at: " + text
			return rep, e
		}
	}
	if err := announce(ctx, conn.Conn, step, change.Sending{}); err != nil {
		return rep, err
	}
	s.interiors.forget()
	if err := tx.Commit(ctx); err != nil {
		return rep, wrap(op, err)
	}
	if lost := engine.DecodeList(step.Args[argLost]); len(lost) > 0 {
		return rep, &engine.Error{Op: op, Kind: engine.Differs,
			Text: "everything else was granted again, but no statement restores: " + planning.Shorten(lost),
			Next: "Put these right by hand."}
	}
	return rep, nil
}

// prove signs in as each account, side by side, and tries what it may and may
// not do. Without bundles only the sign-in is tried.
func (s *server) prove(ctx context.Context, step change.Step) (engine.Report, error) {
	database := step.Args["database"]
	if step.Args["bundles"] != "" {
		remove, err := s.makeProofTable(ctx, database, step.Args["owner"])
		if err != nil {
			return engine.Report{}, err
		}
		defer remove()
	}
	return engine.Prove(step, func(account, bundle string, say func(string)) error {
		conn, tried, err := s.signIn(ctx, database, account, step)
		if err != nil {
			return err
		}
		say(tried)
		if conn == nil {
			return nil
		}
		if bundle != "" {
			err = tryBundle(ctx, conn, account, bundle, say)
		}
		conn.Close(context.WithoutCancel(ctx))
		s.waitGone(ctx, account)
		return err
	})
}

// waitGone waits a moment until the server has ended the session that was just
// closed: it would count as one of the account's.
func (s *server) waitGone(ctx context.Context, account string) {
	ctx, cancel := context.WithTimeout(ctx, 2*time.Second)
	defer cancel()
	for ctx.Err() == nil {
		var n int
		err := s.pool.QueryRow(
			ctx,
			`SELECT count(*)::int FROM pg_catalog.pg_stat_activity WHERE usename::text = $1::text AND application_name = 'genarch'`,
			account,
		).Scan(
			&n,
		)
		if err != nil || n == 0 {
			return
		}
		select {
		case <-ctx.Done():
		case <-time.After(2 * time.Millisecond):
		}
	}
}

// signIn connects as an account with its password. A sign-in that the server's
// pg_hba.conf does not let in from here proves nothing and is told as such.
func (s *server) signIn(ctx context.Context, database, account string, step change.Step) (*pgx.Conn, string, error) {
	password, ok := step.Secrets[account]
	if !ok {
		return nil, "", &engine.Error{Op: "sign in as " + account, Kind: engine.NotSent,
			Text: "its password is not kept any more", Next: "Set another one.",
			Actions: []remedy.Action{remedy.Command("account.password", "")}}
	}
	cfg := s.config.Copy()
	cfg.User, cfg.Password = account, password.Reveal()
	if database != "" {
		cfg.Database = database
	}
	cfg.OnNotice = nil
	conn, err := pgx.ConnectConfig(ctx, cfg)
	where := naming.Show(cfg.Database)
	var answer *pgconn.PgError
	switch {
	case err == nil:
		var current string
		if err := conn.QueryRow(ctx, `SELECT current_user::text`).Scan(&current); err != nil {
			conn.Close(context.WithoutCancel(ctx))
			return nil, "", wrap("sign in as "+account, err)
		}
		return conn, account + " signed in to " + where, nil
	case errors.As(err, &answer):
		switch answer.Code {
		case "28000":
			if strings.Contains(answer.Message, "pg_hba.conf") {
				return nil, account + " could not be tried from here: " + answer.Message, nil
			}
		case "53300", "42501", "55000": // too many, not this database, closed: the password was taken
			return nil, account + " was let in by its password; the server then said: " + answer.Message, nil
		}
		return nil, "", &engine.Error{Op: "sign in as " + account, Kind: engine.Differs, Code: answer.Code,
			Text: answer.Message}
	}
	return nil, "", wrap("sign in as "+account, err)
}

// makeProofTable makes a table as the owner, so that it opens to the accounts
// by default privileges alone, like every table that is made later.
func (s *server) makeProofTable(ctx context.Context, database, owner string) (remove func(), err error) {
	conn, err := s.dialDatabase(ctx, database)
	if err != nil {
		return nil, err
	}
	table := "public." + quoteIdent(proofTable)
	for _, text := range []string{"SET ROLE " + quoteIdent(owner), "DROP TABLE IF EXISTS " + table,
		"CREATE TABLE " + table + " (id int)"} {
		if err := exec(ctx, conn.Conn, text); err != nil {
			conn.Close(context.WithoutCancel(ctx))
			return nil, wrap("make a table to try the accounts on", err)
		}
	}
	return func() {
		ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), 10*time.Second)
		defer cancel()
		_ = exec(ctx, conn.Conn, "DROP TABLE IF EXISTS "+table)
		conn.Close(ctx)
	}, nil
}

// tryBundle does what a bundle lets one do, and what it must not.
func tryBundle(ctx context.Context, conn *pgx.Conn, account, bundle string, say func(string)) error {
	table := "public." + quoteIdent(proofTable)
	for _, try := range []struct {
		what, text string
		may        bool
	}{
		{"read a table", "SELECT * FROM " + table, true},
		{"insert, update and delete", "WITH x AS (INSERT INTO " + table + " VALUES (1) RETURNING id) SELECT * FROM x",
			bundle == "write"},
		{"make a table", "CREATE TABLE public.genarch_refused (id int)", false},
	} {
		err := exec(ctx, conn, try.text)
		answer, refused := errors.AsType[*pgconn.PgError](err)
		switch {
		case err == nil && try.may:
			say(account + " may " + try.what)
		case refused && answer.Code == "42501" && !try.may:
			say(account + " is refused to " + try.what)
		case err == nil:
			return &engine.Error{Op: "try the accounts", Kind: engine.Differs,
				Text: account + " may " + try.what + ", which is not part of the bundle " + bundle}
		default:
			return &engine.Error{Op: "try the accounts", Kind: engine.Differs,
				Text: account + " cannot " + try.what + ": " + err.Error()}
		}
	}
	return nil
}
