package invented

import (
	"maps"
	"slices"
	"strings"

	"example.com/genarch/core/access"
	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/clearing"
	"example.com/genarch/core/naming"
	"example.com/genarch/core/remedy"
	"example.com/genarch/engine/planning"
)

// The kinds of steps.
const (
	stepReserve = "reserve_vault"
	stepBuild   = "build_vault"
	stepSet     = "set_vault"
	stepEmpty   = "empty_vault"
	stepAdmit   = "admit_clerk"
	stepDismiss = "dismiss_clerk"
	stepPermit  = "permit_clerk"
)

// Plan briefs an intent.
func (Engine) Plan(in change.Intent, snap catalog.Snapshot) (change.Brief, error) {
	p, ok, err := planning.New(in, snap, &description, equal)
	if err != nil || !ok {
		if p == nil {
			return change.Brief{}, err
		}
		return p.Seal(), err
	}
	switch in.Kind {
	case change.CreateDatabase:
		planCreate(p)
	case change.AlterDatabase:
		planAlter(p)
	case change.DropDatabase:
		planDrop(p)
	case change.EndSessions:
		planning.EndSessions(&p.Brief, p.In, snap, request{Do: "end"}.text())
	case change.CreateAccount:
		planAdmit(p)
	case change.DropAccount:
		planDismiss(p)
	case change.GrantPrivilege, change.RevokePrivilege:
		planPermit(p)
	}
	return p.Seal(), nil
}

// equal compares two values letter by letter.
func equal(_ string, want, have any) bool {
	return catalog.WriteValue(want) == catalog.WriteValue(have)
}

// step makes one whose command is a request, with what it takes to know it again.
func step(kind, title string, do, undo request, args map[string]string) change.Step {
	s := change.Step{Kind: kind, Title: title, Statement: do.text(), Args: args}
	if undo.Do != "" {
		s.Undo = undo.text()
	}
	return s
}

func verify(title string, want map[string]string) change.Step {
	return change.Step{Kind: change.Verify, Title: title, ReadOnly: true, Args: want}
}

func planCreate(p *planning.Draft) {
	spec := *p.In.Database
	shown := naming.Show(spec.Name)
	p.Summary = "make the vault " + shown + " on " + p.Snap.Server.Name
	planning.Rights(&p.Brief, p.Snap)
	if planning.Name(&p.Brief, spec, p.Snap, names) {
		p.Existing()
		return
	}
	if d, ok := p.Snap.Choices.Default("regions"); ok {
		p.Default("region", d.Name, "the hall's own")
	}
	want := p.Settings(true)
	asked := map[string]any{}
	for _, name := range p.Settled.Names() {
		asked[name] = p.Settled[name]
	}
	build := step(stepBuild, "build it", request{Do: "build", Vault: spec.Name}, request{},
		map[string]string{"name": spec.Name})
	build.Irreversible = true // emptying takes it back too
	p.Step(step(stepReserve, "reserve the vault "+shown, request{Do: "reserve", Vault: spec.Name, Settings: asked},
		request{Do: "empty", Vault: spec.Name},
		map[string]string{"name": spec.Name}),
		build, verify("read back and compare", want))
}

func planAlter(p *planning.Draft) {
	p.Summary = "alter " + p.Target
	if !planning.DatabaseThere(&p.Brief, *p.In.Database, p.Snap, planning.Altered) {
		return
	}
	d := p.Snap.Target
	want := map[string]string{"name": d.Name, "key": d.Key}
	for _, a := range p.Alterations() {
		args := map[string]string{"name": d.Name, "key": d.Key, "option": a.Name, "will": catalog.WriteValue(a.Will)}
		p.Step(step(stepSet, a.Words(),
			request{Do: "set", Vault: d.Name, Key: d.Key, Settings: map[string]any{a.Name: a.Will}},
			request{Do: "set", Vault: d.Name, Key: d.Key, Settings: map[string]any{a.Name: a.Is}}, args))
		want[a.Name] = args["will"]
	}
	if len(p.Steps) > 0 {
		p.Step(verify("read back and compare", want))
	}
}

func planDrop(p *planning.Draft) {
	spec := *p.In.Database
	p.Summary = "empty the vault " + naming.Show(spec.Name) + " on " + p.Snap.Server.Name
	if !planning.DatabaseThere(&p.Brief, spec, p.Snap, "emptied") {
		return
	}
	d := p.Snap.Target
	p.Confirm = d.Name
	planning.Lost(&p.Brief, p.Snap)
	clear := planning.Clearing(&p.Brief, p.Snap, p.In.Clearing.Rules(clearing.Target{Database: d.Name}),
		naming.Show(d.Name), request{Do: "end"}.text())
	args := map[string]string{"name": d.Name, "key": d.Key}
	empty := request{Do: "empty", Vault: d.Name, Key: d.Key}
	if p.Asked.Bool("shred") {
		empty.Settings = map[string]any{"shred": true}
	}
	p.Step(clear, step(stepEmpty, "empty it", empty, request{}, args),
		verify("read back that it is gone", map[string]string{"name": d.Name, "key": d.Key, "gone": "yes"}))
}

// there stops an intent about a clerk or its permits where there is no such vault.
func there(p *planning.Draft, name string) bool {
	if slices.Contains(p.Snap.Names, name) {
		return true
	}
	p.Find(change.Stop, change.DatabaseAbsent, "List them.",
		"There is no vault %s on %s.", naming.Show(name), p.Snap.Server.Name).
		Offer(remedy.Command("database.list", p.Snap.Server.Name))
	return false
}

func planAdmit(p *planning.Draft) {
	a := *p.In.Account
	p.Summary = "admit " + naming.Show(a.Name) + " to " + naming.Show(a.Database) + " on " + p.Snap.Server.Name
	planning.Manage(&p.Brief, p.Snap)
	planning.NewName(&p.Brief, a.Name, p.Snap, names)
	planning.Password(&p.Brief, a, p.Snap)
	if !there(p, a.Database) {
		return
	}
	if len(catalog.Candidates(p.Snap.Access.Accounts, a.Principal())) > 0 {
		if a.IfNotExists {
			planning.Done(&p.Brief, change.ExistsAsAsked, "%s is there already", p.Target)
			return
		}
		p.Find(change.Stop, change.AccountExists, "Choose another name.", "There is a clerk %s already.",
			naming.Show(a.Principal().String()))
	}
	r := request{Do: "admit", Vault: a.Database, Clerk: a.Name}
	if p.Settled.Has("badge") {
		r.Settings = map[string]any{"badge": p.Settled["badge"]}
	}
	args := map[string]string{"vault": a.Database, "clerk": a.Name}
	s := step(stepAdmit, "admit "+naming.Show(a.Name), r, request{Do: "dismiss", Vault: a.Database, Clerk: a.Name},
		args)
	if a.Password != change.NoPassword {
		s = s.NeedsSecrets(a.Name)
	}
	p.Step(s, verify("read back and compare", args))
}

func planDismiss(p *planning.Draft) {
	a := *p.In.Account
	p.Summary = "dismiss " + naming.Show(a.Principal().String()) + " on " + p.Snap.Server.Name
	planning.Manage(&p.Brief, p.Snap)
	found, ok := planning.FindAccount(&p.Brief, a.Principal(), p.Snap, change.AccountAbsent)
	if !ok {
		if a.IfExists {
			planning.Absent(&p.Brief)
		}
		return
	}
	planning.Keep(&p.Brief, found, p.Snap, "dismissed")
	planning.Loses(&p.Brief, access.New(*p.Snap.Access, Engine{}.Rules), found.Principal)
	p.Confirm = found.Name
	args := map[string]string{"vault": found.Database, "clerk": found.Name, "gone": "yes"}
	p.Step(step(stepDismiss, "dismiss "+naming.Show(found.Name),
		request{Do: "dismiss", Vault: found.Database, Clerk: found.Name}, request{}, args),
		planning.ClearAccount(&p.Brief, p.In, found, p.Snap, request{Do: "end"}.text()),
		verify("read back that it is gone", args))
}

func planPermit(p *planning.Draft) {
	g := *p.In.Grant
	o := g.Object()
	word := map[bool]string{true: "permit", false: "revoke"}[p.In.Kind == change.GrantPrivilege]
	if p.Settled["deny"] == true {
		word = "deny"
	}
	p.Summary = word + " something in " + naming.Show(g.Database) + " on " + p.Snap.Server.Name
	if !there(p, g.Database) {
		return
	}
	to, ok := planning.FindAccount(&p.Brief, g.To, p.Snap, change.AccountAbsent)
	if !ok {
		return
	}
	set := planning.Privileges(&p.Brief, g, &description)
	switch {
	case g.Bundle != "" && p.In.Kind == change.GrantPrivilege:
		set = table.Of(on[g.Bundle]...)
	case g.Bundle != "":
		set = table.All().Minus(table.Of(on[g.Bundle]...))
	case len(g.Privileges) == 0:
		set = table.All()
	}
	if g.GrantOption {
		p.Find(change.Stop, change.GrantInvalid, "Leave it out.", "Nothing can be passed on.")
	}
	p.Summary = word + " " + set.String() + " for " + naming.Show(to.Principal.String()) + " on " + p.Snap.Server.Name
	r := request{Do: word, Vault: g.Database, Clerk: to.Name, Box: o.Name, May: set.Names()}
	args := map[string]string{"vault": g.Database, "clerk": to.Name, "box": o.Name, "word": word,
		"may": strings.Join(set.Names(), ",")}
	had := heldOn(*p.Snap.Access, to.Principal, g.Database, o.Name)
	undo := request{Do: "put", Vault: g.Database, Clerk: to.Name, Box: o.Name, May: had.Privileges.Names(),
		Denied: had.Denied.Names()}
	p.Step(step(stepPermit, word+" "+set.String(), r, undo, args), verify("read back and compare", maps.Clone(args)))
}

// heldOn is what a clerk was permitted and denied on just that object.
func heldOn(a catalog.Access, p catalog.Principal, vault, box string) catalog.Entry {
	for _, g := range a.Grants {
		if g.Grantee == p && g.Database == vault && g.Name == box {
			return g.Entry
		}
	}
	return catalog.Entry{}
}
