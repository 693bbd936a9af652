package demo

import (
	"context"
	"database/sql"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"example.com/genarch/localdb"
)

// again is how soon a client of the demo comes back after its session ended.
const again = 800 * time.Millisecond

// startTraffic keeps real sessions open on the production servers: a pool, a
// report that runs long, somebody idle in a transaction that has written, and a
// nightly job that is always back within a second.
func (l *Line) startTraffic(ctx context.Context) {
	harbour, quay := l.servers["harbour"], l.servers["quay"]
	for range 4 {
		l.postgres(ctx, harbour, "tickets_prod", "tickets_app", "booking-desk", "SELECT count(*) FROM bookings WHERE noted > now() - interval '1 day'", 3*time.Second)
	}
	l.postgres(ctx, harbour, "tickets_prod", "fares_report", "fares-report", "SELECT count(*) FROM bookings a, fares b, pg_sleep(45)", 15*time.Second)
	l.postgres(ctx, harbour, "manifests_prod", "sailings_app", "boarding-gate", "BEGIN; UPDATE vehicles SET detail = 'checked in' WHERE id = 7", time.Hour)
	l.postgres(ctx, harbour, "ledger_prod", "nightly_ledger", "nightly-ledger", "SELECT count(*) FROM takings", time.Second)
	for range 3 {
		l.mariadb(ctx, quay, "boarding_prod", "boarding_app", "SELECT COUNT(*) FROM scans", 3*time.Second)
	}
	l.mariadb(ctx, quay, "cargo_prod", "cargo_app", "SELECT COUNT(*) FROM trailers", 5*time.Second)
}

// postgres keeps one session that repeats a statement with a pause.
func (l *Line) postgres(ctx context.Context, s *localdb.Server, database, account, program, statement string, pause time.Duration) {
	l.traffic.Go(func() {
		for ctx.Err() == nil {
			url := strings.Replace(s.PostgresURL(database), s.Admin+":", account+":", 1) + "&application_name=" + program
			conn, err := pgx.Connect(ctx, url)
			for err == nil {
				if _, err = conn.Exec(ctx, statement, pgx.QueryExecModeSimpleProtocol); err == nil && !rest(ctx, pause) {
					break
				}
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

// mariadb keeps one session that repeats a statement with a pause.
func (l *Line) mariadb(ctx context.Context, s *localdb.Server, database, account, statement string, pause time.Duration) {
	l.traffic.Go(func() {
		db, err := sql.Open("mysql", strings.Replace(s.DSN(database), s.Admin+":", account+":", 1))
		if err != nil {
			return
		}
		defer db.Close()
		db.SetMaxOpenConns(1)
		for rest(ctx, pause) {
			if _, err := db.ExecContext(ctx, statement); err != nil {
				rest(ctx, again)
			}
		}
	})
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
