package demo

import (
	"context"
	"database/sql"
	"io"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"example.com/genarch/localdb"
)

// again is how soon a client of the demo comes back after its session ended.
const again = 800 * time.Millisecond

// startTraffic keeps real sessions open on the production servers, so that every
// class of them can be looked at within a minute: a pool, a report that runs
// long, a backup, somebody idle in a transaction that has written and somebody
// who waits for that, and a nightly job that is always back within a second.
func (l *Demo) startTraffic(ctx context.Context) {
	harbour, quay, jetty, customs := l.servers["harbour"], l.servers["quay"], l.servers["jetty"], l.servers["customs"]
	for range 6 {
		l.postgres(ctx, harbour, "tickets_prod", "tickets_app", "booking-desk", 3*time.Second,
			"SELECT count(*) FROM bookings WHERE noted > now() - interval '1 day'")
	}
	l.postgres(ctx, harbour, "tickets_prod", "fares_report", "fares-report", 15*time.Second,
		"SELECT count(*) FROM bookings a, fares b, pg_sleep(45)")
	l.postgres(ctx, harbour, "manifests_prod", "sailings_app", "boarding-gate", time.Hour, "BEGIN",
		"UPDATE vehicles SET detail = 'checked in' WHERE id = 7")
	l.postgres(ctx, harbour, "manifests_prod", "sailings_app", "manifest-print", time.Hour, "SELECT pg_sleep(2)",
		"UPDATE vehicles SET detail = 'printed' WHERE id = 7")
	l.postgres(ctx, harbour, "crew_rota_prod", "mate_ines", "rota-planner", time.Hour, "BEGIN",
		"SELECT count(*) FROM shifts")
	l.postgres(ctx, harbour, "ledger_prod", "nightly_ledger", "nightly-ledger", time.Second,
		"SELECT count(*) FROM takings")
	l.backup(ctx, harbour, "sailings_prod")
	for range 3 {
		l.mariadb(ctx, quay, "boarding_prod", "boarding_app", "gate-scanner", 3*time.Second,
			"SELECT COUNT(*) FROM scans")
	}
	l.mariadb(ctx, quay, "cargo_prod", "cargo_app", "trailer-desk", 5*time.Second, "SELECT COUNT(*) FROM trailers")
	l.mariadb(ctx, quay, "loyalty_prod", "loyalty_app", "points-import", time.Hour, "BEGIN",
		"UPDATE points SET detail = 'imported' WHERE id < 400")
	l.mariadb(ctx, quay, "loyalty_prod", "loyalty_app", "points-desk", time.Hour, "SELECT SLEEP(2)",
		"UPDATE points SET detail = 'spent' WHERE id = 7")
	l.mariadb(ctx, quay, "harbour_dues_prod", "dues_app", "dues-report", 10*time.Second,
		"SELECT COUNT(*), SLEEP(30) FROM dues a")
	for range 2 {
		l.mariadb(ctx, jetty, "webshop_prod", "webshop_app", "webshop", 3*time.Second, "SELECT COUNT(*) FROM orders")
	}
	l.mariadb(ctx, jetty, "newsletter_prod", "newsletter_app", "mailer", time.Hour, "BEGIN",
		"UPDATE letters SET detail = 'sent' WHERE id < 10")
	for range 2 {
		l.sqlserver(ctx, customs, "clearance_prod", "clearance_app", "clearance-desk", 3*time.Second,
			"SELECT COUNT(*) FROM dbo.declarations")
	}
	l.sqlserver(ctx, customs, "clearance_prod", "clearance_app", "seal-scanner", time.Hour, "BEGIN TRANSACTION",
		"INSERT dbo.seals VALUES (9001, N'OL-009001', N'scanned')")
	l.sqlserver(ctx, customs, "tariffs_prod", "tariffs_app", "tariff-report", 5*time.Second, "WAITFOR DELAY '00:00:40'")
	l.sqlserver(ctx, customs, "tariffs_prod", "nightly_tariffs", jobProgram(ctx, customs, tariffJob), time.Second,
		"SELECT COUNT(*) FROM dbo.codes")
}

// postgres keeps one session that repeats statements with a pause.
func (l *Demo) postgres(ctx context.Context, s *localdb.Server, database, account, program string, pause time.Duration,
	statements ...string) {
	l.session(ctx, s, database, account, program, func(conn *pgx.Conn) bool {
		for _, text := range statements {
			if _, err := conn.Exec(ctx, text, pgx.QueryExecModeSimpleProtocol); err != nil {
				return false
			}
		}
		return rest(ctx, pause)
	})
}

// backup keeps something running that looks to the server as a dump does: a long
// snapshot from which one table after the other is copied out.
func (l *Demo) backup(ctx context.Context, s *localdb.Server, database string) {
	l.session(ctx, s, database, s.Admin, "pg_dump", func(conn *pgx.Conn) bool {
		if _, err := conn.Exec(ctx, "BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY"); err != nil {
			return false
		}
		for _, table := range []string{"crossings", "ships", "routes"} {
			if _, err := conn.PgConn().CopyTo(ctx, io.Discard,
				"COPY (SELECT t.*, pg_sleep(0.02) FROM "+table+" t) TO STDOUT"); err != nil {
				return false
			}
		}
		_, err := conn.Exec(ctx, "COMMIT")
		return err == nil && rest(ctx, 5*time.Second)
	})
}

// session keeps one connection: it works until work says no more, and comes back
// a moment later.
func (l *Demo) session(ctx context.Context, s *localdb.Server, database, account, program string,
	work func(*pgx.Conn) bool) {
	l.traffic.Go(func() {
		for ctx.Err() == nil {
			url := strings.Replace(s.DSN(database), s.Admin+":", account+":", 1) + "&application_name=" + program
			conn, err := pgx.Connect(ctx, url)
			for err == nil && work(conn) {
			}
			if conn != nil {
				end, cancel := context.WithTimeout(context.WithoutCancel(ctx), time.Second)
				conn.Close(end)
				cancel()
			}
			rest(ctx, again)
		}
	})
}

// mariadb keeps one session that repeats statements with a pause.
func (l *Demo) mariadb(ctx context.Context, s *localdb.Server, database, account, program string, pause time.Duration,
	statements ...string) {
	l.pooled(ctx, "mysql", strings.Replace(s.DSN(database), s.Admin+":", account+":", 1)+
		attributes(s)+"connectionAttributes=program_name:"+program, pause, statements)
}

// pooled keeps one connection of a driver that repeats statements with a pause.
func (l *Demo) pooled(ctx context.Context, driver, address string, pause time.Duration, statements []string) {
	l.traffic.Go(func() {
		db, err := sql.Open(driver, address)
		if err != nil {
			return
		}
		defer db.Close()
		db.SetMaxIdleConns(0)
		for ctx.Err() == nil {
			conn, err := db.Conn(ctx)
			for err == nil && rest(ctx, min(pause, time.Second)) {
				for _, text := range statements {
					if _, err = conn.ExecContext(ctx, text); err != nil {
						break
					}
				}
				if err != nil || !rest(ctx, pause) {
					break
				}
			}
			if conn != nil {
				conn.Close()
			}
			rest(ctx, again)
		}
	})
}

// attributes begin what more is said in a server's DSN.
func attributes(s *localdb.Server) string {
	if strings.Contains(s.DSN(""), "?") {
		return "&"
	}
	return "?"
}

// rest waits; it reports false when ctx ends first.
func rest(ctx context.Context, d time.Duration) bool {
	select {
	case <-ctx.Done():
		return false
	case <-time.After(d):
		return true
	}
}
