package api

import (
	"cmp"
	"context"
	"fmt"
	"net/http"
	"slices"
	"strings"

	"example.com/genarch/api/wire"
	"example.com/genarch/core/access"
	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/naming"
	"example.com/genarch/core/policy"
	"example.com/genarch/engine"
)

// WhoQuery names an account or role in a query.
type WhoQuery struct {
	Account string `query:"account" maxLength:"800" doc:"The name; name@host where the host is part of it, or the name alone where there is one of it."`
	Within  string `query:"within" maxLength:"800" doc:"The database that it lies in, where accounts do."`
	Role    bool   `query:"role" doc:"It is a role, where accounts and roles of one name are two things."`
}

func (h *Handler) registerAccess() {
	register(h, op{method: "GET", path: "/servers/{server}/accounts", id: "list-accounts",
		summary: "Accounts and roles of a server, live", permission: policy.View}, h.listAccounts)
	register(h, op{method: "GET", path: "/servers/{server}/accounts/{account}", id: "show-account",
		summary: "One account or role: what it is, has and owns", permission: policy.View}, h.showAccount)
	register(h, op{method: "GET", path: "/servers/{server}/grants", id: "list-grants",
		summary: "What was granted to an account, or on a database", permission: policy.View},
		h.listGrants)
	register(h, op{method: "GET", path: "/servers/{server}/access", id: "show-access",
		summary: "What every account comes to on every database", permission: policy.View}, h.showMatrix)
	register(h, op{method: "GET", path: "/servers/{server}/access/why", id: "show-why",
		summary: "Whether an account may do something, and by which chain", permission: policy.View}, h.showWhy)
	register(h, op{method: "GET", path: "/comparison", id: "compare-accounts",
		summary: "In what two accounts differ, on one server or two", permission: policy.View}, h.compareAccounts)
	register(h, op{method: "GET", path: "/servers/{server}/databases/{database}/handover", id: "show-handover",
		summary: "The handover sheet of a database, without passwords", permission: policy.View}, h.showHandover)
}

// graph reads who may do what on a server.
func (h *Handler) graph(ctx context.Context, server string, q catalog.AccessQuery) (catalog.Server, *access.Graph,
	error) {
	srv, opened, ctx, cancel, err := h.access(ctx, server)
	if err != nil {
		return srv, nil, err
	}
	defer cancel()
	eng, err := h.Fleet.Engine(srv.Engine)
	if err != nil {
		return srv, nil, err
	}
	a, err := opened.Access(ctx, q)
	if err != nil {
		return srv, nil, err
	}
	return srv, access.New(a, eng.Rules), nil
}

// engineOf is what the engine of a server says of itself.
func (h *Handler) engineOf(srv catalog.Server) *engine.Description {
	eng, err := h.Fleet.Engine(srv.Engine)
	if err != nil {
		return &engine.Description{ID: srv.Engine, Title: string(srv.Engine)} // of a build that knew it
	}
	return eng.Describe()
}

// who reads an account's name as the server's engine writes it; within is the database
// that it lies in.
func (h *Handler) who(srv catalog.Server, text, within string, role bool) catalog.Principal {
	d := h.engineOf(srv)
	p := catalog.Principal{Name: text, Database: within, Role: role && d.SeparateRoles()}
	if text == catalog.Public.Name {
		return catalog.Public
	}
	if at := strings.LastIndexByte(text, '@'); at >= 0 && !p.Role && d.HasHosts() {
		p.Name, p.Host = text[:at], text[at+1:]
	}
	return p
}

// find looks an account up: a name without a host may mean the only one of it.
func (h *Handler) find(srv catalog.Server, g *access.Graph, p catalog.Principal) (catalog.Account, error) {
	if a, ok := g.Account(p); ok {
		return a, nil
	}
	var hosts []string
	var found catalog.Account
	for _, a := range g.Access().Accounts {
		if a.Name == p.Name && a.Role == p.Role && p.Host == "" && p.Database == "" {
			hosts, found = append(hosts, a.Principal.String()), a
		}
	}
	if len(hosts) == 1 {
		return found, nil
	}
	problem := &Problem{Status: http.StatusNotFound, Code: "account.absent",
		Detail: fmt.Sprintf("There is no account or role %s on %s.", naming.Show(p.String()), srv.Name),
		Next:   "List them.", Actions: do("account.list", srv.Name)}
	if len(hosts) > 1 {
		problem.Status, problem.Code = http.StatusConflict, "account.ambiguous"
		problem.Detail, problem.Next = fmt.Sprintf("There are %[2]d accounts named %[1]s, and each is an account of "+
			"its own.", naming.Show(p.Name), len(hosts)), "Say which: "+strings.Join(hosts, ", ")
	}
	return catalog.Account{}, problem
}

func (h *Handler) listAccounts(ctx context.Context, in *struct {
	ServerPath
	Search string `query:"search" maxLength:"200" doc:"Part of the name, host or comment, without case."`
	Kind   string `query:"kind" enum:"all,account,role" default:"all"`
	System bool   `query:"system" doc:"The engine's own too."`
	Limit  int    `query:"limit" minimum:"1" maximum:"20000" default:"1000"`
	After  string `query:"after" maxLength:"2000" doc:"Read on behind this address."`
}) (*body[wire.AccountList], error) {
	srv, g, err := h.graph(ctx, in.Server, catalog.AccessQuery{})
	if err != nil {
		return nil, err
	}
	a := g.Access()
	out := wire.AccountList{Server: srv.Name, Engine: string(srv.Engine), Environment: string(srv.Environment),
		Accounts: []wire.Account{}, Unknown: orEmpty(a.Unknown), Read: a.Read}
	list := slices.Clone(a.Accounts)
	slices.SortFunc(list, func(x, y catalog.Account) int { return strings.Compare(address(srv, x), address(srv, y)) })
	r := newAccountRenderer(srv, h.engineOf(srv), g)
	connects := countConnectable(g)
	search := strings.ToLower(in.Search)
	for _, acc := range list {
		at := address(srv, acc)
		if acc.Held != nil {
			out.SetAside++
			continue
		}
		if acc.System && !in.System && !acc.Bootstrap ||
			in.Kind != "all" && (in.Kind == "account") != acc.Login && !acc.Locked ||
			search != "" && !strings.Contains(strings.ToLower(acc.Principal.String()+" "+acc.Comment), search) {
			continue
		}
		out.Total++
		if in.After != "" && at <= in.After {
			continue
		}
		if len(out.Accounts) == in.Limit {
			out.Next = out.Accounts[in.Limit-1].Address
			continue
		}
		shown := r.account(acc)
		if n, ok := connects[acc.Principal]; ok {
			shown.Connects = &n
		}
		out.Accounts = append(out.Accounts, shown)
	}
	return answer(out), nil
}

// maxCells bounds the matrix that a list of accounts is worth.
const maxCells = 5_000_000

// countConnectable says how many databases each account can get into, where that
// can be worked out in a moment.
func countConnectable(g *access.Graph) map[catalog.Principal]int {
	a := g.Access()
	if len(a.Accounts)*len(a.Databases) > maxCells {
		return nil
	}
	m := g.Matrix(nil, func(d catalog.AccessDatabase) bool { return !d.System })
	out := make(map[catalog.Principal]int, len(m.Accounts))
	for i, p := range m.Accounts {
		out[p] = 0
		for j := range m.Databases {
			if m.At(i, j).Level != access.None {
				out[p]++
			}
		}
	}
	return out
}

// address is that of an account: what cannot sign in is a role.
func address(srv catalog.Server, a catalog.Account) string {
	p := a.Principal
	p.Role = p.Role || !a.Login && !a.Locked
	return change.PrincipalAddress(srv.Name, p).String()
}

func (h *Handler) showAccount(ctx context.Context, in *struct {
	ServerPath
	Account string `path:"account" maxLength:"2000" doc:"The name; name@host where the host is part of it, or the name alone where there is one of it."`
	Within  string `query:"within" maxLength:"800" doc:"The database that it lies in, where accounts do."`
	Role    bool   `query:"role" doc:"It is a role, where accounts and roles of one name are two things."`
}) (*body[wire.AccountDetail], error) {
	srv, g, err := h.graph(ctx, in.Server, catalog.AccessQuery{All: true})
	if err != nil {
		return nil, err
	}
	acc, err := h.find(srv, g, h.who(srv, in.Account, in.Within, in.Role))
	if err != nil {
		return nil, err
	}
	a := g.Access()
	out := wire.AccountDetail{Account: newAccountRenderer(srv, h.engineOf(srv), g).account(acc), Server: srv.Name,
		Engine: string(srv.Engine), Environment: string(srv.Environment),
		Grants: renderLines(g, g.Direct(acc.Principal)), Unknown: orEmpty(a.Unknown), Read: a.Read}
	if acc.Login || acc.Locked {
		out.LastUse = renderUse(h.Watch.Use(srv.Name, catalog.Used{Account: acc.Principal}))
	}
	m := g.Matrix(func(x catalog.Account) bool { return x.Principal == acc.Principal },
		func(d catalog.AccessDatabase) bool { return !d.System })
	for i, name := range m.Databases {
		if c := m.At(0, i); c.Level != access.None {
			out.Databases = append(out.Databases,
				wire.DatabaseLevel{Database: name, Level: c.Level.String(), More: c.More, Gap: c.Gap})
		}
	}
	return answer(out), nil
}

func (h *Handler) listGrants(ctx context.Context, in *struct {
	ServerPath
	WhoQuery
	Database string `query:"database" maxLength:"2000" doc:"What was granted on this database, or in it."`
	Limit    int    `query:"limit" minimum:"1" maximum:"20000" default:"2000"`
}) (*body[wire.GrantList], error) {
	if (in.Account == "") == (in.Database == "") {
		return nil, &Problem{Status: http.StatusUnprocessableEntity, Code: "request.invalid",
			Detail: "Name either an account or a database."}
	}
	q := catalog.AccessQuery{All: in.Account != ""}
	if in.Database != "" {
		q.Inside = []string{in.Database}
	}
	srv, g, err := h.graph(ctx, in.Server, q)
	if err != nil {
		return nil, err
	}
	var lines []access.Line
	if in.Database != "" {
		if !slices.ContainsFunc(g.Access().Databases,
			func(d catalog.AccessDatabase) bool { return d.Name == in.Database }) {
			return nil, noSuchDatabase(srv, in.Database)
		}
		lines = g.On(in.Database)
	} else {
		p := h.who(srv, in.Account, in.Within, in.Role)
		if p != catalog.Public {
			acc, err := h.find(srv, g, p)
			if err != nil {
				return nil, err
			}
			p = acc.Principal
		}
		lines = g.Direct(p)
	}
	a := g.Access()
	out := wire.GrantList{Server: srv.Name, Engine: string(srv.Engine), Total: len(lines), Unknown: orEmpty(a.Unknown),
		Read: a.Read}
	out.Grants = renderLines(g, lines[:min(len(lines), in.Limit)])
	return answer(out), nil
}

func noSuchDatabase(srv catalog.Server, name string) error {
	return &Problem{Status: http.StatusNotFound, Code: "database.absent",
		Detail: "There is no database " + naming.Show(name) + " on " + srv.Name + ".",
		Next:   "List them.", Actions: do("database.list", srv.Name)}
}

// letters are how a matrix writes levels.
var letters = map[access.Level]byte{access.None: '-', access.Unknown: '?', access.Connect: 'n', access.Custom: 'c',
	access.Read: 'r', access.Write: 'w', access.Build: 'b', access.Own: 'o'}

func (h *Handler) showMatrix(ctx context.Context, in *struct {
	ServerPath
	Account  string `query:"account" maxLength:"200" doc:"Only accounts whose name has this in it."`
	Database string `query:"database" maxLength:"200" doc:"Only databases whose name has this in it."`
	System   bool   `query:"system" doc:"The engine's own accounts and databases too."`
	Roles    bool   `query:"roles" default:"true" doc:"Roles too, not only accounts that sign in."`
	Fresh    bool   `query:"fresh" doc:"Look into every database now, instead of taking what was seen in the last half minute."`
}) (*body[wire.Matrix], error) {
	srv, g, err := h.graph(ctx, in.Server, catalog.AccessQuery{All: true, Fresh: in.Fresh})
	if err != nil {
		return nil, err
	}
	a := g.Access()
	has := func(text, part string) bool { return strings.Contains(strings.ToLower(text), strings.ToLower(part)) }
	m := g.Matrix(func(x catalog.Account) bool {
		return x.Held == nil && (!x.System || in.System || x.Bootstrap) && (in.Roles || x.Login) &&
			has(x.Principal.String(), in.Account)
	}, func(d catalog.AccessDatabase) bool { return (!d.System || in.System) && has(d.Name, in.Database) })
	out := wire.Matrix{Server: srv.Name, Engine: string(srv.Engine), Environment: string(srv.Environment),
		Databases: orEmpty(m.Databases), Rows: make([]wire.MatrixRow, 0, len(m.Accounts)),
		Unknown: orEmpty(a.Unknown), Read: a.Read}
	r := newAccountRenderer(srv, h.engineOf(srv), g)
	for _, i := range byName(m.Accounts, g) {
		p := m.Accounts[i]
		acc, _ := g.Account(p)
		cells := make([]byte, len(m.Databases))
		for j := range cells {
			c := m.At(i, j)
			if cells[j] = letters[c.Level]; c.More || c.Gap {
				cells[j] -= 'a' - 'A'
			}
		}
		out.Rows = append(out.Rows, wire.MatrixRow{Name: p.Name, Host: p.Host, Database: p.Database,
			Role: isRole(acc), Super: acc.Super, Marks: len(r.marks(acc)), Cells: string(cells)})
	}
	out.Wide, out.Leftovers = renderWide(g), renderLeftovers(g)
	return answer(out), nil
}

// byName orders the rows of a matrix: accounts before roles, each by name.
func byName(list []catalog.Principal, g *access.Graph) []int {
	role := make([]bool, len(list))
	order := make([]int, len(list))
	for i, p := range list {
		a, _ := g.Account(p)
		role[i], order[i] = !a.Login && !a.Locked, i
	}
	slices.SortFunc(order, func(x, y int) int {
		if role[x] != role[y] {
			if role[x] {
				return 1
			}
			return -1
		}
		return cmp.Or(strings.Compare(list[x].Name, list[y].Name), strings.Compare(list[x].Host, list[y].Host),
			strings.Compare(list[x].Database, list[y].Database))
	})
	return order
}

func (h *Handler) showWhy(ctx context.Context, in *struct {
	ServerPath
	WhoQuery
	Privilege string `query:"privilege" required:"true" maxLength:"60"`
	Database  string `query:"database" maxLength:"2000"`
	Schema    string `query:"schema" maxLength:"400"`
	Name      string `query:"name" maxLength:"800" doc:"Table, sequence or routine; a routine with its argument types where several can have one name."`
	Column    string `query:"column" maxLength:"400"`
	Scope     string `query:"scope" enum:"server,database,schema,table,sequence,routine,column" default:"database"`
}) (*body[wire.Why], error) {
	o := catalog.Object{Scope: catalog.Scope(in.Scope), Database: in.Database, Schema: in.Schema, Name: in.Name,
		Column: in.Column}
	q := catalog.AccessQuery{Object: &o}
	if o.Database != "" {
		q.Inside = []string{o.Database}
	}
	srv, g, err := h.graph(ctx, in.Server, q)
	if err != nil {
		return nil, err
	}
	want, ok := h.engineOf(srv).Table.Named(in.Privilege)
	if !ok {
		return nil, &Problem{Status: http.StatusUnprocessableEntity, Code: "privilege.unknown",
			Detail: fmt.Sprintf("There is no privilege %q.", in.Privilege),
			Next:   "See what there is.", Actions: do("engine.show", string(srv.Engine))}
	}
	p := h.who(srv, in.Account, in.Within, in.Role)
	if p != catalog.Public {
		acc, err := h.find(srv, g, p)
		if err != nil {
			return nil, err
		}
		p = acc.Principal
	}
	if o.Scope != catalog.ScopeServer &&
		!slices.ContainsFunc(g.Access().Databases,
			func(d catalog.AccessDatabase) bool { return d.Name == o.Database }) {
		return nil, noSuchDatabase(srv, o.Database)
	}
	return answer(renderWhy(srv, g, p, want, o)), nil
}

func (h *Handler) compareAccounts(ctx context.Context, in *struct {
	Left  string `query:"left" required:"true" maxLength:"2000" doc:"The address of an account or role."`
	Right string `query:"right" required:"true" maxLength:"2000"`
}) (*body[wire.Comparison], error) {
	out := wire.Comparison{Left: in.Left, Right: in.Right, Unknown: []string{}}
	var graphs [2]*access.Graph
	var who [2]catalog.Principal
	for i, text := range []string{in.Left, in.Right} {
		at, err := naming.ParseAddress(text)
		if err != nil || at.Kind != naming.KindAccount && at.Kind != naming.KindRole {
			return nil, &Problem{Status: http.StatusUnprocessableEntity, Code: "address.invalid",
				Detail: fmt.Sprintf("%q is no address of an account.", text),
				Next:   "Write SERVER/account:NAME or SERVER/role:NAME."}
		}
		srv, g, err := h.graph(ctx, at.Server, catalog.AccessQuery{All: true})
		if err != nil {
			return nil, err
		}
		p := catalog.Principal{Name: at.Name, Host: at.Host, Database: at.Database,
			Role: at.Kind == naming.KindRole && h.engineOf(srv).SeparateRoles()}
		acc, err := h.find(srv, g, p)
		if err != nil {
			return nil, err
		}
		graphs[i], who[i] = g, acc.Principal
		for _, u := range g.Access().Unknown {
			if !slices.Contains(out.Unknown, srv.Name+": "+u) {
				out.Unknown = append(out.Unknown, srv.Name+": "+u)
			}
		}
	}
	out.Differences = each(access.Compare(graphs[0], who[0], graphs[1], who[1]),
		func(d access.Difference) wire.AccountDifference { return wire.AccountDifference(d) })
	return answer(out), nil
}
