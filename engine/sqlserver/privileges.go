package sqlserver

import (
	"example.com/genarch/core/access"
	"example.com/genarch/core/catalog"
	"example.com/genarch/core/privilege"
)

// privileges are the permissions that are granted on databases and what is in them, and those on the
// whole server that Genarch speaks of. Source: sys.fn_builtin_permissions.
const privileges = `
	server: CONTROL SERVER, ALTER ANY DATABASE, CREATE ANY DATABASE, VIEW ANY DATABASE, VIEW ANY DEFINITION
	server: VIEW SERVER STATE, ALTER ANY LOGIN, ALTER ANY CONNECTION, ALTER ANY SERVER ROLE, CONNECT SQL
	server: CONNECT ANY DATABASE, SELECT ALL USER SECURABLES, IMPERSONATE ANY LOGIN, ALTER SETTINGS, SHUTDOWN
	server: ADMINISTER BULK OPERATIONS, ALTER ANY CREDENTIAL, ALTER ANY LINKED SERVER, ALTER SERVER STATE, ALTER TRACE
	database schema table column: SELECT, UPDATE, REFERENCES
	database schema table: INSERT, DELETE
	database schema routine: EXECUTE
	database schema table routine: ALTER, CONTROL, VIEW DEFINITION, TAKE OWNERSHIP
	database: CONNECT, CREATE TABLE, CREATE VIEW, CREATE PROCEDURE, CREATE FUNCTION, CREATE TYPE, CREATE SYNONYM
	database: CREATE SCHEMA, CREATE ROLE, ALTER ANY USER, ALTER ANY ROLE, ALTER ANY SCHEMA, VIEW DATABASE STATE
	database: BACKUP DATABASE, BACKUP LOG, SHOWPLAN, UNMASK`

// table has all of them.
var table = privilege.NewTable("SELECT", "INSERT", "UPDATE", "DELETE", "EXECUTE", "REFERENCES", "ALTER", "CONTROL",
	"VIEW DEFINITION", "TAKE OWNERSHIP", "CONNECT", "CREATE TABLE", "CREATE VIEW", "CREATE PROCEDURE",
	"CREATE FUNCTION", "CREATE TYPE", "CREATE SYNONYM", "CREATE SCHEMA", "CREATE ROLE", "ALTER ANY USER",
	"ALTER ANY ROLE", "ALTER ANY SCHEMA", "VIEW DATABASE STATE", "BACKUP DATABASE", "BACKUP LOG", "SHOWPLAN", "UNMASK",
	"CONTROL SERVER", "ALTER ANY DATABASE", "CREATE ANY DATABASE", "VIEW ANY DATABASE", "VIEW ANY DEFINITION",
	"VIEW SERVER STATE", "ALTER ANY LOGIN", "ALTER ANY CONNECTION", "ALTER ANY SERVER ROLE", "CONNECT SQL",
	"CONNECT ANY DATABASE", "SELECT ALL USER SECURABLES", "IMPERSONATE ANY LOGIN", "ALTER SETTINGS", "SHUTDOWN",
	"ADMINISTER BULK OPERATIONS", "ALTER ANY CREDENTIAL", "ALTER ANY LINKED SERVER", "ALTER SERVER STATE",
	"ALTER TRACE")

// bundle is what a bundle holds on a database, and on each of its schemas.
type bundle struct{ onDatabase, onSchemas privilege.Set }

// On writes it by scope.
func (b bundle) On() map[catalog.Scope][]string {
	out := map[catalog.Scope][]string{catalog.ScopeDatabase: b.onDatabase.Names()}
	if !b.onSchemas.Empty() {
		out[catalog.ScopeSchema] = b.onSchemas.Names()
	}
	return out
}

// bundles: CREATE TABLE alone is not enough to make one, ALTER on its schema is needed too.
var bundles = map[access.Bundle]bundle{
	access.BundleRead:  {onDatabase: table.Of("CONNECT", "SELECT")},
	access.BundleWrite: {onDatabase: table.Of("CONNECT", "SELECT", "INSERT", "UPDATE", "DELETE", "EXECUTE")},
	access.BundleBuild: {onDatabase: table.Of("CONNECT", "SELECT", "INSERT", "UPDATE", "DELETE", "EXECUTE",
		"CREATE TABLE", "CREATE VIEW", "CREATE PROCEDURE", "CREATE FUNCTION", "CREATE TYPE", "CREATE SYNONYM",
		"REFERENCES"), onSchemas: table.Of("ALTER")},
}
