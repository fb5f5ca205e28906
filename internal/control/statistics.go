package control

import (
	"context"
	"encoding/csv"
	"fmt"
	"net/http"
	"strconv"
	"sync"
	"time"

	"github.com/go-chi/chi/v5"

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

// storeMinutes hands whole minutes to the records.
func (s *Service) storeMinutes(over []records.Statistic) {
	if len(over) > 0 {
		s.journal.Put(records.Write{Size: len(over) * 100, Do: func(ctx context.Context, db *records.DB) error { return db.PutStatistics(ctx, over) }})
	}
}

// between reads the times from and to of a query: the last day when nobody says.
func between(r *http.Request) (from, to time.Time, err error) {
	now := time.Now()
	from, to = now.Add(-24*time.Hour), now.Add(time.Minute)
	for name, at := range map[string]*time.Time{"from": &from, "to": &to} {
		if text := r.URL.Query().Get(name); text != "" {
			if *at, _, err = origin.ParseTime(text, now, nil); err != nil {
				return from, to, fail(http.StatusBadRequest, fmt.Sprintf("found %s=%.40q: %v", name, text, err), "Take RFC 3339, or 20 minutes ago.")
			}
		}
	}
	return from, to, nil
}

func (s *Service) listStatistics(_ http.ResponseWriter, r *http.Request) (any, error) {
	from, to, err := between(r)
	if err != nil {
		return nil, err
	}
	return s.db.Statistics(r.Context(), r.URL.Query().Get("channel"), from, to)
}

// export writes records as a table, RFC 4180: statistics, events or feeds.
func (s *Service) export(w http.ResponseWriter, r *http.Request) {
	from, to, err := between(r)
	if err != nil {
		s.answer(func(http.ResponseWriter, *http.Request) (any, error) { return nil, err })(w, r)
		return
	}
	channel := r.URL.Query().Get("channel")
	var rows [][]string
	date := func(t time.Time) string { return t.UTC().Format(time.RFC3339) }
	within := func(t time.Time) bool { return !t.Before(from) && t.Before(to) }
	switch what := chi.URLParam(r, "what"); what {
	case "statistics.csv":
		rows = append(rows, []string{"at", "seconds", "channel", "live seconds", "bitrate", "load", "viewers", "most viewers"})
		var list []records.Statistic
		list, err = s.db.Statistics(r.Context(), channel, from, to)
		for _, v := range list {
			rows = append(rows, []string{date(time.Unix(v.At, 0)), itoa(v.Seconds), v.Channel, itoa(v.Live), itoa(v.Bitrate), itoa(v.Load), strconv.FormatFloat(float64(v.Viewers)/1000, 'f', 3, 64), itoa(v.Peak)})
		}
	case "events.csv":
		rows = append(rows, []string{"at", "channel", "level", "kind", "text", "remedy", "times"})
		var list []records.Event
		list, err = s.db.Events(r.Context(), channel, maxExported)
		for i := len(list) - 1; i >= 0; i-- {
			if v := &list[i]; within(v.At) {
				rows = append(rows, []string{date(v.At), v.Channel, v.Level, v.Kind, v.Text, v.Remedy, itoa(v.Count)})
			}
		}
	case "feeds.csv":
		rows = append(rows, []string{"begun", "ended", "channel", "protocol", "from", "reason"})
		var list []records.Feed
		list, err = s.db.Feeds(r.Context(), channel, maxExported)
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
		s.refuse(w, http.StatusNotFound, fmt.Sprintf("found %.40q, expected statistics.csv, events.csv or feeds.csv", what), "")
		return
	}
	if err != nil {
		s.broken(w, err)
		return
	}
	w.Header().Set("Content-Type", "text/csv; charset=utf-8; header=present")
	w.Header().Set("Cache-Control", "no-store")
	for _, row := range rows {
		for i, cell := range row { // a program that reads tables is not to take it for a formula
			if cell != "" && (cell[0] == '=' || cell[0] == '+' || cell[0] == '@') {
				row[i] = "'" + cell
			}
		}
	}
	_ = csv.NewWriter(w).WriteAll(rows) // who asked is gone
}

// maxExported is how many events or feeds come at a time.
//
//limit:events or feeds that come at a time | each request | the next are asked for by a further request
const maxExported = 20_000
