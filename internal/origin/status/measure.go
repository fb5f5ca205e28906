package status

import (
	"slices"
	"time"

	"metaplasis/internal/core/media"
	"metaplasis/internal/core/transcode"
	"metaplasis/internal/worker"
)

// span is over what time rates are measured, so that they do not flicker.
const span = 2 * time.Second

// Meter measures what comes in.
type Meter struct {
	Bitrate   int64         // bits per second
	FrameRate int64         // thousandths
	Gap       time.Duration // the longest that nothing came

	bytes, frames int64
	since         time.Time
	heard         time.Time
	gap           time.Duration // so far in this span
}

// Reset starts over.
func (m *Meter) Reset(now time.Time) { *m = Meter{since: now} }

// Add takes so many bytes that came.
func (m *Meter) Add(n int, now time.Time, picture bool) {
	if !m.heard.IsZero() {
		m.gap = max(m.gap, now.Sub(m.heard))
	}
	m.heard = now
	m.bytes += int64(n)
	if picture {
		m.frames++
	}
}

// Measure looks at what came, once a second.
func (m *Meter) Measure(now time.Time) {
	d := now.Sub(m.since)
	if d < span {
		return
	}
	m.Bitrate = media.PerSecond(m.bytes*8, int64(d), int64(time.Second))
	m.FrameRate = media.PerSecond(m.frames*1000, int64(d), int64(time.Second))
	if !m.heard.IsZero() {
		m.gap = max(m.gap, now.Sub(m.heard))
	}
	m.Gap = m.gap
	m.bytes, m.frames, m.gap, m.since = 0, 0, 0, now
}

// Load measures a worker against real time.
type Load struct {
	Known      bool
	Now        worker.Stats
	Busy       int64 // thousandths of real time that the busiest stage takes
	CPU        int64 // thousandths of one core
	Dropping   int64 // thousandths of all pictures
	Errors     int64 // thousandths of the access units that the decoder refused
	Nodes      []NodeStatus
	Replaced   int64     // how often
	Why        string    // the worker before was lost
	ReplacedAt time.Time // when

	before      worker.Stats
	at          time.Time
	droppedBase int64
}

// Reset starts over, with another feed.
func (l *Load) Reset() { *l = Load{} }

// Idle says that no worker has anything to do.
func (l *Load) Idle() { l.Known, l.Busy, l.CPU, l.Dropping = false, 0, 0, 0 }

// Replace notes that a worker was replaced.
func (l *Load) Replace(why string, now time.Time) {
	l.Replaced++
	l.Why, l.ReplacedAt = why, now
}

// Dropped is how many pictures were left out since the feed began.
func (l *Load) Dropped() int64 { return l.droppedBase + l.Now.Dropped }

// Take takes what a worker has done so far.
func (l *Load) Take(st worker.Stats, now time.Time) {
	if !l.Known || st.PID != l.before.PID {
		if l.Known {
			l.droppedBase += l.Now.Dropped
		}
		l.before, l.at, l.Known = st, now, true
	}
	l.Now = st
	wall := now.Sub(l.at).Microseconds()
	if wall < span.Microseconds() {
		return
	}
	l.Busy = max(0, st.Busy-l.before.Busy) * 1000 / wall
	l.CPU = max(0, st.CPU-l.before.CPU) * 1000 / wall
	l.Dropping = 0
	skipped := st.Skipped - l.before.Skipped // they never were decoded
	if all := st.Decoded - l.before.Decoded + skipped; all > 0 {
		l.Dropping = min(1000, (st.Dropped-l.before.Dropped+skipped)*1000/all)
	}
	l.Errors = 0
	if all := st.Decoded - l.before.Decoded + st.Errors - l.before.Errors; all > 0 {
		l.Errors = (st.Errors - l.before.Errors) * 1000 / all
	}
	l.Nodes = measureNodes(l.before.Nodes, st.Nodes, wall)
	l.before, l.at = st, now
}

// measureNodes compares what nodes have done by two times, so many microseconds apart.
func measureNodes(before, now []transcode.Node, wall int64) []NodeStatus {
	out := make([]NodeStatus, 0, len(now))
	for _, n := range now {
		s := NodeStatus{Kind: n.Kind, Rendition: n.Rendition}
		i := slices.IndexFunc(before, func(b transcode.Node) bool { return b.Kind == n.Kind && b.Rendition == n.Rendition })
		if i >= 0 && n.Units >= before[i].Units { // else its count started over
			n.Units, n.Busy = n.Units-before[i].Units, n.Busy-before[i].Busy
		}
		if n.Units > 0 {
			s.Micros = n.Busy / n.Units
		}
		s.Load = n.Busy * 1000 / wall
		out = append(out, s)
	}
	return out
}
