package engine

import (
	"slices"
	"strings"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/privilege"
)

// ParsePrivileges reads a table of privileges, a line for each set of scopes:
//
//	table column: SELECT, INSERT
//	database: TEMPORARY=TEMP, MAINTAIN>=17
//
// "=" stands before another name of the same privilege, ">=" before the release that
// brought it. A privilege may stand in several lines. It panics on what it cannot
// read: the tables are constants.
func ParsePrivileges(table string) []Privilege {
	var out []Privilege
	for line := range strings.Lines(table) {
		scopes, list, ok := strings.Cut(strings.TrimSpace(line), ":")
		if !ok {
			if scopes != "" {
				panic("no scope in the line " + line)
			}
			continue
		}
		for entry := range strings.SplitSeq(list, ",") {
			name, since, _ := strings.Cut(strings.TrimSpace(entry), ">=")
			name, also, _ := strings.Cut(name, "=")
			i := slices.IndexFunc(out, func(p Privilege) bool { return p.Name == name })
			if i < 0 {
				i = len(out)
				out = append(out, Privilege{Name: name})
			}
			for s := range strings.FieldsSeq(scopes) {
				out[i].On = append(out[i].On, catalog.Scope(s))
			}
			if also != "" {
				out[i].Also = append(out[i].Also, also)
			}
			if since != "" {
				out[i].Since = since
			}
		}
	}
	return out
}

// PrivilegesOn lists the names of the privileges that can be granted on a scope.
func (d *Description) PrivilegesOn(scope catalog.Scope) []string {
	var out []string
	for _, p := range d.Privileges {
		if slices.Contains(p.On, scope) {
			out = append(out, p.Name)
		}
	}
	return out
}

// PrivilegeSet are the privileges that can be granted on a scope. Those of the whole
// server are none of a database's, so Genarch grants none of them.
func (d *Description) PrivilegeSet(scope catalog.Scope) privilege.Set {
	if scope == catalog.ScopeServer {
		return privilege.Set{}
	}
	set, _ := d.Table.Parse(d.PrivilegesOn(scope)) // validated
	return set
}
