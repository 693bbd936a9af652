package mysqlfamily

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/privilege"
	"example.com/genarch/engine/planning"
)

// A database that was set aside waits as a database of ours: its tables were moved there,
// and a small table beside them keeps what cannot be moved (definitions, grants) and what
// it was. A lost store loses nothing of it.

const (
	// heldTable keeps what could not be moved.
	heldTable = "genarch_holding"
	// maxName is how many characters the name of a database has at most.
	maxName = 64
	// heldComment is the comment of a database in which another one waits.
	heldComment = "What Genarch set aside; to bring it back: genarch holding list."
)

// heldName is the name under which a database waits: the first free number makes it the
// only one, and the rest tells people what it was, as far as it fits.
func heldName(name string, names []string) string {
	prefix := ""
	for n := 1; prefix == ""; n++ {
		p := planning.HeldPrefix + strconv.Itoa(n) + "_"
		if !slices.ContainsFunc(names, func(x string) bool { return strings.HasPrefix(strings.ToLower(x), p) }) {
			prefix = p
		}
	}
	held := prefix + name
	for utf8.RuneCountInString(held) > maxName || directoryLength(held) > maxDirectory {
		_, n := utf8.DecodeLastRuneInString(held)
		held = held[:len(held)-n]
	}
	return held
}

// objects are what a database holds, by name.
type objects struct {
	Tables   []string // and sequences: whatever RENAME TABLE moves
	Views    []string
	Triggers []string // in the order in which they were made for their tables
	Routines []routine
	Events   []scheduled // the disabled ones too
	// Broken are views that do not work as they are: they could not be made again.
	Broken []string
}

// routine is a function, procedure, package or package body.
type routine struct{ Kind, Name string }

// moved is how everything goes from one database into another: what cannot be moved is
// dropped, for it was saved.
func (o objects) moved(from, to string) []string {
	out := o.dropTriggers(from)
	if text := renameTables(o.Tables, from, to); text != "" {
		out = append(out, text)
	}
	for _, e := range o.Events {
		out = append(out, alterEvent(from, e)+" RENAME TO "+quoteIdent(to)+"."+quoteIdent(e.Name))
	}
	return append(out, o.dropRest(from)...)
}

// defined is how much is defined over the tables.
func (o objects) defined() int {
	return len(o.Routines) + len(o.Views) + len(o.Triggers) + len(o.Events)
}

// dropped are the statements that drop everything but the tables.
func (o objects) dropped(database string) []string {
	out := o.dropTriggers(database)
	for _, e := range o.Events {
		out = append(out, "DROP EVENT "+quoteIdent(database)+"."+quoteIdent(e.Name))
	}
	return append(out, o.dropRest(database)...)
}

func (o objects) dropTriggers(database string) []string {
	var out []string
	for _, t := range o.Triggers {
		out = append(out, "DROP TRIGGER "+quoteIdent(database)+"."+quoteIdent(t))
	}
	return out
}

// dropRest drops views and routines.
func (o objects) dropRest(database string) []string {
	var out []string
	for _, v := range o.Views {
		out = append(out, "DROP VIEW "+quoteIdent(database)+"."+quoteIdent(v))
	}
	// A package takes its body along.
	for _, r := range slices.Backward(o.Routines) {
		text := "DROP " + strings.ToUpper(r.Kind) + " " + quoteIdent(database) + "." + quoteIdent(r.Name)
		if strings.HasPrefix(r.Kind, "package") {
			text = inOracleMode(text)
		}
		out = append(out, text)
	}
	return out
}

// renameTables moves tables in one statement, which moves all of them or none; empty:
// there are none.
func renameTables(tables []string, from, to string) string {
	var pairs []string
	for _, t := range tables {
		pairs = append(pairs, quoteIdent(from)+"."+quoteIdent(t)+" TO "+quoteIdent(to)+"."+quoteIdent(t))
	}
	if len(pairs) == 0 {
		return ""
	}
	return "RENAME TABLE " + strings.Join(pairs, ",\n  ")
}

// definition is one thing that was saved.
type definition struct {
	// Kind is view, trigger, function, procedure, package, package body, event or grant.
	Kind, Name string
	// Mode, Client and Connection are the sql_mode and character sets that it was made with,
	// and Database is the collation that its database had then; a view has no such.
	Mode, Client, Connection, Database string
	// Body is the statement that makes it, byte for byte as it was sent once; of an event
	// its definer, of a grant what [savedGrant] says.
	Body []byte
}

// The kinds of what is saved besides objects.
const (
	// savedElsewhere is a trigger as it is made in a database of another name: its own text
	// may name the one that it was made in.
	savedElsewhere = "elsewhere"

	savedNote  = "note"
	savedSeal  = "seal"  // of all the others but the note, which is altered now and then
	savedEvent = "event" // one that was enabled
	savedRight = "grant"
)

// made are the kinds that are made again, in the order in which that is possible.
var made = []string{"function", "procedure", "package", "package body", "view", "trigger"}

// elsewhere are the definitions as they are made in a database of another name.
func elsewhere(list []definition) []definition {
	out := slices.Clone(list)
	for _, d := range list {
		i := slices.IndexFunc(out, func(x definition) bool { return x.Kind == "trigger" && x.Name == d.Name })
		if d.Kind == savedElsewhere && i >= 0 {
			out[i].Body = d.Body
		}
	}
	return out
}

// definerIn writes a definer as the server itself does in a definition made under a
// sql_mode: a role without a host.
func definerIn(mode, definer string) string {
	quote := quoteIdent
	if slices.Contains(strings.Split(mode, ","), "ANSI_QUOTES") {
		quote = func(name string) string { return `"` + strings.ReplaceAll(name, `"`, `""`) + `"` }
	}
	user, host := splitAccount(definer)
	if host == "" {
		return quote(user)
	}
	return quote(user) + "@" + quote(host)
}

// sealText is what the seal on what was saved covers: where it lies, and each part, with its
// length in front, so that no two different lists have the same.
func sealText(held string, list []definition) string {
	var b strings.Builder
	part := func(text string) { fmt.Fprintf(&b, "%d:%s", len(text), text) }
	part("holding")
	part(held)
	for _, d := range list {
		if d.Kind == savedNote || d.Kind == savedSeal {
			continue
		}
		for _, text := range []string{d.Kind, d.Name, d.Mode, d.Client, d.Connection, d.Database, string(d.Body)} {
			part(text)
		}
	}
	return b.String()
}

// digest tells whether definitions are the same.
func digest(list []definition) string {
	var lines []string
	for _, d := range list {
		if slices.Contains(made, d.Kind) {
			lines = append(lines, strings.Join([]string{d.Kind, d.Name, d.Mode, d.Client, d.Connection,
				d.Database, string(d.Body)}, "\x00"))
		}
	}
	slices.Sort(lines)
	sum := sha256.Sum256([]byte(strings.Join(lines, "\x01")))
	return hex.EncodeToString(sum[:12])
}

// savedGrant is a grant as it is kept: by names and not as a statement, so that it can be
// granted again on a database of another name.
type savedGrant struct {
	Grantee    catalog.Principal `json:"grantee"`
	Object     catalog.Object    `json:"object"`
	Privileges []string          `json:"privileges"`
	Grantable  bool              `json:"grantable,omitempty"`
}

// grantsOn are the grants on exactly a database and on what is in it, but for Genarch's own.
func grantsOn(name string, a catalog.Access, self catalog.Principal) []savedGrant {
	var out []savedGrant
	for _, x := range a.Grants {
		if x.Grantee == self || !onName(x, name) {
			continue
		}
		o := x.Object
		o.Database = ""
		out = append(out, savedGrant{x.Grantee, o, x.Privileges.Names(), !x.Grantable.Empty()})
	}
	return out
}

// sql are the statements that grant it on a database, and revoke it.
func (g savedGrant) sql(database string) (grant, revoke string, err error) {
	set := privilege.Set{}
	if len(g.Privileges) > 0 {
		if set, err = table.Parse(g.Privileges); err != nil {
			return "", "", err
		}
	}
	o := g.Object
	o.Database = database
	on, words := onSQL(o), "USAGE"
	var gone []string
	if !set.Empty() {
		words = columnText(set, o.Column)
		gone = append(gone, words)
	}
	if g.Grantable {
		gone = append(gone, "GRANT OPTION")
	}
	if len(gone) > 0 {
		revoke = revokeSQL(strings.Join(gone, ", "), on, g.Grantee)
	}
	return grantSQL(words, on, g.Grantee, g.Grantable), revoke, nil
}

// writeGrants and readGrantList keep grants in one text.
func writeGrants(list []savedGrant) []string {
	var out []string
	for _, g := range list {
		text, err := json.Marshal(g)
		if err != nil {
			panic("a grant is plain data: " + err.Error())
		}
		out = append(out, string(text))
	}
	return out
}

func readGrantList(texts []string) ([]savedGrant, error) {
	var out []savedGrant
	for _, text := range texts {
		var g savedGrant
		if err := json.Unmarshal([]byte(text), &g); err != nil {
			return nil, err
		}
		out = append(out, g)
	}
	return out, nil
}

// createHeldTable makes the table that keeps what could not be moved.
func createHeldTable(held string) string {
	return "CREATE TABLE " + quoteIdent(held) + "." + quoteIdent(heldTable) + " (\n" +
		"  position INT NOT NULL PRIMARY KEY,\n" +
		"  kind VARCHAR(20) NOT NULL,\n" +
		"  name VARCHAR(64) NOT NULL,\n" +
		"  mode TEXT NOT NULL,\n" +
		"  client VARCHAR(64) NOT NULL,\n" +
		"  connection VARCHAR(64) NOT NULL,\n" +
		"  collation VARCHAR(64) NOT NULL,\n" +
		"  body LONGBLOB NOT NULL\n" +
		") ENGINE=InnoDB CHARACTER SET utf8mb4 COLLATE utf8mb4_bin"
}

// updateNote writes another note.
func updateNote(held, note string) string {
	return "UPDATE " + quoteIdent(held) + "." + quoteIdent(heldTable) + "\n  SET body = " + quoteText(note) +
		"\n  WHERE kind = " + quoteText(savedNote)
}
