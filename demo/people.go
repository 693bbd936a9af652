package demo

import (
	"context"
	"database/sql"
	"fmt"
	"strings"

	"github.com/jackc/pgx/v5"

	"example.com/genarch/localdb"
)

// makeRoles makes the accounts and roles of a PostgreSQL server. The passwords of
// those that the traffic uses are made for each demo and known to nobody else.
// Two of them deserve a look: a kiosk without a password, and a clerk who may
// make himself anybody.
func makeRoles(ctx context.Context, conn *pgx.Conn, s *localdb.Server) error {
	password := " LOGIN PASSWORD '" + s.Password.Reveal() + "'"
	for _, text := range []string{
		"CREATE ROLE crew_desk NOLOGIN", "CREATE ROLE duty_officers NOLOGIN", "CREATE ROLE auditors NOLOGIN",
		"COMMENT ON ROLE crew_desk IS 'reads the rota'",
		"COMMENT ON ROLE duty_officers IS 'alters the rota; belongs to crew_desk'",
		"CREATE ROLE sailings_app" + password, "CREATE ROLE tickets_app" + password + " CONNECTION LIMIT 40",
		"CREATE ROLE fares_report" + password,
		"CREATE ROLE nightly_ledger" + password + " CONNECTION LIMIT 3", "CREATE ROLE mate_ines" + password,
		"CREATE ROLE mate_tomas" + password + " VALID UNTIL '2026-09-30'",
		"CREATE ROLE purser_lea" + password, "CREATE ROLE clerk_odo CREATEROLE" + password,
		"CREATE ROLE old_kiosk LOGIN",
		"COMMENT ON ROLE old_kiosk IS 'timetable screens on pier 2'",
		"GRANT crew_desk TO duty_officers", "GRANT crew_desk TO mate_tomas", "GRANT duty_officers TO mate_ines",
		"GRANT tickets_owner TO purser_lea", "GRANT auditors TO nightly_ledger", "GRANT pg_monitor TO auditors",
	} {
		if _, err := conn.Exec(ctx, text); err != nil {
			return fmt.Errorf("%s: %w", strings.ReplaceAll(text, s.Password.Reveal(), "…"), err)
		}
	}
	return nil
}

// use is what somebody may do in a database of the company.
type use struct{ who, tables string }

var uses = map[string][]use{
	"sailings": {{"sailings_app", "SELECT, INSERT, UPDATE, DELETE"}, {"fares_report", "SELECT"},
		{"old_kiosk", "SELECT"}},
	"tickets": {{"tickets_app", "SELECT, INSERT, UPDATE, DELETE"}, {"fares_report", "SELECT"},
		{"auditors", "SELECT"}},
	"crew_rota":   {{"crew_desk", "SELECT"}, {"duty_officers", "SELECT, INSERT, UPDATE, DELETE"}},
	"manifests":   {{"sailings_app", "SELECT, INSERT, UPDATE, DELETE"}},
	"ledger":      {{"nightly_ledger", "SELECT, INSERT"}, {"auditors", "SELECT"}},
	"berths":      {{"sailings_app", "SELECT, INSERT, UPDATE, DELETE"}},
	"fares_trial": {{"fares_report", "SELECT"}},
}

// openPostgres gives what uses says, on what is there and what the owner will
// make, and takes from everybody what the engine gives to everybody, except on
// the databases that nobody has got round to yet.
func openPostgres(ctx context.Context, conn *pgx.Conn, h demoDatabase) error {
	var texts []string
	var database string
	if err := conn.QueryRow(ctx, "SELECT current_database()").Scan(&database); err != nil {
		return err
	}
	if h.name == "tickets" || h.name == "crew_rota" || h.name == "ledger" {
		texts = append(texts, "REVOKE CONNECT, TEMPORARY ON DATABASE "+database+" FROM PUBLIC")
	}
	for _, u := range uses[h.name] {
		sequences, temporary := "SELECT", ""
		if strings.Contains(u.tables, "DELETE") {
			sequences, temporary = "USAGE, SELECT", ", TEMPORARY"
		}
		texts = append(texts, "GRANT CONNECT"+temporary+" ON DATABASE "+database+" TO "+u.who,
			"GRANT USAGE ON SCHEMA public TO "+u.who,
			"GRANT "+u.tables+" ON ALL TABLES IN SCHEMA public TO "+u.who,
			"ALTER DEFAULT PRIVILEGES FOR ROLE "+h.owner+" GRANT "+u.tables+" ON TABLES TO "+u.who,
			"ALTER DEFAULT PRIVILEGES FOR ROLE "+h.owner+" GRANT "+sequences+" ON SEQUENCES TO "+u.who)
	}
	for _, text := range texts {
		if _, err := conn.Exec(ctx, text); err != nil {
			return fmt.Errorf("%s: %w", text, err)
		}
	}
	return nil
}

// makeTraps makes what deserves a look on a MariaDB server: a grant whose _ is a
// wildcard, an account that shadows another, a anonymous account, a role that is
// nobody's default.
func makeTraps(ctx context.Context, db *sql.DB, b demoServer, s *localdb.Server) error {
	password := " IDENTIFIED BY '" + s.Password.Reveal() + "'"
	dues, boarding := "`harbour_dues"+b.suffix+"`.*", "`boarding\\"+b.suffix+"`.*"
	if b.name == "drydock" {
		if _, err := db.ExecContext(ctx, "CREATE USER IF NOT EXISTS ''@'pier2.ossavik.example'"); err != nil {
			return err
		}
	}
	for _, text := range []string{
		"CREATE USER IF NOT EXISTS 'freight_report'@'10.20.%'" + password,
		"GRANT SELECT, SHOW VIEW ON " + dues + " TO 'freight_report'@'10.20.%'",
		"CREATE USER IF NOT EXISTS 'boarding_app'@'%'" + password,
		"GRANT SELECT, SHOW VIEW ON " + boarding + " TO 'boarding_app'@'%'",
		"CREATE ROLE IF NOT EXISTS gate_crew",
		"GRANT SELECT, INSERT, UPDATE, DELETE, EXECUTE, SHOW VIEW, CREATE TEMPORARY TABLES, LOCK TABLES ON " +
			boarding + " TO gate_crew",
		"CREATE USER IF NOT EXISTS 'gate_lead'@'10.20.4.%'" + password, "GRANT gate_crew TO 'gate_lead'@'10.20.4.%'",
		"CREATE USER IF NOT EXISTS 'gate_hand'@'10.20.4.%'" + password, "GRANT gate_crew TO 'gate_hand'@'10.20.4.%'",
		"SET DEFAULT ROLE gate_crew FOR 'gate_hand'@'10.20.4.%'",
	} {
		if _, err := db.ExecContext(ctx, text); err != nil {
			return fmt.Errorf("%s: %w", strings.ReplaceAll(text, s.Password.Reveal(), "…"), err)
		}
	}
	return nil
}
