package mysqlfamily

import (
	"context"
	"strings"

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
	args, p := step.Args, principalOf(step.Args)
	switch args["check"] {
	case "account":
		return s.checkAccount(ctx, p, args)
	case "password":
		return s.checkPassword(ctx, step, p)
	case "member":
		return s.checkMember(ctx, p, args)
	case "database_gone":
		return s.checkDatabaseGone(ctx, args)
	case "held":
		return s.checkHeld(ctx, args)
	case "privileges":
		return s.checkPrivileges(ctx, p, args)
	case "only":
		return s.checkOnly(ctx, p, args)
	case "none":
		return nil, nil
	}
	return nil, engine.UnknownStep(step)
}

// readAccount reads the entry of one account.
func (s *server) readAccount(ctx context.Context, p catalog.Principal) (e entry, found bool, err error) {
	if !storable(p.Name) || !storable(p.Host) {
		return e, false, nil
	}
	list, err := s.product.entries(ctx, s, &p)
	if err != nil || len(list) == 0 {
		return e, false, err
	}
	return list[0], true, nil
}

func (s *server) checkAccount(ctx context.Context, p catalog.Principal, args map[string]string) ([]string, error) {
	e, found, err := s.readAccount(ctx, p)
	if err != nil {
		return nil, err
	}
	have := map[string]string{"present": "no"}
	if found {
		have = accountFacts(e.Account)
	}
	want := map[string]string{}
	for k := range accountFacts(e.Account) {
		if v, ok := args[k]; ok {
			want[k] = v
		}
	}
	return engine.Mismatches(want, have), nil
}

// checkPassword compares what the server keeps with what the password makes.
func (s *server) checkPassword(ctx context.Context, step change.Step, p catalog.Principal) ([]string, error) {
	e, found, err := s.readAccount(ctx, p)
	if err != nil || !found {
		return []string{"there is no account " + naming.Show(p.String())}, err
	}
	if !s.product.matches(e.kept, step.Args["method"], step.Secrets[p.Name].Reveal()) {
		return []string{"the server keeps another password"}, nil
	}
	return nil, nil
}

func (s *server) checkMember(ctx context.Context, p catalog.Principal, args map[string]string) ([]string, error) {
	var n int
	err := s.db.QueryRowContext(ctx,
		s.product.member, p.Name,
		p.Host, args["of"]).Scan(&n)
	if err == nil && (n > 0) != (args["present"] == "yes") {
		return []string{p.String() + map[bool]string{true: " still has", false: " does not have"}[n > 0] +
			" the role " + args["of"]}, nil
	}
	return nil, wrap("read the membership", err)
}

// checkOnly reads whether an account was given nothing on a database, or in it,
// beyond some privileges on the database itself.
func (s *server) checkOnly(ctx context.Context, p catalog.Principal, args map[string]string) ([]string, error) {
	grants, err := s.readGrants(ctx)
	if err != nil {
		return nil, err
	}
	var keep privilege.Set
	if args["privileges"] != "" {
		if keep, err = table.Parse(strings.Split(args["privileges"], ", ")); err != nil {
			return nil, err
		}
	}
	var left []string
	all := change.GrantSpec{Database: args["database"]}
	for _, g := range grants {
		if g.Grantee == p && concerns(g, all,
			catalog.Object{Scope: catalog.ScopeDatabase, Database: args["database"]}) {
			if more := g.Privileges.Minus(keep); !more.Empty() && (keep.Empty() || g.Scope == catalog.ScopeDatabase) {
				left = append(left, p.String()+" still has "+more.String()+" on "+access.ObjectText(g.Object))
			}
		}
	}
	return left, nil
}

// checkPrivileges compares what was given on one object with what was asked.
func (s *server) checkPrivileges(ctx context.Context, p catalog.Principal, args map[string]string) ([]string, error) {
	grants, err := s.readGrants(ctx)
	if err != nil {
		return nil, err
	}
	var set privilege.Set
	if args["privileges"] != "" {
		if set, err = table.Parse(strings.Split(args["privileges"], ", ")); err != nil {
			return nil, err
		}
	}
	o := catalog.Object{Scope: catalog.Scope(args["scope"]), Database: args["database"], Name: args["object"],
		Column: args["column"], Routine: args["routine"]}
	held, _ := directOn(grants, p, o)
	if args["as_written"] == "yes" {
		held = privilege.Set{}
		for _, g := range grants {
			if g.Grantee == p && g.Object == o {
				held = held.Or(g.Privileges)
			}
		}
	}
	switch where := access.ObjectText(o); {
	case args["present"] == "yes" && !held.Has(set):
		return []string{p.String() + " lacks " + (set.Minus(held)).String() + " on " + where}, nil
	case args["present"] == "no" && held.Any(set):
		return []string{p.String() + " still has " + (held.And(set)).String() + " on " + where}, nil
	}
	return nil, nil
}
