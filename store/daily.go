package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"strings"

	driver "github.com/go-sql-driver/mysql"
)

// prepare brings the tables to this version with one login, and gives another one
// what daily work needs: so whoever gets hold of the service's connection can
// neither empty the journal nor take its triggers away.
func prepare(ctx context.Context, cfg Config, daily *driver.Config) error {
	admin, err := parseDSN(cfg.AdminDSN)
	if err != nil {
		return err
	}
	admin.DBName = daily.DBName
	if err := makeDatabase(ctx, *admin); err != nil {
		return err
	}
	s, err := connect(admin)
	if err != nil {
		return err
	}
	defer s.Close()
	if err := s.migrate(ctx); err != nil {
		return err
	}
	if err := s.openKeys(ctx, cfg.KeyFile); err != nil {
		return err
	}
	account, err := whoIs(ctx, *daily)
	if err != nil {
		return fmt.Errorf("the store's login for daily work: %w", err)
	}
	return grantDaily(ctx, s.sql, daily.DBName, account)
}

// whoIs asks as which account a DSN signs in: 'name'@'host', quoted.
func whoIs(ctx context.Context, dsn driver.Config) (string, error) {
	dsn.DBName = "" // it may hold nothing there yet
	connector, err := driver.NewConnector(&dsn)
	if err != nil {
		return "", err
	}
	db := sql.OpenDB(connector)
	defer db.Close()
	var current string
	if err := db.QueryRowContext(ctx, "SELECT CURRENT_USER()").Scan(&current); err != nil {
		return "", err
	}
	at := strings.LastIndexByte(current, '@')
	if at < 0 {
		return "", errors.New("the server does not say who it is")
	}
	return quoteName(current[:at]) + "@" + quoteName(current[at+1:]), nil
}

// quoteName writes a name as a back-quoted identifier.
func quoteName(name string) string { return "`" + strings.ReplaceAll(name, "`", "``") + "`" }

// grantDaily gives rows of every table, and of the journal only reading and
// adding. What else the account has is left to it: [Store.Sealable] tells of it.
func grantDaily(ctx context.Context, db *sql.DB, database, account string) error {
	var tables []string
	rows, err := db.QueryContext(ctx,
		"SELECT TABLE_NAME FROM information_schema.TABLES WHERE TABLE_SCHEMA = ? AND TABLE_TYPE = 'BASE TABLE' ORDER BY 1", database)
	if err != nil {
		return err
	}
	for rows.Next() {
		var t string
		if err := rows.Scan(&t); err != nil {
			rows.Close()
			return err
		}
		tables = append(tables, t)
	}
	rows.Close()
	if err := rows.Err(); err != nil {
		return err
	}
	for _, t := range tables {
		may := "SELECT, INSERT, UPDATE, DELETE"
		if t == "journal" {
			may = "SELECT, INSERT"
		}
		if _, err := db.ExecContext(ctx,
			"GRANT "+may+" ON "+quoteName(database)+"."+quoteName(t)+" TO "+account); err != nil {
			return fmt.Errorf("give the store's login for daily work what it needs: %w", err)
		}
	}
	return nil
}

// Sealable says in words what the store's own login could do to the journal, so
// that it can be pointed out at the start; empty: nothing but read and add.
func (s *Store) Sealable(ctx context.Context) (string, error) {
	var n int
	err := s.db.WithContext(ctx).Raw(`SELECT (SELECT COUNT(*) FROM information_schema.USER_PRIVILEGES WHERE PRIVILEGE_TYPE IN ('DROP', 'TRIGGER', 'ALTER'))
		+ (SELECT COUNT(*) FROM information_schema.SCHEMA_PRIVILEGES WHERE PRIVILEGE_TYPE IN ('DROP', 'TRIGGER', 'ALTER') AND DATABASE() LIKE TABLE_SCHEMA)`).Scan(&n).Error
	if err != nil || n == 0 {
		return "", translate(err)
	}
	return "the store's login may drop and alter the journal's table; give the service a login for daily work beside it (--store-admin-dsn-file)", nil
}
