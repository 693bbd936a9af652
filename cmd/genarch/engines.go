package main

import (
	"example.com/genarch/engine"
	"example.com/genarch/engine/mariadb"
	"example.com/genarch/engine/mysql"
	"example.com/genarch/engine/postgres"
	"example.com/genarch/engine/sqlserver"
	"example.com/genarch/store"
)

// engines are all that Genarch looks after. Another one is one more line here.
func engines(records *store.Store) []engine.Engine {
	return append(moreEngines,
		postgres.Engine{},
		mariadb.Engine{Owns: records.Owns},
		mysql.Engine{},
		sqlserver.Engine{},
	)
}

// moreEngines has the one that there is not, in builds for the tests.
var moreEngines []engine.Engine
