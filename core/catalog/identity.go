package catalog

import (
	"maps"
	"slices"
	"strings"
)

// Identity marks an instance, whatever its address. Marks are facts that the
// engine tells; which ones decide is the engine's business, so it names them.
type Identity struct {
	// Key decides: PostgreSQL's system identifier; for MariaDB, which has
	// nothing of the kind, the time of the installation.
	Key string `json:"key"`
	// Marks are shown beside the key and compared too: host name, port, data
	// folder, a marker row of our own. An empty or missing mark says nothing.
	Marks map[string]string `json:"marks,omitempty"`
}

// Known reports whether the identity was ever read.
func (i Identity) Known() bool { return i.Key != "" }

// Differences lists, sorted, which facts of a newly read identity contradict
// the known one; none means that it is the same instance as far as can be told.
// A mark that only one side has is no contradiction.
func (i Identity) Differences(now Identity) []string {
	var out []string
	if i.Key != now.Key && !i.keyStands(now) {
		out = append(out, "key")
	}
	for _, mark := range slices.Sorted(maps.Keys(i.Marks)) {
		if other := now.Marks[mark]; other != "" && other != i.Marks[mark] {
			out = append(out, mark)
		}
	}
	return out
}

// keyStands reports whether the known key was only one of the marks, all that
// the login could see then, and that mark is still the same: who is allowed to
// see more than before does not look at another instance.
func (i Identity) keyStands(now Identity) bool {
	for mark, value := range now.Marks {
		if i.Key == mark+" "+value && i.Marks[mark] == value {
			return true
		}
	}
	return false
}

// String writes the identity on one line.
func (i Identity) String() string {
	if !i.Known() {
		return "unknown"
	}
	parts := []string{i.Key}
	for _, mark := range slices.Sorted(maps.Keys(i.Marks)) {
		parts = append(parts, mark+"="+i.Marks[mark])
	}
	return strings.Join(parts, " ")
}
