package records

import "context"

// Marker is one marker of a channel. Content is JSON.
type Marker struct {
	Channel string `db:"-"` // its slug
	ID      string `db:"id"`
	At      int64  `db:"at"` // milliseconds since 1970
	Content string `db:"content"`
}

// PutMarker stores a marker, or changes it, and lets go of all but the newest ones of its channel.
func (d *DB) PutMarker(ctx context.Context, m Marker, keep int) error {
	_, err := d.x.ExecContext(ctx, `INSERT INTO markers (channel_id, id, at, content) SELECT id, ?, ?, ? FROM channels WHERE slug = ?
		ON DUPLICATE KEY UPDATE at = VALUES(at), content = VALUES(content)`, m.ID, m.At, m.Content, m.Channel)
	if err != nil {
		return err
	}
	_, err = d.x.ExecContext(ctx, `DELETE m FROM markers m JOIN channels c ON c.id = m.channel_id AND c.slug = ?
		WHERE m.at < (SELECT at FROM (SELECT n.at FROM markers n JOIN channels k ON k.id = n.channel_id AND k.slug = ?
			ORDER BY n.at DESC LIMIT 1 OFFSET ?) oldest)`, m.Channel, m.Channel, keep-1)
	return err
}

// Markers returns a channel's markers, the oldest first.
func (d *DB) Markers(ctx context.Context, channel string) (out []Marker, err error) {
	err = d.x.SelectContext(ctx, &out, `SELECT m.id, m.at, m.content FROM markers m JOIN channels c ON c.id = m.channel_id
		WHERE c.slug = ? ORDER BY m.at, m.id`, channel)
	return out, err
}
