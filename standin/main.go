// standin starts servers that stand in for database engines which cannot run here: each
// speaks the engine's own protocol to the engine's own driver. It is for Genarch's tests and
// its demonstration, and is no part of Genarch.
package main

import (
	"fmt"
	"os"

	"example.com/genarch/standin/mysql"
	"example.com/genarch/standin/sqlserver"
)

func main() {
	engines := map[string]func(args []string) error{"mysql": mysql.Main, "sqlserver": sqlserver.Main}
	if len(os.Args) < 2 || engines[os.Args[1]] == nil {
		fmt.Fprintln(os.Stderr, "usage: standin ENGINE [options]; the engines: mysql, sqlserver")
		os.Exit(2)
	}
	if err := engines[os.Args[1]](os.Args[2:]); err != nil {
		fmt.Fprintln(os.Stderr, "standin:", err)
		os.Exit(1)
	}
}
