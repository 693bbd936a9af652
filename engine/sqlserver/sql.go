package sqlserver

import (
	"strconv"
	"strings"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/lexical"
)

// dialect are the lexical rules of Transact-SQL, with QUOTED_IDENTIFIER ON as every driver has it.
var dialect = lexical.Dialect{Bracketed: true, Nested: true, LineEnds: "\r\n"}

// quoteIdent writes a name so that the server takes all of it for one. Source: QUOTENAME.
func quoteIdent(name string) string { return "[" + strings.ReplaceAll(name, "]", "]]") + "]" }

// quoteText writes a text in Unicode: without the N it would pass through the server's code page, and
// a letter could become another one.
func quoteText(text string) string { return "N'" + strings.ReplaceAll(text, "'", "''") + "'" }

// A word of the server's own, such as a collation's, is never written into a statement unless all of
// it is letters, digits and _: whatever else came would be code.
func quoteWord(word string) string {
	for _, c := range word {
		if (c < 'a' || c > 'z') && (c < 'A' || c > 'Z') && (c < '0' || c > '9') && c != '_' {
			return quoteIdent(word)
		}
	}
	return word
}

func onOff(yes bool) string {
	if yes {
		return "ON"
	}
	return "OFF"
}

func kilobytes(bytes int64) string { return strconv.FormatInt((bytes+1023)/1024, 10) + "KB" }

// fileSpec writes one file of a database. Growth is bytes, or a share as 10%.
func fileSpec(f catalog.Values) string {
	parts := []string{"NAME = " + quoteText(f.Text("name"))}
	if path := f.Text("path"); path != "" {
		parts = append(parts, "FILENAME = "+quoteText(path))
	}
	return "(" + strings.Join(append(parts, fileSizes(f)...), ", ") + ")"
}

// fileSizes are the parts of a file's specification that can be altered.
func fileSizes(f catalog.Values) (parts []string) {
	if size, ok := f.Int("size"); ok {
		parts = append(parts, "SIZE = "+kilobytes(size))
	}
	switch limit := f["max_size"].(type) {
	case int64:
		parts = append(parts, "MAXSIZE = "+kilobytes(limit))
	case string:
		parts = append(parts, "MAXSIZE = UNLIMITED")
	}
	if bytes, share, ok := growthOf(f.Text("growth")); ok && share > 0 {
		parts = append(parts, "FILEGROWTH = "+strconv.FormatInt(share, 10)+"%")
	} else if ok {
		parts = append(parts, "FILEGROWTH = "+kilobytes(bytes))
	}
	return parts
}

// createDatabase makes a database; files are rows of its field, none: the server's defaults.
func createDatabase(name string, containment, collation string, files []catalog.Values) string {
	text := "CREATE DATABASE " + quoteIdent(name)
	if containment != "" {
		text += "\n  CONTAINMENT = " + quoteWord(strings.ToUpper(containment))
	}
	var groups []string
	in := map[string][]string{}
	var logs []string
	for _, f := range files {
		if f.Text("kind") == fileLog {
			logs = append(logs, fileSpec(f))
			continue
		}
		g := f.Text("filegroup")
		if g == "" {
			g = primary
		}
		if in[g] == nil && g != primary {
			groups = append(groups, g)
		}
		in[g] = append(in[g], fileSpec(f))
	}
	if data := in[primary]; data != nil {
		text += "\n  ON PRIMARY " + strings.Join(data, ",\n    ")
		for _, g := range groups {
			text += ",\n  FILEGROUP " + quoteIdent(g) + " " + strings.Join(in[g], ",\n    ")
		}
	}
	if logs != nil {
		text += "\n  LOG ON " + strings.Join(logs, ",\n    ")
	}
	if collation != "" {
		text += "\n  COLLATE " + quoteWord(collation)
	}
	return text
}

func dropDatabase(name string) string { return "DROP DATABASE " + quoteIdent(name) }

func useDatabase(name string) string { return "USE " + quoteIdent(name) }

func renameDatabase(from, to string) string {
	return "ALTER DATABASE " + quoteIdent(from) + " MODIFY NAME = " + quoteIdent(to)
}

// setOption sets one option of a database, written as [option] has it; termination says what becomes
// of whoever stands in the way.
func setOption(name, clause, termination string) string {
	text := "ALTER DATABASE " + quoteIdent(name) + " SET " + clause
	if termination != "" {
		text += " WITH " + termination
	}
	return text
}

const (
	// atOnce ends whoever is in the database, and rolls its work back.
	atOnce = "ROLLBACK IMMEDIATE"
	// noWait fails at once where somebody is in the way.
	noWait = "NO_WAIT"

	singleUser = "SINGLE_USER"
	multiUser  = "MULTI_USER"
	restricted = "RESTRICTED_USER"

	primary = "PRIMARY"
	fileLog = "log"
	master  = "master"
)

func setOwner(name, login string) string {
	return "ALTER AUTHORIZATION ON DATABASE::" + quoteIdent(name) + " TO " + quoteIdent(login)
}

// killOne ends a session, if it is still that of this connection: both are looked at in one statement.
// Source: sys.dm_exec_connections.
func killOne(number int64, connection string) string {
	n := strconv.FormatInt(number, 10)
	return "IF EXISTS (SELECT 1 FROM sys.dm_exec_connections WHERE session_id = " + n +
		" AND connection_id = CONVERT(uniqueidentifier, '" + connection + "')) KILL " + n
}
