package origin

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"metaplasis/internal/core/hls"
	"metaplasis/internal/core/ladder"
	"metaplasis/internal/core/scte35"
	"metaplasis/internal/core/segment"
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

	event string // of a splice: its event, whose number may be used anew
}

// spliceRepeats is for how long the same message counts as a repetition of itself.
const spliceRepeats = 5 * time.Second

// maxMarkers bounds what a channel remembers.
const maxMarkers = 256

// ErrBadMarker says that a marker cannot be set.
var ErrBadMarker = errors.New("the marker was not set")

// Mark sets a marker; without a time it stands at now. It returns the marker as it was stored.
func (c *Channel) Mark(m Marker) (Marker, error) {
	now := c.o.Now()
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
	c.mu.Lock()
	defer c.mu.Unlock()
	c.markerCount++
	if m.ID == "" {
		m.ID = fmt.Sprintf("m%d-%d", m.At.UnixMilli(), c.markerCount)
	}
	c.setMarker(m)
	return m, nil
}

func (c *Channel) setMarker(m Marker) {
	c.markers = append(c.markers, m)
	if n := len(c.markers) - maxMarkers; n > 0 {
		c.markers = append([]Marker(nil), c.markers[n:]...)
	}
	c.describe() // the manifest lists markers too
}

// splice turns a section that came with the feed into a marker. The section that returns to the
// programme completes the marker of the one that left it.
func (c *Channel) splice(at time.Time, section []byte) {
	var s scte35.Section
	if err := s.Unmarshal(section); err != nil {
		c.badCue = c.o.Now()
		c.event(Warning, "splice-refused", "The sender sent a cue message that could not be read: "+err.Error(),
			"Look at the encoder's SCTE 35 settings.")
		return
	}
	id := fmt.Sprintf("splice-%d", s.EventID)
	for i := len(c.markers) - 1; i >= 0; i-- {
		m := &c.markers[i]
		if m.event != id {
			continue
		}
		if s.In && !m.Returned {
			m.Return, m.Returned, m.DurationMillis = section, true, at.Sub(m.At).Milliseconds()
			c.describe()
			return
		}
		if s.In || !m.Returned && at.Before(m.At.Add(max(time.Duration(m.DurationMillis)*time.Millisecond,
			spliceRepeats))) || at.Sub(m.At) < spliceRepeats {
			return // it comes again, as cue messages do
		}
		break // the number is used anew, once the event before it is over
	}
	if s.Cancel || s.Command == scte35.Null || s.In {
		return
	}
	m := Marker{ID: id, Class: "splice", At: at, Splice: section, Out: s.Out, event: id}
	if slices.ContainsFunc(c.markers, func(o Marker) bool { return o.event == id }) {
		m.ID = fmt.Sprintf("%s-%d", id, at.UnixMilli())
	}
	if s.Duration > 0 {
		m.DurationMillis = s.Duration / 90
	}
	c.setMarker(m)
}

// Markers returns the markers that are remembered, oldest first.
func (c *Channel) Markers() []Marker {
	c.mu.Lock()
	defer c.mu.Unlock()
	return append([]Marker{}, c.markers...)
}

// markersWithin returns the markers that are not over before what a playlist shows begins.
func (c *Channel) markersWithin(s *segment.Snapshot) (out []Marker) {
	first := s.Open
	if len(s.Listed) > 0 {
		first = s.Listed[0]
	}
	if first == nil {
		return nil
	}
	begin := hls.WallClock(c.epoch, first.Start)
	for _, m := range c.markers {
		if m.At.Add(time.Duration(m.DurationMillis) * time.Millisecond).Before(begin) {
			continue
		}
		out = append(out, m)
	}
	return out
}

func (c *Channel) rangesWithin(s *segment.Snapshot) (out []hls.DateRange) {
	for _, m := range c.markersWithin(s) {
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
		out = append(out, r)
	}
	return out
}
