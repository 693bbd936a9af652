package access

import (
	"fmt"
	"slices"
	"strings"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/naming"
)

// The codes of traps that do not come from the marks of an account.
const (
	// TrapWideGrant: a grant names one database and opens others too.
	TrapWideGrant = "grant.wide"
	// TrapLeftover: a grant on a database that does not exist takes effect with the next
	// one of that name.
	TrapLeftover = "grant.leftover"
)

// Trap is something about who may do what that does other than it seems.
type Trap struct {
	Code string
	// Who it is about.
	Who  catalog.Principal
	Text string // a whole sentence
}

// Traps lists what deserves a look on a server before something goes wrong there: accounts
// that others get in by, and grants that open other than what they name.
func (g *Graph) Traps() []Trap {
	var out []Trap
	for _, a := range g.access.Accounts {
		if a.System && !a.Bootstrap {
			continue
		}
		for _, m := range g.Marks(a) {
			if m.Trap {
				out = append(out, Trap{m.Code, a.Principal,
					fmt.Sprintf("%s: %s.", naming.Show(a.Principal.String()), m.Text)})
			}
		}
	}
	for _, w := range g.Wider() {
		// A pattern that names no database is meant as one.
		if _, named := g.Database(w.Object.Database); named && len(w.Opens) > 0 {
			opens := slices.Sorted(slices.Values(w.Opens))
			for i, name := range opens {
				opens[i] = naming.Show(name)
			}
			out = append(out, Trap{TrapWideGrant, w.Holder, fmt.Sprintf("The grant of %s on %s opens %s too.",
				naming.Show(w.Holder.String()), naming.Show(w.Object.Database), shorten(opens))})
		}
	}
	for _, l := range g.Leftovers() {
		out = append(out, Trap{TrapLeftover, l.Holder, fmt.Sprintf(
			"The grant of %s on %s fits no database; it takes effect with the next one that it fits.",
			naming.Show(l.Holder.String()), naming.Show(l.Object.Database))})
	}
	return out
}

// shorten lists names, at most five of them.
func shorten(names []string) string {
	if len(names) > 5 {
		return fmt.Sprintf("%s and %d more", strings.Join(names[:5], ", "), len(names)-5)
	}
	return strings.Join(names, ", ")
}
