// Package records keeps what outlives the service, in MariaDB: channels and their settings,
// contribution keys, users and tokens, feeds, and the event log. Secrets are stored as digests.
package records

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"database/sql"
	"embed"
	"encoding/base32"
	"errors"
	"fmt"
	"io/fs"
	"strings"
	"time"

	"github.com/go-sql-driver/mysql"
	"github.com/jmoiron/sqlx"
	"github.com/pressly/goose/v3"
)

//go:embed migrations/*.sql
var migrations embed.FS

// Errors that callers tell apart.
var (
	ErrNotFound = errors.New("not found")
	ErrExists   = errors.New("exists already")
)

// keptEvents is how many events the log keeps.
const keptEvents = 20_000

// DB is the store.
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
	conf.Timeout, conf.ReadTimeout, conf.WriteTimeout = 5*time.Second, 15*time.Second, 15*time.Second
	connector, err := mysql.NewConnector(conf)
	if err != nil {
		return nil, fmt.Errorf("database: %w", err)
	}
	db := sql.OpenDB(connector)
	db.SetMaxOpenConns(8)
	db.SetConnMaxLifetime(5 * time.Minute)
	d := &DB{sqlx.NewDb(db, "mysql")}
	if err := d.migrate(ctx); err != nil {
		_ = db.Close()
		return nil, err
	}
	return d, nil
}

func (d *DB) migrate(ctx context.Context) error {
	dir, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	p, err := goose.NewProvider(goose.DialectMySQL, d.x.DB, dir)
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

// Channel is a channel's record. Settings is JSON.
type Channel struct {
	ID              int64     `db:"id"`
	Slug            string    `db:"slug"`
	Settings        string    `db:"settings"`
	Created         time.Time `db:"created"`
	NextMSN         uint64    `db:"next_msn"`
	Discontinuities uint64    `db:"discontinuities"`
}

// Channels returns all channels.
func (d *DB) Channels(ctx context.Context) ([]Channel, error) {
	var out []Channel
	return out, d.x.SelectContext(ctx, &out, "SELECT * FROM channels ORDER BY slug")
}

// AddChannel stores a new channel.
func (d *DB) AddChannel(ctx context.Context, slug, settings string, created time.Time) error {
	_, err := d.insert(ctx, "INSERT INTO channels (slug, settings, created) VALUES (?, ?, ?)", slug, settings, created)
	return err
}

// SetChannel stores a channel's settings.
func (d *DB) SetChannel(ctx context.Context, slug, settings string) error {
	_, err := d.x.ExecContext(ctx, "UPDATE channels SET settings = ? WHERE slug = ?", settings, slug)
	return err
}

// RemoveChannel deletes a channel and its keys.
func (d *DB) RemoveChannel(ctx context.Context, slug string) error {
	return d.exec(ctx, "DELETE FROM channels WHERE slug = ?", slug)
}

// Reserve stores where a channel's numbering may go on after a crash. It never goes back.
func (d *DB) Reserve(ctx context.Context, slug string, next, discontinuities uint64) error {
	_, err := d.x.ExecContext(ctx, "UPDATE channels SET next_msn = GREATEST(next_msn, ?), discontinuities = GREATEST(discontinuities, ?) WHERE slug = ?", next, discontinuities, slug)
	return err
}

// Settle stores the exact numbering of a channel that was closed in good order.
func (d *DB) Settle(ctx context.Context, slug string, next, discontinuities uint64) error {
	_, err := d.x.ExecContext(ctx, "UPDATE channels SET next_msn = ?, discontinuities = ? WHERE slug = ?", next, discontinuities, slug)
	return err
}

// Key is a contribution key's record.
type Key struct {
	ID      int64      `db:"id" json:"id"`
	Label   string     `db:"label" json:"label"`
	Created time.Time  `db:"created" json:"created"`
	Used    *time.Time `db:"used" json:"used,omitempty"`
}

// AddKey stores a contribution key's digest.
func (d *DB) AddKey(ctx context.Context, slug, label, secret string) (int64, error) {
	r, err := d.x.ExecContext(ctx, "INSERT INTO contribution_keys (channel_id, label, digest, created) SELECT id, ?, ?, UTC_TIMESTAMP(3) FROM channels WHERE slug = ?", label, Digest(secret), slug)
	if err != nil {
		return 0, err
	}
	if n, _ := r.RowsAffected(); n == 0 {
		return 0, ErrNotFound
	}
	return r.LastInsertId()
}

// Keys lists a channel's keys, without their secrets, which nobody knows.
func (d *DB) Keys(ctx context.Context, slug string) ([]Key, error) {
	out := []Key{}
	return out, d.x.SelectContext(ctx, &out, "SELECT k.id, k.label, k.created, k.used FROM contribution_keys k JOIN channels c ON c.id = k.channel_id WHERE c.slug = ? ORDER BY k.id", slug)
}

// RemoveKey deletes a key.
func (d *DB) RemoveKey(ctx context.Context, slug string, id int64) error {
	return d.exec(ctx, "DELETE k FROM contribution_keys k JOIN channels c ON c.id = k.channel_id WHERE c.slug = ? AND k.id = ?", slug, id)
}

// UseKey finds a channel's key by its secret and notes the time.
func (d *DB) UseKey(ctx context.Context, slug, secret string) error {
	var id int64
	err := d.x.GetContext(ctx, &id, "SELECT k.id FROM contribution_keys k JOIN channels c ON c.id = k.channel_id WHERE c.slug = ? AND k.digest = ?", slug, Digest(secret))
	if err != nil {
		return found(err)
	}
	_, err = d.x.ExecContext(ctx, "UPDATE contribution_keys SET used = UTC_TIMESTAMP(3) WHERE id = ?", id)
	return err
}

// User is a user's record. Password is a hash.
type User struct {
	ID       int64  `db:"id"`
	Name     string `db:"name"`
	Password string `db:"password"`
}

// UserByName returns a user.
func (d *DB) UserByName(ctx context.Context, name string) (*User, error) {
	var u User
	if err := d.x.GetContext(ctx, &u, "SELECT id, name, password FROM users WHERE name = ?", name); err != nil {
		return nil, found(err)
	}
	return &u, nil
}

// AddUser stores a user.
func (d *DB) AddUser(ctx context.Context, name, hash string) (int64, error) {
	return d.insert(ctx, "INSERT INTO users (name, password, created) VALUES (?, ?, UTC_TIMESTAMP(3))", name, hash)
}

// SetPassword changes a user's password hash and forgets the console sessions made with the old one.
func (d *DB) SetPassword(ctx context.Context, user int64, hash string) error {
	if _, err := d.x.ExecContext(ctx, "UPDATE users SET password = ? WHERE id = ?", hash, user); err != nil {
		return err
	}
	_, err := d.x.ExecContext(ctx, "DELETE FROM tokens WHERE user_id = ? AND kind = 'console'", user)
	return err
}

// AnyUser reports whether there is a user at all.
func (d *DB) AnyUser(ctx context.Context) (bool, error) {
	var n int
	err := d.x.GetContext(ctx, &n, "SELECT COUNT(*) FROM users")
	return n > 0, err
}

// Token is a token's record.
type Token struct {
	ID      int64      `db:"id" json:"id"`
	UserID  int64      `db:"user_id" json:"-"`
	Kind    string     `db:"kind" json:"kind"` // console or client
	Label   string     `db:"label" json:"label"`
	Created time.Time  `db:"created" json:"created"`
	Expires *time.Time `db:"expires" json:"expires,omitempty"`
	User    string     `db:"user" json:"user"`
}

// AddToken stores a token's digest. A nil expiry never comes.
func (d *DB) AddToken(ctx context.Context, user int64, kind, label, secret string, expires *time.Time) (int64, error) {
	return d.insert(ctx, "INSERT INTO tokens (user_id, kind, label, digest, created, expires) VALUES (?, ?, ?, ?, UTC_TIMESTAMP(3), ?)", user, kind, label, Digest(secret), expires)
}

// TokenBySecret returns a token that has not expired.
func (d *DB) TokenBySecret(ctx context.Context, secret string) (*Token, error) {
	var t Token
	err := d.x.GetContext(ctx, &t, "SELECT t.id, t.user_id, t.kind, t.label, t.created, t.expires, u.name AS user FROM tokens t JOIN users u ON u.id = t.user_id WHERE t.digest = ? AND (t.expires IS NULL OR t.expires > UTC_TIMESTAMP(3))", Digest(secret))
	if err != nil {
		return nil, found(err)
	}
	return &t, nil
}

// Tokens lists the client tokens.
func (d *DB) Tokens(ctx context.Context) ([]Token, error) {
	out := []Token{}
	return out, d.x.SelectContext(ctx, &out, "SELECT t.id, t.user_id, t.kind, t.label, t.created, t.expires, u.name AS user FROM tokens t JOIN users u ON u.id = t.user_id WHERE t.kind = 'client' ORDER BY t.id")
}

// RemoveToken deletes a token.
func (d *DB) RemoveToken(ctx context.Context, id int64) error {
	return d.exec(ctx, "DELETE FROM tokens WHERE id = ?", id)
}

// Feed is a contribution connection's record. Tracks is JSON.
type Feed struct {
	ID       int64      `db:"id"`
	Channel  string     `db:"channel"`
	Protocol string     `db:"protocol"`
	Remote   string     `db:"remote"`
	Begun    time.Time  `db:"begun"`
	Ended    *time.Time `db:"ended"`
	Reason   string     `db:"reason"`
	Tracks   string     `db:"tracks"`
}

// AddFeed stores a feed that has begun.
func (d *DB) AddFeed(ctx context.Context, f Feed) (int64, error) {
	return d.insert(ctx, "INSERT INTO feeds (channel, protocol, remote, begun, tracks) VALUES (?, ?, ?, ?, ?)", f.Channel, f.Protocol, f.Remote, f.Begun, f.Tracks)
}

// SetFeedTracks stores what a feed carries.
func (d *DB) SetFeedTracks(ctx context.Context, id int64, tracks string) error {
	_, err := d.x.ExecContext(ctx, "UPDATE feeds SET tracks = ? WHERE id = ?", tracks, id)
	return err
}

// EndFeed stores when and why a feed ended.
func (d *DB) EndFeed(ctx context.Context, id int64, at time.Time, reason string) error {
	_, err := d.x.ExecContext(ctx, "UPDATE feeds SET ended = ?, reason = ? WHERE id = ?", at, clip(reason, 500), id)
	return err
}

// EndOpenFeeds ends the feeds that a crash left open.
func (d *DB) EndOpenFeeds(ctx context.Context, reason string) error {
	_, err := d.x.ExecContext(ctx, "UPDATE feeds SET ended = UTC_TIMESTAMP(3), reason = ? WHERE ended IS NULL", reason)
	return err
}

// Feeds lists feeds, the newest first; of one channel unless it is "".
func (d *DB) Feeds(ctx context.Context, channel string, limit int) ([]Feed, error) {
	out := []Feed{}
	return out, d.x.SelectContext(ctx, &out, "SELECT * FROM feeds WHERE ? = '' OR channel = ? ORDER BY id DESC LIMIT ?", channel, channel, limit)
}

// Event is a line of the event log.
type Event struct {
	ID      int64     `db:"id"`
	At      time.Time `db:"at"`
	Channel string    `db:"channel"`
	Level   string    `db:"level"`
	Kind    string    `db:"kind"`
	Text    string    `db:"text"`
	Remedy  string    `db:"remedy"`
}

// AddEvent stores an event, and now and then forgets the oldest.
func (d *DB) AddEvent(ctx context.Context, e Event) (int64, error) {
	id, err := d.insert(ctx, "INSERT INTO events (at, channel, level, kind, text, remedy) VALUES (?, ?, ?, ?, ?, ?)", e.At, e.Channel, e.Level, e.Kind, clip(e.Text, 1000), clip(e.Remedy, 1000))
	if err == nil && id%1000 == 0 {
		_, err = d.x.ExecContext(ctx, "DELETE FROM events WHERE id <= ?", id-keptEvents)
	}
	return id, err
}

// Events lists events, the newest first; of one channel unless it is "".
func (d *DB) Events(ctx context.Context, channel string, limit int) ([]Event, error) {
	out := []Event{}
	return out, d.x.SelectContext(ctx, &out, "SELECT * FROM events WHERE ? = '' OR channel = ? ORDER BY id DESC LIMIT ?", channel, channel, limit)
}

func clip(s string, n int) string {
	r := []rune(s)
	return string(r[:min(len(r), n)])
}
