package mysqlfamily

import (
	"slices"
	"strings"

	"example.com/genarch/core/catalog"
	"example.com/genarch/engine"
)

// grantOption stands for the right to pass on what one has, which is granted with it.
const grantOption = "GRANT OPTION"

// ability is one thing that Genarch's login may do, and the privileges on the whole
// server that it takes.
type ability struct {
	code, title string
	privileges  []string
	// since is the first version with these privileges, until the first without; 0: all.
	since, until int
	// unneeded: the login is better without.
	unneeded bool
}

// abilitiesOf are those of a version; 0: of the newest.
func (p *product) abilitiesOf(number int) []ability {
	return slices.DeleteFunc(slices.Clone(p.abilities), func(a ability) bool {
		return number == 0 && a.until > 0 || number > 0 && (number < a.since || a.until > 0 && number >= a.until)
	})
}

// statement lets an account, which is quoted already, have those that it lacks. The
// right to pass on goes with all of them: it is one for what it stands beside.
func (a ability) statement(account string, missing []string) string {
	suffix := ""
	if slices.Contains(missing, grantOption) {
		missing, suffix = slices.DeleteFunc(slices.Clone(a.privileges),
			func(p string) bool { return p == grantOption }), " WITH GRANT OPTION"
	}
	return "GRANT " + strings.Join(missing, ", ") + " ON *.* TO " + account + suffix
}

// Prepare writes the statements that make a login for Genarch, which comes from the
// host that the service has; everywhere when none is said.
func (e Engine[P]) Prepare(login catalog.Principal) []engine.Right {
	if login.Host == "" {
		login.Host = "%"
	}
	account := quoteAccount(login.Name, login.Host)
	out := []engine.Right{{For: "sign in", Statement: "CREATE USER " + account + e.product().fresh}}
	for _, a := range e.product().abilitiesOf(0) {
		if a.unneeded {
			continue
		}
		out = append(out, engine.Right{For: a.title, Statement: a.statement(account, a.privileges)})
	}
	return out
}
