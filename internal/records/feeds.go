package records

import (
	"context"
	"time"
)

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

// PutFeed stores a feed as it is now: begun, with tracks, or ended. It may be repeated.
func (d *DB) PutFeed(ctx context.Context, f Feed) error {
	_, err := d.x.ExecContext(ctx, `INSERT INTO feeds (id, channel, protocol, remote, begun, ended, reason, tracks) VALUES (?, ?, ?, ?, ?, ?, ?, ?)
		ON DUPLICATE KEY UPDATE ended = VALUES(ended), reason = VALUES(reason), tracks = VALUES(tracks)`,
		f.ID, f.Channel, f.Protocol, f.Remote, f.Begun.UTC(), f.Ended, clip(f.Reason, 500), f.Tracks)
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
	return out, d.x.SelectContext(ctx, &out, "SELECT * FROM feeds WHERE ? = '' OR channel = ? ORDER BY id DESC LIMIT ?",
		channel, channel, limit)
}
