package records

import (
	"context"
	"time"
)

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

// FindKey finds a channel's key by its secret.
func (d *DB) FindKey(ctx context.Context, slug, secret string) (id int64, err error) {
	err = d.x.GetContext(ctx, &id, "SELECT k.id FROM contribution_keys k JOIN channels c ON c.id = k.channel_id WHERE c.slug = ? AND k.digest = ?", slug, Digest(secret))
	return id, found(err)
}

// UseKey notes when a key was used.
func (d *DB) UseKey(ctx context.Context, id int64, at time.Time) error {
	_, err := d.x.ExecContext(ctx, "UPDATE contribution_keys SET used = ? WHERE id = ?", at.UTC(), id)
	return err
}
