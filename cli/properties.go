package cli

import (
	"fmt"
	"strings"
	"time"

	"charm.land/lipgloss/v2"

	"example.com/genarch/api/wire"
)

// properties is one thing, written as title and value in two columns.
type properties struct {
	titles, values []string
}

// add adds a line; an empty title belongs to the line above.
func (p *properties) add(title, value string) {
	p.titles, p.values = append(p.titles, title), append(p.values, value)
}

// useText says when something was last used, as far as Genarch has looked.
// sessions is how many use it now; nil: not known.
func useText(u *wire.Use, sessions *int) string {
	if sessions != nil && *sessions > 0 {
		return "now"
	}
	if u == nil {
		return "not known: the server is not watched yet"
	}
	text := "not since " + timeText(u.Since) + ", when Genarch began to watch"
	if u.Last != nil {
		text = timeText(*u.Last)
	}
	if unobserved := time.Duration(u.Unobserved) * time.Second; unobserved >= time.Minute {
		text += fmt.Sprintf(" (for %s nobody looked)", span(unobserved))
	}
	return text
}

func (p *properties) print(a app) {
	wide := 0
	for _, t := range p.titles {
		wide = max(wide, lipgloss.Width(t))
	}
	for i, t := range p.titles {
		fmt.Fprintf(a.Out, "%s%s  %s\n", bold.Render(t), strings.Repeat(" ", wide-lipgloss.Width(t)), p.values[i])
	}
}
