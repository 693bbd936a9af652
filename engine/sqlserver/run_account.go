package sqlserver

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"errors"
	"slices"
	"strconv"
	"strings"
	"time"

	mssql "github.com/microsoft/go-mssqldb"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/remedy"
	"example.com/genarch/engine"
)

// sendStatement sends the statement of a step, with the hash of a password where it has a mask.
func (s *server) sendStatement(ctx context.Context, step change.Step) (engine.Report, error) {
	names := step.SecretsNeeded()
	if len(names) != 1 {
		return s.sendStep(ctx, step)
	}
	password, kept := step.Secrets[names[0]]
	if !kept {
		return engine.Report{}, &engine.Error{Op: step.Title, Kind: engine.NotSent,
			Text: "the password of " + shown(names[0]) + " is not kept any more", Next: "Ask again."}
	}
	return s.sendOne(ctx, step.Title, step.Filled(newHash(password.Reveal())), step)
}

// undoStatement takes a statement back. What it was about may be gone: then there is nothing to do.
func (s *server) undoStatement(ctx context.Context, step change.Step) (engine.Report, error) {
	rep, err := s.sendOne(ctx, "undo: "+step.Title, step.Undo, step)
	if e, ok := errors.AsType[*engine.Error](err); ok && e.Kind == engine.Refused && e.Code == "15151" {
		if _, _, there, look := s.principal(ctx, principalIn(step.Args)); look == nil && !there {
			return rep, nil
		}
	}
	return rep, err
}

// probeCheck asks the check that the step's arguments name.
func (s *server) probeCheck(ctx context.Context, step change.Step) (bool, error) {
	bad, err := checks[step.Args["check"]](s, ctx, step)
	return engine.Verified(engine.Checked(bad, err))
}

// createPrincipal makes one, and learns by what the server tells it from others.
func (s *server) createPrincipal(ctx context.Context, step change.Step) (engine.Report, error) {
	rep, err := s.sendStatement(ctx, step)
	if err != nil {
		return rep, err
	}
	if a, _, there, err := s.principal(ctx, principalIn(step.Args)); err == nil && there {
		rep.Learned = map[string]string{"made": a.Key}
	}
	return rep, nil
}

// probeCreated looks whether it is there, with the password that it was to have.
func (s *server) probeCreated(ctx context.Context, step change.Step) (bool, error) {
	took, err := s.probeCheck(ctx, step)
	if err != nil || !took || len(step.SecretsNeeded()) == 0 {
		return took, err
	}
	bad, err := s.checkPassword(ctx, step)
	return len(bad) == 0, err
}

// undoCreatePrincipal drops the one that this change made; the server itself refuses where it owns
// something by now.
func (s *server) undoCreatePrincipal(ctx context.Context, step change.Step) (engine.Report, error) {
	a, _, there, err := s.principal(ctx, principalIn(step.Args))
	if err != nil || !there {
		return engine.Report{}, err
	}
	ours := step.Args["made"] == a.Key
	if step.Args["made"] == "" && len(step.SecretsNeeded()) > 0 { // its answer was lost: the password tells
		bad, err := s.checkPassword(ctx, step)
		if err != nil {
			return engine.Report{}, err
		}
		ours = len(bad) == 0
	}
	if !ours {
		return engine.Report{}, &engine.Error{Op: "undo: " + step.Title, Kind: engine.Refused,
			Text: "it is not certain that this change made " + shown(a.Principal.String()) + ", so it was left alone",
			Next: "Look at it, and drop it yourself if it is not needed."}
	}
	return s.undoStatement(ctx, step)
}

// principal reads one, with all memberships where it lies. One in a database that is gone is not there.
func (s *server) principal(ctx context.Context, who catalog.Principal) (catalog.Account, *within, bool, error) {
	var on catalog.Access
	bySID, err := s.readServerPrincipals(ctx, &on)
	if err != nil {
		return catalog.Account{}, nil, false, err
	}
	w := &within{accounts: on.Accounts, memberships: on.Memberships}
	if who.Database != "" {
		w = &within{}
		d, err := s.readDatabase(ctx, who.Database)
		if errors.Is(err, engine.ErrNotFound) {
			return catalog.Account{}, w, false, nil
		}
		if err != nil {
			return catalog.Account{}, w, false, err
		}
		w.database.Name = d.Name
		if err := s.readWithin(ctx, d.Name, bySID, w); err != nil {
			return catalog.Account{}, w, false, err
		}
	}
	a, there := exact(&catalog.Access{Accounts: w.accounts}, who)
	return a, w, there, nil
}

// checks look whether it is as the arguments of a step say, and say in words where it is not.
var checks = map[string]func(*server, context.Context, change.Step) ([]string, error){
	checkPrincipal: (*server).checkPrincipal, checkPassword: (*server).checkPassword,
	checkMember: (*server).checkMember,
	checkGrant:  (*server).checkGrant}

func (s *server) checkPrincipal(ctx context.Context, step change.Step) ([]string, error) {
	a, _, there, err := s.principal(ctx, principalIn(step.Args))
	if err != nil {
		return nil, err
	}
	have := map[string]string{"present": "no"}
	if there {
		have = principalFacts(a)
	}
	want := map[string]string{}
	for name := range have {
		if value, said := step.Args[name]; said && !strings.EqualFold(value, have[name]) {
			want[name] = value
		}
	}
	return engine.Mismatches(want, have), nil
}

// checkPassword compares what the server keeps with the password; where that is hidden, it signs in.
func (s *server) checkPassword(ctx context.Context, step change.Step) ([]string, error) {
	name := step.Args["name"]
	var kept []byte
	err := s.db.QueryRowContext(ctx, "SELECT password_hash FROM sys.sql_logins WHERE name = @p1", name).Scan(&kept)
	if errors.Is(err, sql.ErrNoRows) {
		return []string{"there is no login " + shown(name)}, nil
	}
	if err != nil {
		return nil, wrap("read the password's hash", err)
	}
	if kept == nil {
		took, err := engine.Verified(s.signIn(ctx, name, "", step, func(string) {}))
		if err != nil || took {
			return nil, err
		}
	} else if matchesPassword(kept, step.Secrets[name].Reveal()) {
		return nil, nil
	}
	return []string{"the server keeps another password"}, nil
}

func (s *server) checkMember(ctx context.Context, step change.Step) ([]string, error) {
	role := principalIn(step.Args)
	member := catalog.Principal{Name: step.Args["member"], Database: role.Database,
		Role: step.Args["member_role"] == "yes"}
	_, w, _, err := s.principal(ctx, role)
	if err != nil {
		return nil, err
	}
	held := slices.ContainsFunc(w.memberships, func(m catalog.Membership) bool {
		return m.Role == role && m.Member == member
	})
	if held == (step.Args["present"] == "yes") {
		return nil, nil
	}
	return []string{shown(member.Name) + map[bool]string{true: " still belongs to ",
		false: " does not belong to "}[held] +
		shown(role.Name)}, nil
}

func (s *server) checkGrant(ctx context.Context, step change.Step) ([]string, error) {
	who := principalIn(step.Args)
	_, w, there, err := s.principal(ctx, who)
	if err != nil {
		return nil, err
	}
	state := step.Args["state"]
	if !there {
		if state == stateNone {
			return nil, nil
		}
		return []string{"there is no " + titleOf(who) + " " + shown(who.String())}, nil
	}
	o := catalog.Object{Scope: catalog.Scope(step.Args["scope"]), Database: who.Database, Schema: step.Args["schema"],
		Name: step.Args["object"], Column: step.Args["column"]}
	list := entriesOf(w.database, o, who)
	if by := step.Args["by"]; by != "" {
		list = slices.DeleteFunc(list, func(e catalog.Entry) bool { return e.Grantor != by })
	}
	granted, passed, denied := heldBy(list)
	set := table.Of(engine.DecodeList(step.Args["privileges"])...)
	have := map[string]bool{stateGranted: granted.Has(set), statePassing: passed.Has(set), stateDenied: denied.Has(set),
		stateNone: !granted.Or(denied).Any(set)}[state]
	if have {
		return nil, nil
	}
	return []string{set.String() + " on " + objectText(o) + " is not " + state + " to " + shown(who.Name)}, nil
}

// proofTable is made in a new database to try the accounts on, and removed.
const proofTable = "dbo.genarch_proof"

// prove signs in as logins, to see that their passwords work, and that they may what their bundles say.
func (s *server) prove(ctx context.Context, step change.Step) (engine.Report, error) {
	if database := step.Args["database"]; step.Args["bundles"] != "" {
		send := func(ctx context.Context, op, text string) error {
			_, err := s.sendOne(ctx, op, inDatabase(database, text), change.Step{})
			return err
		}
		const remove = "DROP TABLE IF EXISTS " + proofTable
		if err := send(ctx, "look for a former one", remove); err != nil {
			return engine.Report{}, err
		}
		if err := send(ctx, "make a table to try the accounts on", "CREATE TABLE "+proofTable+" (id int)"); err != nil {
			return engine.Report{}, err
		}
		defer func() {
			ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), 10*time.Second)
			defer cancel()
			_ = send(ctx, "remove it", remove)
		}()
	}
	return engine.Prove(step, func(account, bundle string, say func(string)) error {
		return s.signIn(ctx, account, bundle, step, say)
	})
}

// tryBundle does what a bundle allows, and is refused what it does not.
func tryBundle(ctx context.Context, conn driver.Conn, account, bundle string, say func(string)) error {
	differs := func(text string) error {
		return &engine.Error{Op: "sign in as " + account, Kind: engine.Differs, Text: account + text}
	}
	for _, try := range []struct {
		what, text string
		may        bool
	}{
		{"read a table", "SELECT id FROM " + proofTable, true},
		{"insert", "INSERT " + proofTable + " VALUES (1)", bundle == "write"},
		{"make a table", "CREATE TABLE dbo.genarch_refused (id int)", false},
	} {
		st, err := conn.(driver.ConnPrepareContext).PrepareContext(ctx, try.text)
		if err == nil {
			_, err = st.(driver.StmtExecContext).ExecContext(ctx, nil)
			st.Close()
		}
		me, answered := errors.AsType[mssql.Error](err)
		refused := answered && (me.Number == 229 || me.Number == 262 || me.Number == 2760)
		switch {
		case err == nil && try.may:
			say(account + " may " + try.what)
		case refused && !try.may:
			say(account + " is refused to " + try.what)
		case err == nil:
			return differs(" may " + try.what + ", which is not part of the bundle " + bundle)
		default:
			return differs(" cannot " + try.what + ": " + err.Error())
		}
	}
	return nil
}

// signIn signs in as a login. It comes back when its session is gone, which would be in the way of
// dropping it.
func (s *server) signIn(ctx context.Context, account, bundle string, step change.Step, say func(string)) error {
	op := "sign in as " + account
	password, kept := step.Secrets[account]
	if !kept {
		return &engine.Error{Op: op, Kind: engine.NotSent, Text: "its password is not kept any more",
			Next: "Set another one.", Actions: []remedy.Action{remedy.Command("account.password", "")}}
	}
	cfg := s.config
	cfg.User, cfg.Password = account, password.Reveal()
	if bundle != "" {
		cfg.Database = step.Args["database"]
	}
	conn, err := asLogin{cfg}.Connect(ctx)
	if me, answered := errors.AsType[mssql.Error](err); answered {
		return &engine.Error{Op: op, Kind: engine.Differs, Code: strconv.Itoa(int(me.Number)), Text: me.Message,
			Next: next(me.Number)}
	}
	if err != nil {
		return engine.NeverSent(wrap(op, err))
	}
	row, err := firstRow(ctx, conn, "SELECT ORIGINAL_LOGIN(), @@SPID")
	if err != nil {
		conn.Close()
		return wrap(op, err)
	}
	defer func() {
		conn.Close()
		if id, ok := row[1].(int64); ok {
			s.waitGone(ctx, id, account)
		}
	}()
	if who := text(row[0]); who != account {
		return &engine.Error{Op: op, Kind: engine.Differs, Text: "the server took it for " + shown(who) + ", another " +
			"login"}
	}
	say(account + " signed in")
	if bundle == "" {
		return nil
	}
	return tryBundle(ctx, conn, account, bundle, say)
}

// waitGone waits until a session of a login is gone, a short while.
func (s *server) waitGone(ctx context.Context, session int64, login string) {
	ctx, cancel := context.WithTimeout(ctx, 2*time.Second)
	defer cancel()
	for ctx.Err() == nil {
		var n int
		if err := s.db.QueryRowContext(ctx, "SELECT COUNT(*) FROM sys.dm_exec_sessions WHERE session_id = @p1 AND "+
			"login_name = @p2", session, login).Scan(&n); err != nil || n == 0 {
			return
		}
		select {
		case <-ctx.Done():
		case <-time.After(2 * time.Millisecond):
		}
	}
}

// readAccountSide reads what planning for logins, users, roles and grants needs.
func (s *server) readAccountSide(ctx context.Context, in change.Intent, snap *catalog.Snapshot) error {
	a, err := s.Access(ctx, catalog.AccessQuery{})
	if err != nil {
		return err
	}
	snap.Access = &a
	if err := s.readRightsWithin(ctx, in, snap); err != nil {
		return err
	}
	if in.Kind == change.DropAccount && !in.Account.Role {
		if _, there := exact(&a, in.Account.Principal()); there {
			if err := s.readOwned(ctx, in, snap); err != nil {
				return err
			}
		}
	}
	who := ""
	switch {
	case in.Account != nil && in.Account.Database == "" && !in.Account.Role:
		who = in.Account.Name
	case in.Grant != nil:
		o := in.Grant.Object()
		if o.Scope != catalog.ScopeDatabase {
			there, err := s.objectThere(ctx, o)
			if err != nil {
				return err
			}
			detailsOf(snap.Details).ObjectAbsent = !there
		}
	}
	if who == "" {
		return nil
	}
	list, err := s.Sessions(ctx, catalog.SessionQuery{Brief: true})
	for _, x := range list.Sessions {
		if x.Account.Name == who && x.Kind != catalog.OwnSession {
			snap.Sessions = append(snap.Sessions, sessionWords(x))
		}
	}
	return err
}

// readRightsWithin reads what Genarch's login may do with people in the database that a change is about.
// Source: HAS_PERMS_BY_NAME.
func (s *server) readRightsWithin(ctx context.Context, in change.Intent, snap *catalog.Snapshot) error {
	database := ""
	switch {
	case in.Account != nil:
		database = in.Account.Database
	case in.Member != nil:
		database = in.Member.To.Database
	default:
		database = in.Grant.Database
	}
	return s.readRights(ctx, database, detailsOf(snap.Details))
}

// readRights reads what Genarch's login may do in a database, and what runs there when it does. Sources:
// HAS_PERMS_BY_NAME, sys.triggers.
func (s *server) readRights(ctx context.Context, database string, more *details) error {
	if err := s.readTriggers(ctx, database, more); err != nil {
		return err
	}
	return wrap("read what the login may do there", s.db.QueryRowContext(ctx, `SELECT
		COALESCE(HAS_PERMS_BY_NAME(@p1, 'DATABASE', 'ALTER'), 0),
		COALESCE(HAS_PERMS_BY_NAME(@p1, 'DATABASE', 'CONTROL'), 0)`,
		quoteIdent(database)).Scan(&more.Alters, &more.Controls))
}

// readTriggers adds the triggers on a database itself. One that is not there, or not open, has none.
func (s *server) readTriggers(ctx context.Context, database string, more *details) error {
	if database == "" {
		return nil
	}
	err := s.query(ctx, "look for triggers on the database", "SELECT name FROM "+quoteIdent(database)+
		".sys.triggers WHERE parent_class = 0 AND is_disabled = 0 ORDER BY name", func(r *sql.Rows) error {
		var name string
		err := r.Scan(&name)
		more.Triggers = append(more.Triggers, shown(database)+": "+shown(name))
		return err
	})
	if e, ok := errors.AsType[*engine.Error](err); ok && e.Kind == engine.Refused {
		return nil
	}
	return err
}

// sessionWords says whose session one is, and where.
func sessionWords(x catalog.Session) string {
	out := []string{}
	for _, part := range []string{x.Application, x.Client, x.Database} {
		if part != "" {
			out = append(out, part)
		}
	}
	return strings.Join(out, ", ")
}

// objectThere looks for what a grant is on. Sources: sys.schemas, sys.objects, sys.columns.
func (s *server) objectThere(ctx context.Context, o catalog.Object) (there bool, err error) {
	in := quoteIdent(o.Database) + ".sys."
	from := in + "schemas s"
	where := " WHERE s.name = @p1"
	args := []any{o.Schema}
	if o.Scope != catalog.ScopeSchema {
		from += " JOIN " + in + "objects o ON o.schema_id = s.schema_id"
		where += " AND o.name = @p2"
		args = append(args, o.Name)
	}
	if o.Scope == catalog.ScopeColumn {
		from += " JOIN " + in + "columns c ON c.object_id = o.object_id"
		where += " AND c.name = @p3"
		args = append(args, o.Column)
	}
	err = s.query(ctx, "look for what is to be granted on", "SELECT 1 FROM "+from+where, func(*sql.Rows) error {
		there = true
		return nil
	}, args...)
	if e, ok := errors.AsType[*engine.Error](err); ok && e.Kind == engine.Refused {
		return false, nil // the database is not there, which the plan says
	}
	return there, err
}
