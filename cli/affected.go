package cli

import (
	"fmt"
	"net"
	"strings"
	"time"

	"example.com/genarch/api/wire"
	"example.com/genarch/core/naming"
)

const (
	// maxTold is how many sessions are told one by one.
	maxTold = 20
	// maxNamed is how many of a group of idle ones are named.
	maxNamed = 6
)

// idleGroup is what is idle of one program, account and client.
type idleGroup struct {
	who              string
	ids              []string
	shortest, oldest time.Duration
}

// showAffected lists the sessions that a brief is about, before anything runs:
// those that would lose something one by one, the idle ones of a pool together.
func (a app) showAffected(b wire.Brief) {
	if len(b.Affected) == 0 {
		return
	}
	a.say("")
	a.say("  %s", bold.Render(naming.Count(b.AffectedAll, "session")+" as of "+timeText(b.Read)))
	told := 0
	var groups []*idleGroup
	for _, s := range b.Affected {
		doing := time.Duration(0)
		if s.StateSince != nil {
			doing = b.Read.Sub(*s.StateSince)
		}
		switch {
		case s.Class == wire.ClassIdle:
			groups = addIdle(groups, s, doing)
			told++
		case told < maxTold:
			told++
			a.sayWrapped("      ", fmt.Sprintf("    %-22s  %-15s  %s, %s for %s; would lose %s", s.ID,
				codeWords(s.Class), visible(whoIs(s, s.Client)), codeWords(s.State), span(doing), s.Loses))
			if s.Statement != "" {
				a.say("      %s", faint.Render(visible(shorten(s.Statement, 100))))
			}
		}
	}
	for _, g := range groups {
		a.showIdle(*g)
	}
	if more := b.AffectedAll - told; more > 0 {
		a.say("    and %d more", more)
	}
}

// whoIs names account, program and client of a session.
func whoIs(s wire.ServerSession, client string) string {
	return strings.Join(strings.Fields(holderText(s.Account)+" "+s.Application+" "+client), " ")
}

func addIdle(groups []*idleGroup, s wire.ServerSession, doing time.Duration) []*idleGroup {
	client := s.Client
	if host, _, err := net.SplitHostPort(client); err == nil {
		client = host // each has a port of its own
	}
	who := whoIs(s, client)
	for _, g := range groups {
		if g.who == who {
			g.ids = append(g.ids, s.ID)
			g.shortest, g.oldest = min(g.shortest, doing), max(g.oldest, doing)
			return groups
		}
	}
	return append(groups, &idleGroup{who, []string{s.ID}, doing, doing})
}

func (a app) showIdle(g idleGroup) {
	how, loses := span(g.shortest), "nothing but its connection"
	named := g.ids[0]
	if n := len(g.ids); n > 1 {
		named, loses = naming.Count(n, "session"), "nothing but their connections"
		if to := span(g.oldest); to != how {
			how += " to " + to
		}
	}
	a.sayWrapped("      ", fmt.Sprintf("    %-22s  %-15s  %s, idle for %s; would lose %s", named, "idle",
		visible(g.who), how, loses))
	if n := len(g.ids); n > 1 {
		list := strings.Join(g.ids[:min(n, maxNamed)], " ")
		if n > maxNamed {
			list += fmt.Sprintf(" and %d more", n-maxNamed)
		}
		a.sayWrapped("      ", "      "+faint.Render(list))
	}
}
