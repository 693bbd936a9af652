package postgres

import "example.com/genarch/core/privilege"

// table has the privileges of PostgreSQL. Source: the manual,
// "Privileges", and the letters of access lists in utils/acl.h.
var table = privilege.NewTable("SELECT", "INSERT", "UPDATE", "DELETE", "TRUNCATE", "REFERENCES", "TRIGGER", "MAINTAIN",
	"USAGE", "CREATE",
	"CONNECT", "TEMPORARY=TEMP", "EXECUTE", "SET", "ALTER SYSTEM")

// may are those that the code speaks of.
var may = struct {
	Select, Insert, Update, Delete, Truncate, References, Trigger, Maintain,
	Usage, Create, Connect, Temporary, Execute, SetParameter, AlterSystem privilege.Set
}{
	Select:       table.Of("SELECT"),
	Insert:       table.Of("INSERT"),
	Update:       table.Of("UPDATE"),
	Delete:       table.Of("DELETE"),
	Truncate:     table.Of("TRUNCATE"),
	References:   table.Of("REFERENCES"),
	Trigger:      table.Of("TRIGGER"),
	Maintain:     table.Of("MAINTAIN"),
	Usage:        table.Of("USAGE"),
	Create:       table.Of("CREATE"),
	Connect:      table.Of("CONNECT"),
	Temporary:    table.Of("TEMPORARY"),
	Execute:      table.Of("EXECUTE"),
	SetParameter: table.Of("SET"),
	AlterSystem:  table.Of("ALTER SYSTEM"),
}
