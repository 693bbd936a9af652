package server

import (
	"bytes"
	"crypto/sha256"
	"encoding/binary"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"example.com/genarch/standin/sqlserver/tds"
	"example.com/genarch/standin/sqlserver/tsql"
)

// view is one catalogue view: its columns as the documentation lists them (those
// that are kept), who may read it, and its rows, made from the model on asking.
type view struct {
	cols []tds.Column
	// state: VIEW SERVER STATE is needed, or the error 300; "" nobody is refused.
	perm string
	// local: of one database.
	local bool
	rows  func(x *exec, d *Database, args []any) [][]any
	args  int
}

var views = map[string]*view{}

func define(name, cols, perm string, local bool, rows func(x *exec, d *Database, a []any) [][]any) {
	v := &view{perm: perm, local: local, rows: rows}
	for _, c := range strings.Split(cols, ",") {
		n, t, _ := strings.Cut(strings.Join(strings.Fields(c), " "), " ")
		t = strings.ReplaceAll(t, ";", ",")
		ty, err := tsql.ParseType(t)
		if err != nil {
			panic(name + ": " + c + ": " + err.Error())
		}
		v.cols = append(v.cols, tds.Column{Name: n, Type: ty})
	}
	views[name] = v
}

func rowsOf[T any](list []T, f func(T) []any) [][]any {
	var out [][]any
	for _, t := range list {
		if r := f(t); r != nil {
			out = append(out, r)
		}
	}
	return out
}

func n(v int) any { return int64(v) }

func orNull(s string) any {
	if s == "" {
		return nil
	}
	return s
}

var typeDesc = map[string]string{"S": "SQL_LOGIN", "U": "WINDOWS_LOGIN", "G": "WINDOWS_GROUP", "R": "SERVER_ROLE"}

var permTypes = map[string]string{
	"SELECT":               "SL",
	"INSERT":               "IN",
	"UPDATE":               "UP",
	"DELETE":               "DL",
	"EXECUTE":              "EX",
	"REFERENCES":           "RF",
	"CONNECT":              "CO",
	"CONTROL":              "CL",
	"ALTER":                "AL",
	"VIEW DEFINITION":      "VW",
	"CONNECT SQL":          "COSQ",
	"VIEW SERVER STATE":    "VWSS",
	"VIEW ANY DATABASE":    "VWDB",
	"ALTER ANY LOGIN":      "ALLG",
	"CREATE ANY DATABASE":  "CRDB",
	"ALTER ANY DATABASE":   "ALDB",
	"ALTER ANY CONNECTION": "ALCO",
	"CONTROL SERVER":       "CL",
	"CREATE TABLE":         "CRTB",
}

// diskBytes is how large the one disk is. Nothing is refused when it is full.
const diskBytes = 200 << 30

var stateDesc = map[string]string{"G": "GRANT", "W": "GRANT_WITH_GRANT_OPTION", "D": "DENY", "R": "REVOKE"}

func (x *exec) seesState() bool { return x.inst.serverHas(x.s.cur, "VIEW SERVER STATE") }

// init: Long: a list of views with their columns.
func init() {
	define(
		"sys.databases",
		`name sysname, database_id int, source_database_id int, owner_sid varbinary(85), create_date datetime,
			compatibility_level tinyint, collation_name sysname,
user_access tinyint, user_access_desc nvarchar(60), is_read_only bit, is_auto_close_on bit, is_auto_shrink_on
			bit, state tinyint, state_desc nvarchar(60), is_in_standby bit, is_cleanly_shutdown bit,
snapshot_isolation_state tinyint, snapshot_isolation_state_desc nvarchar(60), is_read_committed_snapshot_on
			bit, recovery_model tinyint, recovery_model_desc nvarchar(60), page_verify_option_desc nvarchar(60),
is_auto_create_stats_on bit, is_auto_update_stats_on bit, is_auto_update_stats_async_on bit,
			is_fulltext_enabled bit, is_trustworthy_on bit, is_db_chaining_on bit, is_published bit,
			is_subscribed bit, is_merge_published bit,
is_distributor bit, service_broker_guid uniqueidentifier, is_broker_enabled bit, log_reuse_wait_desc
			nvarchar(60), is_cdc_enabled bit, is_encrypted bit, replica_id uniqueidentifier, group_database_id
			uniqueidentifier,
containment tinyint, containment_desc nvarchar(60), target_recovery_time_in_seconds int, is_query_store_on bit,
			is_accelerated_database_recovery_on bit`,
		"",
		false,
		func(x *exec, _ *Database, _ []any) [][]any {
			all := x.inst.serverHas(x.s.cur, "VIEW ANY DATABASE") || x.inst.serverHas(x.s.cur, "ALTER ANY DATABASE") ||
				x.inst.serverHas(x.s.cur, "CREATE ANY DATABASE")
			return rowsOf(sorted(x.inst.dbs), func(d *Database) []any {
				mine := x.s.cur.login != nil && bytes.Equal(x.s.cur.login.SID, d.Owner)
				if !all && d.ID > 2 && d != x.s.DB && !mine {
					return nil
				}
				access := map[string]int{"MULTI_USER": 0, "SINGLE_USER": 1, "RESTRICTED_USER": 2}[d.Access]
				state := map[string]int{"ONLINE": 0, "RESTORING": 1, "RECOVERING": 2, "RECOVERY_PENDING": 3,
					"SUSPECT": 4, "EMERGENCY": 5, "OFFLINE": 6}[d.State]
				recovery := map[string]int{"FULL": 1, "BULK_LOGGED": 2, "SIMPLE": 3}[d.Recovery]
				var src, coll, replica, group any
				if d.SnapshotOf > 0 {
					src = n(d.SnapshotOf)
				}
				if d.State == "ONLINE" {
					coll = d.Collation
				}
				if d.Group != "" {
					replica, group = d.BrokerGUID, d.BrokerGUID
				}
				cont, contDesc := 0, "NONE"
				if d.Contained {
					cont, contDesc = 1, "PARTIAL"
				}
				snap, snapDesc := 0, "OFF"
				if d.Snapshot {
					snap, snapDesc = 1, "ON"
				}
				return []any{
					d.Name,
					n(d.ID),
					src,
					d.Owner,
					d.Created,
					n(d.Compat),
					coll,
					n(access),
					d.Access,
					d.ReadOnly,
					d.AutoClose,
					d.AutoShrink,
					n(state),
					d.State,
					false,
					false,
					n(snap),
					snapDesc,
					d.RCSI,
					n(
						recovery,
					),
					d.Recovery,
					d.PageVerify,
					d.AutoCreate,
					d.AutoUpdate,
					d.AutoAsync,
					false,
					d.Trust,
					d.Chaining,
					d.Published,
					false,
					false,
					false,
					d.BrokerGUID,
					d.Broker,
					"NOTHING",
					d.CDC,
					d.Encrypted,
					replica,
					group,
					n(cont),
					contDesc,
					n(d.Target),
					false,
					false,
				}
			})
		},
	)
	fileCols := `file_id int, file_guid uniqueidentifier, type tinyint, type_desc nvarchar(60), data_space_id
			int, name sysname, physical_name nvarchar(260), state tinyint, state_desc nvarchar(60), size int,
			max_size int, growth int, is_media_read_only bit, is_read_only bit, is_sparse bit, is_percent_growth bit`
	file := func(d *Database, f *File) []any {
		typ, desc, space := 0, "ROWS", 1+slices.Index(d.Groups, f.Group)
		if f.Log {
			typ, desc, space = 1, "LOG", 0
		}
		limit := int64(-1)
		if f.Max >= 0 {
			limit = f.Max / 8192
		}
		growth := f.Growth / 8192
		if f.Percent {
			growth = f.Growth
		}
		return []any{
			n(f.ID),
			f.GUID,
			n(typ),
			desc,
			n(space),
			f.Name,
			f.Path,
			n(0),
			"ONLINE",
			f.Size / 8192,
			limit,
			growth,
			false,
			false,
			false,
			f.Percent,
		}
	}
	define("sys.master_files", "database_id int, "+fileCols, "", false, func(x *exec, _ *Database, _ []any) [][]any {
		all := x.inst.serverHas(x.s.cur, "CREATE ANY DATABASE") || x.inst.serverHas(x.s.cur, "VIEW ANY DEFINITION")
		var out [][]any
		for _, d := range sorted(x.inst.dbs) {
			if all || x.s.cur.login != nil && bytes.Equal(d.Owner, x.s.cur.login.SID) {
				for _, f := range d.Files {
					out = append(out, append([]any{n(d.ID)}, file(d, f)...))
				}
			}
		}
		return out
	})
	define(
		"sys.database_files",
		fileCols,
		"",
		true,
		func(x *exec, d *Database, _ []any) [][]any {
			return rowsOf(d.Files, func(f *File) []any { return file(d, f) })
		},
	)
	define(
		"sys.server_principals",
		`name sysname, principal_id int, sid varbinary(85), type char(1), type_desc nvarchar(60), is_disabled
			bit, create_date datetime, modify_date datetime, default_database_name sysname,
			default_language_name sysname, credential_id int, owning_principal_id int, is_fixed_role bit`,
		"",
		false,
		func(x *exec, _ *Database, _ []any) [][]any {
			return rowsOf(x.visibleLogins(), func(p *Principal) []any {
				var owner, lang any
				if p.Owner > 0 {
					owner = n(p.Owner)
				}
				if p.Type != "R" {
					lang = "us_english"
				}
				return []any{
					p.Name,
					n(p.ID),
					p.SID,
					p.Type,
					typeDesc[p.Type],
					p.Disabled,
					tds.RoundDateTime(p.Created),
					tds.RoundDateTime(p.Modified),
					orNull(p.DefaultDB),
					lang,
					nil,
					owner,
					p.Fixed,
				}
			})
		},
	)
	define(
		"sys.sql_logins",
		`name sysname, principal_id int, sid varbinary(85), type char(1), type_desc nvarchar(60), is_disabled
			bit, create_date datetime, modify_date datetime, default_database_name sysname,
			default_language_name sysname, credential_id int, is_policy_checked bit, is_expiration_checked bit,
			password_hash varbinary(256)`,
		"",
		false,
		func(x *exec, _ *Database, _ []any) [][]any {
			see := x.inst.serverHas(x.s.cur, "CONTROL SERVER")
			return rowsOf(x.visibleLogins(), func(p *Principal) []any {
				if p.Type != "S" {
					return nil
				}
				var hash any
				if see {
					hash = p.Hash
				}
				return []any{
					p.Name,
					n(p.ID),
					p.SID,
					p.Type,
					"SQL_LOGIN",
					p.Disabled,
					tds.RoundDateTime(p.Created),
					tds.RoundDateTime(p.Modified),
					p.DefaultDB,
					"us_english",
					nil,
					p.Policy,
					p.Expire,
					hash,
				}
			})
		},
	)
	define(
		"sys.server_role_members",
		"role_principal_id int, member_principal_id int",
		"",
		false,
		func(x *exec, _ *Database, _ []any) [][]any {
			var out [][]any
			for _, p := range sorted(x.inst.principals) {
				for _, m := range slices.Sorted(maps.Keys(p.Members)) {
					out = append(out, []any{n(p.ID), n(m)})
				}
			}
			return out
		},
	)
	permCols := "class tinyint, class_desc nvarchar(60), major_id int, minor_id int, grantee_principal_id int, " +
		"grantor_principal_id int, type char(4), permission_name nvarchar(128), state char(1), state_desc nvarchar(60)"
	perm := func(p *Perm) []any {
		class := map[int]string{0: "DATABASE", 1: "OBJECT_OR_COLUMN", 3: "SCHEMA", 4: "DATABASE_PRINCIPAL",
			100: "SERVER", 101: "SERVER_PRINCIPAL", 105: "ENDPOINT"}[p.Class]
		return []any{
			n(p.Class),
			class,
			n(p.Major),
			n(p.Minor),
			n(p.Grantee),
			n(p.Grantor),
			fmt.Sprintf("%-4s", permTypes[p.Name]),
			p.Name,
			p.State,
			stateDesc[p.State],
		}
	}
	define("sys.server_permissions", permCols, "", false, func(x *exec, _ *Database, _ []any) [][]any {
		seen := map[int]bool{}
		for _, p := range x.visibleLogins() {
			seen[p.ID] = true
		}
		return rowsOf(x.inst.perms, func(p *Perm) []any {
			if !seen[p.Grantee] {
				return nil
			}
			return perm(p)
		})
	})
	define(
		"sys.database_permissions",
		permCols,
		"",
		true,
		func(x *exec, d *Database, _ []any) [][]any { return rowsOf(d.Perms, perm) },
	)
	define(
		"sys.database_principals",
		`name sysname, principal_id int, type char(1), type_desc nvarchar(60), default_schema_name sysname,
			create_date datetime, modify_date datetime, owning_principal_id int, sid varbinary(85),
			is_fixed_role bit, authentication_type int, authentication_type_desc nvarchar(60),
			default_language_name sysname`,
		"",
		true,
		func(x *exec, d *Database, _ []any) [][]any {
			return rowsOf(sorted(d.Users), func(u *User) []any {
				desc, auth := "SQL_USER", []string{"NONE", "INSTANCE", "DATABASE"}[u.Auth]
				if u.Type == "R" {
					desc = "DATABASE_ROLE"
				}
				var owner, sid any
				if u.Owner > 0 {
					owner = n(u.Owner)
				}
				if u.SID != nil {
					sid = u.SID
				}
				return []any{
					u.Name,
					n(u.ID),
					u.Type,
					desc,
					orNull(u.Schema),
					tds.RoundDateTime(u.Created),
					tds.RoundDateTime(u.Created),
					owner,
					sid,
					u.Fixed,
					n(u.Auth),
					auth,
					nil,
				}
			})
		},
	)
	define(
		"sys.database_role_members",
		"role_principal_id int, member_principal_id int",
		"",
		true,
		func(x *exec, d *Database, _ []any) [][]any {
			var out [][]any
			for _, u := range sorted(d.Users) {
				for _, m := range slices.Sorted(maps.Keys(u.Members)) {
					out = append(out, []any{n(u.ID), n(m)})
				}
			}
			return out
		},
	)
	define(
		"sys.schemas",
		"name sysname, schema_id int, principal_id int",
		"",
		true,
		func(x *exec, d *Database, _ []any) [][]any {
			return rowsOf(sorted(d.Schemas), func(s *Schema) []any { return []any{s.Name, n(s.ID), n(s.Owner)} })
		},
	)
	objectTypes := map[string]string{
		"U":  "USER_TABLE",
		"V":  "VIEW",
		"P":  "SQL_STORED_PROCEDURE",
		"FN": "SQL_SCALAR_FUNCTION",
		"SN": "SYNONYM",
		"TR": "SQL_TRIGGER",
	}
	objects := func(only string) func(*exec, *Database, []any) [][]any {
		return func(x *exec, d *Database, _ []any) [][]any {
			return rowsOf(sorted(d.Objects), func(o *Object) []any {
				if only != "" && o.Type != only || o.Type == ddlTrigger || !x.visible(d, o) {
					return nil
				}
				var owner any
				if o.Owner > 0 {
					owner = n(o.Owner)
				}
				return []any{
					o.Name,
					n(o.ID),
					owner,
					n(o.Schema),
					n(0),
					o.Type,
					objectTypes[o.Type],
					tds.RoundDateTime(o.Created),
					tds.RoundDateTime(o.Created),
					false,
					false,
				}
			})
		}
	}
	objCols := "name sysname, object_id int, principal_id int, schema_id int, parent_object_id int, type char(2), " +
		"type_desc nvarchar(60), create_date datetime, modify_date datetime, is_ms_shipped bit, is_published bit"
	define("sys.objects", objCols, "", true, objects(""))
	define("sys.tables", objCols, "", true, objects("U"))
	define("sys.sql_modules", "object_id int, definition nvarchar(max)", "", true,
		func(_ *exec, d *Database, _ []any) [][]any {
			return rowsOf(sorted(d.Objects), func(o *Object) []any {
				if o.Type == "U" {
					return nil
				}
				return []any{n(o.ID), o.Text}
			})
		})
	define("sys.database_recovery_status", "database_id int, family_guid uniqueidentifier", "VIEW ANY DEFINITION",
		false, func(x *exec, _ *Database, _ []any) [][]any {
			return rowsOf(sorted(x.inst.dbs), func(d *Database) []any { return []any{n(d.ID), d.Family} })
		})
	define("sys.views", objCols, "", true, objects("V"))
	define("sys.procedures", objCols, "", true, objects("P"))
	define("sys.synonyms", objCols, "", true, objects("SN"))
	define("sys.triggers", "name sysname, object_id int, parent_class tinyint, is_disabled bit, is_ms_shipped bit", "",
		true, func(_ *exec, d *Database, _ []any) [][]any {
			return rowsOf(sorted(d.Objects), func(o *Object) []any {
				switch o.Type {
				case ddlTrigger:
					return []any{o.Name, n(o.ID), n(0), false, false}
				case "TR":
					return []any{o.Name, n(o.ID), n(1), false, false}
				}
				return nil
			})
		})
	define(
		"sys.columns",
		"object_id int, name sysname, column_id int, system_type_id tinyint, max_length smallint, is_nullable bit, "+
			"collation_name sysname",
		"",
		true,
		func(x *exec, d *Database, _ []any) [][]any {
			var out [][]any
			for _, o := range sorted(d.Objects) {
				for k, c := range o.Cols {
					out = append(out, []any{n(o.ID), c.Name, n(k + 1), n(231), n(c.T.Len), true, d.Collation})
				}
			}
			return out
		},
	)
	partitions := func(x *exec, d *Database, _ []any) [][]any {
		return rowsOf(sorted(d.Objects), func(o *Object) []any {
			if o.Type != "U" {
				return nil
			}
			return []any{n(o.ID), n(o.ID), n(0), n(1), n(len(o.Rows)), n(len(o.Rows)), n(1 + len(o.Rows)/100)}
		})
	}
	define(
		"sys.partitions",
		"partition_id bigint, object_id int, index_id int, partition_number int, rows bigint, row_count bigint, "+
			"reserved_page_count bigint",
		"",
		true,
		partitions,
	)
	define(
		"sys.dm_db_partition_stats",
		"partition_id bigint, object_id int, index_id int, partition_number int, rows bigint, row_count bigint, "+
			"reserved_page_count bigint",
		"VIEW DATABASE STATE",
		true,
		partitions,
	)
	define(
		"sys.filegroups",
		"name sysname, data_space_id int, type char(2), is_default bit, is_read_only bit",
		"",
		true,
		func(x *exec, d *Database, _ []any) [][]any {
			var out [][]any
			for i, g := range d.Groups {
				out = append(out, []any{g, n(i + 1), "FG", i == 0, false})
			}
			return out
		},
	)
	define(
		"sys.extended_properties",
		"class tinyint, class_desc nvarchar(60), major_id int, minor_id int, name sysname, value sql_variant",
		"",
		true,
		func(x *exec, d *Database, _ []any) [][]any {
			return rowsOf(
				d.Props,
				func(p *Prop) []any { return []any{n(p.Class), "DATABASE", n(p.Major), n(p.Minor), p.Name, p.Value} },
			)
		},
	)
	define(
		"sys.dm_db_file_space_usage",
		"database_id smallint, file_id smallint, total_page_count bigint, allocated_extent_page_count bigint, "+
			"unallocated_extent_page_count bigint",
		"VIEW DATABASE STATE",
		true,
		func(x *exec, d *Database, _ []any) [][]any {
			return rowsOf(d.Files, func(f *File) []any {
				if f.Log {
					return nil
				}
				return []any{n(d.ID), n(f.ID), f.Size / 8192, f.Used / 8192, (f.Size - f.Used) / 8192}
			})
		},
	)
	define(
		"sys.dm_db_log_space_usage",
		"database_id smallint, total_log_size_in_bytes bigint, used_log_space_in_bytes bigint, "+
			"used_log_space_in_percent float",
		"VIEW SERVER STATE",
		true,
		func(x *exec, d *Database, _ []any) [][]any {
			f := d.Files[1]
			return [][]any{{n(d.ID), f.Size, f.Used, float64(f.Used) * 100 / float64(f.Size)}}
		},
	)
	define(
		"sys.configurations",
		"configuration_id int, name nvarchar(35), value sql_variant, minimum sql_variant, maximum sql_variant, "+
			"value_in_use sql_variant, description nvarchar(255), is_dynamic bit, is_advanced bit",
		"",
		false,
		func(x *exec, _ *Database, _ []any) [][]any {
			return rowsOf(slices.Sorted(maps.Keys(x.inst.config)), func(k string) []any {
				v := n(x.inst.config[k])
				return []any{n(100 + len(k)), k, v, n(0), n(32767), v, k, true, false}
			})
		},
	)
	define(
		"sys.dm_os_sys_info",
		"cpu_count int, sqlserver_start_time datetime, physical_memory_kb bigint, committed_kb bigint, ms_ticks "+
			"bigint, container_type_desc nvarchar(60)",
		"VIEW SERVER STATE",
		false,
		func(x *exec, _ *Database, _ []any) [][]any {
			return [][]any{
				{
					n(2),
					tds.RoundDateTime(x.inst.Started.UTC()),
					n(8 << 20),
					n(1 << 20),
					time.Since(x.inst.Started).Milliseconds(),
					"NONE",
				},
			}
		},
	)
	define(
		"sys.dm_os_host_info",
		"host_platform nvarchar(256), host_distribution nvarchar(256), host_release nvarchar(256)",
		"VIEW SERVER STATE",
		false,
		func(x *exec, _ *Database, _ []any) [][]any {
			return [][]any{{"Linux", "Ubuntu", "22.04"}}
		},
	)
	define(
		"sys.dm_exec_sessions",
		`session_id smallint, login_time datetime, host_name nvarchar(128), program_name nvarchar(128),
			host_process_id int, client_version int, client_interface_name nvarchar(32), security_id
			varbinary(85), login_name nvarchar(128), status nvarchar(30), context_info varbinary(128), cpu_time int,
last_request_start_time datetime, last_request_end_time datetime, reads bigint, writes bigint, logical_reads
			bigint, is_user_process bit, language nvarchar(128), transaction_isolation_level smallint,
			lock_timeout int, row_count bigint, prev_error int, original_security_id varbinary(85),
			original_login_name nvarchar(128),
database_id smallint, authenticating_database_id int, open_transaction_count int`,
		"",
		false,
		func(x *exec, _ *Database, _ []any) [][]any {
			return rowsOf(x.seenSessions(), func(s *Session) []any {
				status := "sleeping"
				if s.req != nil {
					status = "running"
				}
				var end any = tds.RoundDateTime(s.LoginTime)
				if !s.lastEnded.IsZero() {
					end = tds.RoundDateTime(s.lastEnded)
				}
				var login, sid any
				if l := s.cur.login; l != nil {
					login, sid = l.Name, l.SID
				} else if s.cur.user != nil {
					login, sid = s.cur.user.Name, s.cur.user.SID
				}
				auth := n(1)
				if s.contained != nil {
					auth = n(s.contained.ID)
				}
				began := s.lastBegan
				if began.IsZero() {
					began = s.LoginTime
				}
				if s.system {
					return []any{
						n(s.ID),
						tds.RoundDateTime(s.LoginTime),
						nil,
						nil,
						nil,
						nil,
						nil,
						[]byte{1},
						"sa",
						"background",
						nil,
						n(0),
						tds.RoundDateTime(began),
						nil,
						n(0),
						n(0),
						n(0),
						false,
						"us_english",
						n(2),
						n(-1),
						n(0),
						n(0),
						[]byte{1},
						"sa",
						n(1),
						n(1),
						n(0),
					}
				}
				return []any{
					n(s.ID),
					tds.RoundDateTime(s.LoginTime),
					orNull(s.Host),
					orNull(s.Program),
					n(int(s.PID)),
					n(7),
					orNull(s.Library),
					sid,
					login,
					status,
					nil,
					n(0),
					tds.RoundDateTime(began),
					end,
					n(0),
					n(0),
					n(0),
					true,
					"us_english",
					n(s.isolation),
					n(s.lockTimeout),
					n(int(s.rowcount)),
					n(s.lastError),
					s.originalSID,
					s.original,
					n(s.DB.ID),
					auth,
					n(s.trancount),
				}
			})
		},
	)
	define(
		"sys.dm_exec_connections",
		"session_id int, most_recent_session_id int, connect_time datetime, net_transport nvarchar(40), "+
			"protocol_type nvarchar(40), protocol_version int, endpoint_id int, encrypt_option nvarchar(40), "+
			"auth_scheme nvarchar(40), node_affinity smallint, num_reads int, num_writes int, last_read datetime, "+
			"last_write datetime, net_packet_size int, client_net_address varchar(48), client_tcp_port int, "+
			"local_net_address varchar(48), local_tcp_port int, connection_id uniqueidentifier, parent_connection_id "+
			"uniqueidentifier, most_recent_sql_handle varbinary(64)",
		"VIEW SERVER STATE",
		false,
		func(x *exec, _ *Database, _ []any) [][]any {
			return rowsOf(sorted(x.inst.sessions), func(s *Session) []any {
				if s.system {
					return nil
				}
				enc := "FALSE"
				if s.encrypted {
					enc = "TRUE"
				}
				var h any
				if s.handle != nil {
					h = s.handle
				}
				return []any{
					n(s.ID),
					n(s.ID),
					tds.RoundDateTime(s.LoginTime),
					"TCP",
					"TSQL",
					n(0x74000004),
					n(4),
					enc,
					"SQL",
					n(0),
					n(1),
					n(1),
					tds.RoundDateTime(s.LoginTime),
					tds.RoundDateTime(s.LoginTime),
					n(4096),
					s.addr,
					n(s.port),
					"127.0.0.1",
					n(s.localPort),
					s.ConnID,
					nil,
					h,
				}
			})
		},
	)
	define(
		"sys.dm_exec_requests",
		"session_id smallint, request_id int, start_time datetime, status nvarchar(30), command nvarchar(32), "+
			"sql_handle varbinary(64), statement_start_offset int, statement_end_offset int, database_id smallint, "+
			"user_id int, connection_id uniqueidentifier, blocking_session_id smallint, wait_type nvarchar(60), "+
			"wait_time int, last_wait_type nvarchar(60), wait_resource nvarchar(256), open_transaction_count int, "+
			"transaction_id bigint, percent_complete real, estimated_completion_time bigint, cpu_time int, "+
			"total_elapsed_time int, reads bigint, writes bigint, row_count bigint",
		"",
		false,
		func(x *exec, _ *Database, _ []any) [][]any {
			return rowsOf(x.seenSessions(), func(s *Session) []any {
				r := s.req
				if r == nil {
					return nil
				}
				status := "running"
				var wait any
				waited := 0
				if r.Wait != "" {
					status, wait = "suspended", r.Wait
					waited = int(time.Since(r.WaitSince).Milliseconds())
				}
				if s.rolling {
					status = "rollback"
				}
				tx := any(int64(0))
				if s.tx != nil {
					tx = s.tx.ID
				}
				var h any
				if s.handle != nil {
					h = s.handle
				}
				return []any{
					n(s.ID),
					n(0),
					tds.RoundDateTime(r.Began),
					status,
					r.Command,
					h,
					n(0),
					n(-1),
					n(r.DB),
					n(1),
					s.ConnID,
					n(r.Blocker),
					wait,
					n(waited),
					"MISCELLANEOUS",
					r.Resource,
					n(s.trancount),
					tx,
					r.Percent,
					n(0),
					n(0),
					n(int(time.Since(r.Began).Milliseconds())),
					n(0),
					n(0),
					n(0),
				}
			})
		},
	)
	define(
		"sys.dm_tran_session_transactions",
		"session_id int, transaction_id bigint, transaction_descriptor binary(8), enlist_count int, "+
			"is_user_transaction bit, is_local bit, is_enlisted bit, is_bound bit, open_transaction_count int",
		"VIEW SERVER STATE",
		false,
		func(x *exec, _ *Database, _ []any) [][]any {
			return rowsOf(sorted(x.inst.sessions), func(s *Session) []any {
				if s.tx == nil {
					return nil
				}
				return []any{n(s.ID), s.tx.ID, descriptor(s.tx.ID), n(0), true, true, false, false, n(s.trancount)}
			})
		},
	)
	define(
		"sys.dm_tran_active_transactions",
		"transaction_id bigint, name nvarchar(32), transaction_begin_time datetime, transaction_type int, "+
			"transaction_state int",
		"VIEW SERVER STATE",
		false,
		func(x *exec, _ *Database, _ []any) [][]any {
			return rowsOf(sorted(x.inst.sessions), func(s *Session) []any {
				if s.tx == nil {
					return nil
				}
				return []any{s.tx.ID, s.tx.Name, tds.RoundDateTime(s.tx.Began), n(1), n(2)}
			})
		},
	)
	define(
		"sys.dm_tran_database_transactions",
		"transaction_id bigint, database_id int, database_transaction_begin_time datetime, database_transaction_type "+
			"int, database_transaction_state int, database_transaction_log_record_count bigint, "+
			"database_transaction_log_bytes_used bigint, database_transaction_log_bytes_reserved bigint",
		"VIEW SERVER STATE",
		false,
		func(x *exec, _ *Database, _ []any) [][]any {
			var out [][]any
			for _, s := range sorted(x.inst.sessions) {
				if s.tx == nil {
					continue
				}
				ids := map[int]bool{}
				for id := range s.tx.bytes {
					ids[id] = true
				}
				for _, id := range slices.Sorted(maps.Keys(ids)) {
					state, began := 3, any(nil)
					if s.tx.bytes[id] > 0 {
						state, began = 4, tds.RoundDateTime(s.tx.Began)
					}
					out = append(
						out,
						[]any{
							s.tx.ID,
							n(id),
							began,
							n(1),
							n(state),
							s.tx.count[id],
							s.tx.bytes[id],
							s.tx.bytes[id] * 2,
						},
					)
				}
			}
			return out
		},
	)
	define(
		"sys.dm_tran_locks",
		"resource_type nvarchar(60), resource_subtype nvarchar(60), resource_database_id int, resource_description "+
			"nvarchar(256), resource_associated_entity_id bigint, request_mode nvarchar(60), request_type "+
			"nvarchar(60), request_status nvarchar(60), request_session_id int, request_owner_type nvarchar(60), "+
			"request_owner_guid uniqueidentifier",
		"VIEW SERVER STATE",
		false,
		func(x *exec, _ *Database, _ []any) [][]any {
			var out [][]any
			for _, s := range sorted(x.inst.sessions) {
				if s.system {
					continue
				}
				if s.DB.ID > 2 { // no database lock is shown for master and tempdb
					out = append(
						out,
						[]any{
							"DATABASE",
							"",
							n(s.DB.ID),
							"",
							int64(0),
							"S",
							"LOCK",
							"GRANT",
							n(s.ID),
							"SHARED_TRANSACTION_WORKSPACE",
							nil,
						},
					)
				}
				if s.tx != nil {
					for _, o := range s.tx.locked {
						out = append(
							out,
							[]any{
								"OBJECT",
								"",
								n(x.inst.dbOf(o)),
								"",
								n(o.ID),
								"X",
								"LOCK",
								"GRANT",
								n(s.ID),
								"TRANSACTION",
								nil,
							},
						)
					}
				}
			}
			return out
		},
	)
	define(
		"sys.dm_exec_sql_text",
		"dbid smallint, objectid int, number smallint, encrypted bit, text nvarchar(max)",
		"VIEW SERVER STATE",
		false,
		func(x *exec, _ *Database, a []any) [][]any {
			h, _ := a[0].([]byte)
			for _, s := range x.inst.sessions {
				if h != nil && bytes.Equal(s.handle, h) {
					return [][]any{{n(s.DB.ID), nil, nil, false, s.lastText}}
				}
			}
			return nil
		},
	)
	views["sys.dm_exec_sql_text"].args = 1
	define(
		"sys.dm_exec_input_buffer",
		"event_type nvarchar(256), parameters smallint, event_info nvarchar(max)",
		"",
		false,
		func(x *exec, _ *Database, a []any) [][]any {
			s := x.inst.sessions[int(num(a[0]))]
			if s == nil || s != x.s && !x.seesState() {
				return nil
			}
			return [][]any{{"Language Event", n(0), s.lastText}}
		},
	)
	views["sys.dm_exec_input_buffer"].args = 2
	define(
		"sys.dm_os_volume_stats",
		"database_id int, file_id int, volume_mount_point nvarchar(512), total_bytes bigint, available_bytes bigint",
		"VIEW SERVER STATE",
		false,
		func(x *exec, _ *Database, a []any) [][]any {
			used := int64(0)
			for _, d := range x.inst.dbs {
				for _, f := range d.Files {
					used += f.Size
				}
			}
			return [][]any{{a[0], a[1], "/", n(diskBytes), max(0, diskBytes-used)}}
		},
	)
	views["sys.dm_os_volume_stats"].args = 2
	define(
		"sys.fn_helpcollations",
		"name sysname, description nvarchar(1000)",
		"",
		false,
		func(x *exec, _ *Database, _ []any) [][]any {
			return rowsOf(collations, func(c string) []any { return []any{c, describeCollation(c)} })
		},
	)
	views["sys.fn_helpcollations"].args = 0
	define(
		"sys.fn_my_permissions",
		"entity_name sysname, subentity_name sysname, permission_name nvarchar(60)",
		"",
		false,
		func(x *exec, _ *Database, a []any) [][]any {
			class := strings.ToUpper(text(a[1]))
			list := map[string][]string{"SERVER": serverPerms, "DATABASE": dbPerms, "SCHEMA": schemaPerms,
				"OBJECT": objectPerms}[class]
			name := any(strings.ToLower(class))
			if class == "SCHEMA" || class == "OBJECT" {
				name = a[0]
			}
			return rowsOf(list, func(p string) []any {
				if v, _ := x.hasPerms([]any{a[0], a[1], p}).(int64); v == 1 {
					return []any{name, "", p}
				}
				return nil
			})
		},
	)
	views["sys.fn_my_permissions"].args = 2
	define(
		"sys.endpoints",
		"name sysname, endpoint_id int, principal_id int, protocol_desc nvarchar(60), type_desc nvarchar(60), "+
			"state_desc nvarchar(60)",
		"",
		false,
		func(x *exec, _ *Database, _ []any) [][]any {
			return [][]any{
				{"Dedicated Admin Connection", n(1), n(1), "TCP", "TSQL", "STARTED"},
				{"TSQL Default TCP", n(4), n(1), "TCP", "TSQL", "STARTED"},
			}
		},
	)
	define(
		"sys.servers",
		"server_id int, name sysname, product sysname, provider sysname, data_source nvarchar(4000), is_linked bit",
		"",
		false,
		func(x *exec, _ *Database, _ []any) [][]any {
			return [][]any{{n(0), x.inst.serverName(), "SQL Server", "SQLNCLI", x.inst.serverName(), false}}
		},
	)
	define(
		"sys.database_mirroring",
		"database_id int, mirroring_guid uniqueidentifier, mirroring_state tinyint, mirroring_state_desc "+
			"nvarchar(60), mirroring_role_desc nvarchar(60)",
		"",
		false,
		func(x *exec, _ *Database, _ []any) [][]any {
			return rowsOf(sorted(x.inst.dbs), func(d *Database) []any {
				if d.Mirrored {
					return []any{n(d.ID), d.BrokerGUID, n(4), "SYNCHRONIZED", "PRINCIPAL"}
				}
				return []any{n(d.ID), nil, nil, nil, nil}
			})
		},
	)
	define(
		"sys.dm_hadr_database_replica_states",
		"database_id int, group_id uniqueidentifier, replica_id uniqueidentifier, is_local bit, is_primary_replica "+
			"bit, synchronization_state_desc nvarchar(60)",
		"VIEW SERVER STATE",
		false,
		func(x *exec, _ *Database, _ []any) [][]any {
			return rowsOf(sorted(x.inst.dbs), func(d *Database) []any {
				if d.Group == "" {
					return nil
				}
				return []any{n(d.ID), d.BrokerGUID, d.BrokerGUID, true, true, "SYNCHRONIZED"}
			})
		},
	)
	define("msdb.dbo.log_shipping_primary_databases", "primary_database sysname", "", false,
		func(x *exec, _ *Database, _ []any) [][]any {
			return rowsOf(sorted(x.inst.dbs), func(d *Database) []any {
				if !d.Shipped {
					return nil
				}
				return []any{d.Name}
			})
		})
	define("msdb.dbo.log_shipping_secondary_databases", "secondary_database sysname", "", false,
		func(*exec, *Database, []any) [][]any { return nil })
	define(
		"msdb.dbo.sysjobs",
		"job_id uniqueidentifier, name sysname, enabled tinyint, owner_sid varbinary(85)",
		"",
		false,
		func(x *exec, _ *Database, _ []any) [][]any {
			return rowsOf(x.inst.jobs, func(j *Job) []any {
				return []any{j.ID, j.Name, map[bool]any{true: n(1), false: n(0)}[j.Enabled], j.Owner}
			})
		},
	)
	define(
		"msdb.dbo.sysjobsteps",
		"job_id uniqueidentifier, step_id int, step_name sysname, subsystem nvarchar(40), command nvarchar(max), "+
			"database_name sysname",
		"",
		false,
		func(x *exec, _ *Database, _ []any) [][]any {
			return rowsOf(
				x.inst.jobs,
				func(j *Job) []any { return []any{j.ID, n(1), "1", "TSQL", j.Command, j.Database} },
			)
		},
	)
	define(
		"msdb.dbo.backupset",
		"backup_set_id int, database_name nvarchar(128), backup_finish_date datetime, type char(1)",
		"",
		false,
		func(x *exec, _ *Database, _ []any) [][]any {
			return rowsOf(
				x.inst.backups,
				func(b backup) []any { return []any{n(1), b.DB, tds.RoundDateTime(b.Finished), "D"} },
			)
		},
	)
}

func descriptor(id int64) []byte { return binary.LittleEndian.AppendUint64(nil, uint64(id)) }

func handleOf(text string) []byte {
	h := sha256.Sum256([]byte(text))
	return append([]byte{2, 0, 0, 0}, append(h[:20], make([]byte, 20)...)...)
}

func (i *Instance) dbOf(o *Object) int {
	for _, d := range i.dbs {
		if d.Objects[o.ID] == o {
			return d.ID
		}
	}
	return 0
}

// visibleLogins: an ordinary login sees itself, sa, the roles.
func (x *exec) visibleLogins() []*Principal {
	all := x.inst.serverHas(x.s.cur, "ALTER ANY LOGIN") || x.inst.serverHas(x.s.cur, "VIEW ANY DEFINITION")
	var out []*Principal
	for _, p := range sorted(x.inst.principals) {
		if all || p.Type == "R" || p.ID == 1 || p == x.s.cur.login {
			out = append(out, p)
		}
	}
	return out
}

// seenSessions: without VIEW SERVER STATE, one's own.
func (x *exec) seenSessions() []*Session {
	if x.seesState() {
		return sorted(x.inst.sessions)
	}
	return []*Session{x.s}
}

var collations = strings.Fields(
	`SQL_Latin1_General_CP1_CI_AS SQL_Latin1_General_CP1_CS_AS Latin1_General_CI_AS Latin1_General_CS_AS
			Latin1_General_BIN Latin1_General_BIN2 Latin1_General_100_CI_AS
Latin1_General_100_CI_AS_SC Latin1_General_100_CI_AS_SC_UTF8 Latin1_General_100_CS_AS_SC_UTF8
			Latin1_General_100_BIN2_UTF8 Finnish_Swedish_CI_AS German_PhoneBook_CI_AS French_CI_AS
			Japanese_CI_AS Modern_Spanish_CI_AS Turkish_CI_AS`,
)

func collationKnown(name string) bool {
	return slices.ContainsFunc(collations, func(c string) bool { return strings.EqualFold(c, name) })
}

func describeCollation(c string) string {
	d := strings.Split(c, "_")[0]
	if strings.Contains(c, "_BIN") {
		return d + ", binary sort"
	}
	if strings.Contains(c, "_CS") {
		return d + ", case-sensitive, accent-sensitive, kanatype-insensitive, width-insensitive"
	}
	return d + ", case-insensitive, accent-sensitive, kanatype-insensitive, width-insensitive"
}

// bindNamed finds a view, function or table.
//
// Long: a list of views with their columns.
func (x *exec) bindNamed(t tsql.Named, parent *scope) source {
	full := strings.ToLower(strings.Join(t.Parts, "."))
	alias := t.Alias
	if alias == "" {
		alias = t.Parts[len(t.Parts)-1]
	}
	d := x.s.DB
	key := full
	if len(t.Parts) == 3 && strings.EqualFold(t.Parts[1], "sys") {
		d = x.inst.db(t.Parts[0])
		if d == nil {
			fail(208, 16, 1, "Invalid object name '%s'.", strings.Join(t.Parts, "."))
		}
		key = "sys." + strings.ToLower(t.Parts[2])
	} else if len(t.Parts) == 2 && x.s.DB.Name == "msdb" && views["msdb."+full] != nil {
		key = "msdb." + full
	} else if t.Args != nil && len(t.Parts) == 1 && strings.HasPrefix(full, "fn_") {
		key = "sys." + full // fn_my_permissions is found without its schema
	}
	v := views[key]
	if v == nil {
		return x.bindUserTable(t, alias)
	}
	if v.args > 0 != (len(t.Args) > 0) {
		fail(216, 16, 1, "Parameters were not supplied for the function '%s'.", full)
	}
	if d != x.s.DB {
		x.mustEnter(d)
	}
	var args []bound
	for _, a := range t.Args {
		args = append(args, x.bind(a, parent))
	}
	out := source{}
	for _, c := range v.cols {
		out.cols = append(out.cols, column{alias, c.Name, c.Type})
	}
	out.rows = func(e *env) [][]any {
		if strings.HasPrefix(v.perm, "VIEW SERVER") && !x.seesState() {
			failAlso(
				&Problem{
					Number: 297,
					Class:  16,
					State:  1,
					Text:   "The user does not have permission to perform this action.",
				},
				300,
				14,
				1,
				"%s permission was denied on object 'server', database 'master'.",
				v.perm,
			)
		}
		if v.perm == "VIEW DATABASE STATE" && !x.inst.dbHas(x.s.cur, d, v.perm, 0, 0, 0) {
			failAlso(
				&Problem{
					Number: 297,
					Class:  16,
					State:  1,
					Text:   "The user does not have permission to perform this action.",
				},
				262,
				14,
				1,
				"%s permission denied in database '%s'.",
				v.perm,
				d.Name,
			)
		}
		vals := make([]any, len(args))
		for k, a := range args {
			vals[k] = a.f(e)
		}
		return v.rows(x, d, vals)
	}
	return out
}

// mustEnter fails unless the database is there to be used.
func (x *exec) mustEnter(d *Database) {
	u := x.inst.userOf(x.s.cur, d)
	switch {
	case d.State == "OFFLINE":
		fail(942, 14, 4, "Database '%s' cannot be opened because it is offline.", d.Name)
	case d.State == "RESTORING":
		fail(927, 14, 2, "Database '%s' cannot be opened. It is in the middle of a restore.", d.Name)
	case d.exclusive != nil && d.exclusive != x.s:
		fail(952, 16, 1, "Database '%s' is in transition. Try the statement later.", d.Name)
	case u == nil, !x.inst.mayEnter(x.s.cur, d):
		name := text(x.loginName())
		fail(
			916,
			14,
			2,
			"The server principal \"%s\" is not able to access the database \"%s\" under the current security context.",
			name,
			d.Name,
		)
	case d.Access == "SINGLE_USER" && x.s.DB != d:
		for _, s := range x.inst.sessions {
			if s != x.s && s.DB == d {
				fail(924, 14, 1, "Database '%s' is already open and can only have one user at a time.", d.Name)
			}
		}
	}
}

func (x *exec) bindUserTable(t tsql.Named, alias string) source {
	d, o := x.table(t.Parts)
	out := source{}
	for _, c := range o.Cols {
		out.cols = append(out.cols, column{alias, c.Name, c.T})
	}
	dirty := slices.Contains(t.Hints, "NOLOCK") || slices.Contains(t.Hints, "READUNCOMMITTED") || x.s.isolation == 1 ||
		d.RCSI
	out.rows = func(*env) [][]any {
		x.allow(d, o, "SELECT")
		if !dirty {
			x.waitTable(d, o)
		}
		rows := make([][]any, len(o.Rows))
		copy(rows, o.Rows)
		return rows
	}
	return out
}

// table finds a user's table, or fails as the server does.
func (x *exec) table(parts []string) (*Database, *Object) {
	d, schema := x.s.DB, "dbo"
	name := parts[len(parts)-1]
	if len(parts) >= 2 && parts[len(parts)-2] != "" {
		schema = parts[len(parts)-2]
	}
	if len(parts) == 3 {
		if d = x.inst.db(parts[0]); d != nil && d != x.s.DB {
			x.mustEnter(d)
		}
	}
	if d != nil {
		if s := d.schema(x.inst, schema); s != nil {
			if o := d.object(x.inst, s.ID, name); o != nil {
				return d, o
			}
		}
	}
	fail(208, 16, 1, "Invalid object name '%s'.", strings.Join(parts, "."))
	return nil, nil
}

func (x *exec) allow(d *Database, o *Object, perm string) {
	if !x.inst.dbHas(x.s.cur, d, perm, 1, o.ID, 0) {
		fail(
			229,
			14,
			5,
			"The %s permission was denied on the object '%s', database '%s', schema '%s'.",
			perm,
			o.Name,
			d.Name,
			d.Schemas[o.Schema].Name,
		)
	}
}

func (x *exec) waitTable(d *Database, o *Object) {
	limit := time.Duration(-1)
	if x.s.lockTimeout >= 0 {
		limit = time.Duration(x.s.lockTimeout) * time.Millisecond
	}
	free := func() bool { return o.writer == nil || o.writer == x.s }
	blocker := func() int {
		if o.writer != nil {
			return o.writer.ID
		}
		return 0
	}
	if !x.s.wait("LCK_M_S", fmt.Sprintf("OBJECT: %d:%d:0", d.ID, o.ID), blocker, limit, free) {
		fail(1222, 16, 51, "Lock request time out period exceeded.")
	}
}
