package operations

import (
	"context"
	"encoding/json"
	"strconv"
	"strings"
	"sync"
	"time"

	"metaplasis/internal/core/media"
	"metaplasis/internal/events"
	"metaplasis/internal/origin"
	"metaplasis/internal/records"
)

// minutes gathers what channels do until a minute of it is stored.
type minutes struct {
	mu sync.Mutex
	at int64 // when the minute begins, seconds since 1970
	by map[string]*minute
}

type minute struct {
	n, live, bitrate, load, viewers, peak int64
}

// add adds a measurement, and returns the minute before when it is over.
func (m *minutes) add(now time.Time, channel string, live bool, bitrate, load, viewers int64) (over []records.Statistic) {
	m.mu.Lock()
	defer m.mu.Unlock()
	at := now.Unix() / records.StatisticSeconds * records.StatisticSeconds
	if at != m.at {
		for slug, c := range m.by {
			over = append(over, records.Statistic{Channel: slug, Seconds: records.StatisticSeconds, At: m.at, Live: c.live * records.StatisticSeconds / c.n, Bitrate: c.bitrate / c.n,
				Load: c.load / c.n, Viewers: c.viewers * 1000 / c.n, Peak: c.peak})
		}
		m.at, m.by = at, map[string]*minute{}
	}
	c := m.by[channel]
	if c == nil {
		c = &minute{}
		m.by[channel] = c
	}
	c.n++
	if live {
		c.live++
	}
	c.bitrate, c.load, c.viewers, c.peak = c.bitrate+bitrate, c.load+load, c.viewers+viewers, max(c.peak, viewers)
	return over
}

// History is what was: statistics, events and feeds of the records.
type History struct{ desk *Desk }

// NewHistory reads the records.
func NewHistory(d *Desk) *History { return &History{d} }

// Statistics are what channels did between two times, a row for each minute; older rows are longer. "" is all channels.
func (h *History) Statistics(ctx context.Context, channel string, from, to time.Time) ([]records.Statistic, error) {
	return h.desk.DB.Statistics(ctx, channel, from, to)
}

// Events lists events, the newest first; "" is of all channels.
func (h *History) Events(ctx context.Context, channel string, most int) ([]events.Event, error) {
	list, err := h.desk.DB.Events(ctx, channel, most)
	out := make([]events.Event, 0, len(list))
	for _, e := range list {
		out = append(out, events.Event{ID: e.ID, At: e.At, Channel: e.Channel, Level: events.Level(e.Level), Kind: e.Kind,
			Text: e.Text, Do: e.Remedy})
		if e.Count > 1 && e.Last != nil {
			out[len(out)-1].Count, out[len(out)-1].Last = e.Count, *e.Last
		}
	}
	return out, err
}

// Feeds lists contribution connections, the newest first; "" is of all channels.
func (h *History) Feeds(ctx context.Context, channel string, most int) ([]origin.FeedRecord, error) {
	list, err := h.desk.DB.Feeds(ctx, channel, most)
	out := make([]origin.FeedRecord, 0, len(list))
	for _, f := range list {
		a := origin.FeedRecord{ID: f.ID, Channel: f.Channel, Protocol: f.Protocol, Remote: f.Remote, Begun: f.Begun,
			Reason: f.Reason, Tracks: []media.Track{}}
		if f.Ended != nil {
			a.Ended = *f.Ended
		}
		_ = json.Unmarshal([]byte(f.Tracks), &a.Tracks)
		out = append(out, a)
	}
	return out, err
}

// MaxExported is how many events or feeds come at a time.
//
//limit:events or feeds that come at a time | each request | the next are asked for by a further request
const MaxExported = 20_000

// exportTables are those that Table makes.
var exportTables = []string{"statistics.csv", "events.csv", "feeds.csv"}

// Table is one of the records between two times as rows, whose first names the columns.
func (h *History) Table(ctx context.Context, what, channel string, from, to time.Time) (rows [][]string, err error) {
	date := func(t time.Time) string { return t.UTC().Format(time.RFC3339) }
	within := func(t time.Time) bool { return !t.Before(from) && t.Before(to) }
	switch what {
	case "statistics.csv":
		rows = append(rows, []string{"at", "seconds", "channel", "live seconds", "bitrate", "load", "viewers", "most viewers"})
		var list []records.Statistic
		list, err = h.desk.DB.Statistics(ctx, channel, from, to)
		for _, v := range list {
			rows = append(rows, []string{date(time.Unix(v.At, 0)), itoa(v.Seconds), v.Channel, itoa(v.Live), itoa(v.Bitrate), itoa(v.Load), strconv.FormatFloat(float64(v.Viewers)/1000, 'f', 3, 64), itoa(v.Peak)})
		}
	case "events.csv":
		rows = append(rows, []string{"at", "channel", "level", "kind", "text", "remedy", "times"})
		var list []records.Event
		list, err = h.desk.DB.Events(ctx, channel, MaxExported)
		for i := len(list) - 1; i >= 0; i-- {
			if v := &list[i]; within(v.At) {
				rows = append(rows, []string{date(v.At), v.Channel, v.Level, v.Kind, v.Text, v.Remedy, itoa(v.Count)})
			}
		}
	case "feeds.csv":
		rows = append(rows, []string{"begun", "ended", "channel", "protocol", "from", "reason"})
		var list []records.Feed
		list, err = h.desk.DB.Feeds(ctx, channel, MaxExported)
		for i := len(list) - 1; i >= 0; i-- {
			v := &list[i]
			ended := ""
			if v.Ended != nil {
				ended = date(*v.Ended)
			}
			if within(v.Begun) {
				rows = append(rows, []string{date(v.Begun), ended, v.Channel, v.Protocol, v.Remote, v.Reason})
			}
		}
	default:
		return nil, refuse(NotFound, "", "found %.40q, expected %s", what, strings.Join(exportTables, ", "))
	}
	for _, row := range rows {
		for i, cell := range row { // a program that reads tables is not to take it for a formula
			if cell != "" && (cell[0] == '=' || cell[0] == '+' || cell[0] == '@') {
				row[i] = "'" + cell
			}
		}
	}
	return rows, err
}
