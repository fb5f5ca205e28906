package records

import (
	"context"
	"fmt"
	"time"
)

// Statistic is what a channel did over a while.
type Statistic struct {
	Channel string `db:"channel" json:"channel"`
	Seconds int64  `db:"seconds" json:"seconds"` // how long the while is
	At      int64  `db:"at" json:"at"`           // when it begins, seconds since 1970
	Live    int64  `db:"live" json:"live"`       // seconds that a feed was on air
	Bitrate int64  `db:"bitrate" json:"bitrate"` // of the feed, bits per second, on average
	Load    int64  `db:"worker_load" json:"load"`
	Viewers int64  `db:"viewers" json:"viewers"` // thousandths of one, on average
	Peak    int64  `db:"peak" json:"peak"`       // the most viewers
}

// thinned is how long rows become, and from which age on; the oldest go.
var thinned = []struct {
	seconds int64
	after   time.Duration
}{{600, 3 * 24 * time.Hour}, {3600, 60 * 24 * time.Hour}}

// StatisticSeconds is how long the rows are that are stored.
const StatisticSeconds = 60

// PutStatistics stores rows. It may be repeated.
func (d *DB) PutStatistics(ctx context.Context, list []Statistic) error {
	if len(list) == 0 {
		return nil
	}
	_, err := d.x.NamedExecContext(ctx, `INSERT INTO statistics (channel, seconds, at, live, bitrate, worker_load, viewers, peak)
		VALUES (:channel, :seconds, :at, :live, :bitrate, :worker_load, :viewers, :peak)
		ON DUPLICATE KEY UPDATE live = VALUES(live), bitrate = VALUES(bitrate), worker_load = VALUES(worker_load), viewers = VALUES(viewers), peak = VALUES(peak)`, list)
	return err
}

// maxStatistics is how many rows come at a time.
//
//limit:rows that come at a time | each request | the next are asked for by a further request
const maxStatistics = 50_000

// Statistics lists rows between two times, the oldest first; of one channel unless it is "".
func (d *DB) Statistics(ctx context.Context, channel string, from, to time.Time) ([]Statistic, error) {
	out := []Statistic{}
	return out, d.x.SelectContext(ctx, &out, "SELECT * FROM statistics WHERE (? = '' OR channel = ?) AND at >= ? AND at < ? ORDER BY at, channel LIMIT ?",
		channel, channel, from.Unix(), to.Unix(), maxStatistics)
}

// thinSpan is how much of the past is thinned by one transaction, in seconds, so that none takes long: an hour of a
// thousand channels is 60,000 rows.
const thinSpan = 3600

// thin makes rows longer that are old, and forgets the oldest.
func (d *DB) thin(ctx context.Context, now time.Time) error {
	for _, t := range thinned {
		before := now.Add(-t.after).Unix() / t.seconds * t.seconds // whole rows alone
		for {
			from, err := d.oldestRow(ctx, t.seconds, before)
			if err != nil {
				return err
			}
			if from == nil {
				break
			}
			begin := *from / t.seconds * t.seconds
			if err := d.thinBetween(ctx, t.seconds, begin, min(begin+thinSpan, before)); err != nil {
				return fmt.Errorf("thinning statistics: %w", err)
			}
		}
	}
	return d.deleteSome(ctx, "DELETE FROM statistics WHERE at < ?", now.AddDate(0, 0, -keptDays).Unix())
}

// oldestRow is when the oldest row before a time begins that is shorter than so many seconds, nil when there is none.
func (d *DB) oldestRow(ctx context.Context, seconds, before int64) (oldest *int64, err error) {
	for _, length := range []int64{StatisticSeconds, thinned[0].seconds} {
		var at *int64
		if length >= seconds {
			continue
		}
		if err := d.x.GetContext(ctx, &at, "SELECT MIN(at) FROM statistics WHERE seconds = ? AND at < ?", length, before); err != nil {
			return nil, err
		}
		if at != nil && (oldest == nil || *at < *oldest) {
			oldest = at
		}
	}
	return oldest, nil
}

// thinBetween makes the rows between two times so many seconds long.
func (d *DB) thinBetween(ctx context.Context, seconds, from, to int64) error {
	tx, err := d.x.BeginTxx(ctx, nil)
	if err != nil {
		return err
	}
	defer func() { _ = tx.Rollback() }() // without effect behind a commit
	_, err = tx.ExecContext(ctx, `INSERT INTO statistics (channel, seconds, at, live, bitrate, worker_load, viewers, peak)
		SELECT channel, ?, at DIV ? * ?, SUM(live), SUM(bitrate * seconds) DIV ?, SUM(worker_load * seconds) DIV ?, SUM(viewers * seconds) DIV ?, MAX(peak)
		FROM statistics AS s WHERE seconds < ? AND at >= ? AND at < ? GROUP BY channel, at DIV ?
		ON DUPLICATE KEY UPDATE peak = GREATEST(statistics.peak, VALUES(peak))`, seconds, seconds, seconds, seconds, seconds, seconds, seconds, from, to, seconds)
	if err == nil {
		_, err = tx.ExecContext(ctx, "DELETE FROM statistics WHERE seconds < ? AND at >= ? AND at < ?", seconds, from, to)
	}
	if err != nil {
		return err
	}
	return tx.Commit()
}
