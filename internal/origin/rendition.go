package origin

import (
	"bytes"
	"compress/gzip"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"strconv"
	"sync"
	"sync/atomic"
	"time"

	"metaplasis/internal/core/bmff"
	"metaplasis/internal/core/coding"
	"metaplasis/internal/core/hls"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/segment"
)

// Rendition is one coded stream of a channel, as delivery sees it.
type Rendition struct {
	Name   string
	window *segment.Window
	view   atomic.Pointer[View]
	until  uint64 // the first segment that is not made any more; 0: none

	standIn *Rendition // goes on in its place since the rung was turned off
}

// View is an immutable picture of a rendition: what a viewer can fetch now. Its playlists are
// made at their first request, once for all who ask.
type View struct {
	Snapshot *segment.Snapshot
	Retired  bool // the rung was turned off: another rendition stands in for it
	Peak     int64
	Average  int64
	Changed  time.Time

	list hls.Media // what the playlists are made of, but for wrapping and skip
	docs [5]*Doc
	next chan struct{} // closed when another view has taken the place of this one
	peer func() []hls.Report
	life string
}

// Doc is a text that is made once, for all who will ask for it.
type Doc struct {
	made sync.Once
	zip  sync.Once
	make func() []byte
	body []byte
	tag  string
	gz   []byte
}

// NewDoc makes a text lazily.
func NewDoc(make func() []byte) *Doc { return &Doc{make: make} }

// Bytes returns the text and its entity tag.
func (d *Doc) Bytes() (body []byte, etag string) {
	d.made.Do(func() {
		d.body = d.make()
		d.tag = `"` + digest(d.body) + `"`
	})
	return d.body, d.tag
}

// Gzip returns the text compressed, and its entity tag.
func (d *Doc) Gzip() (body []byte, etag string) {
	d.zip.Do(func() {
		plain, _ := d.Bytes()
		var b bytes.Buffer
		w, _ := gzip.NewWriterLevel(&b, gzip.BestSpeed) // the level is right
		_, _ = w.Write(plain)                           // memory does not fail
		_ = w.Close()
		d.gz = b.Bytes()
	})
	return d.gz, d.tag[:len(d.tag)-1] + `-gzip"`
}

// The documents of a view.
const (
	docFull = iota
	docDelta
	docTS
	docPacked
	docKeys
)

func newView(list hls.Media, snap *segment.Snapshot, peer func() []hls.Report) *View {
	v := &View{Snapshot: snap, Changed: time.Now(), list: list, next: make(chan struct{}), peer: peer}
	v.life = "public, max-age=" + strconv.FormatInt(6*list.TargetDuration, 10)
	for i := range v.docs {
		v.docs[i] = NewDoc(func() []byte { return v.marshal(i) })
	}
	return v
}

func (v *View) marshal(doc int) []byte {
	m := v.list
	switch doc {
	case docFull, docDelta:
		m.Skip = doc == docDelta
		m.Reports = v.peer()
		return m.Marshal()
	case docTS:
		m.Wrapping = hls.TS
	case docPacked:
		m.Wrapping = hls.Packed
	case docKeys:
		m.Wrapping = hls.Keys
	}
	m.PartTarget = 0
	m.Segments = v.whole()
	return m.Marshal()
}

func (v *View) whole() []*segment.Segment {
	n := len(v.list.Segments)
	if n > 0 && v.list.Segments[n-1].Open {
		n--
	}
	return v.list.Segments[:n]
}

// Transportable reports whether transport streams and packed audio can hold what is in the view, and
// what its codec is called.
func (v *View) Transportable() (ok bool, codec string) {
	all := v.Snapshot.All
	if len(all) == 0 {
		return true, ""
	}
	t := &all[len(all)-1].Header.Track
	return transportable(t), coding.Label(t.Codec)
}

// Playlist returns a playlist of the view. skip asks for a delta update.
func (v *View) Playlist(w hls.Wrapping, skip bool) *Doc {
	switch {
	case w == hls.TS:
		return v.docs[docTS]
	case w == hls.Packed:
		return v.docs[docPacked]
	case w == hls.Keys:
		return v.docs[docKeys]
	case skip:
		return v.docs[docDelta]
	}
	return v.docs[docFull]
}

// Next is closed when the view is not the current one any more.
func (v *View) Next() <-chan struct{} { return v.next }

// BlockedLife is how long a cache may keep the answer to a request that waited for this view: six
// target durations, since its address names the state (draft, B.1).
func (v *View) BlockedLife() string { return v.life }

// Shows reports whether there is enough to begin with for players of parts.
func (v *View) Shows() bool { return v.length() >= startMedia || len(v.whole()) > 1 }

// ShowsWhole reports the same for players of whole segments.
func (v *View) ShowsWhole() bool {
	w := v.whole()
	return len(w) > 1 || len(w) == 1 && (v.length() >= w[0].Duration+startSlack || v.list.Idle)
}

// HoldsBack reports whether the whole segments reach as far back as a player without parts has to stay
// behind the end (RFC 8216, 6.3.3: three target durations).
func (v *View) HoldsBack() bool {
	var n int64
	for _, s := range v.whole() {
		n += s.Duration
	}
	return v.list.Idle || v.Ended() || ticks(n)+slackOfRounding >= 3*v.TargetDuration()
}

// slackOfRounding is what three segments may lack of three target durations, which are whole seconds.
const slackOfRounding = 100 * time.Millisecond

// length is how much media the playlist shows, in ticks of media.VideoTimescale.
func (v *View) length() (n int64) {
	for _, s := range v.list.Segments {
		n += s.Duration
	}
	return n
}

// Ended reports whether nothing will follow for good.
func (v *View) Ended() bool { return v.list.Ended }

// TargetDuration returns the playlist's target duration.
func (v *View) TargetDuration() time.Duration {
	return time.Duration(v.list.TargetDuration) * time.Second
}

// PartTarget returns the playlist's part target duration, 0 without parts.
func (v *View) PartTarget() time.Duration { return ticks(v.list.PartTarget) }

// Newest returns the newest segment that the playlist shows and its newest part; part is -1 when
// the segment is whole.
func (v *View) Newest() (msn uint64, part int) {
	n := len(v.list.Segments)
	if n == 0 {
		return 0, -1
	}
	s := v.list.Segments[n-1]
	if s.Open {
		return s.MSN, len(s.Parts) - 1
	}
	return s.MSN, -1
}

// Has reports whether the playlist holds a segment, or a part of it when part is not negative. A
// part behind the last of its segment is the first of the next one (draft, 6.2.5.2).
func (v *View) Has(msn uint64, part int) bool {
	n := len(v.list.Segments)
	if n == 0 {
		return false
	}
	last := v.list.Segments[n-1]
	switch {
	case last.MSN > msn:
		return true
	case last.MSN < msn:
		return false
	case last.Open:
		return part >= 0 && len(last.Parts) > part
	}
	return part < 0 || len(last.Parts) > part
}

// View returns the current view, nil before the first segment.
func (r *Rendition) View() *View { return r.view.Load() }

// show replaces the view and wakes who waits for that.
func (r *Rendition) show(v *View) {
	if old := r.view.Swap(v); old != nil && old.next != v.next {
		close(old.next)
	}
}

// nudge lets all who wait look again, when nothing has come for a while.
func (r *Rendition) nudge(now time.Time) {
	v := r.view.Load()
	if v == nil || now.Sub(v.Changed) < nudgeAfter {
		return
	}
	again := newView(v.list, v.Snapshot, v.peer)
	again.Retired, again.Peak, again.Average, again.Changed, again.docs = v.Retired, v.Peak, v.Average, v.Changed, v.docs
	if r.view.CompareAndSwap(v, again) {
		close(v.next)
	}
}

// over tells all who wait that nothing will follow.
func (r *Rendition) over() {
	v := r.view.Load()
	if v == nil {
		return
	}
	list := v.list
	list.Ended = true
	end := newView(list, v.Snapshot, v.peer)
	end.Retired = v.Retired
	r.show(end)
}

const nudgeAfter = time.Second

// newHeader makes the header of a track. Its name is a digest of its bytes.
func newHeader(t media.Track) *segment.Header {
	b := bmff.Header(&t)
	return &segment.Header{Name: "header-" + digest(b) + ".mp4", Bytes: b, Track: t}
}

func digest(b []byte) string {
	sum := sha256.Sum256(b)
	return hex.EncodeToString(sum[:6])
}

// publish adds a segment, or the next state of an open one.
func (r *Rendition) publish(s *segment.Segment, c *Channel) bool {
	step := c.settings.step()
	if !r.window.Publish(s, step) {
		return false
	}
	r.render(c, false)
	return true
}

// render makes the view of the window as it is now.
func (r *Rendition) render(c *Channel, idle bool) {
	snap := r.window.Snapshot()
	if len(snap.All) == 0 {
		return
	}
	v := newView(hls.Media{
		Segments: snap.Advertised, Discontinuity: snap.Discontinuity, TargetDuration: c.targetFor(snap.Whole()), PartTarget: partTarget(c.partTarget, snap.Advertised),
		Epoch: c.epoch, StartOffset: c.settings.StartOffsetMillis, Idle: idle, Ended: idle && c.settings.Closed,
		Ranges: c.rangesWithin(snap.Advertised), PartFiles: c.settings.PartFiles, NextAt: c.expectedEnd(),
	}, snap, func() []hls.Report { return c.reports(r) })
	v.Peak, v.Average = r.window.Rates()
	r.show(v)
}

// targetFor returns the target duration of all of the channel's playlists, which agree. It never
// falls while somebody may hold one of them. It is told before any segment is whole: the source's
// keyframes lead, so that it counts how far apart they were.
func (c *Channel) targetFor(whole []*segment.Segment) int64 {
	before := c.target
	expected := int64(0)
	if s := c.session; s != nil && !s.ended {
		expected = (s.clock.Length() + media.VideoTimescale/2) / media.VideoTimescale
	}
	c.target = max(c.target, expected, hls.TargetDuration(c.settings.step(), whole))
	if before > 0 && c.target > before && c.listed {
		c.event(Warning, "target-duration-rose", fmt.Sprintf("A segment of %d s came where %d s were told: the sender's keyframes are further apart than before. Players may wait once.", c.target, before),
			fmt.Sprintf("Set the encoder's keyframe interval to %d ms.", c.settings.SegmentMillis))
	}
	return c.target
}

// targetKnown reports whether it is known how long segments will be. Playlists wait for that, since
// their target duration may not change: where the source leads, two keyframes tell.
func (c *Channel) targetKnown() bool {
	s := c.session
	return c.listed || s == nil || s.ended || s.clock.Even() > 0 || s.clock.Known()
}

// expectedEnd is where the open segments are likely to end, 0 when nobody knows.
func (c *Channel) expectedEnd() int64 {
	if c.session == nil || c.session.ended {
		return 0
	}
	return c.session.clock.Expected()
}

// partTarget widens the planned target to the longest part that is there, so that the rule holds
// (draft, 4.4.4.9) whatever a sender does.
func partTarget(planned int64, list []*segment.Segment) int64 {
	for _, s := range list[max(0, len(list)-4):] {
		for _, p := range s.Parts {
			planned = max(planned, p.Duration)
		}
	}
	return planned
}

// retire lets another rendition of the same kind stand in, so that viewers of this one go on
// without noticing more than a segment boundary. A nil leaves the playlist as it ended.
func (r *Rendition) retire(standIn *Rendition) {
	r.standIn = standIn
	if v := r.view.Load(); v != nil {
		gone := newView(v.list, v.Snapshot, v.peer)
		gone.Retired = true
		r.show(gone)
	}
}

// follow renders the playlist of a retired rendition from its own last segments and those of its
// stand-in. discontinuities tells how many lie before a segment.
func (r *Rendition) follow(c *Channel) {
	v, other := r.view.Load(), r.standIn.view.Load()
	if v == nil || other == nil {
		return
	}
	all := other.Snapshot.Advertised
	first := all[0].MSN
	var own, shown []*segment.Segment
	for _, s := range v.Snapshot.All {
		if s.MSN < r.until && s.MSN+uint64(len(all)) >= first {
			own = append(own, s) // still in memory for those who have its address
			if s.MSN >= first {
				shown = append(shown, s)
			}
		}
	}
	for _, s := range all {
		if s.MSN >= r.until {
			shown = append(shown, s)
		}
	}
	if len(shown) == 0 {
		return
	}
	list := other.list
	list.Segments, list.TargetDuration, list.Discontinuity = shown, c.targetFor(shown), c.discontinuitiesBefore(shown[0].MSN)
	list.StandIn, list.StandInFrom = r.standIn.Name, r.until
	next := newView(list, &segment.Snapshot{All: own, Advertised: own}, func() []hls.Report { return c.reports(r) })
	next.Retired = true
	r.show(next)
}
