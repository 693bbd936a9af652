package sqlserver

import (
	"example.com/genarch/core/catalog"
	"example.com/genarch/core/privilege"
)

// What a permission holds beside itself. Source: the columns covering_permission_name and
// parent_covering_permission_name of sys.fn_builtin_permissions.

var (
	control = table.Of("CONTROL")
	connect = table.Of("CONNECT")

	onDatabase, _ = table.Parse(description.PrivilegesOn(catalog.ScopeDatabase))
	onSchema, _   = table.Parse(description.PrivilegesOn(catalog.ScopeSchema))
	onObject, _   = table.Parse(append(description.PrivilegesOn(catalog.ScopeTable), "EXECUTE"))

	// alters is what ALTER on a database holds.
	alters = table.Of("ALTER", "CREATE TABLE", "CREATE VIEW", "CREATE PROCEDURE", "CREATE FUNCTION", "CREATE TYPE",
		"CREATE SYNONYM", "CREATE SCHEMA", "CREATE ROLE", "ALTER ANY USER", "ALTER ANY ROLE", "ALTER ANY SCHEMA")
	// down are those that reach from a database to its schemas, and from these to what is in them.
	down = table.Of("SELECT", "INSERT", "UPDATE", "DELETE", "EXECUTE", "REFERENCES", "VIEW DEFINITION", "CONTROL")
)

// covered is all that permissions on a database hold there.
func covered(set privilege.Set) privilege.Set {
	if set.Has(control) {
		return set.Or(onDatabase)
	}
	if set.Has(table.Of("ALTER")) {
		set = set.Or(alters)
	}
	if set.Has(table.Of("ALTER ANY SCHEMA")) {
		set = set.Or(table.Of("CREATE SCHEMA"))
	}
	if set.Has(table.Of("ALTER ANY ROLE")) {
		set = set.Or(table.Of("CREATE ROLE"))
	}
	return set
}

// toSchema is what permissions on a database, with all that they hold, hold on each of its schemas.
func toSchema(set privilege.Set) privilege.Set {
	out := set.And(down)
	if set.Has(table.Of("ALTER ANY SCHEMA")) {
		out = out.Or(table.Of("ALTER"))
	}
	return coveredIn(out, onSchema)
}

// coveredIn is all that permissions on a schema, or on an object, hold there.
func coveredIn(set, all privilege.Set) privilege.Set {
	if set.Has(control) {
		return set.Or(all)
	}
	return set
}

// toObject is what permissions on a schema, with all that they hold, hold on what is in it.
func toObject(set privilege.Set) privilege.Set {
	return coveredIn(set.And(down.Or(table.Of("ALTER"))), onObject)
}

// toDatabase is what permissions on the whole server hold on each database.
func toDatabase(set privilege.Set) privilege.Set {
	var out privilege.Set
	for server, database := range map[string]string{"CONTROL SERVER": "CONTROL", "ALTER ANY DATABASE": "ALTER",
		"VIEW ANY DEFINITION": "VIEW DEFINITION", "VIEW SERVER STATE": "VIEW DATABASE STATE",
		"CONNECT ANY DATABASE": "CONNECT", "SELECT ALL USER SECURABLES": "SELECT"} {
		if set.Has(table.Of(server)) {
			out = out.Or(table.Of(database))
		}
	}
	return out
}

// serverRoles are what the fixed roles of the server hold: it stands in no catalogue. Members of
// sysadmin are refused nothing. Source: sys.fn_builtin_permissions and the manual of server roles.
var serverRoles = map[string]privilege.Set{
	"securityadmin": table.Of("ALTER ANY LOGIN"),
	"serveradmin":   table.Of("ALTER SETTINGS", "SHUTDOWN", "ALTER SERVER STATE", "VIEW SERVER STATE"),
	"setupadmin":    table.Of("ALTER ANY LINKED SERVER"),
	"processadmin":  table.Of("ALTER ANY CONNECTION", "ALTER SERVER STATE", "VIEW SERVER STATE"),
	"dbcreator":     table.Of("CREATE ANY DATABASE"),
	"bulkadmin":     table.Of("ADMINISTER BULK OPERATIONS"),
	"public":        table.Of("VIEW ANY DATABASE"),
}

// databaseRoles are what the fixed roles of a database hold, and deniers what they deny.
var databaseRoles = map[string]privilege.Set{
	"db_owner":         control,
	"db_accessadmin":   table.Of("ALTER ANY USER", "CREATE SCHEMA", "CONNECT"),
	"db_securityadmin": table.Of("ALTER ANY ROLE", "CREATE SCHEMA", "VIEW DEFINITION"),
	"db_ddladmin": alters.Minus(table.Of("ALTER", "CREATE ROLE", "ALTER ANY USER", "ALTER ANY "+
		"ROLE")).Or(table.Of("REFERENCES")),
	"db_backupoperator": table.Of("BACKUP DATABASE", "BACKUP LOG"),
	"db_datareader":     table.Of("SELECT"),
	"db_datawriter":     table.Of("INSERT", "UPDATE", "DELETE"),
}

var deniers = map[string]privilege.Set{
	"db_denydatareader": table.Of("SELECT"),
	"db_denydatawriter": table.Of("INSERT", "UPDATE", "DELETE"),
}
