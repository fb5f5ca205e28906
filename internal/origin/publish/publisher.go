// Package publish is the side of a channel that viewers see: renditions with their windows, the documents that name them, the
// numbering of segments, text, and markers. Segments of a run go in through an Outlet; views and documents come out, each replaced
// as a whole, which delivery reads without a lock. Everything else needs the channel's lock, but for the Annotations, which have
// one of their own.
package publish

import (
	"maps"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"metaplasis/internal/core/coding"
	"metaplasis/internal/core/hls"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/segment"
	"metaplasis/internal/origin/layout"
	"metaplasis/internal/present"
	"metaplasis/internal/settings"
)

// Publisher is the side of a channel that viewers see: its renditions with their windows, and the documents
// that name them. Segments go in; views and documents come out, replaced whole, which delivery reads without
// a lock. All else is guarded by the channel's lock. It knows nothing of feeds and sessions but the
// forecast and the offering that it is given.
//
//large:everything that a view is made of, behind one lock
type Publisher struct {
	slug     string
	now      func() time.Time
	archive  Archive                  // keeps what was on air; nil: nobody
	picture  *atomic.Pointer[Picture] // the newest preview
	numbers  *Numbering
	notes    *Annotations
	settings settings.Settings
	epoch    time.Time // wall clock at media time 0

	renditions atomic.Pointer[map[string]*Rendition]   // replaced whole
	documents  atomic.Pointer[map[string]*present.Doc] // by file name
	sounds     atomic.Pointer[map[string]string]       // the audio rendition of each rung
	names      atomic.Pointer[map[string]bool]         // the files that the settings promise

	forecast   *segment.Clock // of the run that goes on, nil while there is none
	offering   layout.Offering
	lastStill  time.Time // when the newest picture that the archive has was taken
	firstMedia time.Time // when the run's first segment came out
	target     int64     // target duration of all playlists, seconds
	longest    int64     // that a segment lasted since then, ticks of media.VideoTimescale
	partTarget int64     // of all renditions, ticks of media.VideoTimescale
	shown      []present.Offer
	alternates []present.Alternate // audio tracks beside the main one
	texts      []present.Text
	periods    present.Periods
	listed     bool     // playlists were shown, with a target duration that may not change any more
	wholeShown bool     // players of whole segments have had enough to begin with
	captions   []string // the caption services that the video carries
}

// Options are what a publisher knows of its channel.
type Options struct {
	Slug    string
	Now     func() time.Time
	Archive Archive                  // keeps what was on air; nil: nobody
	Picture *atomic.Pointer[Picture] // the newest preview
}

// New publishes for a channel.
func New(o Options, numbers *Numbering, notes *Annotations, s settings.Settings, epoch time.Time) *Publisher {
	p := &Publisher{slug: o.Slug, now: o.Now, archive: o.Archive, picture: o.Picture, numbers: numbers, notes: notes, epoch: epoch}
	p.renditions.Store(&map[string]*Rendition{})
	p.Apply(s)
	return p
}

// Rendition returns a rendition that has or had segments, or nil. It may be called without the channel's lock.
func (p *Publisher) Rendition(name string) *Rendition { return (*p.renditions.Load())[name] }

// Renditions are all that have or had segments, by name. It may be called without the channel's lock.
func (p *Publisher) Renditions() map[string]*Rendition { return *p.renditions.Load() }

// Views are those of the renditions that have or had segments, by name. It may be called without the channel's lock.
func (p *Publisher) Views() map[string]*present.View {
	out := map[string]*present.View{}
	for name, r := range *p.renditions.Load() {
		if v := r.View(); v != nil {
			out[name] = v
		}
	}
	return out
}

// Playable reports whether there is something to play, of now or of before.
func (p *Publisher) Playable() bool { return p.documents.Load() != nil }

// Offered names the rungs that viewers can choose now.
func (p *Publisher) Offered() []string {
	var out []string
	for _, o := range p.shown {
		name := o.Name
		if o.Video == nil {
			name = o.SoundName
		}
		if !slices.Contains(out, name) {
			out = append(out, name)
		}
	}
	return out
}

// Epoch is the wall clock at media time 0.
func (p *Publisher) Epoch() time.Time { return p.epoch }

// TargetDuration is that of all playlists, in seconds.
func (p *Publisher) TargetDuration() int64 { return p.target }

// PartTarget is that of all renditions, in ticks of media.VideoTimescale.
func (p *Publisher) PartTarget() int64 { return p.partTarget }

// Captions are the caption services that the video carries.
func (p *Publisher) Captions() []string { return p.captions }

// Started reports whether a segment of the run has come out.
func (p *Publisher) Started() bool { return !p.firstMedia.IsZero() }

// Cut is how many segments had to leave their windows early, since those held too many bytes.
func (p *Publisher) Cut() (n int64) {
	for _, r := range *p.renditions.Load() {
		n += r.window.Cut
	}
	return n
}

// Nudge lets all who wait look again, when nothing has come for a while.
func (p *Publisher) Nudge(now time.Time) {
	for _, r := range *p.renditions.Load() {
		r.nudge(now)
	}
}

// Apply takes other settings.
func (p *Publisher) Apply(s settings.Settings) {
	p.settings = s
	names := promised(&s)
	p.names.Store(&names)
	for _, r := range *p.renditions.Load() {
		r.window.Resize(s.Window)
	}
}

// Begin takes the clock of a run that begins. What was shown goes on.
func (p *Publisher) Begin(clock *segment.Clock) {
	p.forecast = clock
	p.captions = nil // until this run shows some
}

// End says that no unit of the run will come any more; segments of it may.
func (p *Publisher) End() { p.forecast = nil }

// Restart begins with another epoch: what is in the windows is told by another clock.
func (p *Publisher) Restart(epoch time.Time) {
	p.epoch, p.periods, p.shown, p.wholeShown, p.listed = epoch, present.Periods{}, nil, false, false
	gone := *p.renditions.Load()
	p.renditions.Store(&map[string]*Rendition{})
	p.documents.Store(nil)
	for _, r := range gone {
		r.markEnded()
	}
}

// ForgetTarget lets the target duration be another one: nobody holds a playlist of before.
func (p *Publisher) ForgetTarget() { p.target, p.longest, p.listed = 0, 0, false }

// LongestSegment is the most that a segment may last, in ticks of media.VideoTimescale, once a target duration is told: rounded, it
// is that (RFC 8216, 4.3.3.1). 0: nothing is told yet.
func (p *Publisher) LongestSegment() int64 {
	if !p.listed {
		return 0
	}
	return p.target*media.VideoTimescale + media.VideoTimescale*9/20
}

// Offer says what may be offered from now on, and the target duration of the parts.
func (p *Publisher) Offer(o layout.Offering, partTarget int64) {
	p.offering, p.partTarget = o, partTarget
	p.List()
}

// MakeRendition returns the rendition of a name, made when it is new.
func (p *Publisher) MakeRendition(name string) *Rendition {
	old := *p.renditions.Load()
	if r := old[name]; r != nil && (r.standIn == nil || r.returning) {
		r.orphan = false
		return r
	}
	r := &Rendition{Name: name, window: p.newWindow(name)}
	if back := old[name]; back != nil {
		// A rung that was off is on again: until its first segment is out, the stand-in goes on.
		r.view.Store(back.view.Load())
		r.standIn, r.until, r.returning = back.standIn, back.until, true
	}
	next := make(map[string]*Rendition, len(old)+1)
	maps.Copy(next, old)
	next[name] = r
	p.renditions.Store(&next)
	return r
}

func (p *Publisher) newWindow(name string) *segment.Window {
	w := segment.NewWindow(p.settings.Window, p.numbers)
	if p.archive != nil {
		w.Whole = func(s *segment.Segment) {
			if s.Header.Track.Kind != media.Data || coding.IsText(&s.Header.Track) {
				p.archive.Keep(p.slug, name, p.soundOf(name), p.epoch, s)
				p.keepPicture(s)
			}
		}
	}
	return w
}

// Stills is the rendition of small pictures that the archive is given: a JPEG file a segment.
const Stills = "stills"

// stillEach is how far two of them lie apart at least.
const stillEach = 5 * time.Second

// keepPicture gives the archive the newest small picture beside a segment of pictures.
func (p *Publisher) keepPicture(s *segment.Segment) {
	if s.Gap || s.Header.Track.Kind != media.Video || p.picture == nil {
		return
	}
	pic := p.picture.Load()
	if pic == nil || pic.At.Sub(p.lastStill) < stillEach {
		return
	}
	p.lastStill = pic.At
	h := &segment.Header{Name: "header-stills", Track: media.Track{Kind: media.Data, Timescale: media.VideoTimescale}}
	p.archive.Keep(p.slug, Stills, "", p.epoch, &segment.Segment{MSN: s.MSN, Prefix: s.Prefix, Start: s.Start, Duration: s.Duration, Header: h,
		ETag: segment.Tag(s.MSN, h), Size: int64(len(pic.JPEG)), Blob: segment.Memory{pic.JPEG}, Units: 1, FirstPTS: s.Start, TrackDuration: s.Duration})
}

// soundOf names the rendition of sound that goes with the pictures of another one.
func (p *Publisher) soundOf(name string) string {
	for _, r := range p.offering.Rungs {
		if r.Name == name && r.Video {
			return r.Sound
		}
	}
	return ""
}

// Retire turns a rendition off from a segment on and lets the nearest one that goes on stand in for it, and
// for those that it stood in for.
func (p *Publisher) Retire(r *Rendition, from uint64, on func(name string) bool) {
	rends := *p.renditions.Load()
	track := func(r *Rendition) (media.Track, bool) {
		if v := r.View(); v != nil {
			return v.Track()
		}
		return media.Track{}, false
	}
	mine, known := track(r)
	var best *Rendition
	distance := 0
	for name, other := range rends {
		t, ok := track(other)
		if !known || !ok || other == r || !on(name) || t.Kind != mine.Kind || other.returning {
			continue
		}
		d := t.Width*t.Height - mine.Width*mine.Height
		if d = max(d*4, -d); best == nil || d < distance { // rather a smaller one
			best, distance = other, d
		}
	}
	for _, other := range rends {
		if other.standIn == r && best != nil { // else they go on with whom it finds
			other.standIn = best
		}
	}
	r.retire(best, from)
	if best != nil {
		r.window = p.newWindow(r.Name) // what is still needed of the old one is in the view
		p.follow(r)
	}
}

// spread renders the renditions that one stands in for, and those that these stand in for, so many steps at most.
func (p *Publisher) spread(r *Rendition, most int) {
	for _, other := range *p.renditions.Load() {
		if other.standIn != r || most == 0 {
			continue
		}
		p.follow(other)
		if other.returning && p.rejoin(other) {
			p.render(other, false)
		}
		p.spread(other, most-1)
	}
}

// rejoin lets a rendition that is on again go on by itself, once the stand-in's last segment is whole before its own
// first. It reports whether it does.
func (p *Publisher) rejoin(r *Rendition) bool {
	snap, v := r.window.Snapshot(), r.view.Load()
	first := snap.Open
	if len(snap.Held) > 0 {
		first = snap.Held[0]
	}
	if first == nil {
		return false
	}
	var past []*segment.Segment
	if v != nil {
		for _, s := range v.List.Whole {
			if s.MSN < first.MSN {
				past = append(past, s)
			}
		}
		// One that does not come any more is not waited for.
		if n := len(past); n > 0 && past[n-1].MSN+1 < first.MSN && len(snap.Held) < 2 {
			return false
		}
		r.elsewhere, r.own = v.List.Elsewhere, v.Snapshot.Held
	}
	r.past, r.returning, r.standIn = past, false, nil
	return true
}

// withPast puts what a rendition lists from before in front of its window, as far as the playlist reaches.
func (p *Publisher) withPast(r *Rendition, m *hls.Media, snap *segment.Snapshot) *segment.Snapshot {
	n := p.settings.Window - len(snap.Listed)
	if len(r.past) == 0 || n <= 0 || len(snap.Held) > len(snap.Listed) {
		r.past, r.elsewhere, r.own = nil, nil, nil
		return snap
	}
	past := r.past[max(len(r.past)-n, 0):]
	m.Whole = append(slices.Clone(past), snap.Listed...)
	m.Elsewhere, m.Discontinuity = r.elsewhere, p.numbers.Before(past[0].MSN)
	out := *snap
	out.Held = append(slices.Clone(r.own), snap.Held...)
	for _, s := range r.own {
		out.Bytes += s.Size
	}
	return &out
}

// sameKind reports whether one rendition can go on for another.
func sameKind(a, b *Rendition) bool {
	va, vb := a.View(), b.View()
	if va == nil || vb == nil {
		return false
	}
	ta, known := va.Track()
	tb, known2 := vb.Track()
	return known && known2 && ta.Kind == tb.Kind
}

// BeginRun is called with the first unit of a run, whose first segment has a number. Renditions of earlier
// runs that it does not make are stood in for, so that nothing is held for good and their viewers go on.
func (p *Publisher) BeginRun(first uint64, on func(name string) bool) {
	p.firstMedia = time.Time{}
	for name, r := range *p.renditions.Load() {
		if v := r.View(); !on(name) && v != nil && !v.Retired && !r.text {
			p.Retire(r, first, on)
		}
	}
}

// Publish adds a segment to a rendition, or the next state of an open one.
func (p *Publisher) Publish(r *Rendition, s *segment.Segment) {
	if !r.window.Publish(s, p.settings.SegmentTicks()) {
		return
	}
	if !r.returning || p.rejoin(r) {
		p.render(r, false)
	}
	if p.firstMedia.IsZero() {
		p.firstMedia = p.now()
	}
	if !r.returning {
		for _, other := range *p.renditions.Load() {
			if other.orphan && other != r && sameKind(other, r) {
				other.standIn, other.orphan = r, false
				other.window = p.newWindow(other.Name)
			}
		}
	}
	p.spread(r, len(*p.renditions.Load()))
	if begins := s.Discontinuity && len(s.Parts) == 1; !s.Open || begins || !p.wholeShown {
		p.List()
	}
}

// Idle says in the playlists that no part is to be expected now, or never more.
func (p *Publisher) Idle() {
	if p.forecast != nil {
		return
	}
	for _, r := range *p.renditions.Load() {
		if r.standIn == nil {
			p.render(r, true)
		}
	}
	p.list() // with the last segments
	p.periods.Close(p.shown)
	p.Describe()
}

// Close tells all who wait that nothing will follow.
func (p *Publisher) Close() {
	for _, r := range *p.renditions.Load() {
		r.markEnded()
	}
}

// render makes the view of a rendition's window as it is now.
func (p *Publisher) render(r *Rendition, idle bool) {
	snap := r.window.Snapshot()
	if snap.Newest() == nil {
		return
	}
	m := hls.Media{
		Whole: snap.Listed, Open: snap.Open, Discontinuity: snap.Discontinuity, TargetDuration: p.targetFor(snap.NewestWhole()),
		PartTarget: p.partTarget, Epoch: p.epoch, StartOffset: p.settings.StartOffsetMillis, Idle: idle,
		Ended: idle && p.settings.Closed, Ranges: p.notes.rangesWithin(p.epoch, snap), PartFiles: p.settings.PartFiles, NextAt: p.expectedEnd(),
	}
	snap = p.withPast(r, &m, snap)
	v := present.NewView(m, snap, func() []hls.Report { return p.reports(r) })
	v.Peak, v.Average, v.KeyPeak = r.window.Rates()
	r.show(v)
}

// follow renders the playlist of a retired rendition from its own last segments and those of its
// stand-in.
func (p *Publisher) follow(r *Rendition) {
	v, other := r.view.Load(), r.standIn.view.Load()
	if v == nil || other == nil {
		return
	}
	newest := other.List.Newest()
	if newest == nil {
		return
	}
	length := uint64(p.settings.Window)
	var own, shown []*segment.Segment
	elsewhere := map[uint64]string{}
	for _, s := range v.Snapshot.Held {
		if s.MSN < r.until && s.MSN+length+1 >= newest.MSN {
			own = append(own, s) // still in memory for those who have its address
		}
	}
	for _, s := range v.List.Whole {
		if s.MSN < r.until && s.MSN+length > newest.MSN {
			shown = append(shown, s)
			if name := v.List.Elsewhere[s.MSN]; name != "" {
				elsewhere[s.MSN] = name
			}
		}
	}
	list := other.List
	take := func(s *segment.Segment) {
		if elsewhere[s.MSN] = list.Elsewhere[s.MSN]; elsewhere[s.MSN] == "" {
			elsewhere[s.MSN] = r.standIn.Name
		}
	}
	for _, s := range list.Whole {
		if s.MSN >= r.until {
			if n := len(shown); n > 0 && shown[n-1].MSN+1 != s.MSN {
				shown = shown[:0] // what lies between was made by nobody
			}
			shown = append(shown, s)
			take(s)
		}
	}
	if list.Open != nil && list.Open.MSN < r.until {
		list.Open = nil
	}
	if list.Open != nil {
		take(list.Open)
	}
	if list.Whole = shown; list.First() == nil {
		return
	}
	list.TargetDuration, list.Discontinuity = p.targetFor(nil), p.numbers.Before(list.First().MSN)
	list.StandIn, list.Elsewhere = r.standIn.Name, elsewhere
	next := present.NewView(list, segment.SnapshotOf(own), func() []hls.Report { return p.reports(r) })
	next.Retired = true
	r.show(next)
}

// reports tells of the newest parts of all other renditions.
func (p *Publisher) reports(r *Rendition) []hls.Report {
	var out []hls.Report
	for name, other := range *p.renditions.Load() {
		v := other.View()
		if other == r || v == nil || v.Retired || other.text || r.text {
			continue
		}
		msn, part := v.Newest()
		if s, _ := v.Snapshot.Find(msn); part < 0 && s != nil {
			part = len(s.Parts) - 1 // told whenever a rendition has parts (draft, 4.4.5.4)
		}
		out = append(out, hls.Report{URI: "../" + name + "/index.m3u8", MSN: msn, Part: part})
	}
	slices.SortFunc(out, func(a, b hls.Report) int { return strings.Compare(a.URI, b.URI) })
	return out
}

// viewOf returns a rendition's view and track once it has segments and is not retired.
func (p *Publisher) viewOf(name string) (*present.View, media.Track) {
	r := (*p.renditions.Load())[name]
	if r == nil {
		return nil, media.Track{}
	}
	v := r.View()
	if v == nil || v.Retired || p.documents.Load() == nil && !v.Shows() {
		return nil, media.Track{}
	}
	t, known := v.Track()
	if !known {
		return nil, media.Track{}
	}
	return v, t
}

// Announce adds services to the captions that viewers are told of.
func (p *Publisher) Announce(services []string) {
	for _, name := range services {
		if !slices.Contains(p.captions, name) {
			p.captions = append(slices.Clone(p.captions), name) // what was described keeps its own
			slices.Sort(p.captions)
			p.Describe()
		}
	}
}

// Archive keeps what was on air. It does not wait.
type Archive interface {
	// Keep takes a whole segment of a rendition, or a gap. sound names the rendition of sound that goes with pictures.
	Keep(channel, rendition, sound string, epoch time.Time, s *segment.Segment)
}
