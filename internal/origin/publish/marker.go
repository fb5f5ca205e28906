package publish

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"metaplasis/internal/core/hls"
	"metaplasis/internal/core/ladder"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/scte35"
	"metaplasis/internal/core/segment"
	"metaplasis/internal/present"
)

// Marker is a timed event on a channel. Players see it as a date range or an event.
type Marker struct {
	ID             string    `json:"id"`
	Class          string    `json:"class"` // what kind of thing it is, such as start or finish
	Text           string    `json:"text"`
	At             time.Time `json:"at"`
	DurationMillis int64     `json:"durationMillis,omitempty"` // 0: not known
	// Splice is a splice_info_section (ANSI/SCTE 35) that came with the feed.
	Splice   []byte `json:"splice,omitempty"`
	Out      bool   `json:"out,omitempty"`      // the splice leaves the programme
	Return   []byte `json:"return,omitempty"`   // the section that returned to it
	Returned bool   `json:"returned,omitempty"` // DurationMillis is what it took, not what was planned

	event string // of a splice: its event, whose number may be used again
}

// spliceRepeats is for how long the same message counts as a repetition of itself.
const spliceRepeats = 5 * time.Second

// MaxMarkers bounds what a channel remembers.
//
//limit:markers | each channel | the oldest are forgotten
const MaxMarkers = 256

// openFor is for how long a splice that leaves the programme, and says neither for how long nor that it is over, is told of.
const openFor = 24 * time.Hour

// ErrBadMarker says that a marker cannot be set.
var ErrBadMarker = errors.New("the marker was not set")

// Mark sets a marker; without a time it stands at now. It returns the marker as it was stored.
func (a *Annotations) Mark(m Marker, now time.Time) (Marker, error) {
	switch {
	case strings.TrimSpace(m.Text) == "" && m.Splice == nil:
		return m, fmt.Errorf("%w: found no text, expected some words that say what happens", ErrBadMarker)
	case ladder.CheckText("text", m.Text, 500) != nil:
		return m, fmt.Errorf("%w: %v", ErrBadMarker, ladder.CheckText("text", m.Text, 500))
	case ladder.CheckText("class", m.Class, 60) != nil:
		return m, fmt.Errorf("%w: %v", ErrBadMarker, ladder.CheckText("class", m.Class, 60))
	case m.DurationMillis < 0 || m.DurationMillis > 24*3600*1000:
		return m, fmt.Errorf("%w: found a duration of %d ms, expected 0 to a day", ErrBadMarker, m.DurationMillis)
	case m.At.IsZero():
		m.At = now
	case m.At.Sub(now).Abs() > time.Hour:
		return m, fmt.Errorf("%w: found the time %s, expected one within an hour of now", ErrBadMarker,
			m.At.Format(time.RFC3339))
	}
	if m.Class == "" {
		m.Class = "marker"
	}
	return a.set(m), nil
}

// Annotations are what is said beside the media: markers, and what is playing. They have a lock of their own.
type Annotations struct {
	mu         sync.Mutex
	markers    []Marker
	count      int // markers ever
	playing    NowPlaying
	cover      string // media type of its picture
	titled     bool   // something was ever said to be playing
	coverEvery int    // segments
}

// set sets a marker and returns it as it was stored.
func (a *Annotations) set(m Marker) Marker {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.count++
	if m.ID == "" {
		m.ID = fmt.Sprintf("m%d-%d", m.At.UnixMilli(), a.count)
	}
	a.add(m)
	return m
}

func (a *Annotations) add(m Marker) {
	a.markers = append(a.markers, m)
	if n := len(a.markers) - MaxMarkers; n > 0 {
		a.markers = append([]Marker(nil), a.markers[n:]...)
	}
}

// Splice turns a section that came with the feed into a marker, and reports whether something is to be
// told again. The section that returns to the programme completes the marker of the one that left it.
func (a *Annotations) Splice(at time.Time, s *scte35.Section, section []byte) (changed Marker, ok bool) {
	a.mu.Lock()
	defer a.mu.Unlock()
	id := spliceID(s)
	for i := len(a.markers) - 1; i >= 0; i-- {
		m := &a.markers[i]
		if m.event != id {
			continue
		}
		if s.In && !m.Returned {
			m.Return, m.Returned, m.DurationMillis = section, true, at.Sub(m.At).Milliseconds()
			return *m, true
		}
		if s.In || !m.Returned && at.Before(m.At.Add(max(time.Duration(m.DurationMillis)*time.Millisecond,
			spliceRepeats))) || at.Sub(m.At) < spliceRepeats {
			return Marker{}, false // it comes again, as cue messages do
		}
		break // the number is used again, once the event before it is over
	}
	if s.Cancel || s.Command == scte35.Null || s.In {
		return Marker{}, false
	}
	m := Marker{ID: id, Class: "splice", At: at, Splice: section, Out: s.Out, event: id}
	if slices.ContainsFunc(a.markers, func(o Marker) bool { return o.event == id }) {
		m.ID = fmt.Sprintf("%s-%d", id, at.UnixMilli())
	}
	if s.Duration > 0 {
		m.DurationMillis = s.Duration / 90
	}
	a.add(m)
	return m, true
}

// Recall takes what was stored, the oldest first, before anything is marked.
func (a *Annotations) Recall(list []Marker) {
	a.mu.Lock()
	defer a.mu.Unlock()
	for _, m := range list {
		var s scte35.Section
		if m.Splice != nil && s.Unmarshal(m.Splice) == nil {
			m.event = spliceID(&s)
		}
		a.add(m)
	}
}

// spliceID names the event of a splice.
func spliceID(s *scte35.Section) string { return fmt.Sprintf("splice-%d", s.EventID) }

// Markers returns the markers that are remembered, oldest first.
func (a *Annotations) Markers() []Marker {
	a.mu.Lock()
	defer a.mu.Unlock()
	return append([]Marker{}, a.markers...)
}

// rangesWithin returns the markers that are not over before what a playlist shows begins.
func (a *Annotations) rangesWithin(epoch time.Time, s *segment.Snapshot) (out []hls.DateRange) {
	first := s.Open
	if len(s.Listed) > 0 {
		first = s.Listed[0]
	}
	if first == nil {
		return nil
	}
	return a.Ranges(media.WallClock(epoch, first.Start), time.Time{})
}

// Ranges returns the markers that are not over before a time, nor begin behind another one; zero for no such time.
func (a *Annotations) Ranges(from, to time.Time) (out []hls.DateRange) {
	a.mu.Lock()
	defer a.mu.Unlock()
	for i := range a.markers {
		if m := &a.markers[i]; !m.end().Before(from) && (to.IsZero() || m.At.Before(to)) {
			out = append(out, m.dateRange())
		}
	}
	return out
}

// end is when the marker is over. A splice that left the programme for as long as nobody knows lasts until its return comes: a
// player that is told of the return must know what it returns from (RFC 8216, 4.3.2.7.1).
func (m *Marker) end() time.Time {
	if m.Out && !m.Returned && m.DurationMillis == 0 {
		return m.At.Add(openFor)
	}
	return m.At.Add(time.Duration(m.DurationMillis) * time.Millisecond)
}

func (a *Annotations) Noted() (out []present.Marker) {
	for _, m := range a.Markers() {
		out = append(out, present.Marker{ID: m.ID, Class: m.Class, Text: m.Text, At: m.At, DurationMillis: m.DurationMillis, Splice: m.Splice})
	}
	return out
}

// dateRange writes the marker as playlists show it (RFC 8216, 4.3.2.7).
func (m *Marker) dateRange() hls.DateRange {
	r := hls.DateRange{ID: m.ID, Class: m.Class, Start: m.At, Duration: -1, Planned: -1}
	if m.DurationMillis > 0 {
		if r.Duration = time.Duration(m.DurationMillis) * time.Millisecond; m.Splice != nil && !m.Returned {
			r.Duration, r.Planned = -1, r.Duration
		}
	}
	if m.Text != "" {
		r.Names, r.Text = []string{"X-TEXT"}, map[string]string{"X-TEXT": m.Text}
	}
	switch {
	case m.Out:
		r.SCTE35Out, r.SCTE35In = m.Splice, m.Return
	case m.Splice != nil:
		r.SCTE35Cmd = m.Splice
	}
	return r
}
