// Package store keeps Genarch's own records in MariaDB, through GORM. Its rows
// never leave it: everything goes in and out in core's types. Nothing else
// touches the record tables.
package store

import (
	"context"
	"database/sql"
	sqldriver "database/sql/driver"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"strings"
	"sync/atomic"
	"time"

	driver "github.com/go-sql-driver/mysql"
	"github.com/pressly/goose/v3"
	"gorm.io/driver/mysql"
	"gorm.io/gorm"
	"gorm.io/gorm/logger"

	"example.com/genarch/core/journal"
	"example.com/genarch/core/record"
)

// Store is the open record store. It may be used by many goroutines.
type Store struct {
	db   *gorm.DB
	sql  *sql.DB
	keys atomic.Pointer[keys]
	own  *connections
	// written is the last entry of the journal that went in here.
	written highest
	// expected is a checkpoint that was kept outside the store; nil: none was.
	expected atomic.Pointer[journal.Checkpoint]
	// full is why the store could not take something for want of room; nil: it can.
	full atomic.Pointer[error]
}

// Config says where the records are.
type Config struct {
	// DSN is the data source name of the MariaDB driver, with a database,
	// which is made when it is missing.
	DSN string
	// AdminDSN is another login to the same database, which makes and alters its
	// tables and gives the one of DSN what daily work needs, and no more: to read
	// and write rows, and in the journal only to read and add. Empty: DSN does
	// it all.
	AdminDSN string
	// KeyFile holds the keys that seal secrets and the journal; it is made, with
	// mode 0600, when neither it nor anything sealed is there yet.
	KeyFile string
}

//go:embed migrations/*.sql
var migrationFiles embed.FS

// maxConns bounds the connections to the store.
const maxConns = 10

// Open connects, brings the tables to this version, and opens the key.
func Open(ctx context.Context, cfg Config) (*Store, error) {
	dsn, err := parseDSN(cfg.DSN)
	if err != nil {
		return nil, err
	}
	if cfg.AdminDSN != "" {
		if err := prepare(ctx, cfg, dsn); err != nil {
			return nil, err
		}
		return open(ctx, dsn, cfg.KeyFile)
	}
	if err := makeDatabase(ctx, *dsn); err != nil {
		return nil, err
	}
	s, err := connect(dsn)
	if err != nil {
		return nil, err
	}
	if err := s.migrate(ctx); err != nil {
		s.Close()
		return nil, err
	}
	return s, s.opened(ctx, cfg.KeyFile)
}

// open connects where the tables are as they should be.
func open(ctx context.Context, dsn *driver.Config, keyFile string) (*Store, error) {
	s, err := connect(dsn)
	if err != nil {
		return nil, err
	}
	return s, s.opened(ctx, keyFile)
}

// opened reads the keys; on an error the store is closed.
func (s *Store) opened(ctx context.Context, keyFile string) error {
	err := s.openKeys(ctx, keyFile)
	if err != nil {
		s.Close()
	}
	return err
}

// parseDSN reads a data source name and sets what the store relies on. The
// character set is set by a statement too: a server can be told to pass over
// what a client says when it connects, and texts are quoted for utf8mb4.
func parseDSN(text string) (*driver.Config, error) {
	dsn, err := driver.ParseDSN(text)
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
	dsn.Collation = ""
	dsn.Params = map[string]string{"time_zone": "'+00:00'", "sql_mode": "'STRICT_ALL_TABLES,NO_ENGINE_SUBSTITUTION'"}
	return dsn, dsn.Apply(driver.Charset("utf8mb4", "utf8mb4_unicode_ci"))
}

// connect prepares the pool; nothing is asked of the server yet.
func connect(dsn *driver.Config) (*Store, error) {
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
	err = db.QueryRowContext(ctx, "SELECT COUNT(*) FROM information_schema.SCHEMATA WHERE SCHEMA_NAME = ?", name).
		Scan(&found)
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

func (s *Store) migrations() (*goose.Provider, error) {
	files, err := fs.Sub(migrationFiles, "migrations")
	if err != nil {
		return nil, err
	}
	return goose.NewProvider(goose.DialectMySQL, s.sql, files)
}

func (s *Store) migrate(ctx context.Context) error {
	p, err := s.migrations()
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
// login is not good enough. After something was refused for want of room, it
// tries whether there is some again.
func (s *Store) Ping(ctx context.Context) error {
	if s.full.Load() == nil {
		var n int64
		return translate(s.db.WithContext(ctx).Table("journal_head").Count(&n).Error)
	}
	return s.update(ctx, func(tx *gorm.DB) error {
		if err := tx.Exec("INSERT INTO room_probe (filler) VALUES (REPEAT('x', ?))", probeSize).Error; err != nil {
			return err
		}
		return tx.Exec("DELETE FROM room_probe").Error
	})
}

// probeSize is how many bytes are written to see whether there is room: more than
// a page, so that it does not fit what is there already.
const probeSize = 256 << 10

// Pool is the connection pool, for its figures alone.
func (s *Store) Pool() *sql.DB { return s.sql }

const (
	// conflictTries is how often a transaction is tried that the server gave up
	// for the sake of another: on a cluster, one of two that touch the same rows.
	conflictTries = 12
	// conflictPause lies before the second try, and grows.
	conflictPause = 2 * time.Millisecond
)

// update runs f in a transaction: commit on nil, roll back on an error or panic.
// A transaction that lost a conflict did nothing, so f runs again; on a cluster
// that can happen at the commit too.
func (s *Store) update(ctx context.Context, f func(tx *gorm.DB) error) error {
	for try := 1; ; try++ {
		err := s.db.WithContext(ctx).Transaction(f)
		if conflict(err) && try < conflictTries {
			select {
			case <-time.After(time.Duration(try*try) * conflictPause):
				continue
			case <-ctx.Done():
			}
		}
		err = translate(err)
		switch {
		case err == nil:
			s.full.Store(nil)
		case errors.Is(err, record.ErrFull):
			s.full.Store(&err)
		}
		return err
	}
}

// The server's numbers for a transaction that was given up for another's sake.
const (
	errDeadlock    = 1213
	errLockTimeout = 1205
	errChanged     = 1020
)

func conflict(err error) bool {
	me, refused := errors.AsType[*driver.MySQLError](err)
	return refused && (me.Number == errDeadlock || me.Number == errLockTimeout || me.Number == errChanged)
}

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
	case isFull(err):
		return fmt.Errorf("%w (%v)", record.ErrFull, err)
	case errors.Is(err, driver.ErrInvalidConn), errors.Is(err, sqldriver.ErrBadConn), errors.As(err, &netErr),
		isShutdown(err), conflict(err):
		return fmt.Errorf("%w (%v)", record.ErrUnavailable, err)
	}
	return err
}

// isFull: the disk (1021, 1026 and 3 with the system's errno 28), a table or its
// space (1114), or what the storage engine says of either (1030 with errno 28).
func isFull(err error) bool {
	me, ok := errors.AsType[*driver.MySQLError](err)
	return ok && (me.Number == 1021 || me.Number == 1114 ||
		(me.Number == 3 || me.Number == 1026 || me.Number == 1030) && strings.Contains(me.Message, "28"))
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
