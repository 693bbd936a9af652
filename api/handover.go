package api

import (
	"context"
	"errors"
	"net/http"
	"slices"

	"example.com/genarch/api/wire"
	"example.com/genarch/core/access"
	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/handover"
	"example.com/genarch/core/naming"
	"example.com/genarch/core/record"
	"example.com/genarch/engine"
)

// showHandover makes the sheet from what is so now: the accounts that were given
// something on the database and are no administrators.
func (h *Handler) showHandover(ctx context.Context, in *struct {
	ServerPath
	Database string `path:"database" maxLength:"2000"`
}) (*body[wire.Handover], error) {
	srv, g, err := h.graph(ctx, in.Server, catalog.AccessQuery{Inside: []string{in.Database}})
	if err != nil {
		return nil, err
	}
	if !slices.ContainsFunc(g.Access().Databases,
		func(d catalog.AccessDatabase) bool { return d.Name == in.Database }) {
		return nil, noSuchDatabase(srv, in.Database)
	}
	out := sheet(srv, in.Database)
	for _, l := range g.On(in.Database) {
		a, ok := g.Account(l.Holder)
		if !ok || !a.Login || a.Super || a.System ||
			slices.ContainsFunc(out.Accounts,
				func(x wire.HandoverAccount) bool { return x.Name == a.Name && x.Host == a.Host }) {
			continue
		}
		if level := g.Level(a.Principal, in.Database).Level; level > access.Connect {
			out.Accounts = append(out.Accounts, h.handoverAccount(srv, in.Database, a.Principal, level.String(), ""))
		}
	}
	c, found, err := h.maker(ctx, naming.DatabaseAddress(srv.Name, in.Database).String(), "", 0)
	if err != nil {
		return nil, err
	}
	if found && c.Intent.Database.Team != nil {
		out.Change = c.ID
		if c, err = h.Records.Change(ctx, c.ID); err != nil {
			return nil, err
		}
		addProof(&out, c)
	}
	out.Read = g.Access().Read
	return answer(out), nil
}

func sheet(srv catalog.Server, database string) wire.Handover {
	host, port := srv.FirstClient()
	out := wire.Handover{Server: srv.Name, Engine: string(srv.Engine), Environment: string(srv.Environment), Host: host,
		Port: port, Database: database,
		TLS: string(srv.TLS), Accounts: []wire.HandoverAccount{}, Also: []string{}}
	if len(srv.Clients) > 1 {
		out.Also = srv.Clients[1:]
	}
	return out
}

func (h *Handler) handoverAccount(srv catalog.Server, database string, p catalog.Principal,
	level, password string) wire.HandoverAccount {
	host, port := srv.FirstClient()
	l := handover.Login{Host: host, Port: port, Database: database, Account: p.Name, Password: password, TLS: srv.TLS}
	var forms []handover.Form
	if eng, err := h.Fleet.Engine(srv.Engine); err == nil {
		forms = eng.Connections(l)
	}
	return wire.HandoverAccount{Name: p.Name, Host: p.Host, Level: level, Password: password, Proof: []string{},
		Forms: each(forms, func(f handover.Form) wire.Form { return wire.Form(f) })}
}

// addProof tells beside each account what was tried as it.
func addProof(out *wire.Handover, c change.Change) {
	for _, s := range c.Steps {
		if s.Kind != engine.StepProve {
			continue
		}
		for _, m := range s.Messages {
			for i := range out.Accounts {
				a := &out.Accounts[i]
				if m.Account != "" && m.Account == (catalog.Principal{Name: a.Name, Host: a.Host}).String() {
					a.Proof = append(a.Proof, m.Text)
				}
			}
		}
	}
}

// revealPasswords shows the generated passwords of a change, once, as the sheet
// that goes to the team.
func (h *Handler) revealPasswords(ctx context.Context, in *ChangePath) (*body[wire.Handover], error) {
	c, err := h.change(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	srv, err := h.Fleet.Get(ctx, c.Intent.Server)
	if err != nil {
		return nil, h.noServer(ctx, c.Intent.Server, err)
	}
	kept, err := h.Changes.Reveal(ctx, from(ctx).Name, in.ID)
	if errors.Is(err, record.ErrNotFound) {
		return nil, &Problem{Status: http.StatusGone, Code: "passwords.gone",
			Detail: "There is no password to be shown: it was shown already, or none was generated.",
			Next:   "Set another one.", Actions: do("account.password", "")}
	}
	if err != nil {
		return nil, err
	}
	database := ""
	levels := map[string]string{}
	if d := c.Intent.Database; d != nil {
		database = d.Name
		if d.Team != nil {
			levels = map[string]string{d.Team.App().Name: string(access.BundleWrite),
				d.Team.Reader().Name: string(access.BundleRead)}
		}
	}
	if a := c.Intent.Account; a != nil {
		database = a.Database
	}
	out := sheet(srv, database)
	out.Change, out.Read = c.ID, c.Ended
	hosts := map[string]string{}
	for _, s := range c.Intent.Secrets() {
		hosts[s.Account.Name] = s.Account.Host
		if at, err := naming.ParseAddress(c.Brief.Target); err == nil && at.Kind == naming.KindAccount {
			hosts[s.Account.Name] = at.Host // the one that a bare name meant
		} else if s.Account.Host == "" {
			account, _ := h.engineOf(srv).Principal(false)
			hosts[s.Account.Name] = account.Default
		}
	}
	for _, k := range kept {
		out.Accounts = append(out.Accounts,
			h.handoverAccount(srv, database, catalog.Principal{Name: k.Account, Host: hosts[k.Account]},
				levels[k.Account], k.Text.Reveal()))
	}
	addProof(&out, c)
	return answer(out), nil
}
