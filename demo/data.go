package demo

import (
	"context"
	"database/sql"
	"fmt"
	"slices"
	"strings"

	_ "github.com/go-sql-driver/mysql" // the MariaDB driver of database/sql
	"github.com/jackc/pgx/v5"

	"example.com/genarch/localdb"
)

// demoDatabase is one database of the company.
type demoDatabase struct {
	name, owner, comment string
	tables               map[string]int // name and rows
}

var passenger = []demoDatabase{
	{"sailings", "sailings_owner", "timetable, ships and crossings",
		map[string]int{"crossings": 6200, "ships": 14, "routes": 22}},
	{"tickets", "tickets_owner", "bookings and fares", map[string]int{"bookings": 9400, "fares": 310, "refunds": 480}},
	{"crew_rota", "crew_owner", "who sails when", map[string]int{"shifts": 3900, "crew": 260}},
	{"manifests", "sailings_owner", "who is on board, kept 30 days",
		map[string]int{"passengers": 8100, "vehicles": 2700}},
	{"ledger", "ledger_owner", "daily takings", map[string]int{"takings": 5200}},
}

var freight = []demoDatabase{
	{"boarding", "boarding_app", "gates and scans", map[string]int{"scans": 7000, "gates": 12}},
	{"cargo", "cargo_app", "bookings of trailers", map[string]int{"trailers": 2100, "bookings": 4300}},
	{"harbour_dues", "dues_app", "what each port charges", map[string]int{"dues": 900}},
	{"loyalty", "loyalty_app", "points of regular guests", map[string]int{"members": 5200, "points": 7700}},
	{"harbour-dues", "dues_app", "copy of spring, named with a hyphen by mistake", nil},
}

// asideDatabases are set aside by Genarch when the demo is new, and kept for so many days.
var asideDatabases = map[string]struct {
	demoDatabase
	days int
}{
	"harbour": {demoDatabase{"regatta", "tickets_owner", "tickets of the regatta, over since September",
		map[string]int{"entries": 640, "berths": 48}}, 1},
	"slipway": {demoDatabase{"fares_draft", "tickets_owner", "first draft of the new fares",
		map[string]int{"fares": 280}}, 7},
}

var demoDatabases = map[string][]demoDatabase{
	"harbour": passenger,
	"slipway": {passenger[0], passenger[1],
		{"berths", "sailings_owner", "trial of the new berth planner", map[string]int{"berths": 40, "slots": 1500}},
		{"fares_trial", "tickets_owner", "", nil}},
	"quay": freight,
	"drydock": {freight[0], freight[1],
		{"tides", "tides_app", "tide tables of all ports", map[string]int{"tides": 3650}},
		{"sandbox", "tides_app", "", nil}},
	"jetty":   web,
	"customs": clearing,
}

// seed fills a server that has none of the company's databases yet.
func seed(ctx context.Context, b demoServer, s *localdb.Server) error {
	switch b.engine {
	case "mariadb":
		return seedMariaDB(ctx, b, s)
	case "mysql":
		return seedMySQL(ctx, b, s)
	case "sqlserver":
		return seedSQLServer(ctx, b, s)
	}
	return seedPostgres(ctx, b, s)
}

func seedPostgres(ctx context.Context, b demoServer, s *localdb.Server) error {
	conn, err := pgx.Connect(ctx, s.DSN("postgres"))
	if err != nil {
		return err
	}
	defer conn.Close(ctx)
	var there int
	if err := conn.QueryRow(ctx, "SELECT count(*) FROM pg_database WHERE datname = 'ferry_base'").
		Scan(&there); err != nil || there > 0 {
		return err
	}
	for _, owner := range []string{"sailings_owner", "tickets_owner", "crew_owner", "ledger_owner"} {
		if _, err := conn.Exec(ctx, "CREATE ROLE "+owner+" NOLOGIN"); err != nil {
			return err
		}
	}
	if err := makeRoles(ctx, conn, s); err != nil {
		return err
	}
	all := slices.Clone(demoDatabases[b.name])
	if x, any := asideDatabases[b.name]; any {
		all = append(all, x.demoDatabase)
	}
	for _, h := range all {
		if err := makePostgres(ctx, conn, s, h, h.name+b.suffix); err != nil {
			return err
		}
	}
	// The template comes last: its presence says that the rest is whole.
	base := demoDatabase{"ferry_base", "sailings_owner", "template: calendar, ports and vessel types",
		map[string]int{"calendar": 1461, "ports": 9, "vessel_types": 5}}
	if err := makePostgres(ctx, conn, s, base, base.name+"_new"); err != nil {
		return err
	}
	_, err = conn.Exec(ctx, "ALTER DATABASE ferry_base_new RENAME TO ferry_base")
	if err == nil {
		_, err = conn.Exec(ctx, "ALTER DATABASE ferry_base IS_TEMPLATE true")
	}
	return err
}

func makePostgres(ctx context.Context, admin *pgx.Conn, s *localdb.Server, h demoDatabase, name string) error {
	if _, err := admin.Exec(ctx, "DROP DATABASE IF EXISTS "+name); err != nil {
		return err
	}
	if _, err := admin.Exec(ctx, "CREATE DATABASE "+name+" OWNER "+h.owner); err != nil {
		return err
	}
	if _, err := admin.Exec(ctx, "COMMENT ON DATABASE "+name+" IS '"+h.comment+"'"); err != nil {
		return err
	}
	conn, err := pgx.Connect(ctx, s.DSN(name))
	if err != nil {
		return err
	}
	defer conn.Close(ctx)
	for table, rows := range h.tables {
		_, err := conn.Exec(ctx, fmt.Sprintf(`SET ROLE %[3]s;
			CREATE TABLE %[1]s (id bigint PRIMARY KEY, code text NOT NULL, noted timestamptz NOT NULL, detail text);
			INSERT INTO %[1]s SELECT i, 'OL-' || lpad(i::text, 6, '0'), now() - i * interval '7 minutes', repeat(md5(i::text), 3) FROM generate_series(1, %[2]d) i;
			CREATE INDEX ON %[1]s (noted); RESET ROLE`, table, rows, h.owner), pgx.QueryExecModeSimpleProtocol)
		if err != nil {
			return err
		}
	}
	return openPostgres(ctx, conn, h)
}

// seedMariaDB: Long: a list of statements.
func seedMariaDB(ctx context.Context, b demoServer, s *localdb.Server) error {
	db, err := sql.Open("mysql", s.DSN("")+"?multiStatements=true")
	if err != nil {
		return err
	}
	defer db.Close()
	var there int
	if err := db.QueryRowContext(ctx, "SELECT COUNT(*) FROM mysql.global_priv WHERE User = 'parking_app'").
		Scan(&there); err != nil || there > 0 {
		return err
	}
	for _, h := range demoDatabases[b.name] {
		name := h.name + b.suffix
		pattern := strings.ReplaceAll(name, "_", `\_`)
		_, err := db.ExecContext(
			ctx,
			fmt.Sprintf(
				"DROP DATABASE IF EXISTS `%[1]s`; CREATE DATABASE `%[1]s` CHARACTER SET utf8mb4 COLLATE utf8mb4_unicode_ci COMMENT '%[2]s';"+
					"CREATE USER IF NOT EXISTS '%[3]s'@'127.0.0.1' IDENTIFIED BY '%[5]s'; GRANT ALL PRIVILEGES ON `%[4]s`.* TO '%[3]s'@'127.0.0.1'",
				name,
				h.comment,
				h.owner,
				pattern,
				s.Password.Reveal(),
			),
		)
		if err != nil {
			return err
		}
		for table, rows := range h.tables {
			_, err := db.ExecContext(
				ctx,
				fmt.Sprintf(
					"CREATE TABLE `%[1]s`.%[2]s (id BIGINT PRIMARY KEY, code VARCHAR(20) NOT NULL, noted DATETIME NOT NULL, detail TEXT, KEY (noted));"+
						"INSERT INTO `%[1]s`.%[2]s SELECT seq, CONCAT('OL-', LPAD(seq, 6, '0')), NOW() - INTERVAL seq*7 MINUTE, REPEAT(MD5(seq), 3) FROM `%[1]s`.seq_1_to_%[3]d",
					name,
					table,
					rows,
				),
			)
			if err != nil {
				return err
			}
		}
	}
	// A database that was dropped long ago; its account and grants are still
	// there, as the engine leaves them. It comes last: then the rest is whole.
	if err := makeTraps(ctx, db, b, s); err != nil {
		return err
	}
	_, err = db.ExecContext(
		ctx,
		fmt.Sprintf(
			"GRANT SELECT, INSERT ON `parking\\%s`.* TO 'cargo_app'@'127.0.0.1'; CREATE USER IF NOT EXISTS 'parking_app'@'127.0.0.1' IDENTIFIED BY '%s'; GRANT SELECT, INSERT, UPDATE ON `parking\\%s`.* TO 'parking_app'@'127.0.0.1'",
			b.suffix,
			s.Password.Reveal(),
			b.suffix,
		),
	)
	return err
}
