package control

import (
	"context"
	"encoding/csv"
	"fmt"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"github.com/go-chi/chi/v5"

	"metaplasis/internal/api"
	"metaplasis/internal/library"
	"metaplasis/internal/origin"
	"metaplasis/internal/origin/status"
	"metaplasis/internal/protocol/studio"
	"metaplasis/internal/settings"
)

// describe is a channel as the API shows it.
func (q *request) describe(c *origin.Channel) api.Channel {
	set := c.Settings()
	return api.Channel{Settings: set.Shown(), Revision: q.Channels.Revision(c.Slug()), Created: c.Created(), Status: q.Watch.Status(c),
		Addresses: q.ports.Addresses(q.base(), &set)}
}

func listChannels(q *request) (any, error) {
	out := []api.Channel{}
	for _, c := range q.Channels.All() {
		out = append(out, q.describe(c))
	}
	return out, nil
}

func addChannel(q *request, in settings.Settings) (any, error) {
	c, err := q.Channels.Add(q.ctx(), in, q.by())
	if err != nil {
		return nil, err
	}
	return q.describe(c), nil
}

func changeChannel(q *request, in map[string]any) (any, error) {
	c, err := q.Channels.Change(q.ctx(), q.param("channel"), in, q.by())
	if err != nil {
		return nil, err
	}
	return q.describe(c), nil
}

func setLadder(q *request, in api.NewLadder) (any, error) {
	if err := q.Channels.SetLadder(q.ctx(), q.param("channel"), in, q.by()); err != nil {
		return nil, err
	}
	return q.Channels.Ladder(q.param("channel"))
}

func addKey(q *request, c *origin.Channel, in api.NewKey) (any, error) {
	k, err := q.Keys.Add(q.ctx(), c, in, q.by())
	if err != nil {
		return nil, err
	}
	if set := c.Settings(); !in.Receives {
		q.ports.sendBy(q.base(), &k, &set)
	}
	return k, nil
}

func showPlan(q *request) (any, error) {
	version := 0
	if text := q.query("version"); text != "" {
		var err error
		if version, err = strconv.Atoi(text); err != nil || version < 1 {
			return nil, malformed(fmt.Sprintf("found version %.20q, expected a number from 1", text), "Leave it out for the newest.")
		}
	}
	p, err := q.Plans.Find(q.ctx(), q.param("plan"), version)
	if err != nil {
		return nil, err
	}
	return q.Plans.InUse(p), nil
}

// relay is the name of a relay in the path.
func (q *request) relay() string {
	name := q.param("relay")
	if plain, err := url.PathUnescape(name); err == nil {
		return plain
	}
	return name
}

func turnRelay(off bool) func(*request) (any, error) {
	return func(q *request) (any, error) {
		return q.Relays.Turn(q.ctx(), q.param("channel"), q.relay(), off, q.by())
	}
}

// addressed gives a recording the addresses below which the caller reached us.
func (q *request) addressed(rec api.Recording, err error) (any, error) {
	if err != nil {
		return nil, err
	}
	at := q.base() + "/media/" + rec.Channel
	rec.HLS, rec.DASH = at+"/index.m3u8?"+rec.Query(), at+"/index.mpd?"+rec.Query()
	if rec.Best != "" {
		rec.MP4 = at + "/" + url.PathEscape(rec.Best) + ".mp4?" + rec.Query()
	}
	return rec, nil
}

func listRecordings(q *request) (any, error) {
	list, err := page(q.w, q.r, q.Recordings.List(q.query("channel")), func(rec *api.Recording) string { return strconv.FormatInt(rec.ID, 10) })
	if err != nil {
		return nil, err
	}
	out := []any{}
	for _, rec := range list {
		one, _ := q.addressed(rec, nil)
		out = append(out, one)
	}
	return out, nil
}

// verifyWithin bounds one verification: of 200 GB at 100 MB a second.
const verifyWithin = 40 * time.Minute

func verifyRecording(q *request, id int64) (any, error) {
	ctx, cancel := context.WithTimeout(q.patient, verifyWithin)
	defer cancel()
	_ = http.NewResponseController(q.w).SetWriteDeadline(time.Now().Add(verifyWithin))
	return q.Recordings.Verify(ctx, id)
}

// item gives an item the addresses below which the caller reached us.
func (q *request) item(e library.Entry) library.Entry {
	address := q.base() + "/items/" + e.Name
	e.Download = address + "/file"
	if e.Trouble == "" && e.Looking == 0 {
		if e.HLS = address + "/index.m3u8"; !e.Packed {
			e.DASH = address + "/index.mpd"
		}
		if e.Transport {
			e.TS = address + "/ts.m3u8"
		}
	}
	return e
}

func listItems(q *request) (any, error) {
	list, err := page(q.w, q.r, q.Items.List(), func(e *library.Entry) string { return e.Name })
	for i := range list {
		list[i] = q.item(list[i])
	}
	return list, err
}

// afterwards is an item after something was done to it.
func (q *request) afterwards(err error) (any, error) {
	if err != nil {
		return nil, err
	}
	e, err := q.Items.Show(q.param("item"))
	if err != nil {
		return nil, err
	}
	return q.item(e), nil
}

func showStudio(q *request) (any, error) {
	out := api.Studio{Sources: []studio.Source{}, Wrong: []string{}}
	if q.Studio != nil && q.Studio.On() {
		list, wrong := q.Studio.List()
		out.On, out.Sources, out.Wrong = true, list, append(out.Wrong, wrong...)
	}
	return out, nil
}

// between reads the times from and to of a query: the last day when nobody says.
func between(r *http.Request) (from, to time.Time, err error) {
	now := time.Now()
	from, to = now.Add(-24*time.Hour), now.Add(time.Minute)
	for name, at := range map[string]*time.Time{"from": &from, "to": &to} {
		if text := r.URL.Query().Get(name); text != "" {
			if *at, _, err = origin.ParseTime(text, now, nil); err != nil {
				return from, to, malformed(fmt.Sprintf("found %s=%.40q: %v", name, text, err), "Take RFC 3339, or 20 minutes ago.")
			}
		}
	}
	return from, to, nil
}

func listStatistics(q *request) (any, error) {
	from, to, err := between(q.r)
	if err != nil {
		return nil, err
	}
	return q.History.Statistics(q.ctx(), q.query("channel"), from, to)
}

// export writes records as a table, RFC 4180: statistics, events or feeds.
func (s *Service) export(w http.ResponseWriter, r *http.Request) {
	from, to, err := between(r)
	if err != nil {
		s.failed(w, err)
		return
	}
	rows, err := s.History.Table(r.Context(), chi.URLParam(r, "what"), r.URL.Query().Get("channel"), from, to)
	if err != nil {
		s.failed(w, err)
		return
	}
	w.Header().Set("Content-Type", "text/csv; charset=utf-8; header=present")
	w.Header().Set("Cache-Control", "no-store")
	_ = csv.NewWriter(w).WriteAll(rows) // who asked is gone
}

// maxPublicMarkers is how many markers a viewer's page is told of.
//
//limit:markers that a viewer's page is told of | each channel | the newest are told
const maxPublicMarkers = 200

// public is what a viewer's page may know of a channel.
func public(q *request, c *origin.Channel) (any, error) {
	st := c.Status()
	p := api.Public{Title: st.Title, State: st.State, Rungs: c.Offered(), Extras: c.Extras()}
	if st.LastFeed != nil {
		p.Ended = &st.LastFeed.Ended
	}
	if !c.Playable() {
		p.Starts = c.StartsIn()
	}
	oldest := q.Recordings.Past(c)
	if oldest.IsZero() {
		return p, nil
	}
	p.Oldest = &oldest
	list := c.Markers()
	for _, m := range list[max(len(list)-maxPublicMarkers, 0):] {
		if m.At.After(oldest) {
			p.Markers = append(p.Markers, api.PublicMarker{ID: m.ID, At: m.At, Text: strings.TrimSpace(m.Class + " " + m.Text)})
		}
	}
	return p, nil
}

// publicList tells anybody of the channels that may be listed and are on air.
func publicList(q *request) (any, error) {
	out := []api.Listed{}
	for _, c := range q.Channels.All() {
		set := c.Settings()
		if !set.Listed {
			continue
		}
		if state := c.Status().State; state == status.Live || state == status.Degraded {
			a := q.ports.Addresses(q.base(), &set)
			out = append(out, api.Listed{Channel: set.Slug, Title: set.Title, State: state, Watch: a.Watch, Picture: a.Picture})
		}
	}
	return out, nil
}

// forPages lets pages of others have an answer: players stand in them.
func forPages(call func(*request) (any, error)) func(*request) (any, error) {
	return func(q *request) (any, error) {
		q.w.Header().Set("Access-Control-Allow-Origin", "*")
		return call(q)
	}
}
