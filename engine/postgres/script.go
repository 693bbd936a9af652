package postgres

import (
	"strings"

	"example.com/genarch/engine"
)

// script is for psql. It stops at the first error: what follows may stand on it.
var script = engine.Script{Head: "\\set ON_ERROR_STOP on\n", Connect: connectLine}

// connectLine has psql go to another database. A name that psql took for a
// connection string would send the rest of the script, and the password, to
// another server; so it always is one, with the name as a value in it. It goes by
// a variable, since only there a line end can be written.
func connectLine(database string) string {
	value := strings.NewReplacer(`\`, `\\`, `'`, `\'`).Replace(database)
	text := strings.NewReplacer(`\`, `\\`, `'`, `''`, "\n", `\n`, "\r", `\r`, "\t", `\t`).Replace("dbname='" + value + "'")
	return "\\set genarch_database '" + text + "'\n\\connect -reuse-previous=on :\"genarch_database\"\n"
}
