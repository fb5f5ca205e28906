package records

import (
	"context"
	"errors"
	"fmt"
	"time"
)

// Event is a line of the event log.
type Event struct {
	ID      int64      `db:"id"`
	At      time.Time  `db:"at"`
	Channel string     `db:"channel"`
	Level   string     `db:"level"`
	Kind    string     `db:"kind"`
	Text    string     `db:"text"`
	Remedy  string     `db:"remedy"`
	Count   int64      `db:"count"` // how often it happened
	Last    *time.Time `db:"last"`  // the last of these times, when there were several
}

// PutEvent stores an event, or what has been added to it. It may be repeated.
func (d *DB) PutEvent(ctx context.Context, e Event) error {
	_, err := d.x.ExecContext(ctx, `INSERT INTO events (id, at, channel, level, kind, text, remedy, count, last) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)
		ON DUPLICATE KEY UPDATE text = VALUES(text), count = VALUES(count), last = VALUES(last)`,
		e.ID, e.At.UTC(), e.Channel, e.Level, e.Kind, clip(e.Text, 1000), clip(e.Remedy, 1000), e.Count, e.Last)
	return err
}

// Prune forgets what is past its number or its age.
func (d *DB) Prune(ctx context.Context) error {
	var errs []error
	for _, t := range []struct {
		table, order string
		number       int
	}{{"events", "id", keptEvents}, {"feeds", "id", keptFeeds}, {"numbering", "removed", keptNumbering}} {
		errs = append(errs, d.deleteSome(ctx, fmt.Sprintf("DELETE FROM %s WHERE %s < (SELECT b FROM (SELECT %s AS b FROM %s ORDER BY %s DESC LIMIT 1 OFFSET %d) x)",
			t.table, t.order, t.order, t.table, t.order, t.number-1)))
	}
	for _, statement := range []string{
		"DELETE FROM events WHERE at < UTC_TIMESTAMP() - INTERVAL ? DAY",
		"DELETE FROM feeds WHERE begun < UTC_TIMESTAMP() - INTERVAL ? DAY AND ended IS NOT NULL",
	} {
		errs = append(errs, d.deleteSome(ctx, statement, keptDays))
	}
	errs = append(errs, d.thin(ctx, time.Now()))
	return errors.Join(append(errs, d.deleteSome(ctx, "DELETE FROM tokens WHERE expires < UTC_TIMESTAMP()"))...)
}

// deleteAtOnce is how many rows one statement removes, so that none takes long.
const deleteAtOnce = 2000

// deleteSome removes rows a few at a time until none is left or the context ends.
func (d *DB) deleteSome(ctx context.Context, statement string, args ...any) error {
	for {
		res, err := d.x.ExecContext(ctx, statement+fmt.Sprintf(" LIMIT %d", deleteAtOnce), args...)
		if err != nil {
			return err
		}
		if n, err := res.RowsAffected(); err != nil || n < deleteAtOnce {
			return err
		}
	}
}

// Events lists events, the newest first; of one channel unless it is "".
func (d *DB) Events(ctx context.Context, channel string, limit int) ([]Event, error) {
	out := []Event{}
	return out, d.x.SelectContext(ctx, &out, "SELECT * FROM events WHERE ? = '' OR channel = ? ORDER BY id DESC LIMIT ?",
		channel, channel, limit)
}
