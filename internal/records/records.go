// Package records keeps what outlives the service, in MariaDB: channels and their settings,
// contribution keys, users and tokens, feeds, and the event log. Secrets are stored as digests.
package records

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"database/sql"
	"database/sql/driver"
	"embed"
	"encoding/base32"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"strings"
	"syscall"
	"time"

	"github.com/go-sql-driver/mysql"
	"github.com/jmoiron/sqlx"
	"github.com/pressly/goose/v3"
)

//go:embed migrations/*.sql
var migrationFiles embed.FS

// Errors that callers tell apart.
var (
	ErrNotFound = errors.New("not found")
	ErrExists   = errors.New("exists already")
	ErrFull     = errors.New("there is no room for more")
)

// What the log keeps: by number, and by age in days.
const (
	//limit:events | all | the oldest are removed
	keptEvents = 20_000
	//limit:feeds | all | the oldest are removed
	keptFeeds = 10_000
	//limit:days of events, feeds and statistics | all | older ones are removed
	keptDays = 400
	//limit:positions of removed channels | all | the oldest are removed
	keptNumbering = 10_000
)

// DB is the store.
//
//large:a method for each query
type DB struct{ x *sqlx.DB }

// Open connects to a MariaDB by its DSN (user:password@tcp(host:port)/database) and brings its
// tables up to date.
func Open(ctx context.Context, dsn string) (*DB, error) {
	conf, err := mysql.ParseDSN(dsn)
	if err != nil {
		return nil, fmt.Errorf("database DSN: %w; expected user:password@tcp(host:port)/database", err)
	}
	conf.ParseTime, conf.Loc = true, time.UTC
	conf.Collation = "utf8mb4_general_ci"
	conf.Timeout, conf.ReadTimeout, conf.WriteTimeout = 5*time.Second, migrationTimeout, migrationTimeout
	conf.Logger = &mysql.NopLogger{} // what fails is told by who asked
	if err := migrate(ctx, conf); err != nil {
		return nil, err
	}
	conf.ReadTimeout, conf.WriteTimeout = answerTimeout, answerTimeout
	connector, err := mysql.NewConnector(conf)
	if err != nil {
		return nil, fmt.Errorf("database: %w", err)
	}
	db := sql.OpenDB(connector)
	db.SetMaxOpenConns(8)
	db.SetConnMaxLifetime(5 * time.Minute)
	return &DB{sqlx.NewDb(db, "mysql")}, nil
}

// How long the database may take over a statement, and over bringing its tables up to date.
const (
	answerTimeout    = 5 * time.Second
	migrationTimeout = 10 * time.Minute
)

func migrations(db *sql.DB) (*goose.Provider, error) {
	dir, err := fs.Sub(migrationFiles, "migrations")
	if err != nil {
		return nil, err
	}
	return goose.NewProvider(goose.DialectMySQL, db, dir)
}

func migrate(ctx context.Context, conf *mysql.Config) error {
	connector, err := mysql.NewConnector(conf)
	if err != nil {
		return fmt.Errorf("database: %w", err)
	}
	db := sql.OpenDB(connector)
	defer func() { _ = db.Close() }()
	p, err := migrations(db)
	if err != nil {
		return fmt.Errorf("database migrations: %w", err)
	}
	if _, err := p.Up(ctx); err != nil {
		return fmt.Errorf("bringing the database up to date: %w", err)
	}
	return nil
}

// Close closes the connections.
func (d *DB) Close() error { return d.x.Close() }

// Ping reports whether the database answers.
func (d *DB) Ping(ctx context.Context) error { return d.x.PingContext(ctx) }

// NewSecret makes a random secret of 128 bits that is easy to copy and to read aloud.
func NewSecret() string {
	var b [16]byte
	_, _ = rand.Read(b[:]) // never fails
	return strings.ToLower(base32.StdEncoding.WithPadding(base32.NoPadding).EncodeToString(b[:]))
}

// Digest is how a secret of NewSecret is stored. It has too many bits to be guessed, so a fast
// digest will do; passwords, which people choose, are another matter.
func Digest(secret string) []byte {
	sum := sha256.Sum256([]byte(secret))
	return sum[:]
}

// Unreachable reports whether an error says that the database does not answer, rather than that it
// refuses: then the same thing may be tried again.
func Unreachable(err error) bool {
	if err == nil {
		return false
	}
	var refused *mysql.MySQLError
	if errors.As(err, &refused) {
		return transient[refused.Number]
	}
	var network net.Error
	return errors.Is(err, driver.ErrBadConn) || errors.Is(err, mysql.ErrInvalidConn) || errors.Is(err, io.EOF) ||
		errors.Is(err, io.ErrUnexpectedEOF) ||
		errors.Is(err, context.DeadlineExceeded) || errors.Is(err, syscall.EPIPE) || errors.As(err, &network)
}

// transient are the refusals that pass: too many connections, a full disk or table, a lock that did
// not come, a deadlock, a server that shuts down or was ended; and a node of a cluster that is still joining (1047),
// or a server that is read-only for a while (1290, 1792, 1836).
var transient = map[uint16]bool{1040: true, 1021: true, 1114: true, 1205: true, 1213: true, 1053: true, 1927: true, 3: true,
	1026: true, 1037: true, 1041: true, 1047: true, 1290: true, 1792: true, 1836: true}

func found(err error) error {
	if errors.Is(err, sql.ErrNoRows) {
		return ErrNotFound
	}
	return err
}

func existing(err error) error {
	var m *mysql.MySQLError
	if errors.As(err, &m) && m.Number == 1062 {
		return ErrExists
	}
	return err
}

// exec runs a statement and reports ErrNotFound when it touched nothing.
func (d *DB) exec(ctx context.Context, query string, args ...any) error {
	r, err := d.x.ExecContext(ctx, query, args...)
	if err != nil {
		return existing(err)
	}
	if n, err := r.RowsAffected(); err == nil && n == 0 {
		return ErrNotFound
	}
	return nil
}

func (d *DB) insert(ctx context.Context, query string, args ...any) (int64, error) {
	r, err := d.x.ExecContext(ctx, query, args...)
	if err != nil {
		return 0, existing(err)
	}
	return r.LastInsertId()
}

func clip(s string, n int) string {
	r := []rune(s)
	return string(r[:min(len(r), n)])
}
