package records

import (
	"context"
	"time"
)

// Channel is a channel's record. Settings is JSON.
type Channel struct {
	ID              int64     `db:"id"`
	Slug            string    `db:"slug"`
	Settings        string    `db:"settings"`
	Created         time.Time `db:"created"`
	NextMSN         uint64    `db:"next_msn"`
	Discontinuities uint64    `db:"discontinuities"`
	Revision        uint64    `db:"revision"` // of the settings
}

// Channels returns all channels.
func (d *DB) Channels(ctx context.Context) ([]Channel, error) {
	var out []Channel
	return out, d.x.SelectContext(ctx, &out, "SELECT * FROM channels ORDER BY slug")
}

// AddChannel stores a new channel and returns where its numbering begins: behind that of the last
// channel of the same name.
func (d *DB) AddChannel(ctx context.Context, slug, settings string, created time.Time) (next, discontinuities uint64,
	err error) {
	_, err = d.insert(ctx, `INSERT INTO channels (slug, settings, created, next_msn, discontinuities)
		SELECT ?, ?, ?, COALESCE(MAX(next_msn), 0), COALESCE(MAX(discontinuities), 0) FROM numbering WHERE slug = ?`, slug, settings, created, slug)
	if err != nil {
		return 0, 0, err
	}
	row := d.x.QueryRowxContext(ctx, "SELECT next_msn, discontinuities FROM channels WHERE slug = ?", slug)
	return next, discontinuities, row.Scan(&next, &discontinuities)
}

// SetChannel stores a channel's settings as their next revision.
func (d *DB) SetChannel(ctx context.Context, slug, settings string, revision uint64) error {
	_, err := d.x.ExecContext(ctx, "UPDATE channels SET settings = ?, revision = ? WHERE slug = ?", settings, revision,
		slug)
	return err
}

// RemoveChannel deletes a channel and its keys. Where its numbering stood is kept.
func (d *DB) RemoveChannel(ctx context.Context, slug string, next, discontinuities uint64) error {
	_, err := d.x.ExecContext(ctx, `INSERT INTO numbering (slug, next_msn, discontinuities, removed)
		SELECT slug, GREATEST(next_msn, ?), GREATEST(discontinuities, ?), UTC_TIMESTAMP(3) FROM channels WHERE slug = ?
		ON DUPLICATE KEY UPDATE next_msn = VALUES(next_msn), discontinuities = VALUES(discontinuities), removed = VALUES(removed)`, next, discontinuities, slug)
	if err != nil {
		return err
	}
	return d.exec(ctx, "DELETE FROM channels WHERE slug = ?", slug)
}

// Reserve stores where a channel's numbering may go on after a crash. It never goes back.
func (d *DB) Reserve(ctx context.Context, slug string, next, discontinuities uint64) error {
	_, err := d.x.ExecContext(ctx, "UPDATE channels SET next_msn = GREATEST(next_msn, ?), discontinuities = GREATEST(discontinuities, ?) WHERE slug = ?", next, discontinuities, slug)
	return err
}

// Settle stores the exact numbering of a channel that was closed in good order.
func (d *DB) Settle(ctx context.Context, slug string, next, discontinuities uint64) error {
	_, err := d.x.ExecContext(ctx, "UPDATE channels SET next_msn = ?, discontinuities = ? WHERE slug = ?", next,
		discontinuities, slug)
	return err
}
