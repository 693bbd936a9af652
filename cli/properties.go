package cli

import (
	"fmt"
	"strings"

	"charm.land/lipgloss/v2"
)

// properties is one thing, written as title and value in two columns.
type properties struct {
	titles, values []string
}

// add adds a line; an empty title belongs to the line above.
func (p *properties) add(title, value string) {
	p.titles, p.values = append(p.titles, title), append(p.values, value)
}

func (p *properties) print(a app) {
	wide := 0
	for _, t := range p.titles {
		wide = max(wide, lipgloss.Width(t))
	}
	for i, t := range p.titles {
		lipgloss.Fprintln(a.Out, fmt.Sprintf("%s%s  %s", bold.Render(t), strings.Repeat(" ", wide-lipgloss.Width(t)), p.values[i]))
	}
}
