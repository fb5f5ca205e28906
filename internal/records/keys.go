package records

import (
	"context"
	"time"
)

// Key is a contribution key's record.
type Key struct {
	ID       int64      `db:"id" json:"id"`
	Label    string     `db:"label" json:"label"`
	Created  time.Time  `db:"created" json:"created"`
	Used     *time.Time `db:"used" json:"used,omitempty"`
	Input    string     `db:"input" json:"input,omitempty"`       // the name of the input that it leads to; "" for any
	Protocol string     `db:"protocol" json:"protocol,omitempty"` // the only one that it is for; "" for any
	Expires  *time.Time `db:"expires" json:"expires,omitempty"`
	Receives bool       `db:"receives" json:"receives,omitempty"` // it lets receive, and not send
}

// AddKey stores a contribution key's digest, and what it is for.
func (d *DB) AddKey(ctx context.Context, slug, secret string, k Key) (int64, error) {
	r, err := d.x.ExecContext(ctx, "INSERT INTO contribution_keys (channel_id, label, digest, created, input, protocol, expires, receives) SELECT id, ?, ?, UTC_TIMESTAMP(3), ?, ?, ?, ? FROM channels WHERE slug = ?",
		k.Label, Digest(secret), k.Input, k.Protocol, k.Expires, k.Receives, slug)
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
	return out, d.x.SelectContext(ctx, &out, "SELECT k.id, k.label, k.created, k.used, k.input, k.protocol, k.expires, k.receives FROM contribution_keys k JOIN channels c ON c.id = k.channel_id WHERE c.slug = ? ORDER BY k.id", slug)
}

// RemoveKey deletes a key.
func (d *DB) RemoveKey(ctx context.Context, slug string, id int64) error {
	return d.exec(ctx, "DELETE k FROM contribution_keys k JOIN channels c ON c.id = k.channel_id WHERE c.slug = ? AND k.id = ?", slug, id)
}

// FindKey finds a channel's key by its secret.
func (d *DB) FindKey(ctx context.Context, slug, secret string) (k Key, err error) {
	err = d.x.GetContext(ctx, &k, "SELECT k.id, k.label, k.created, k.used, k.input, k.protocol, k.expires, k.receives FROM contribution_keys k JOIN channels c ON c.id = k.channel_id WHERE c.slug = ? AND k.digest = ?", slug, Digest(secret))
	return k, found(err)
}

// KeyDigests lists the digests of all keys by their channels, of those that are not held to another protocol: of keys that
// let send, and of those that only let receive.
func (d *DB) KeyDigests(ctx context.Context, protocol string) (send, receive map[string][][]byte, err error) {
	var rows []struct {
		Slug     string `db:"slug"`
		Digest   []byte `db:"digest"`
		Receives bool   `db:"receives"`
	}
	err = d.x.SelectContext(ctx, &rows, "SELECT c.slug, k.digest, k.receives FROM contribution_keys k JOIN channels c ON c.id = k.channel_id WHERE k.protocol IN ('', ?) AND (k.expires IS NULL OR k.expires > UTC_TIMESTAMP(3))", protocol)
	send, receive = map[string][][]byte{}, map[string][][]byte{}
	for _, r := range rows {
		to := send
		if r.Receives {
			to = receive
		}
		to[r.Slug] = append(to[r.Slug], r.Digest)
	}
	return send, receive, err
}

// AllKeyDigests lists the digests of all keys of all channels.
func (d *DB) AllKeyDigests(ctx context.Context) (out [][]byte, err error) {
	err = d.x.SelectContext(ctx, &out, "SELECT digest FROM contribution_keys")
	return out, err
}

// UseKey notes when a key was used.
func (d *DB) UseKey(ctx context.Context, id int64, at time.Time) error {
	_, err := d.x.ExecContext(ctx, "UPDATE contribution_keys SET used = ? WHERE id = ?", at.UTC(), id)
	return err
}
