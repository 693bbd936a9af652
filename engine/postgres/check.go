package postgres

import (
	"context"
	"errors"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"

	"example.com/genarch/core/access"
	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/naming"
	"example.com/genarch/core/privilege"
	"example.com/genarch/engine"
)

// check reads whether what a step's arguments say is so, and tells each
// difference in words. It serves verifying and probing alike.
func (s *server) check(ctx context.Context, step change.Step) ([]string, error) {
	args := step.Args
	switch args["check"] {
	case "account":
		return s.checkAccount(ctx, args)
	case "password":
		return s.checkPassword(ctx, step)
	case "member":
		return s.checkMember(ctx, args)
	case "acts_as":
		return s.checkActsAs(ctx, args)
	case "database_gone":
		return s.checkGone(ctx, args)
	case "holds_nothing":
		return s.checkHoldsNothing(ctx, args)
	case "level", "direct_none", "privileges", "private":
		return s.checkAccess(ctx, args)
	case "like_template":
		return s.checkLikeTemplate(ctx, args)
	case "none":
		return nil, nil
	}
	return nil, engine.UnknownStep(step)
}

func (s *server) account(ctx context.Context, name string) (catalog.Account, bool, error) {
	list, _, err := s.readAccounts(ctx, s.pool, isNamed, name)
	if err != nil || len(list) == 0 {
		return catalog.Account{}, false, err
	}
	return list[0], true, nil
}

func (s *server) checkAccount(ctx context.Context, args map[string]string) ([]string, error) {
	a, ok, err := s.account(ctx, args["name"])
	if err != nil {
		return nil, err
	}
	have := map[string]string{"present": "no"}
	if ok {
		have = accountFacts(a)
	}
	want := map[string]string{}
	for _, k := range []string{"present", "login", "connection_limit", "comment"} {
		if v, ok := args[k]; ok {
			want[k] = v
		}
	}
	return engine.Mismatches(want, have), nil
}

// checkPassword compares the verifier that the server keeps with the password,
// where the login may see it.
func (s *server) checkPassword(ctx context.Context, step change.Step) ([]string, error) {
	var verifier *string
	name := step.Args["name"]
	err := s.pool.QueryRow(ctx, `SELECT rolpassword FROM pg_catalog.pg_authid WHERE rolname::text = $1::text`, name).
		Scan(&verifier)
	if errors.Is(err, pgx.ErrNoRows) {
		return []string{"there is no role " + naming.Show(name)}, nil
	}
	if err != nil {
		return nil, wrap("read the password's verifier", err)
	}
	if verifier == nil || !scramMatches(*verifier, step.Secrets[name].Reveal()) {
		return []string{"the server keeps another password"}, nil
	}
	return nil, nil
}

func (s *server) checkMember(ctx context.Context, args map[string]string) ([]string, error) {
	var n int
	err := s.pool.QueryRow(ctx, `SELECT count(*)::int FROM pg_catalog.pg_auth_members m JOIN pg_catalog.pg_roles r ON r.oid = m.roleid
		JOIN pg_catalog.pg_roles u ON u.oid = m.member WHERE r.rolname::text = $1 AND u.rolname::text = $2`,
		args["role"], args["member"]).Scan(&n)
	if err == nil && (n > 0) != (args["present"] == "yes") {
		word := "does not belong"
		if n > 0 {
			word = "still belongs"
		}
		return []string{args["member"] + " " + word + " to " + args["role"]}, nil
	}
	return nil, wrap("read the membership", err)
}

func (s *server) checkActsAs(ctx context.Context, args map[string]string) ([]string, error) {
	var setting string
	err := s.pool.QueryRow(ctx, `SELECT coalesce((SELECT substr(c, 6) FROM pg_catalog.pg_db_role_setting x, unnest(x.setconfig) c
		WHERE x.setrole = (SELECT oid FROM pg_catalog.pg_roles WHERE rolname::text = $1) AND x.setdatabase = (SELECT oid FROM pg_catalog.pg_database WHERE datname::text = $2)
		AND c LIKE 'role=%'), '')`, args["name"], args["database"]).Scan(&setting)
	if err == nil && setting != args["role"] {
		return []string{args["name"] + " acts as " + naming.Show(setting) + ", not as " + naming.Show(args["role"])},
			nil
	}
	return nil, wrap("read the setting", err)
}

func (s *server) checkHoldsNothing(ctx context.Context, args map[string]string) ([]string, error) {
	a, ok, err := s.account(ctx, args["name"])
	if err != nil || !ok {
		return nil, err
	}
	held, err := s.readBelongings(ctx, a.Key)
	for _, h := range held {
		if h.Database == args["database"] && h.Owned+h.Granted+h.Policies > 0 {
			return []string{naming.Show(a.Name) + " still has something in " + naming.Show(h.Database)}, err
		}
	}
	return nil, err
}

// checkAccess reads one database anew and asks the same question as the brief.
func (s *server) checkAccess(ctx context.Context, args map[string]string) ([]string, error) {
	database := args["database"]
	o := catalog.Object{Scope: catalog.Scope(args["scope"]), Database: database, Schema: args["schema"],
		Name: args["object"], Args: args["args"], Column: args["column"]}
	a, err := s.Access(ctx, catalog.AccessQuery{Inside: []string{database}, Object: &o})
	if err != nil {
		return nil, err
	}
	i := slices.IndexFunc(a.Databases, func(d catalog.AccessDatabase) bool { return d.Name == database })
	if i < 0 {
		return []string{"there is no database " + naming.Show(database)}, nil
	}
	d := a.Databases[i]
	if d.Interior == nil {
		return nil, &engine.Error{Op: "verify", Kind: engine.Unknown,
			Text: "what is inside " + naming.Show(database) + " cannot be seen: " + d.Why}
	}
	g, who := graph(a), role(args["account"])
	if args["public"] != "" {
		who = catalog.Public
	}
	switch args["check"] {
	case "private":
		for _, e := range d.Entries {
			if e.Grantee == catalog.Public && e.Privileges.Any(may.Connect.Or(may.Temporary)) {
				return []string{"everybody still has " + e.Privileges.String()}, nil
			}
		}
	case "level":
		want, _ := access.LevelNamed(args["level"])
		if c := g.Level(who, database); c.Level < want {
			return []string{who.String() + " has " + c.Level.String() + ", not " + want.String()}, nil
		} else if c.Gap {
			return []string{"what will be made there is not covered"}, nil
		}
	case "privileges":
		names := strings.Split(args["privileges"], ", ")
		set, err := table.Parse(names)
		if err != nil {
			return nil, err
		}
		if has := hasDirect(g, who, o, set); has != (args["present"] == "yes") {
			return []string{who.String() + " has " + map[bool]string{true: "still ", false: "not "}[has] +
				set.String()}, nil
		}
	case "direct_none":
		keep := func(scope catalog.Scope) privilege.Set {
			return bundles[access.Bundle(args["keep"])][scope]
		}
		if holdsAnything(g, who, d, keep) {
			return []string{who.String() + " still has something there"}, nil
		}
	}
	return nil, nil
}

// checkLikeTemplate compares what others than the owner hold on a copy and on its template.
// Source: pg_database.datacl.
func (s *server) checkLikeTemplate(ctx context.Context, args map[string]string) ([]string, error) {
	return collect(ctx, s.pool, "compare with the template", pgx.RowTo[string], `WITH held AS (
		SELECT d.datname::text AS name, CASE a.grantee WHEN 0 THEN 'PUBLIC'
			ELSE pg_catalog.pg_get_userbyid(a.grantee)::text END AS who, a.privilege_type AS what,
			bool_or(a.is_grantable) AS passes
		FROM pg_catalog.pg_database d,
			pg_catalog.aclexplode(coalesce(d.datacl, pg_catalog.acldefault('d', d.datdba))) a
		WHERE d.datname::text IN ($1::text, $2::text) AND a.grantee <> d.datdba
			AND a.grantee <> (SELECT datdba FROM pg_catalog.pg_database WHERE datname::text = $2::text)
		GROUP BY 1, 2, 3)
		SELECT what || ' of ' || who || ' is not as on the template' FROM (
			(SELECT who, what, passes FROM held WHERE name = $1::text EXCEPT
				SELECT who, what, passes FROM held WHERE name = $2::text)
			UNION (SELECT who, what, passes FROM held WHERE name = $2::text EXCEPT
				SELECT who, what, passes FROM held WHERE name = $1::text)) differs ORDER BY 1`,
		args["database"], args["template"])
}
