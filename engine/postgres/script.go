package postgres

import "strings"

// scriptHead is for psql. It stops at the first error: what follows may stand on it.
const scriptHead = "\\set ON_ERROR_STOP on\n"

// connectLine has psql go to another database. A name that psql took for a
// connection string would send the rest of the script, and the password, to
// another server; so it always is one, with the name as a value in it. It goes by
// a variable, since only there a line end can be written.
func connectLine(database string) string {
	value := strings.NewReplacer(`\`, `\\`, `'`, `\'`).Replace(database)
	text := strings.NewReplacer(`\`, `\\`, `'`, `''`, "\n", `\n`, "\r", `\r`, "\t", `\t`).Replace("dbname='" + value +
		"'")
	return "\\set genarch_database '" + text + "'\n\\connect -reuse-previous=on :\"genarch_database\"\n"
}
