package postgres

import (
	"errors"
	"strings"
	"testing"

	"example.com/genarch/core/script"
	"example.com/genarch/engine/enginetest"
)

type (
	marks = []script.Mark
	names = []script.Name
)

const dumped = `--
-- PostgreSQL database dump
--
\restrict 4bXq
SET client_encoding = 'UTF8';
SELECT pg_catalog.set_config('search_path', '', false);
CREATE TABLE public.fares (
    id integer NOT NULL, -- a number; of the fare
    label text DEFAULT 'it''s; a "fare"'::text
);
ALTER TABLE public.fares OWNER TO tickets_owner;
COPY public.fares (id, label) FROM stdin;
1	a;b 'c
2	\\.
\.

CREATE FUNCTION public.f() RETURNS int LANGUAGE sql BEGIN ATOMIC SELECT CASE WHEN true THEN 1 END; SELECT 2; END;
CREATE FUNCTION g() RETURNS trigger LANGUAGE plpgsql AS $fn$ BEGIN RETURN NEW; END; $fn$;
CREATE RULE r AS ON INSERT TO x DO (SELECT 1; SELECT 2);
/* a /* nested; */ comment; */ SELECT E'a\'b;' || U&"x" ;;
COPY (SELECT 1) TO STDOUT;
COPY x FROM '/etc/passwd';
COPY x FROM PROGRAM 'id';
\copy x from y
\connect ledger_prod
\connect "host=elsewhere"
\set ON_ERROR_STOP on
\set x 1
SELECT 1 \gexec
CREATE TEMP TABLE scratch (a int);
CREATE TABLE IF NOT EXISTS "Odd""One" (a int);
DROP TABLE IF EXISTS a, desk.b CASCADE;
DROP TABLE c;
BEGIN;
ROLLBACK TO SAVEPOINT s;
CREATE INDEX CONCURRENTLY i ON a (b);
VACUUM;
CREATE ROLE mate;
ALTER DATABASE tickets_prod SET x = 1;
CREATE DATABASE other;
GRANT SELECT ON fares TO mate;
GRANT crew TO mate;
GRANT CONNECT ON DATABASE tickets_prod TO mate;
SET ROLE mate;
SET standard_conforming_strings = off;
SET standard_conforming_strings = on;
CREATE MATERIALIZED VIEW v AS SELECT 1;
INSERT INTO a VALUES (“x”);
SELECT 'the last one has no semicolon'
`

func TestSplit(t *testing.T) {
	refused, outside := marks{script.Refused}, marks{script.Outside}
	database := func(n string) names { return names{{Role: script.Database, Text: n}} }
	enginetest.SplitInto(t, Engine{}.Script, dumped, []enginetest.Wanted{
		{Line: 4, Kind: `\restrict`},
		{Line: 5, Kind: "SET", Text: "SET client_encoding = 'UTF8'"},
		{Line: 6, Kind: "SELECT"},
		{Line: 7, Kind: "CREATE TABLE", Names: names{{Role: script.Makes, Schema: "public", Text: "fares"}}},
		{Line: 11, Kind: "ALTER TABLE", Marks: marks{script.GivesAway},
			Names: names{{Role: script.Owner, Text: "tickets_owner"}}},
		{Line: 12, Kind: "COPY", Rows: "1\ta;b 'c\n2\t\\\\.\n"},
		{Line: 17, Kind: "CREATE FUNCTION", Text: "CREATE FUNCTION public.f() RETURNS int LANGUAGE sql " +
			"BEGIN ATOMIC SELECT CASE WHEN true THEN 1 END; SELECT 2; END"},
		{Line: 18, Kind: "CREATE FUNCTION"},
		{Line: 19, Kind: "CREATE RULE", Text: "CREATE RULE r AS ON INSERT TO x DO (SELECT 1; SELECT 2)"},
		{Line: 20, Kind: "SELECT", Text: `SELECT E'a\'b;' || U&"x"`},
		{Line: 21, Kind: "COPY", Marks: refused},
		{Line: 22, Kind: "COPY", Marks: refused},
		{Line: 23, Kind: "COPY", Marks: refused},
		{Line: 24, Kind: `\copy`, Marks: refused},
		{Line: 25, Kind: `\connect`, Names: database("ledger_prod")},
		{Line: 26, Kind: `\connect`, Marks: refused},
		{Line: 27, Kind: `\set`},
		{Line: 28, Kind: `\set`, Marks: refused},
		{Line: 29, Kind: "SELECT", Text: "SELECT 1", Marks: refused},
		{Line: 29, Kind: `\gexec`, Marks: refused},
		{Line: 30, Kind: "CREATE TABLE"},
		{Line: 31, Kind: "CREATE TABLE"},
		{Line: 32, Kind: "DROP TABLE", Names: names{{Role: script.Replaces, Text: "a"},
			{Role: script.Replaces, Schema: "desk", Text: "b"}}},
		{Line: 33, Kind: "DROP TABLE", Names: names{{Role: script.Drops, Text: "c"}}},
		{Line: 34, Kind: "BEGIN", Marks: marks{script.Transaction}},
		{Line: 35, Kind: "ROLLBACK"},
		{Line: 36, Kind: "CREATE INDEX", Marks: marks{script.Alone}},
		{Line: 37, Kind: "VACUUM", Marks: marks{script.Alone}},
		{Line: 38, Kind: "CREATE ROLE", Marks: outside},
		{Line: 39, Kind: "ALTER DATABASE", Names: database("tickets_prod")},
		{Line: 40, Kind: "CREATE DATABASE", Marks: marks{script.Alone, script.Outside}},
		{Line: 41, Kind: "GRANT", Marks: marks{script.Grants}},
		{Line: 42, Kind: "GRANT", Marks: marks{script.Outside, script.Grants}},
		{Line: 43, Kind: "GRANT", Marks: marks{script.Grants}, Names: database("tickets_prod")},
		{Line: 44, Kind: "SET", Marks: outside},
		{Line: 45, Kind: "SET", Marks: refused},
		{Line: 46, Kind: "SET"},
		{Line: 47, Kind: "CREATE MATERIALIZED VIEW"},
		{Line: 48, Kind: "INSERT", Marks: marks{script.Typographic}},
		{Line: 49, Kind: "SELECT", Text: "SELECT 'the last one has no semicolon'"},
	})
}

func TestSplitWhatHasNoEnd(t *testing.T) {
	for text, line := range map[string]int{"SELECT 1;\nSELECT 'no end": 2, "\n\nDO $x$ BEGIN": 3, "/* no end": 1,
		"SELECT \"no end": 1, "SELECT 1;\n\nCOPY x FROM stdin;\n1\n2\n": 3} {
		_, _, err := enginetest.Split(Engine{}.Script, strings.NewReader(text))
		if e, ok := errors.AsType[*script.Error](err); !ok || e.Line != line {
			t.Errorf("%q: %v; want line %d", text, err, line)
		}
	}
}

func FuzzSplit(f *testing.F) {
	f.Add(dumped)
	f.Add("\xEF\xBB\xBFSELECT 1;\r\nCOPY x FROM stdin;\r\n1\r\n\\.\r\n")
	f.Fuzz(func(t *testing.T, text string) { enginetest.SplitInParts(t, Engine{}.Script, text) })
}
