package mysqlfamily

import (
	"slices"
	"strconv"
	"strings"
)

// A database is copied by statements of our own: the server has none for it. Tables are made by
// CREATE TABLE … LIKE, filled one by one with INSERT … SELECT, and get their foreign keys
// when all rows are there; what is defined over them comes last, so that no trigger fires.

// copied is what a database holds, as far as it is copied table by table.
type copied struct {
	Tables    []copiedTable
	Sequences []sequence
	Keys      []foreignKey
	// Naming are objects whose text has the database's name in front of something.
	Naming []string
}

// copiedTable is a table, and how its rows are copied.
type copiedTable struct {
	Name string
	// Columns are those that are written; generated ones are not.
	Columns []string
	// Start and End are the columns of a system-versioned table that say from when and
	// until when a row was so; empty: it has no history.
	Start, End string
	// Rows is the server's estimate, Next the next AUTO_INCREMENT; 0: it has none.
	Rows, Next int64
}

// sequence is one as its own row says. Source: SELECT * FROM the sequence.
type sequence struct {
	Name                                           string
	Next, Min, Max, Start, Increment, Cache, Cycle int64
}

// foreignKey is one of a table. Source: REFERENTIAL_CONSTRAINTS, KEY_COLUMN_USAGE.
type foreignKey struct {
	Name, Table        string
	Columns            []string
	Database, Ref      string // what it points to
	RefColumns         []string
	OnDelete, OnUpdate string
}

// tableNames are the names of tables and sequences.
func (c copied) tableNames() []string {
	var out []string
	for _, t := range c.Tables {
		out = append(out, t.Name)
	}
	for _, q := range c.Sequences {
		out = append(out, q.Name)
	}
	return out
}

// rows is how many rows there are, as the server estimates.
func (c copied) rows() int64 {
	n := int64(0)
	for _, t := range c.Tables {
		n += t.Rows
	}
	return n
}

// make are the statements that make its tables in another database, empty and without
// foreign keys.
func (c copied) make(from, to string) []string {
	var out []string
	for _, t := range c.Tables {
		out = append(out, "CREATE TABLE "+quoteIdent(to)+"."+quoteIdent(t.Name)+
			" LIKE "+quoteIdent(from)+"."+quoteIdent(t.Name))
	}
	for _, q := range c.Sequences {
		out = append(out, q.create(to))
	}
	return out
}

func (q sequence) create(database string) string {
	number := func(n int64) string { return strconv.FormatInt(n, 10) }
	text := "CREATE SEQUENCE " + quoteIdent(database) + "." + quoteIdent(q.Name) + " START WITH " + number(q.Start) +
		" MINVALUE " + number(q.Min) + " MAXVALUE " + number(q.Max) + " INCREMENT BY " + number(q.Increment) +
		" CACHE " + number(q.Cache)
	if q.Cycle != 0 {
		text += " CYCLE"
	}
	return text
}

// unmake drops tables and sequences, whatever points to them; empty: there are none.
func (p *product) unmake(database string, tables []string) string {
	if len(tables) == 0 {
		return ""
	}
	return p.unchecked + "DROP TABLE IF EXISTS " + qualified(database, tables, "")
}

// qualified lists names with their database in front, and a word behind each.
func qualified(database string, names []string, word string) string {
	var out []string
	for _, n := range names {
		out = append(out, quoteIdent(database)+"."+quoteIdent(n)+word)
	}
	return strings.Join(out, ", ")
}

func quotedList(names []string) string {
	var out []string
	for _, n := range names {
		out = append(out, quoteIdent(n))
	}
	return strings.Join(out, ", ")
}

// freeze keeps everybody from writing to the tables until the session unlocks them; readers
// go on. Empty: there are none.
func (c copied) freeze(from, to string) string {
	var names []string
	for _, t := range c.Tables {
		names = append(names, t.Name)
	}
	if len(names) == 0 {
		return ""
	}
	return "LOCK TABLES " + qualified(from, names, " READ") + ", " + qualified(to, names, " WRITE")
}

// fill copies the rows of a table, its history included.
func (t copiedTable) fill(from, to string) string {
	columns, past := t.Columns, ""
	if t.Start != "" {
		columns = append(slices.Clone(columns), t.Start, t.End)
		past = " FOR SYSTEM_TIME ALL"
	}
	list := quotedList(columns)
	return "INSERT INTO " + quoteIdent(to) + "." + quoteIdent(t.Name) + " (" + list + ")\n  SELECT " + list +
		" FROM " + quoteIdent(from) + "." + quoteIdent(t.Name) + past
}

// count is the statement that counts the rows of a table's copy, its history included.
func (t copiedTable) count(to string) string {
	past := ""
	if t.Start != "" {
		past = " FOR SYSTEM_TIME ALL"
	}
	return "SELECT COUNT(*) FROM " + quoteIdent(to) + "." + quoteIdent(t.Name) + past
}

// fills are the statements that copy the rows, a table each.
func (c copied) fills(from, to string) []string {
	var out []string
	for _, t := range c.Tables {
		out = append(out, t.fill(from, to))
	}
	return out
}

// keys are the statements that make the foreign keys, when all rows are there.
func (c copied) keys(from, to string) []string {
	var out []string
	for _, k := range c.Keys {
		out = append(out, k.add(from, to))
	}
	return out
}

// numbers are the statements that set the next numbers.
func (c copied) numbers(to string) []string {
	var out []string
	for _, t := range c.Tables {
		if t.Next > 0 {
			out = append(out, "ALTER TABLE "+quoteIdent(to)+"."+quoteIdent(t.Name)+" AUTO_INCREMENT = "+
				strconv.FormatInt(t.Next, 10))
		}
	}
	for _, q := range c.Sequences {
		out = append(out, "SELECT SETVAL("+quoteIdent(to)+"."+quoteIdent(q.Name)+", "+
			strconv.FormatInt(q.Next, 10)+", 0)")
	}
	return out
}

// add makes a foreign key in the copy. What pointed into the database itself points into
// the copy.
func (k foreignKey) add(from, to string) string {
	into := k.Database
	if into == from {
		into = to
	}
	text := "ALTER TABLE " + quoteIdent(to) + "." + quoteIdent(k.Table) + " ADD CONSTRAINT " + quoteIdent(k.Name) +
		"\n  FOREIGN KEY (" + quotedList(k.Columns) + ") REFERENCES " + quoteIdent(into) + "." + quoteIdent(k.Ref) +
		" (" + quotedList(k.RefColumns) + ")"
	// RESTRICT is what holds where nothing was said; written out, it becomes NO ACTION.
	if k.OnDelete != "RESTRICT" {
		text += " ON DELETE " + k.OnDelete
	}
	if k.OnUpdate != "RESTRICT" {
		text += " ON UPDATE " + k.OnUpdate
	}
	return text
}

// event is a scheduled event, as the catalogue shows it. Source: information_schema.EVENTS.
type event struct {
	Name, Definer, Mode, Client, Connection, Zone string
	// At is when it runs once; empty: it runs every Interval of Unit, between Starts and Ends.
	At, Interval, Unit, Starts, Ends string
	Preserve                         bool
	Comment                          string
	Body                             []byte
}

// definition makes the event again, disabled: in a copy it would do everything twice.
func (e event) definition() definition {
	text := "CREATE DEFINER=" + definerIn(e.Mode, e.Definer) + " EVENT " + quoteIdent(e.Name) + " ON SCHEDULE "
	if e.At != "" {
		text += "AT " + quoteText(e.At)
	} else {
		text += "EVERY " + quoteText(e.Interval) + " " + e.Unit
		if e.Starts != "" {
			text += " STARTS " + quoteText(e.Starts)
		}
		if e.Ends != "" {
			text += " ENDS " + quoteText(e.Ends)
		}
	}
	text += " ON COMPLETION "
	if !e.Preserve {
		text += "NOT "
	}
	text += "PRESERVE DISABLE"
	if e.Comment != "" {
		comment := quoteText(e.Comment)
		if slices.Contains(strings.Split(e.Mode, ","), "NO_BACKSLASH_ESCAPES") {
			comment = "'" + strings.ReplaceAll(e.Comment, "'", "''") + "'"
		}
		text += " COMMENT " + comment
	}
	return definition{Kind: savedEvent, Name: e.Name, Mode: e.Mode, Client: e.Client, Connection: e.Connection,
		Body: append([]byte(text+" DO "), e.Body...)}
}
