package origin

import (
	"fmt"
	"sort"
	"time"

	"metaplasis/internal/core/ladder"
	"metaplasis/internal/core/media"
	"metaplasis/internal/worker"
)

// State says how a channel is, in one word.
type State string

// The states of a channel.
const (
	Waiting  State = "waiting"  // no sender
	Starting State = "starting" // a sender, but no segment yet
	Live     State = "live"
	Degraded State = "degraded" // live, with a problem that viewers may notice
	Failed   State = "failed"   // a sender, and nothing comes out
)

// Status is a channel at a glance.
type Status struct {
	Slug        string            `json:"slug"`
	Title       string            `json:"title"`
	State       State             `json:"state"`
	Problems    []ladder.Problem  `json:"problems"`
	Feed        *FeedStatus       `json:"feed,omitempty"`
	Renditions  []RenditionStatus `json:"renditions"`
	Rungs       []ladder.Rung     `json:"rungs"` // in force
	Worker      *WorkerStatus     `json:"worker,omitempty"`
	Viewers     map[string]int    `json:"viewers,omitempty"` // by protocol
	PartTarget  int64             `json:"partTarget"`        // milliseconds, 0 before the first feed
	Memory      int64             `json:"memory"`            // bytes of segments held
	MemoryBound int64             `json:"memoryBound"`       // bytes that the settings allow
	PictureAt   int64             `json:"pictureAt"`         // milliseconds since 1970, 0 without one
}

// FeedStatus is the sender's side.
type FeedStatus struct {
	Protocol  string        `json:"protocol"`
	Remote    string        `json:"remote"`
	Begun     time.Time     `json:"begun"`
	Tracks    []media.Track `json:"tracks"`
	Bitrate   int64         `json:"bitrate"`   // bits a second, over the last seconds
	FrameRate int64         `json:"frameRate"` // thousandths, over the last seconds
}

// RenditionStatus is one rendition.
type RenditionStatus struct {
	Name      string `json:"name"`
	Kind      string `json:"kind"`
	Codec     string `json:"codec"`
	Width     int    `json:"width,omitempty"`
	Height    int    `json:"height,omitempty"`
	FrameRate int64  `json:"frameRate,omitempty"` // thousandths
	Peak      int64  `json:"peak"`
	Average   int64  `json:"average"`
	Segments  int    `json:"segments"`
	First     uint64 `json:"first"`
	Last      uint64 `json:"last"`
	Lost      uint64 `json:"lost"` // access units without a place
	Retired   bool   `json:"retired,omitempty"`
}

// WorkerStatus is the load of a channel's worker.
type WorkerStatus struct {
	PID       int   `json:"pid"`
	Load      int64 `json:"load"` // thousandths of real time that the busiest stage takes; above 1000 it does not keep up
	CPU       int64 `json:"cpu"`  // thousandths of one core
	LagMillis int64 `json:"lag"`
	Dropped   int64 `json:"dropped"`  // pictures left out since the feed began
	Dropping  int64 `json:"dropping"` // thousandths of all pictures, over the last seconds
	Skipped   int64 `json:"skipped"`
	Replaced  int64 `json:"replaced"`
	Lost      int64 `json:"lost"` // units that the worker did not take
}

// meter measures what comes in. Rates are over a few seconds, so that they do not flicker.
type meter struct {
	bytes, frames int64
	since         time.Time
	bitrate, rate int64
}

func (m *meter) reset(now time.Time) { *m = meter{since: now} }

func (m *meter) add(kind media.Kind, n int) {
	m.bytes += int64(n)
	if kind == media.Video {
		m.frames++
	}
}

const meterSpan = 2 * time.Second

func (m *meter) measure(now time.Time) {
	d := now.Sub(m.since)
	if d < meterSpan {
		return
	}
	m.bitrate = m.bytes * 8 * int64(time.Second) / int64(d)
	m.rate = m.frames * 1000 * int64(time.Second) / int64(d)
	m.bytes, m.frames, m.since = 0, 0, now
}

// load measures a worker against real time.
type load struct {
	now, before         worker.Stats
	at                  time.Time
	known               bool
	busy, cpu, dropping int64
	replaced            int64
	droppedBase         int64
}

func (l *load) reset() { *l = load{} }
func (l *load) idle()  { l.known, l.busy, l.cpu, l.dropping = false, 0, 0, 0 }

func (l *load) take(st worker.Stats, now time.Time) {
	if !l.known || st.PID != l.before.PID {
		if l.known {
			l.droppedBase += l.now.Dropped
		}
		l.before, l.at, l.known = st, now, true
	}
	l.now = st
	wall := now.Sub(l.at).Microseconds()
	if wall < meterSpan.Microseconds() {
		return
	}
	l.busy = max(0, st.Busy-l.before.Busy) * 1000 / wall
	l.cpu = max(0, st.CPU-l.before.CPU) * 1000 / wall
	l.dropping = 0
	skipped := st.Skipped - l.before.Skipped // they never were decoded
	if all := st.Decoded - l.before.Decoded + skipped; all > 0 {
		l.dropping = min(1000, (st.Dropped-l.before.Dropped+skipped)*1000/all)
	}
	l.before, l.at = st, now
}

func (c *Channel) measure() {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.in.measure(c.o.Now())
	for _, r := range *c.renditions.Load() {
		r.nudge(time.Now())
	}
}

// Status returns the channel at a glance.
func (c *Channel) Status() Status {
	c.mu.Lock()
	defer c.mu.Unlock()
	st := Status{Slug: c.slug, Title: c.settings.Title, State: Waiting, Problems: []ladder.Problem{}, Renditions: []RenditionStatus{}, Rungs: c.onAir}
	if st.Rungs == nil {
		st.Rungs = c.settings.Ladder.Rungs
	}
	if st.Rungs == nil {
		st.Rungs = []ladder.Rung{}
	}
	for name, r := range *c.renditions.Load() {
		v := r.View()
		if v == nil {
			continue
		}
		st.Memory += v.Snapshot.Bytes
		for _, s := range v.Snapshot.All {
			st.Memory += s.Made.Size()
		}
		if rs, ok := c.renditionStatus(name, v); ok {
			st.Renditions = append(st.Renditions, rs)
		}
	}
	sort.Slice(st.Renditions, func(i, j int) bool {
		a, b := st.Renditions[i], st.Renditions[j]
		if a.Kind != b.Kind {
			return a.Kind > b.Kind
		}
		return a.Width*a.Height > b.Width*b.Height || a.Width*a.Height == b.Width*b.Height && a.Name < b.Name
	})
	st.PartTarget = ticks(c.partTarget).Milliseconds()
	if p := c.picture.Load(); p != nil {
		st.PictureAt = p.At.UnixMilli()
	}
	st.MemoryBound = c.settings.MemoryBound(st.Rungs, max(c.in.bitrate, 8_000_000))
	if f := c.feed; f != nil {
		st.Feed = &FeedStatus{Protocol: f.protocol, Remote: f.remote, Begun: f.begun, Bitrate: c.in.bitrate, FrameRate: c.in.rate, Tracks: []media.Track{}}
		for _, t := range []*media.Track{f.video, f.audio} {
			if t != nil {
				st.Feed.Tracks = append(st.Feed.Tracks, *t)
			}
		}
		c.judge(&st)
	}
	return st
}

func (c *Channel) renditionStatus(name string, v *View) (RenditionStatus, bool) {
	all := v.Snapshot.All
	if len(all) == 0 {
		return RenditionStatus{}, false
	}
	t := all[len(all)-1].Header.Track
	rs := RenditionStatus{
		Name: name, Kind: t.Kind.String(), Codec: t.CodecName, Peak: v.Peak, Average: v.Average,
		Segments: len(v.Snapshot.Advertised), First: all[0].MSN, Last: all[len(all)-1].MSN, Retired: v.Retired, FrameRate: t.FrameRate.Milli(),
	}
	if t.Kind == media.Video {
		rs.Width, rs.Height = ladder.Display(&t)
	}
	if c.session != nil {
		if o := c.session.outputs[name]; o != nil {
			rs.Lost = o.cutter.Dropped
		}
	}
	return rs, true
}

// judge names the state of a channel that has a sender, and its problems.
func (c *Channel) judge(st *Status) {
	problem := func(field, text string, args ...any) {
		st.Problems = append(st.Problems, ladder.Problem{Field: field, Text: fmt.Sprintf(text, args...)})
		st.State = Degraded
	}
	st.State = Starting
	if !c.firstMedia.IsZero() && c.documents.Load() != nil {
		st.State = Live
	}
	if c.session != nil && c.session.sup != nil {
		l := &c.load
		lost, _ := c.session.sup.Lost()
		st.Worker = &WorkerStatus{
			PID: c.session.sup.PID(), Load: l.busy, CPU: l.cpu, LagMillis: l.now.LagMillis,
			Dropped: l.droppedBase + l.now.Dropped, Dropping: l.dropping, Skipped: l.now.Skipped, Replaced: l.replaced, Lost: lost,
		}
		switch {
		case l.dropping > 0 && c.needsPictures():
			problem("worker", "The processor does not keep up: %d.%d %% of the pictures are left out. Turn a rung off, or lower the effort or size of one.", l.dropping/10, l.dropping%10)
		case l.now.LagMillis > 1000:
			problem("worker", "The worker is %d ms behind the sender. If it stays, turn a rung off or lower its effort.", l.now.LagMillis)
		}
	}
	if c.session != nil && c.session.warnedGap {
		problem("feed", "The sender's keyframes are further apart than the segments should be. Set its keyframe interval to %d ms.", c.settings.SegmentMillis)
	}
	if c.session == nil && c.o.Now().Sub(c.feed.begun) > 5*time.Second {
		problem("feed", "The sender is connected, but no track has come. Start the encoder's output, and check that it sends H.264 and AAC.")
		st.State = Failed
	}
	if age := c.o.Now().Sub(c.feed.begun); c.firstMedia.IsZero() && c.session != nil && age > 15*time.Second {
		problem("feed", "Media arrives, but no segment could be made for %d s. Check that the encoder sends keyframes.", int(age.Seconds()))
		st.State = Failed
	}
}

func (c *Channel) needsPictures() bool { return c.session != nil && len(c.session.config.Rungs) > 0 }
