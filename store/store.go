// Package store keeps Genarch's own records in MariaDB, through GORM. Its rows
// never leave it: everything goes in and out in core's types. Nothing else
// touches the record tables.
package store

import (
	"context"
	"database/sql"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"time"

	driver "github.com/go-sql-driver/mysql"
	"github.com/pressly/goose/v3"
	"github.com/tink-crypto/tink-go/v2/tink"
	"gorm.io/driver/mysql"
	"gorm.io/gorm"
	"gorm.io/gorm/logger"

	"example.com/genarch/core/record"
)

// Store is the open record store. It may be used by many goroutines.
type Store struct {
	db   *gorm.DB
	sql  *sql.DB
	aead tink.AEAD
	own  *connections
}

// Config says where the records are.
type Config struct {
	// DSN is the data source name of the MariaDB driver, with a database,
	// which is made when it is missing.
	DSN string
	// KeyFile holds the key that seals secrets; it is made, with mode 0600,
	// when neither it nor any sealed secret is there yet.
	KeyFile string
}

//go:embed migrations/*.sql
var migrations embed.FS

// maxConns bounds the connections to the store.
const maxConns = 10

// Open connects, brings the tables to this version, and opens the key.
func Open(ctx context.Context, cfg Config) (*Store, error) {
	dsn, err := driver.ParseDSN(cfg.DSN)
	if err != nil {
		return nil, errors.New("the store's DSN cannot be read: want user:password@tcp(host:port)/database")
	}
	if dsn.DBName == "" {
		return nil, errors.New("the store's DSN names no database: add /genarch at its end")
	}
	dsn.ParseTime, dsn.Loc, dsn.ClientFoundRows = true, time.UTC, true
	dsn.InterpolateParams = true
	if dsn.Timeout == 0 {
		dsn.Timeout, dsn.ReadTimeout, dsn.WriteTimeout = 5*time.Second, 30*time.Second, 30*time.Second
	}
	dsn.Collation = "utf8mb4_unicode_ci"
	dsn.Params = map[string]string{"time_zone": "'+00:00'", "sql_mode": "'STRICT_ALL_TABLES,NO_ENGINE_SUBSTITUTION'"}
	if err := makeDatabase(ctx, *dsn); err != nil {
		return nil, err
	}
	connector, err := driver.NewConnector(dsn)
	if err != nil {
		return nil, err
	}
	own := &connections{clients: map[int64]string{}}
	pool := sql.OpenDB(noting{connector, own})
	db, err := gorm.Open(mysql.New(mysql.Config{DSNConfig: dsn, Conn: pool}), &gorm.Config{
		TranslateError: true, SkipDefaultTransaction: true, Logger: logger.Discard,
		NowFunc: func() time.Time { return time.Now().UTC().Truncate(time.Microsecond) },
	})
	if err != nil {
		pool.Close()
		return nil, fmt.Errorf("the store: %w", err)
	}
	s := &Store{db: db, sql: pool, own: own}
	s.sql.SetMaxOpenConns(maxConns)
	s.sql.SetMaxIdleConns(maxConns)
	s.sql.SetConnMaxIdleTime(5 * time.Minute)
	if err := s.migrate(ctx); err != nil {
		s.Close()
		return nil, err
	}
	if s.aead, err = s.openKey(ctx, cfg.KeyFile); err != nil {
		s.Close()
		return nil, err
	}
	return s, nil
}

// makeDatabase creates the store's own database when it is missing.
func makeDatabase(ctx context.Context, dsn driver.Config) error {
	name := dsn.DBName
	dsn.DBName = ""
	connector, err := driver.NewConnector(&dsn)
	if err != nil {
		return err
	}
	db := sql.OpenDB(connector)
	defer db.Close()
	var found int
	err = db.QueryRowContext(ctx, "SELECT COUNT(*) FROM information_schema.SCHEMATA WHERE SCHEMA_NAME = ?", name).Scan(&found)
	if err != nil {
		return fmt.Errorf("the store cannot be reached at %s: %w", dsn.Addr, err)
	}
	if found > 0 {
		return nil
	}
	_, err = db.ExecContext(ctx, "CREATE DATABASE `"+name+"` CHARACTER SET utf8mb4 COLLATE utf8mb4_unicode_ci")
	if err != nil {
		return fmt.Errorf("the store's database %s is missing and cannot be made: %w", name, err)
	}
	return nil
}

func (s *Store) migrate(ctx context.Context) error {
	files, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	p, err := goose.NewProvider(goose.DialectMySQL, s.sql, files)
	if err != nil {
		return err
	}
	if _, err := p.Up(ctx); err != nil {
		return fmt.Errorf("bring the store's tables to this version: %w", err)
	}
	return nil
}

// Close ends all connections.
func (s *Store) Close() error { return s.sql.Close() }

// Ping asks the store for a row of a table: a server that only answers the
// login is not good enough.
func (s *Store) Ping(ctx context.Context) error {
	var n int64
	return translate(s.db.WithContext(ctx).Table("journal_head").Count(&n).Error)
}

// Pool is the connection pool, for its figures alone.
func (s *Store) Pool() *sql.DB { return s.sql }

// deadlockTries is how often a transaction is tried that the server gave up.
const deadlockTries = 5

// update runs f in a transaction: commit on nil, roll back on an error or panic.
// A transaction that was the victim of a deadlock did nothing, so f runs again;
// on a cluster that can happen at the commit too.
func (s *Store) update(ctx context.Context, f func(tx *gorm.DB) error) error {
	for try := 1; ; try++ {
		err := s.db.WithContext(ctx).Transaction(f)
		me, refused := errors.AsType[*driver.MySQLError](err)
		if !refused || me.Number != errDeadlock || try == deadlockTries {
			return translate(err)
		}
	}
}

const errDeadlock = 1213

// translate turns what GORM and the driver report into record's errors.
func translate(err error) error {
	netErr := net.Error(nil)
	switch {
	case err == nil:
		return nil
	case errors.Is(err, gorm.ErrRecordNotFound):
		return record.ErrNotFound
	case errors.Is(err, gorm.ErrDuplicatedKey):
		return record.ErrExists
	case errors.Is(err, driver.ErrInvalidConn), errors.As(err, &netErr), isShutdown(err):
		return fmt.Errorf("%w (%v)", record.ErrUnavailable, err)
	}
	return err
}

// isShutdown: the server answers, but is stopping, starting or full.
func isShutdown(err error) bool {
	me, ok := errors.AsType[*driver.MySQLError](err)
	return ok && (me.Number == 1053 || me.Number == 1040 || me.Number == 1927 || me.Number == 1047)
}

// timePtr stores the zero time as NULL.
func timePtr(t time.Time) *time.Time {
	if t.IsZero() {
		return nil
	}
	t = t.UTC().Truncate(time.Microsecond)
	return &t
}

func timeOf(t *time.Time) time.Time {
	if t == nil {
		return time.Time{}
	}
	return *t
}
