package mysqlfamily

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

const dumped = `/*M!999999\- enable the sandbox mode */
-- MariaDB dump 10.19
/*!40101 SET @OLD_SQL_MODE=@@SQL_MODE, SQL_MODE='NO_AUTO_VALUE_ON_ZERO' */;
DROP TABLE IF EXISTS ` + "`fares`" + `;
CREATE TABLE ` + "`fares`" + ` (
  id int, label varchar(10) DEFAULT 'a;b\'c', # a comment; here
  other varchar(9) DEFAULT "d;\"e" -- and; there
);
INSERT INTO ` + "`odd;name`" + ` VALUES (1,'x;y'),(2,--1);
/*!50003 SET sql_mode = 'ANSI_QUOTES' */ ;
DELIMITER ;;
/*!50003 CREATE*/ /*!50017 DEFINER=` + "`root`@`localhost`" + `*/ /*!50003 TRIGGER t BEFORE INSERT ON fares
FOR EACH ROW BEGIN SET @a = "b\"; SET @x = 1; END */;;
DELIMITER ;
/*!50003 SET sql_mode = @OLD_SQL_MODE */ ;
CREATE ALGORITHM=UNDEFINED DEFINER=mate@pier.ossavik.example SQL SECURITY DEFINER VIEW v AS SELECT "a;b\"";
DELIMITER $$
CREATE PROCEDURE p() BEGIN SELECT 1; SELECT 2; END$$
DELIMITER ;
USE ledger_prod
LOAD DATA LOCAL INFILE 'x' INTO TABLE fares;
LOAD DATA INFILE 'x' INTO TABLE fares;
SELECT 1 INTO OUTFILE '/tmp/x';
SET @@SESSION.SQL_LOG_BIN= 0;
SET @KEPT = @@SESSION.SQL_LOG_BIN;
SET GLOBAL max_connections = 5;
SET autocommit=0;
INSERT INTO ledger_prod.fares VALUES (1);
SELECT 1\G
source /etc/passwd
\! id
CREATE USER mate;
GRANT SELECT ON x.* TO mate;
CREATE DATABASE other;
START TRANSACTION;
CREATE TEMPORARY TABLE scratch (a int);
DROP TABLE a, b;
ALTER TABLE fares ADD c int;
INSERT INTO a VALUES (“x”);
/* only; a comment */;
----------------- a line of dashes; too
SELECT 'the last one has no semicolon'
`

func TestSplit(t *testing.T) {
	refused, outside, alone := marks{script.Refused}, marks{script.Outside}, marks{script.Alone}
	database := func(n string) names { return names{{Role: script.Database, Text: n}} }
	enginetest.SplitInto(t, maria{}.Script, dumped, []enginetest.Wanted{
		{Line: 1, Kind: "SET"},
		{Line: 4, Kind: "DROP TABLE", Marks: alone, Names: names{{Role: script.Replaces, Text: "fares"}}},
		{Line: 5, Kind: "CREATE TABLE", Marks: alone, Names: names{{Role: script.Makes, Text: "fares"}}},
		{Line: 9, Kind: "INSERT", Text: "INSERT INTO `odd;name` VALUES (1,'x;y'),(2,--1)"},
		{Line: 10, Kind: "SET", Text: "/*!50003 SET sql_mode = 'ANSI_QUOTES' */"},
		{Line: 12, Kind: "CREATE TRIGGER", Marks: marks{script.Alone, script.Defines},
			Names: names{{Role: script.Definer, Text: "root@localhost"}},
			Text: "/*!50003 CREATE*/ /*!50017 */ /*!50003 TRIGGER t BEFORE INSERT ON fares\n" +
				`FOR EACH ROW BEGIN SET @a = "b\"; SET @x = 1; END */`},
		{Line: 15, Kind: "SET"},
		{Line: 16, Kind: "CREATE VIEW", Marks: marks{script.Alone, script.Defines},
			Names: names{{Role: script.Definer, Text: "mate@pier.ossavik.example"}},
			Text:  `CREATE ALGORITHM=UNDEFINED  SQL SECURITY DEFINER VIEW v AS SELECT "a;b\""`},
		{Line: 18, Kind: "CREATE PROCEDURE", Marks: marks{script.Alone, script.Defines},
			Text: "CREATE PROCEDURE p() BEGIN SELECT 1; SELECT 2; END"},
		{Line: 20, Kind: "USE", Names: database("ledger_prod")},
		{Line: 21, Kind: "LOAD", Marks: marks{script.Alone, script.Refused}},
		{Line: 22, Kind: "LOAD", Marks: marks{script.Alone, script.Outside}},
		{Line: 23, Kind: "SELECT", Marks: outside},
		{Line: 24, Kind: "SET", Marks: outside},
		{Line: 25, Kind: "SET"},
		{Line: 26, Kind: "SET", Marks: outside},
		{Line: 27, Kind: "SET", Marks: marks{script.Transaction}},
		{Line: 28, Kind: "INSERT", Names: database("ledger_prod")},
		{Line: 29, Kind: "SELECT", Text: "SELECT 1"},
		{Line: 30, Kind: "source", Marks: refused},
		{Line: 31, Kind: `\!`, Marks: refused},
		{Line: 32, Kind: "CREATE USER", Marks: marks{script.Alone, script.Outside}},
		{Line: 33, Kind: "GRANT", Marks: marks{script.Alone, script.Outside}},
		{Line: 34, Kind: "CREATE DATABASE", Marks: marks{script.Alone, script.Outside}},
		{Line: 35, Kind: "START TRANSACTION", Marks: marks{script.Transaction}},
		{Line: 36, Kind: "CREATE TABLE", Marks: alone},
		{Line: 37, Kind: "DROP TABLE", Marks: alone, Names: names{{Role: script.Drops, Text: "a"},
			{Role: script.Drops, Text: "b"}}},
		{Line: 38, Kind: "ALTER TABLE", Marks: alone},
		{Line: 39, Kind: "INSERT", Marks: marks{script.Typographic}},
		{Line: 42, Kind: "SELECT", Text: "SELECT 'the last one has no semicolon'"},
	})
}

func TestSplitWhatHasNoEnd(t *testing.T) {
	for text, line := range map[string]int{"SELECT 1;\nSELECT 'no end": 2, "/* no end": 1, "SELECT `no end": 1,
		"SELECT \"no end": 1, "SELECT 1;\n\nDELIMITER\nSELECT 2": 3} {
		_, _, err := enginetest.Split(maria{}.Script, strings.NewReader(text))
		if e, ok := errors.AsType[*script.Error](err); !ok || e.Line != line {
			t.Errorf("%q: %v; want line %d", text, err, line)
		}
	}
}

func FuzzSplit(f *testing.F) {
	f.Add(dumped)
	f.Add("\xEF\xBB\xBFDELIMITER //\r\nSELECT 1//\r\nuse `a``b`;\r\n")
	f.Fuzz(func(t *testing.T, text string) { enginetest.SplitInParts(t, maria{}.Script, text) })
}
