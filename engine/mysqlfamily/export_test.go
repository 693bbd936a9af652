package mysqlfamily

import (
	"strings"
	"testing"

	"example.com/genarch/core/script"
)

func TestReadDump(t *testing.T) {
	dump := "CREATE TABLE a (n INT, t TEXT);\nINSERT INTO `a` (`n`, `t`) VALUES (1,'x),(2'),(2,_binary 'y');\n" +
		"CREATE TABLE b (n INT);\nINSERT INTO b VALUES (1);\n"
	got, err := readDump(strings.NewReader(dump + "-- Dump completed on 2026-11-27\n"))
	if err != nil || got.Tables != 2 || got.Rows != 3 {
		t.Errorf("%+v, %v", got, err)
	}
	if _, err := readDump(strings.NewReader(dump)); err == nil {
		t.Error("a dump that was cut off is taken for whole")
	}
	if n := countRows(script.Statement{Text: "INSERT INTO a SELECT (1)"}); n != 0 {
		t.Errorf("rows of no VALUES: %d", n)
	}
}
