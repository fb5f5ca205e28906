package records

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"metaplasis/internal/recording"
)

// Bundle is a file of what was on air.
type Bundle struct {
	Path      string    `db:"path"`
	Place     string    `db:"place"`
	Channel   string    `db:"channel"`
	Rendition string    `db:"rendition"`
	Sound     string    `db:"sound"`
	Prefix    string    `db:"prefix"`
	Header    string    `db:"header"`
	Begun     time.Time `db:"begun"`
	Ended     time.Time `db:"ended"`
	FirstMSN  uint64    `db:"first_msn"`
	LastMSN   uint64    `db:"last_msn"`
	Ordinal   uint64    `db:"ordinal"`
	Breaks    uint32    `db:"breaks"`
	Bytes     int64     `db:"bytes"`
	Removing  bool      `db:"removing"` // its files are to go
}

// RenamePlace gives the bundles of a place another name for it.
func (d *DB) RenamePlace(ctx context.Context, from, to string) error {
	_, err := d.x.ExecContext(ctx, "UPDATE IGNORE bundles SET place = ? WHERE place = ?", to, from)
	return err
}

// BundleRemoving says that the files of a bundle are to go.
func (d *DB) BundleRemoving(ctx context.Context, place, path string) error {
	_, err := d.x.ExecContext(ctx, "UPDATE bundles SET removing = TRUE WHERE place = ? AND path = ?", place, path)
	return err
}

// HasChannel reports whether there is a channel.
func (d *DB) HasChannel(ctx context.Context, slug string) (there bool, err error) {
	err = d.x.GetContext(ctx, &there, "SELECT EXISTS (SELECT 1 FROM channels WHERE slug = ?)", slug)
	return there, err
}

// PutBundle stores a bundle. It may be repeated.
func (d *DB) PutBundle(ctx context.Context, b Bundle) error {
	_, err := d.x.NamedExecContext(ctx, `REPLACE INTO bundles (path, place, channel, rendition, sound, prefix, header, begun, ended, first_msn, last_msn, ordinal, breaks, bytes)
		VALUES (:path, :place, :channel, :rendition, :sound, :prefix, :header, :begun, :ended, :first_msn, :last_msn, :ordinal, :breaks, :bytes)`, b)
	return err
}

// RemoveBundle removes a bundle, if there is one.
func (d *DB) RemoveBundle(ctx context.Context, place, path string) error {
	_, err := d.x.ExecContext(ctx, "DELETE FROM bundles WHERE place = ? AND path = ?", place, path)
	return err
}

// EachBundle hands out the bundles of a place.
func (d *DB) EachBundle(ctx context.Context, place string, each func(*Bundle)) error {
	rows, err := d.x.QueryxContext(ctx, "SELECT * FROM bundles WHERE place = ?", place)
	if err != nil {
		return err
	}
	defer func() { _ = rows.Close() }()
	for rows.Next() {
		var b Bundle
		if err := rows.StructScan(&b); err != nil {
			return err
		}
		each(&b)
	}
	return rows.Err()
}

// recordingRow is a recording as it is stored. Renditions is a JSON list, empty or null for all.
type recordingRow struct {
	ID         int64      `db:"id"`
	Channel    string     `db:"channel"`
	Title      string     `db:"title"`
	Kind       string     `db:"kind"`
	Renditions string     `db:"renditions"`
	Begun      time.Time  `db:"begun"`
	Ended      *time.Time `db:"ended"`
	Expires    *time.Time `db:"expires"`
	Author     string     `db:"author"`
	Name       string     `db:"name"` // in addresses
}

// Recordings lists all recordings, the newest first.
func (d *DB) Recordings(ctx context.Context) ([]recording.Recording, error) {
	var rows []recordingRow
	if err := d.x.SelectContext(ctx, &rows, "SELECT * FROM recordings ORDER BY begun DESC, id DESC"); err != nil {
		return nil, err
	}
	out := make([]recording.Recording, len(rows))
	for i, row := range rows {
		r := recording.Recording{ID: row.ID, Name: row.Name, Channel: row.Channel, Title: row.Title, Kind: row.Kind, Begun: row.Begun, Author: row.Author}
		if row.Renditions != "" {
			if err := json.Unmarshal([]byte(row.Renditions), &r.Renditions); err != nil {
				return nil, fmt.Errorf("renditions of recording %d: %w", row.ID, err)
			}
		}
		if row.Ended != nil {
			r.Ended = *row.Ended
		}
		if row.Expires != nil {
			r.Expires = *row.Expires
		}
		out[i] = r
	}
	return out, nil
}

// AddRecording stores a new recording and returns its id.
func (d *DB) AddRecording(ctx context.Context, r recording.Recording) (int64, error) {
	renditions, err := json.Marshal(r.Renditions)
	if err != nil {
		return 0, err
	}
	return d.insert(ctx, "INSERT INTO recordings (channel, title, kind, renditions, begun, ended, expires, author, name) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)",
		r.Channel, r.Title, r.Kind, string(renditions), r.Begun.UTC(), known(r.Ended), known(r.Expires), r.Author, r.Name)
}

// SetRecording changes what is said of a recording.
func (d *DB) SetRecording(ctx context.Context, r recording.Recording) error {
	_, err := d.x.ExecContext(ctx, "UPDATE recordings SET title = ?, begun = ?, ended = ?, expires = ? WHERE id = ?", r.Title, r.Begun.UTC(), known(r.Ended), known(r.Expires), r.ID)
	return err
}

// known is a time as it is stored, nil for the zero time.
func known(at time.Time) *time.Time {
	if at.IsZero() {
		return nil
	}
	at = at.UTC()
	return &at
}

// RemoveRecording removes a recording.
func (d *DB) RemoveRecording(ctx context.Context, id int64) error {
	return d.exec(ctx, "DELETE FROM recordings WHERE id = ?", id)
}
