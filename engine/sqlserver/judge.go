package sqlserver

import (
	"slices"
	"strings"

	"example.com/genarch/core/lexical"
	"example.com/genarch/core/script"
)

// What a batch is, and what is to be known of it before it is run. Statements in a batch need nothing
// between them, so words are looked at wherever they stand: those that are reserved mean nothing else (the
// manual, "Reserved Keywords"). What is run as a text is not seen. All this is to say before what the server
// would refuse in the middle; what a script may do is bounded by the rights of its account.

// judge looks at the words of a batch while it is read: of a long one it keeps only a few at a time.
type judge struct {
	st    *script.Statement
	words lexical.Words
	seen  int // of words, looked at already
	// head are the first words. told: one was met that tells what the batch is.
	head lexical.Words
	told bool
	// module: what follows is the body of a procedure, a view or the like, which is not run now.
	module bool
	// conditional: something was asked before.
	conditional bool
}

func newJudge(st *script.Statement) *judge { return &judge{st: st} }

const (
	// windowOf is how many words are kept, of which behind are behind the one that is looked at and
	// ahead before it.
	windowOf = 128
	behind   = 10
	ahead    = 24
	headOf   = 12
)

const letters = "abcdefghijklmnopqrstuvwxyz_"

// take takes the next word.
func (j *judge) take(w lexical.Word) {
	if len(j.head) < headOf {
		j.head = append(j.head, w)
	}
	if j.module && len(j.head) == headOf {
		return
	}
	j.words = append(j.words, w)
	if len(j.words) < windowOf {
		return
	}
	j.look(len(j.words) - ahead)
	keep := j.seen - behind
	j.words = append(j.words[:0], j.words[keep:]...)
	j.seen = behind
}

// end looks at what is left.
func (j *judge) end() {
	j.look(len(j.words))
	if !j.told {
		j.st.Kind = j.head.Kind(modifiers)
	}
	j.schema()
}

func (j *judge) look(to int) {
	for ; j.seen < to; j.seen++ {
		j.word(j.seen)
	}
}

func (j *judge) mark(m script.Mark) {
	if !slices.Contains(j.st.Marks, m) {
		j.st.Marks = append(j.st.Marks, m)
	}
}

func (j *judge) name(role script.Role, schema, text string) {
	n := script.Name{Role: role, Schema: schema, Text: text}
	if !slices.Contains(j.st.Names, n) {
		j.st.Names = append(j.st.Names, n)
	}
}

// modifiers stand between CREATE and what is created.
var modifiers = []string{"OR", "ALTER", "UNIQUE", "CLUSTERED", "NONCLUSTERED", "COLUMNSTORE", "PRIMARY", "SPATIAL",
	"FULLTEXT"}

// telling are the verbs that say what a batch is; others only prepare it.
var telling = set("CREATE ALTER DROP INSERT UPDATE DELETE MERGE TRUNCATE EXEC EXECUTE SELECT GRANT REVOKE DENY USE " +
	"BULK BACKUP RESTORE KILL SHUTDOWN")

// precedes are words behind which something is named that lies in a database.
var precedes = set("FROM JOIN INTO UPDATE TABLE VIEW PROC PROCEDURE FUNCTION TRIGGER TYPE SEQUENCE INSERT DELETE " +
	"MERGE USING EXEC EXECUTE APPLY REFERENCES FOR ON IDENTITY_INSERT STATISTICS SYNONYM")

// outsiders are what CREATE, ALTER and DROP can be about that is more than what lies in one database: the
// server, the database itself, people.
var outsiders = []string{"DATABASE", "LOGIN", "USER", "ROLE", "SERVER", "ENDPOINT", "CREDENTIAL", "AVAILABILITY",
	"RESOURCE", "WORKLOAD", "CRYPTOGRAPHIC", "APPLICATION", "EVENT", "EXTERNAL", "AUTHORIZATION"}

// outsideProcedures do the same, as it was written in earlier versions.
var outsideProcedures = set("SP_ADDLOGIN SP_DROPLOGIN SP_GRANTLOGIN SP_REVOKELOGIN SP_DENYLOGIN SP_PASSWORD " +
	"SP_DEFAULTDB SP_ADDSRVROLEMEMBER SP_DROPSRVROLEMEMBER SP_CONFIGURE SP_ATTACH_DB SP_ATTACH_SINGLE_FILE_DB " +
	"SP_DETACH_DB SP_RENAMEDB SP_DBOPTION SP_CHANGEDBOWNER SP_DBCMPTLEVEL SP_ADDLINKEDSERVER SP_ADDLINKEDSRVLOGIN " +
	"SP_DROPSERVER SP_SERVEROPTION SP_GRANTDBACCESS SP_REVOKEDBACCESS SP_ADDUSER SP_DROPUSER SP_ADDROLE SP_DROPROLE " +
	"SP_ADDROLEMEMBER SP_DROPROLEMEMBER SP_ADDAPPROLE SP_CHANGE_USERS_LOGIN SP_ADDUMPDEVICE SP_PROCOPTION SP_ADD_JOB " +
	"SP_ADD_JOBSTEP SP_UPDATE_JOB")

// marking are words that mean the same wherever they stand.
var marking = map[string]script.Mark{"GRANT": script.Grants, "REVOKE": script.Grants, "DENY": script.Grants,
	"COMMIT": script.Transaction, "ROLLBACK": script.Transaction, "IMPLICIT_TRANSACTIONS": script.Transaction,
	"BACKUP": script.Refused, "RESTORE": script.Refused, "OPENROWSET": script.Refused, "OPENDATASOURCE": script.Refused,
	"KILL": script.Outside, "SHUTDOWN": script.Outside, "RECONFIGURE": script.Outside, "OPENQUERY": script.Outside,
	"SETUSER": script.Outside, "MEMORY_OPTIMIZED": script.Alone}

func set(words string) map[string]bool {
	out := map[string]bool{}
	for _, w := range strings.Fields(words) {
		out[w] = true
	}
	return out
}

// word looks at one word and what follows it.
func (j *judge) word(i int) {
	w, t := j.words, j.words[i]
	switch {
	case j.module:
		return
	case t.Kind == lexical.Name && strings.Contains(t.Text, "$("), t.Text == "$" && w.Is(i+1, "("):
		j.mark(script.Placeholder)
	}
	if t.Kind == lexical.Name {
		j.procedure(i, strings.Trim(t.Text, `[]"`))
	}
	if t.Kind != lexical.Other || len(t.Text) < 2 || t.Text[0] >= '0' && t.Text[0] <= '9' {
		return
	}
	if strings.ContainsAny(t.Text, "“”‘’„") {
		j.mark(script.Typographic)
	}
	if w.Any(i-1, "@", "#") != "" {
		return // a variable, or a table of the session's own
	}
	j.procedure(i, t.Text)
	if w.Is(i-1, ".") {
		return
	}
	word := strings.ToUpper(t.Text)
	if !j.told && telling[word] {
		j.told, j.st.Kind = true, w[i:].Kind(modifiers)
	}
	if m := marking[word]; m != "" {
		j.mark(m)
	}
	if precedes[word] {
		j.inDatabase(i, word)
	}
	j.verb(i, word)
}

// procedure looks for procedures that reach the machine, or more than the database. All of them begin with
// the same few letters.
func (j *judge) procedure(i int, name string) {
	if len(name) < 4 || strings.IndexByte("xXsS", name[0]) < 0 || name[2] != '_' {
		return
	}
	word := strings.ToUpper(name)
	machine := strings.HasPrefix(word, "XP_") || strings.HasPrefix(word, "SP_OA")
	switch {
	case !machine && !outsideProcedures[word], !j.called(i):
	case machine:
		j.mark(script.Refused)
	default:
		j.mark(script.Outside)
	}
}

// called reports whether the name that ends at i is that of a procedure that is run: behind EXEC, with the
// variable that its result goes to in between, or at the beginning of the batch.
func (j *judge) called(i int) bool {
	w := j.words
	for w.Is(i-1, ".") {
		if i--; i > 0 && !w.Is(i-1, ".") {
			i-- // what stands before the dot; between two of them the schema is left out
		}
	}
	if w.Is(i-1, "=") && w.Is(i-3, "@") {
		i -= 3
	}
	return w.Any(i-1, "EXEC", "EXECUTE") != "" || i >= 0 && w[i].At == j.head[0].At
}

// verb looks at what needs more than its one word.
func (j *judge) verb(i int, word string) {
	w := j.words
	switch word {
	case "IF": // but not DROP TABLE IF EXISTS
		j.conditional = j.conditional || !w.Is(i+1, "EXISTS") || w.Is(i+2, "(")
	case "CREATE", "ALTER", "DROP":
		j.makes(i, word)
	case "USE":
		// But not OPTION (USE HINT ('…')).
		if name, ok := readName(w, i+1); ok && w.Any(i-1, "(", ",") == "" {
			j.name(script.Database, "", name)
		}
	case "BEGIN":
		if w.Any(i+1, "TRAN", "TRANSACTION", "DISTRIBUTED") != "" {
			j.mark(script.Transaction)
		}
	case "BULK":
		if w.Is(i+1, "INSERT") {
			j.mark(script.Refused)
		}
	case "EXECUTE", "EXEC":
		if w.Is(i+1, "AS") && w.Any(i+2, "LOGIN", "USER", "CALLER") != "" {
			j.mark(script.Outside)
		}
	}
}

// makes looks at what CREATE, ALTER or DROP is about.
func (j *judge) makes(i int, verb string) {
	w := j.words
	at := w.Pass(i+1, modifiers...)
	first := w[i].At == j.head[0].At
	switch {
	case w.Is(at, "ASSEMBLY"):
		j.mark(script.Refused)
	case w.Any(at, outsiders...) != "":
		j.mark(script.Outside)
	case w.Is(at-1, "FULLTEXT"):
		j.mark(script.Alone)
	case verb != "DROP" && first && w.Any(at, "PROC", "PROCEDURE", "FUNCTION", "TRIGGER", "VIEW") != "":
		j.module = true
		if w.Is(at, "TRIGGER") && (w.Find(at, "ALL", "SERVER") > 0 || w.Find(at, "ON", "DATABASE") > 0) {
			j.mark(script.Outside)
		}
	case verb == "CREATE" && w.Is(at, "TABLE") && !j.conditional:
		parts, _ := nameParts(w, at+1)
		j.table(script.Makes, parts)
	case verb == "DROP" && w.Is(at, "TABLE"):
		j.drops(at + 1)
	}
}

// drops notes the tables that are dropped.
func (j *judge) drops(at int) {
	w, role := j.words, script.Drops
	if next := w.PassIf(at, "IF", "EXISTS"); next > at || j.conditional {
		at, role = next, script.Replaces
	}
	for {
		parts, next := nameParts(w, at)
		j.table(role, parts)
		if parts == nil || !w.Is(next, ",") {
			return
		}
		at = next + 1
	}
}

// table notes a table.
func (j *judge) table(role script.Role, parts []string) {
	switch n := len(parts); {
	case n == 1:
		j.name(role, "", parts[0])
	case n > 1:
		j.name(role, parts[n-2], parts[n-1])
	}
}

// inDatabase notes the database that stands before a name. What lies in tempdb is everybody's.
func (j *judge) inDatabase(i int, word string) {
	w, at := j.words, i+1
	switch {
	case word == "ON" && !w.Is(i-2, "INDEX"):
		return // of a join: its columns have as many parts
	case w.Is(at, "@") && w.Is(at+2, "="): // EXEC @rc = …
		at += 3
	}
	parts, next := nameParts(w, at)
	switch n := len(parts); {
	case n > 2 && strings.EqualFold(parts[n-1], "nodes") && w.Is(next, "("): // a method of an XML column
	case n > 3:
		j.mark(script.Outside)
	case n == 3 && !strings.EqualFold(parts[0], "tempdb"):
		j.name(script.Database, "", parts[0])
	}
}

// schema leaves out to whom a new schema is given: the account of a script may give nothing away, and
// whatever it has afterwards belongs to dbo.
func (j *judge) schema() {
	w := j.head
	owner, ok := readName(w, 4)
	if !ok || !w.Is(0, "CREATE", "SCHEMA") || !w.Is(3, "AUTHORIZATION") {
		return
	}
	last := w[4]
	j.st.Text = strings.TrimRight(j.st.Text[:w[3].At], " \t\r\n") + j.st.Text[last.At+len(last.Text):]
	if !strings.EqualFold(owner, "dbo") {
		j.mark(script.GivesAway)
		j.name(script.Owner, "", owner)
	}
}

// readName reads a name as the server keeps it.
func readName(w lexical.Words, at int) (string, bool) {
	if at < 0 || at >= len(w) {
		return "", false
	}
	t := w[at]
	switch {
	case t.Kind == lexical.Name && t.Text[0] == '[':
		return strings.ReplaceAll(t.Text[1:len(t.Text)-1], "]]", "]"), true
	case t.Kind == lexical.Name:
		return strings.ReplaceAll(t.Text[1:len(t.Text)-1], `""`, `"`), true
	case t.Kind == lexical.Other && (t.Text[0] >= 0x80 || strings.IndexByte(letters, t.Text[0]|0x20) >= 0):
		return t.Text, true
	}
	return "", false
}

// nameParts reads a name with what stands before it, each part as the server keeps it; one that is left
// out is empty. None: it is no name, or that of something of the session's own.
func nameParts(w lexical.Words, at int) (parts []string, next int) {
	for {
		name, ok := readName(w, at)
		switch {
		case ok:
			at++
		case w.Is(at, ".") && len(parts) > 0: // two dots: the schema is left out
		case len(parts) > 0 && w.Is(at, "#"):
			return append(parts, "#"), at + 1
		default:
			return nil, at
		}
		parts = append(parts, name)
		if !w.Is(at, ".") {
			return parts, at
		}
		at++
	}
}
