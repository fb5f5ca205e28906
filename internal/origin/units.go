package origin

import (
	"slices"
	"time"

	"metaplasis/internal/core/coding"
	"metaplasis/internal/core/hub"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/segment"
	"metaplasis/internal/core/timeline"
	"metaplasis/internal/worker"
)

// unit takes one access unit of the feed, its times still the sender's. One that jumped or is stale
// is not used, which the caller is told.
func (s *session) unit(id media.TrackID, stamp, composition int64, data []byte) timeline.Verdict {
	now, clock := s.now(), s.clockOf(id)
	elapsed, step := s.timer.elapsed(now, s.monotonic)
	if step != 0 {
		s.stepped = step
		return timeline.Jumped
	}
	if l := s.layerOf(id); l != nil {
		s.layerUnit(l, stamp, composition, data, now)
		return timeline.Follows
	}
	if s.unaligned {
		s.unaligned = false
		s.feed.Align(id, clock, stamp, now.UnixMilli(), s.settings.SegmentMillis)
		s.firstAt = s.feed.Last()
	}
	if s.video != nil && s.video.ID == id && s.begun && !s.vtime.Varies() {
		// Time that has passed, and not stamps that leap.
		if d := s.feed.Peek(clock, stamp) - s.mapped; s.mapped > 0 && d > longestPause && d < jumpedPause && elapsed-s.cameAt > ticks(d)/2 {
			s.paused, s.pause = true, ticks(d)
			return timeline.Jumped
		}
	}
	at, verdict := s.feed.Map(id, clock, stamp, elapsed)
	if verdict != timeline.Follows {
		return verdict
	}
	if s.video != nil && s.video.ID == id {
		s.mapped, s.cameAt = at, elapsed
	}
	u := media.AccessUnit{Data: data}
	if s.video != nil && s.video.ID == id {
		before := s.newestDTS()
		u.DTS, u.PTS = s.vtime.Times(at, clock.Ticks(composition))
		if before > 0 {
			s.longest = max(s.longest, min(u.DTS-before, longestPicture))
		}
		s.end = max(s.end, u.PTS+max(s.vtime.Step(), 1))
		s.videoUnit(&u)
		if len(s.layers) > 0 {
			s.leads.note(at, clock.Ticks(composition), &u, max(s.vtime.Step(), 0))
			s.releaseLayers()
		}
		return verdict
	}
	u.Key = true
	a := s.sound(id)
	u.DTS = a.time.DTS(at)
	u.PTS, u.Duration = u.DTS, a.track.FrameSamples
	s.end = max(s.end, media.Rescale(u.PTS+u.Duration, a.track.Timescale, media.VideoTimescale))
	s.audioUnit(a, &u)
	return verdict
}

// Pictures of an even rate that are missing for so long end a run, in ticks of media.VideoTimescale: what was on air ends with
// the last one, and players are not told of one picture that lasts for seconds. Past jumpedPause the stamps jumped.
const (
	longestPause = 3 * media.VideoTimescale / 2
	jumpedPause  = 10 * media.VideoTimescale
)

// rejoin lets a track whose stamps jumped go on where it was; ok is false where that cannot be.
func (s *session) rejoin(id media.TrackID, stamp int64) (by int64, ok bool) {
	step := int64(1)
	if a := s.sound(id); a != nil {
		step = media.Rescale(a.track.FrameSamples, a.track.Timescale, media.VideoTimescale)
	} else if s.vtime != nil {
		step = s.vtime.Step()
	}
	elapsed, _ := s.timer.elapsed(s.now(), s.monotonic)
	return s.feed.Rejoin(id, s.clockOf(id), stamp, step, elapsed)
}

// anchor sets a track's stamps against the sender's wall clock.
func (s *session) anchor(id media.TrackID, a anchor) {
	if s.video != nil && s.video.ID == id || s.layerOf(id) != nil || s.sound(id) != nil {
		s.feed.Anchor(id, s.clockOf(id), a.stamp, ticksOf(a.at.Sub(time.Unix(0, 0))))
	}
}

// clockOf is how the sender stamps a track.
func (s *session) clockOf(id media.TrackID) media.Clock {
	if s.video != nil && s.video.ID == id {
		return s.video.Stamps()
	}
	if l := s.layerOf(id); l != nil {
		return l.track.Stamps()
	}
	return s.sound(id).track.Stamps()
}

// longestPicture is how long a picture may last and still be taken for one of a varying rate.
const longestPicture = media.VideoTimescale / 8

func (s *session) newestDTS() int64 { return s.vtime.Last() }

// videoUnit takes a picture of the source into the hub.
func (s *session) videoUnit(u *media.AccessUnit) {
	p := coding.Look(s.video.Codec, u.Data)
	u.Key = p.Random
	s.newest = max(s.newest, u.PTS)
	s.judgeSource(u, &p)
	if s.vtime.Varies() && !s.varies {
		// The rate that the sender told of was wrong: parts are planned anew, from the next segment on.
		s.varies = true
		s.applyLadder(s.rungs)
	}
	if !s.begun {
		// Without IDR pictures a decoder may begin at a recovery point, or at a picture of its own.
		if !u.Key && !(s.source.suspended && (p.Recovery || p.Intra)) {
			return
		}
		s.leading = p.Random
		s.begin()
	} else if u.Key {
		s.leading = false
	}
	if s.leading && p.Leading { // it needs what came before the run
		return
	}
	s.shownAt(s.video.ID, u.PTS)
	s.hub.Push(s.video, u)
	s.releaseWaiting()
	s.drain()
}

// begin starts the clock, the channel's numbering and the worker at the first unit.
func (s *session) begin() {
	s.begun = true
	s.hub.Break()
	s.at = s.hub.Next()
	s.first = s.at
	s.layout.tell()
	ids := make([]media.TrackID, 0, 1+len(s.sounds))
	if s.video != nil {
		ids = append(ids, s.video.ID)
	}
	for _, a := range s.sounds {
		ids = append(ids, a.track.ID)
	}
	s.reader = s.hub.NewReader(hub.Coming, ids...)
	if s.sup == nil && s.needsWorker() {
		s.startWorker()
	}
	s.out.runBegins(s.clock.Next(), s.makes)
}

// drain reads what has come into the hub: it is cut at the pace at which it comes, and the worker may
// have it from then on.
func (s *session) drain() {
	var list [8]hub.Unit
	for {
		n, _ := s.reader.Read(list[:])
		if n == 0 {
			return
		}
		for i := range list[:n] {
			u := &list[i]
			s.at = u.Number
			if s.video != nil && u.Track.ID == s.video.ID {
				s.cutVideo(&u.AccessUnit)
			} else if a := s.sound(u.Track.ID); a != nil {
				s.cutAudio(a, &u.AccessUnit)
			}
			if s.sup != nil {
				s.sup.Take(u.Number + 1)
			}
		}
	}
}

func (s *session) cutVideo(u *media.AccessUnit) {
	s.offer(u)
	s.out.announce(s.captions.note(s.video.Codec, u, s.texts))
	if s.sup != nil && s.config.Video != nil {
		s.coding.came(u.PTS, s.now())
	}
	for _, o := range s.all() {
		if o.direct && o.layer == nil && o.cutter.Header().Track.Kind == media.Video {
			direct := *u
			direct.Duration = s.vtime.Step() // so that a part can end with this picture
			s.cut(o, direct)
		}
	}
	s.releaseAudio(false)
}

// needsWorker reports whether there is something to decode: pictures, for rungs or for the preview, or sound.
func (s *session) needsWorker() bool {
	return s.config.Video != nil || len(s.config.Sound) > 0
}

func (s *session) startWorker() {
	s.sup = s.employ(s)
}

// offer shows a unit of the leading track to the clock and passes on the boundary that it opens.
func (s *session) offer(u *media.AccessUnit) {
	s.clock.SetLimit(s.out.longestSegment())
	b, ok := s.clock.Offer(u)
	if !ok {
		return
	}
	if s.sup == nil && s.needsWorker() {
		s.startWorker()
	}
	if s.sup != nil {
		s.sup.Boundary(b)
	}
	s.numbers.boundary(b)
	for _, o := range s.all() {
		// A segment later every encoder has put out what it held. What passes through holds nothing.
		if o.until > 0 && (b.MSN > o.until || b.MSN == o.until && o.direct && slices.Contains(s.leaving, o)) {
			s.finish(o)
			s.handOver(o)
		}
	}
}

// handOver lets another rendition stand in for one that was turned off, once its last segment is
// whole: at once, since viewers of parts have less than a second in hand.
func (s *session) handOver(o *output) {
	if i := slices.Index(s.leaving, o); i >= 0 {
		s.leaving = slices.Delete(s.leaving, i, i+1)
		return // another one makes the rendition
	}
	if s.outputs[o.r.Name] != o {
		return // it was done with its last segment
	}
	delete(s.outputs, o.r.Name)
	if s.ended {
		return // the run that follows decides which renditions go on
	}
	s.out.retire(o.r, o.until, s.makes)
	s.out.listVariants()
}

// makes reports whether the session makes a rendition.
func (s *session) makes(name string) bool { return s.outputs[name] != nil }

// audioUnit takes a frame of a track of sound into the hub.
func (s *session) audioUnit(a *sound, u *media.AccessUnit) {
	if !s.begun && s.video == nil && a == s.sounds[0] {
		s.begin()
	}
	if !s.begun {
		// It may belong to the picture that the session begins with, and only have come first.
		s.waiting = append(s.waiting, waitingUnit{a, *u})
		s.waitingBytes += len(u.Data) + unitCost
		for len(s.waiting) > 0 && (s.waitingBytes > maxHeldBytes || a.seconds(u)-s.waiting[0].of.seconds(&s.waiting[0].u) > longestWait) {
			s.waitingBytes -= len(s.waiting[0].u.Data) + unitCost
			s.waiting = s.waiting[1:]
		}
		return
	}
	s.hub.Push(a.track, u)
	s.releaseWaiting()
	s.drain()
}

func (s *session) cutAudio(a *sound, u *media.AccessUnit) {
	if s.video == nil && a == s.sounds[0] {
		lead := *u
		lead.PTS = media.Rescale(u.PTS, a.track.Timescale, media.VideoTimescale)
		lead.DTS = lead.PTS
		s.offer(&lead)
	}
	if o := s.outputs[a.name]; o != nil && o.direct {
		s.hold(a.name, *u)
	}
	s.releaseAudio(false)
}

// seconds is the whole seconds of a unit's time.
func (a *sound) seconds(u *media.AccessUnit) int64 { return u.PTS / a.track.Timescale }

// longestWait is for how many seconds sound waits for the first picture.
const longestWait = 5

// releaseWaiting sends the sound on its way that came before the first picture.
func (s *session) releaseWaiting() {
	for i := range s.waiting {
		s.hub.Push(s.waiting[i].of.track, &s.waiting[i].u)
	}
	s.waiting, s.waitingBytes = nil, 0
}

// hold keeps a unit of sound until the clock knows its segment: a keyframe of the source that
// was presented before it may still be on its way.
func (s *session) hold(name string, u media.AccessUnit) {
	s.held = append(s.held, heldUnit{name, u})
	s.heldBytes += len(u.Data) + unitCost
	if s.heldBytes > maxHeldBytes {
		s.releaseAudio(true)
	}
}

func (s *session) releaseAudio(all bool) {
	kept := s.held[:0]
	s.heldBytes = 0
	for _, h := range s.held {
		o := s.outputs[h.name]
		if o == nil || o.cutter.Header() == nil {
			continue
		}
		pts := media.Rescale(h.u.PTS, o.cutter.Header().Track.Timescale, media.VideoTimescale)
		if !all && s.video != nil && !s.clock.Decided(pts) {
			kept = append(kept, h)
			s.heldBytes += len(h.u.Data) + unitCost
			continue
		}
		s.cut(o, h.u)
	}
	clear(s.held[len(kept):])
	s.held = kept
}

// cut gives a unit to its rendition's cutter and publishes what that finishes.
func (s *session) cut(o *output, u media.AccessUnit) {
	t := &o.cutter.Header().Track
	b, due, ok := s.clock.Lookup(media.Rescale(u.PTS, t.Timescale, media.VideoTimescale))
	if !ok {
		return
	}
	if o.until > 0 && b.MSN >= o.until {
		s.finish(o) // what comes is behind its end
		return
	}
	o.cutter.Longest = s.out.longestSegment()
	for _, seg := range o.cutter.Push(u, b, due, s.now()) {
		s.publish(o, seg)
	}
}

func (s *session) publish(o *output, seg *segment.Segment) {
	s.out.publish(o.r, seg)
	if seg.Header.Track.Kind == media.Video {
		s.texts.segment(seg)
	}
	if !seg.Open && o.until > 0 && seg.MSN+1 >= o.until {
		s.handOver(o)
	}
	if o.direct || s.sup == nil || seg.Open {
		return
	}
	// What every rendition of the worker has finished need not be repeated by another worker.
	settled := seg.MSN + 1
	for _, other := range s.outputs {
		if !other.direct && other.until == 0 {
			settled = min(settled, other.cutter.Floor())
		}
	}
	s.sup.Settled(settled)
}

func (s *session) finish(o *output) {
	if seg := o.cutter.Flush(); seg != nil {
		s.publish(o, seg)
	}
}

// close ends the run: what the source fed is published at once, what the worker still holds when
// it has drained. It returns the worker that drains, nil when there is none.
func (s *session) close() *worker.Supervisor {
	s.ended = true
	s.releaseAudio(true)
	s.leads.ended = true
	s.releaseLayers()
	for _, o := range s.all() {
		if o.direct {
			s.finish(o)
		}
	}
	if s.sup != nil {
		s.sup.Drain()
	}
	return s.sup
}

// flush publishes the last of the worker's renditions.
func (s *session) flush() {
	s.releaseAudio(true)
	for _, o := range s.all() {
		s.finish(o)
	}
	s.sup = nil
}
