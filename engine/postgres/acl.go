package postgres

import (
	"strings"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/privilege"
)

// letters are how an access list writes privileges. Source: the manual's "ACL
// Privilege Abbreviations".
var letters = map[byte]privilege.Set{
	'r': may.Select, 'a': may.Insert, 'w': may.Update, 'd': may.Delete, 'D': may.Truncate,
	'x': may.References, 't': may.Trigger, 'm': may.Maintain, 'U': may.Usage, 'C': may.Create,
	'c': may.Connect, 'T': may.Temporary, 'X': may.Execute, 's': may.SetParameter, 'A': may.AlterSystem,
}

// parseACL reads an access list in its text form: grantee=letters/grantor, a
// star behind a letter that may be passed on, no grantee for everybody.
// builtin: the list is the default, nothing was ever granted or revoked.
func parseACL(items []string, builtin bool) []catalog.Entry {
	out := make([]catalog.Entry, 0, len(items))
	for _, item := range items {
		grantee, rest := aclName(item)
		held, grantor, found := strings.Cut(strings.TrimPrefix(rest, "="), "/")
		if !found {
			continue
		}
		e := catalog.Entry{Grantee: catalog.Principal{Name: grantee}, Builtin: builtin}
		if grantee == "" {
			e.Grantee = catalog.Public
		}
		e.Grantor, _ = aclName(grantor)
		for i := range len(held) {
			set := letters[held[i]]
			e.Privileges = e.Privileges.Or(set)
			if i+1 < len(held) && held[i+1] == '*' {
				e.Grantable = e.Grantable.Or(set)
			}
		}
		out = append(out, e)
	}
	return out
}

// aclName takes a role's name off the front, quoted where it is not plain.
func aclName(text string) (name, rest string) {
	if !strings.HasPrefix(text, `"`) {
		end := strings.IndexAny(text, "=/")
		if end < 0 {
			return text, ""
		}
		return text[:end], text[end:]
	}
	var b strings.Builder
	for i := 1; i < len(text); i++ {
		if text[i] == '"' {
			if i+1 == len(text) || text[i+1] != '"' {
				return b.String(), text[i+1:]
			}
			i++
		}
		b.WriteByte(text[i])
	}
	return b.String(), ""
}
