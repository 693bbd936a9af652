package mysqlfamily

import (
	"fmt"
	"slices"
	"strings"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/naming"
	"example.com/genarch/core/remedy"
	"example.com/genarch/engine/planning"
)

// planAlter briefs altering what later tables get, the comment, and who holds all of
// it. Nobody has to leave for that.
func planAlter(p *planning.Draft) {
	b, spec, snap := &p.Brief, *p.In.Database, p.Snap
	p.Summary = "alter database " + naming.Show(spec.Name) + " on " + snap.Server.Name
	if !planning.DatabaseThere(b, spec, snap, planning.Altered) {
		return
	}
	d := *snap.Target
	if p.In.Clearing != nil {
		b.Find(change.Stop, change.OptionInvalid, "Leave it out.",
			"Nobody has to leave %s for this, so no session is ended or waited for.", naming.Show(d.Name))
	}
	owner := planOwner(p)
	if p.Asked.Has("encoding") || p.Asked.Has("collation") {
		// A collation goes with the character set, so both are settled.
		planCollation(p, d.Encoding, d.Collation, "as it is")
	}
	list := p.Alterations()
	if p.Outcome == change.Nothing {
		return
	}
	want := map[string]string{"name": d.Name}
	_, list = planning.Take(list, readOnly)
	_, list = planning.Take(list, "owner")
	_, list = planning.Take(list, "comment")
	first, last := planSetReadOnly(p, d, len(list))
	p.Step(first...)
	if len(list) > 0 {
		want["encoding"], want["collation"] = p.Settled.Text("encoding"), p.Settled.Text("collation")
		p.Step(change.Step{Kind: stepAlter, Title: "set character set and collation of what is made later",
			Statement: alterCharacters(d.Name, want["encoding"], want["collation"]),
			Undo:      alterCharacters(d.Name, d.Encoding, d.Collation),
			Args:      map[string]string{"name": d.Name, "encoding": want["encoding"], "collation": want["collation"]}})
		planKept(p, d, want["collation"])
	}
	if comment, asked := p.Asked["comment"]; asked && comment != d.Comment {
		want["comment"] = catalog.WriteValue(comment)
		p.Step(change.Step{Kind: stepAlter, Title: "set the comment", Statement: alterComment(d.Name, want["comment"]),
			Undo: alterComment(d.Name, d.Comment),
			Args: map[string]string{"name": d.Name, "comment": want["comment"]}})
	}
	if owner.Name != "" && !equal("owner", owner.String(), d.Owner) {
		want["owner"] = owner.String()
		planHandOver(p, d, owner)
	}
	for _, step := range append(first, last...) {
		want[readOnly] = step.Args[readOnly]
	}
	p.Step(last...)
	p.Step(change.Step{Kind: change.Verify, Title: "read back and compare", ReadOnly: true, Args: want})
}

// planKept says which tables keep what they have, and who goes on with the old default.
func planKept(p *planning.Draft, d catalog.Database, collation string) {
	kept := slices.DeleteFunc(slices.Clone(detailsOf(p.Snap.Details).Tables),
		func(t tableCollation) bool { return t.Collation == collation })
	if len(kept) > 0 {
		var words []string
		for _, t := range kept {
			words = append(words, fmt.Sprintf("%s (%s)", naming.Show(t.Table), t.Collation))
		}
		p.About("collation", change.Note, change.TablesKeep,
			"Alter each by itself: ALTER TABLE … CONVERT TO CHARACTER SET, which rewrites it.",
			"Tables that exist keep their character set and collation (%d): %s.", len(kept), planning.Shorten(words))
	}
	var there []string
	for _, s := range p.Snap.Connected {
		if s.Kind == catalog.ClientSession && s.Database == d.Name {
			there = append(there, s.Account.String())
		}
	}
	if len(there) > 0 {
		p.About("collation", change.Note, change.GateEffect, "Have them connect again, or end their sessions.",
			"Sessions that are in it go on with the old default for the tables that they make (%d): %s.", len(there),
			planning.Shorten(there)).Passing = true
	}
}

// planHandOver gives the bundle own to an account, and takes it from the accounts that
// held it. Roles keep what they have: they are what a team was given.
func planHandOver(p *planning.Draft, d catalog.Database, owner catalog.Principal) {
	o := catalog.Object{Scope: catalog.ScopeDatabase, Database: d.Name}
	had, _ := directOn(p.Snap.Access.Grants, owner, o)
	p.Step(ownStep(d.Name, owner, productOf(p.Snap).own(), had))
	former := map[string]bool{}
	for _, name := range strings.Split(d.Owner, ", ") {
		former[name] = true
	}
	var told []string
	for _, g := range p.Snap.Access.Grants {
		held, _ := directOn([]catalog.Grant{g}, g.Grantee, o)
		if held.Empty() || g.Grantee.Role || !former[g.Grantee.String()] {
			continue
		}
		if step, any := takeStep(g, productOf(p.Snap).own(), true); any {
			p.Step(step)
			told = append(told, g.Grantee.String())
		}
	}
	if len(told) > 0 {
		p.About("owner", change.Caution, change.OwnerReplaced,
			"Grant them a bundle first, if they are to keep something.",
			"All that was granted on the whole database is revoked from who held it: %s; sessions of theirs that are in it keep it until they say USE again.", planning.Shorten(told)).
			Offer(remedy.Command("privilege.grant", p.Target))
	}
}
