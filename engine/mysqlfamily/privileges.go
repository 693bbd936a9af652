package mysqlfamily

import "example.com/genarch/core/privilege"

// table has the privileges of MariaDB. Source: SHOW PRIVILEGES
// and the manual, "GRANT", with the names that older versions had.
var table = privilege.NewTable("SELECT", "INSERT", "UPDATE", "DELETE", "REFERENCES", "TRIGGER", "CREATE", "EXECUTE",
	"DROP", "INDEX",
	"ALTER", "CREATE TEMPORARY TABLES", "LOCK TABLES", "CREATE VIEW", "SHOW VIEW", "CREATE ROUTINE",
	"ALTER ROUTINE", "EVENT", "DELETE HISTORY=DELETE VERSIONING ROWS", "RELOAD", "SHUTDOWN", "PROCESS", "FILE",
	"SHOW DATABASES", "SUPER", "REPLICATION SLAVE", "BINLOG MONITOR=REPLICATION CLIENT", "CREATE USER",
	"CREATE TABLESPACE", "SET USER", "FEDERATED ADMIN", "CONNECTION ADMIN", "READ_ONLY ADMIN",
	"REPLICATION SLAVE ADMIN", "REPLICATION MASTER ADMIN", "BINLOG ADMIN", "BINLOG REPLAY",
	"SLAVE MONITOR=REPLICA MONITOR", "SHOW CREATE ROUTINE")

// may are those that the code speaks of.
var may = struct {
	Select, Insert, Update, Delete, References, Trigger, Create, Execute,
	Drop, Index, Alter, CreateTemporaryTables, LockTables, CreateView, ShowView, CreateRoutine,
	AlterRoutine, Event, DeleteHistory, Reload, Shutdown, Process, File, ShowDatabases,
	Super, ReplicationSlave, BinlogMonitor, CreateUser, CreateTablespace, SetUser, FederatedAdmin, ConnectionAdmin,
	ReadOnlyAdmin, ReplicationSlaveAdmin, ReplicationMasterAdmin, BinlogAdmin, BinlogReplay,
	SlaveMonitor, ShowCreateRoutine privilege.Set
}{
	Select:                 table.Of("SELECT"),
	Insert:                 table.Of("INSERT"),
	Update:                 table.Of("UPDATE"),
	Delete:                 table.Of("DELETE"),
	References:             table.Of("REFERENCES"),
	Trigger:                table.Of("TRIGGER"),
	Create:                 table.Of("CREATE"),
	Execute:                table.Of("EXECUTE"),
	Drop:                   table.Of("DROP"),
	Index:                  table.Of("INDEX"),
	Alter:                  table.Of("ALTER"),
	CreateTemporaryTables:  table.Of("CREATE TEMPORARY TABLES"),
	LockTables:             table.Of("LOCK TABLES"),
	CreateView:             table.Of("CREATE VIEW"),
	ShowView:               table.Of("SHOW VIEW"),
	CreateRoutine:          table.Of("CREATE ROUTINE"),
	AlterRoutine:           table.Of("ALTER ROUTINE"),
	Event:                  table.Of("EVENT"),
	DeleteHistory:          table.Of("DELETE HISTORY"),
	Reload:                 table.Of("RELOAD"),
	Shutdown:               table.Of("SHUTDOWN"),
	Process:                table.Of("PROCESS"),
	File:                   table.Of("FILE"),
	ShowDatabases:          table.Of("SHOW DATABASES"),
	Super:                  table.Of("SUPER"),
	ReplicationSlave:       table.Of("REPLICATION SLAVE"),
	BinlogMonitor:          table.Of("BINLOG MONITOR"),
	CreateUser:             table.Of("CREATE USER"),
	CreateTablespace:       table.Of("CREATE TABLESPACE"),
	SetUser:                table.Of("SET USER"),
	FederatedAdmin:         table.Of("FEDERATED ADMIN"),
	ConnectionAdmin:        table.Of("CONNECTION ADMIN"),
	ReadOnlyAdmin:          table.Of("READ_ONLY ADMIN"),
	ReplicationSlaveAdmin:  table.Of("REPLICATION SLAVE ADMIN"),
	ReplicationMasterAdmin: table.Of("REPLICATION MASTER ADMIN"),
	BinlogAdmin:            table.Of("BINLOG ADMIN"),
	BinlogReplay:           table.Of("BINLOG REPLAY"),
	SlaveMonitor:           table.Of("SLAVE MONITOR"),
	ShowCreateRoutine:      table.Of("SHOW CREATE ROUTINE"),
}
