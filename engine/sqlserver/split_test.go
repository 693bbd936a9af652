package sqlserver

import (
	"errors"
	"slices"
	"strings"
	"testing"

	"golang.org/x/text/encoding/unicode"

	"example.com/genarch/core/script"
	"example.com/genarch/engine/enginetest"
)

type (
	marks = []script.Mark
	names = []script.Name
)

const scripted = `/* fares; 'of
GO
the pier */
SET ANSI_NULLS ON
SET QUOTED_IDENTIFIER ON
GO
  go 3 -- three times
CREATE TABLE dbo.[odd]]name; GO
here] (id int, "a b" nvarchar(9) DEFAULT N'it''s
GO
not the end')
Go
INSERT fares VALUES (1) INSERT fares VALUES (2)
GO 2
SELECT go = 1, x.
go.y FROM go
GO
/* nested /* comment */ GO
*/ SELECT 1
	GO	-- and; a comment
IF OBJECT_ID(N'dbo.crates') IS NOT NULL DROP TABLE dbo.crates, seats
CREATE TABLE dbo.seats (a int)
GO
DROP TABLE IF EXISTS cargo.crates, seats; CREATE TABLE cargo.crates (a int)
DROP TABLE berths
CREATE TABLE #scratch (a int) DROP TABLE #scratch
GO
USE clearance_prod SELECT a.b.c FROM a.b JOIN ledger_prod.dbo.fares f ON dbo.fares.id = f.id OPTION (USE HINT('x'))
GO
EXEC @rc = [odd.db]..p; SELECT * INTO tempdb..#x FROM link.db.dbo.t
GO
CREATE PROC dbo.p AS BEGIN TRAN; EXEC master..xp_cmdshell 'x'; COMMIT; USE master
GO
create or alter view v as select 1 from other.dbo.t
GO
CREATE TRIGGER t ON ALL SERVER FOR LOGON AS SELECT 1
GO
BEGIN TRAN; INSERT fares VALUES (1); COMMIT
GO
SELECT @commit, x.[commit], 'ROLLBACK' -- ROLLBACK
GO
EXEC xp_cmdshell 'x'
GO
BULK INSERT fares FROM 'x'
GO
SELECT 1; GRANT SELECT ON fares TO mate
GO
USE clearance_prod; CREATE LOGIN mate WITH PASSWORD = 'x'
GO
CREATE SCHEMA cargo AUTHORIZATION [harbour mate]
GO
CREATE SCHEMA seats AUTHORIZATION dbo CREATE TABLE t (a int)
GO
:setvar x 1
SELECT '$(x)', $(x), [$(y)]
:r other.sql
SELECT 2
!! dir
exit
EXEC sp_addrolemember 'a', 'b'
GO
GO 0
SELECT 3
GO 0
CREATE FULLTEXT INDEX ON fares (note) KEY INDEX pk
GO
INSERT a VALUES (“x”)
GO
SELECT 'the last one has no end of its own'
`

func TestSplit(t *testing.T) {
	outside, refused, transaction := marks{script.Outside}, marks{script.Refused}, marks{script.Transaction}
	database := func(n string) names { return names{{Role: script.Database, Text: n}} }
	enginetest.SplitInto(t, Engine{}.Script, scripted, []enginetest.Wanted{
		{Line: 4, Kind: "SET", Text: "SET ANSI_NULLS ON\nSET QUOTED_IDENTIFIER ON"},
		{Line: 8, Kind: "CREATE TABLE", Names: names{{Role: script.Makes, Schema: "dbo", Text: "odd]name; GO\nhere"}}},
		{Line: 13, Kind: "INSERT", Text: "INSERT fares VALUES (1) INSERT fares VALUES (2)"},
		{Line: 13, Kind: "INSERT", Text: "INSERT fares VALUES (1) INSERT fares VALUES (2)"},
		{Line: 15, Kind: "SELECT", Text: "SELECT go = 1, x.\ngo.y FROM go"},
		{Line: 19, Kind: "SELECT", Text: "SELECT 1"},
		{Line: 21, Kind: "DROP TABLE", Names: names{{Role: script.Replaces, Schema: "dbo", Text: "crates"},
			{Role: script.Replaces, Text: "seats"}}},
		{Line: 24, Kind: "DROP TABLE", Names: names{{Role: script.Replaces, Schema: "cargo", Text: "crates"},
			{Role: script.Replaces, Text: "seats"}, {Role: script.Makes, Schema: "cargo", Text: "crates"},
			{Role: script.Drops, Text: "berths"}}},
		{Line: 28, Kind: "USE", Names: append(database("clearance_prod"), database("ledger_prod")...)},
		{Line: 30, Kind: "EXEC", Marks: outside, Names: database("odd.db")},
		{Line: 32, Kind: "CREATE PROC"},
		{Line: 34, Kind: "CREATE VIEW"},
		{Line: 36, Kind: "CREATE TRIGGER", Marks: outside},
		{Line: 38, Kind: "INSERT", Marks: transaction},
		{Line: 40, Kind: "SELECT"},
		{Line: 42, Kind: "EXEC", Marks: refused},
		{Line: 44, Kind: "BULK", Marks: refused},
		{Line: 46, Kind: "SELECT", Marks: marks{script.Grants}},
		{Line: 48, Kind: "USE", Marks: outside, Names: database("clearance_prod")},
		{Line: 50, Kind: "CREATE SCHEMA", Text: "CREATE SCHEMA cargo", Marks: marks{script.GivesAway},
			Names: names{{Role: script.Owner, Text: "harbour mate"}}},
		{Line: 52, Kind: "CREATE SCHEMA", Text: "CREATE SCHEMA seats CREATE TABLE t (a int)",
			Names: names{{Role: script.Makes, Text: "t"}}},
		{Line: 54, Kind: ":setvar", Marks: refused},
		{Line: 55, Kind: "SELECT", Marks: marks{script.Placeholder}},
		{Line: 56, Kind: ":r", Marks: refused},
		{Line: 57, Kind: "SELECT"},
		{Line: 58, Kind: "!!", Marks: refused},
		{Line: 59, Kind: "exit", Marks: refused},
		{Line: 60, Kind: "EXEC", Marks: outside},
		{Line: 65, Kind: "CREATE INDEX", Marks: marks{script.Alone}},
		{Line: 67, Kind: "INSERT", Marks: marks{script.Typographic}},
		{Line: 69, Kind: "SELECT", Text: "SELECT 'the last one has no end of its own'"},
	})
}

// TestSplitUTF16: the engine's own programs write files so too.
func TestSplitUTF16(t *testing.T) {
	for _, order := range []unicode.Endianness{unicode.LittleEndian, unicode.BigEndian} {
		text, err := unicode.UTF16(order, unicode.UseBOM).NewEncoder().
			String("INSERT a VALUES (N'ø𝄞')\r\nGO\r\nSELECT 1")
		if err != nil {
			t.Fatal(err)
		}
		s := Engine{}.Script(strings.NewReader(text))
		for _, want := range []script.Statement{{Text: "INSERT a VALUES (N'ø𝄞')", Line: 1},
			{Text: "SELECT 1", Line: 3}} {
			if st, err := s.Next(); err != nil || st.Text != want.Text || st.Line != want.Line || st.Column != 1 {
				t.Errorf("%+v, %v; want %+v", st, err, want)
			}
		}
		if s.Offset() != int64(len(text)) {
			t.Errorf("%d bytes of %d", s.Offset(), len(text))
		}
	}
}

// What speaks against a batch is found wherever in it that stands, also far behind the beginning.
func TestSplitLongBatch(t *testing.T) {
	rows := strings.Repeat("INSERT fares VALUES (1, N'x', [y])\n", 500)
	for text, want := range map[string]string{"USE other": "other", "INSERT a.b.c VALUES (1)": "a",
		"DROP TABLE x, y, z": "z"} {
		for _, where := range []int{0, 1, 117, 500} {
			lines := strings.SplitAfter(rows, "\n")
			lines[where] = text + "\n" + lines[where]
			list, _, err := enginetest.Split(Engine{}.Script, strings.NewReader(strings.Join(lines, "")))
			if err != nil || len(list) != 1 || len(list[0].Names) == 0 ||
				list[0].Names[len(list[0].Names)-1].Text != want {
				t.Fatalf("%s behind %d lines: %d batches, %v", text, where, len(list), err)
			}
		}
	}
}

// What only looks like something that is not run is let pass, and what is run is found however it is written.
func TestJudge(t *testing.T) {
	for text, want := range map[string]script.Mark{
		"CREATE TABLE t (xp_gained int, sp_password int)":           "",
		"SELECT xp_gained FROM t WHERE t.xp_lost = 1":               "",
		"EXEC xp_cmdshell 'x'":                                      script.Refused,
		"xp_cmdshell 'x'":                                           script.Refused,
		"master..xp_cmdshell 'x'":                                   script.Refused,
		"SELECT 1 EXECUTE @rc = master.dbo.xp_cmdshell 'x'":         script.Refused,
		"SELECT 1 EXEC [master].[dbo].xp_cmdshell 'x'":              script.Refused,
		"EXEC [sys].[xp_cmdshell] 'x'":                              script.Refused,
		"SELECT [xp_lost], [sp_configure] FROM t":                   "",
		"SELECT 1; EXEC sp_OACreate 'x', @o OUT":                    script.Refused,
		"sp_configure 'x', 1":                                       script.Outside,
		"SELECT 1 EXEC sys.sp_configure 'x', 1":                     script.Outside,
		"SELECT n.v FROM t CROSS APPLY t.doc.nodes('/a/b') AS n(v)": "",
		"SELECT * FROM t FOR XML PATH('a'), TYPE":                   "",
		"SELECT * FROM a.b.c.nodes":                                 script.Outside,
	} {
		list, _, err := enginetest.Split(Engine{}.Script, strings.NewReader(text))
		other := len(list) == 1 && slices.ContainsFunc(list[0].Names, func(n script.Name) bool {
			return want == "" && n.Role == script.Database
		})
		if err != nil || len(list) != 1 || other || len(list[0].Marks) > 1 ||
			len(list[0].Marks) == 1 && list[0].Marks[0] != want || len(list[0].Marks) == 0 && want != "" {
			t.Errorf("%s: %+v, %v; want %q", text, list, err, want)
		}
	}
}

func TestSplitWhatHasNoEnd(t *testing.T) {
	for text, line := range map[string]int{"SELECT 1\nGO\nSELECT 'no end\nGO\n": 3, "/* no /* end */": 1,
		"SELECT [no end]]": 1, "SELECT \"no end": 1, "SELECT 1\nGO\n\nSELECT 1\nGO seats\n": 5,
		"SELECT 1\nGO 1 SELECT 2": 2, "SELECT 1\nGO;\n": 2, "SELECT 1\nGO 100001\n": 2,
		"SELECT 1\nGO 99999999999999999999\n": 2, "SELECT '" + strings.Repeat("x", 4<<10) + "'\nGO 100000": 2} {
		_, _, err := enginetest.Split(Engine{}.Script, strings.NewReader(text))
		if e, ok := errors.AsType[*script.Error](err); !ok || e.Line != line {
			t.Errorf("%.60q: %v; want line %d", text, err, line)
		}
	}
}

func FuzzSplit(f *testing.F) {
	f.Add(scripted)
	f.Add("\xEF\xBB\xBFSELECT 1\r\nGO\r\nuse [a]]b]\r\n")
	f.Add("GO\nCREATE SCHEMA a AUTHORIZATION b\nGO 2")
	f.Fuzz(func(t *testing.T, text string) {
		if !strings.HasPrefix(text, "\xFF\xFE") && !strings.HasPrefix(text, "\xFE\xFF") { // as characters, not bytes
			enginetest.SplitInParts(t, Engine{}.Script, text)
		}
	})
}
