package origin

import (
	"cmp"
	"fmt"
	"slices"
	"time"

	"metaplasis/internal/core/aac"
	"metaplasis/internal/core/avc"
	"metaplasis/internal/core/hls"
	"metaplasis/internal/core/ladder"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/segment"
	"metaplasis/internal/core/timeline"
	"metaplasis/internal/core/transcode"
	"metaplasis/internal/worker"
)

// Bounds of a session.
const (
	maxHeldAudio = 512 // frames that wait until the clock has decided where they belong
	drainWait    = 3 * time.Second
	// sparseKeyframes is how many segment lengths may lie between two of the source's keyframes
	// before the engineer is told.
	sparseKeyframes = 2
)

// session is one unbroken run of a feed: its tracks do not change and its times go on. All of it
// is guarded by the channel's lock.
type session struct {
	c         *Channel
	video     *media.Track
	audio     *media.Track
	clock     *segment.Clock
	feed      *timeline.Feed
	vtime     *timeline.Track
	atime     *timeline.Track
	outputs   map[string]*output
	held      []heldUnit
	sup       *worker.Supervisor
	config    transcode.Config
	begun     bool // the first keyframe has come
	unaligned bool // the first stamp is still to be set against the wall clock
	ended     bool
	rungs     []ladder.Rung
	said      []captioned // captions of the source that encoded renditions may still need
	scan      avc.CaptionScan

	lastKey   int64 // presentation time of the newest keyframe
	warnedGap bool
}

// output is a rendition as one session makes it.
type output struct {
	r      *Rendition
	cutter segment.Cutter
	direct bool  // fed from the source, not from the worker
	said   int64 // captions up to this presentation time are in it
}

// captioned are the captions of one picture of the source, in order of presentation.
type captioned struct {
	pts  int64
	data [][]byte
}

// maxSaid bounds the captions that wait for encoded pictures: about four seconds.
const maxSaid = 256

// reordered is how many pictures may come before one that is shown earlier (H.264, A.3.1).
const reordered = 16

// noteCaptions keeps the captions of a picture for the renditions that are coded anew, and tells
// viewers of services that were not seen before.
func (s *session) noteCaptions(u *media.AccessUnit) {
	data := avc.Captions(u.Data)
	if data == nil {
		return
	}
	at, _ := slices.BinarySearchFunc(s.said, u.PTS, func(c captioned, pts int64) int { return cmp.Compare(c.pts, pts) })
	s.said = slices.Insert(s.said, at, captioned{u.PTS, data})
	if n := len(s.said); n > reordered {
		for _, d := range s.said[n-1-reordered].data {
			s.c.announce(s.scan.See(d))
		}
	}
	if len(s.said) > maxSaid {
		s.said = slices.Delete(s.said, 0, len(s.said)-maxSaid)
	}
}

// announce adds services to the captions that viewers are told of.
func (c *Channel) announce(services []string) {
	for _, name := range services {
		if !slices.Contains(c.captions, name) {
			c.captions = append(c.captions, name)
			slices.Sort(c.captions)
			c.describe()
		}
	}
}

// addCaptions puts the captions of all source pictures up to a coded one into it, so that a
// picture that was dropped takes none along.
func (s *session) addCaptions(o *output, u *media.AccessUnit) {
	var seis [][]byte
	for _, c := range s.said {
		if c.pts > o.said && c.pts <= u.PTS {
			for _, d := range c.data {
				seis = append(seis, avc.CaptionSEI(d))
			}
		}
	}
	o.said = max(o.said, u.PTS)
	if seis != nil {
		u.Data = avc.InsertSEI(u.Data, seis...)
	}
}

type heldUnit struct {
	name string
	u    media.AccessUnit
}

// newSession prepares a run that begins at a media time in milliseconds.
func newSession(c *Channel, video, audio *media.Track, startMillis int64) *session {
	s := &session{c: c, video: video, audio: audio, outputs: map[string]*output{}, feed: timeline.NewFeed(startMillis)}
	if video != nil {
		s.vtime = timeline.NewVideo(video.FrameRate)
	}
	if audio != nil {
		s.atime = timeline.NewAudio(audio.Timescale, 1024)
	}
	s.clock = segment.NewClock(c.position.NextMSN, c.settings.step())
	s.clock.SetAligned(c.settings.Aligned)
	s.clock.Begin(0, c.position.NextMSN > 0)
	s.applyLadder(c.ladderFor(video))
	return s
}

// applyLadder plans the renditions from the next boundary on.
func (s *session) applyLadder(rungs []ladder.Rung) {
	at := s.clock.Next()
	s.rungs = rungs
	s.c.partTarget = 0
	for _, o := range s.outputs {
		if h := o.cutter.Header(); h != nil {
			s.setTrack(o, h.Track)
		}
	}
	s.clock.SetStep(s.c.settings.step())
	mode := segment.Grid
	conf := transcode.Config{At: at, Video: s.video, Audio: s.audio}
	if s.video != nil {
		conf.Part = s.plan(s.video).Video.Step
	}
	wanted := map[string]bool{}
	add := func(name string, direct bool) {
		if wanted[name] {
			return
		}
		wanted[name] = true
		o := s.outputs[name]
		if o != nil && o.direct == direct && o.r.until == 0 {
			return
		}
		o = &output{direct: direct}
		o.r = s.c.rendition(name)
		o.cutter.SetFloor(at)
		if direct {
			t := s.audio
			if name == sourceName(rungs) {
				t = s.video
			}
			s.setTrack(o, *t)
		}
		if old := s.outputs[name]; old != nil {
			s.finish(old)
		}
		s.outputs[name] = o
	}
	for _, r := range rungs {
		if !r.On {
			continue
		}
		r = r.WithDefaults()
		switch {
		case s.video == nil:
		case r.Source:
			mode = segment.Lead
			add(r.Name, true)
		default:
			w, h := r.Size(s.video)
			conf.Rungs = append(conf.Rungs, transcode.Rung{
				Name: r.Name, Width: w, Height: h, SAR: r.SAR(s.video),
				Bitrate: r.Bitrate, Peak: r.Peak, Buffer: r.Buffer, Effort: r.Effort,
			})
			add(r.Name, false)
		}
		if s.audio != nil {
			name := ladder.AudioName(r.AudioBitrate)
			if r.AudioBitrate > 0 && !wanted[name] {
				conf.Sound = append(conf.Sound, transcode.AudioRung{Name: name, Bitrate: r.AudioBitrate})
			}
			add(name, r.AudioBitrate == 0)
		}
	}
	for name, o := range s.outputs {
		if !wanted[name] && o.r.until == 0 {
			o.r.until = at
		}
	}
	s.clock.SetMode(mode)
	s.config = conf
	if s.sup != nil {
		s.sup.Configure(conf)
	}
	s.c.listVariants()
}

// setTrack gives a rendition its header, and the parts that fit its frames.
func (s *session) setTrack(o *output, t media.Track) {
	o.cutter.SetHeader(newHeader(t))
	if t.Kind == media.Video || s.video == nil {
		o.cutter.Messages = s.c.messages
	}
	if epoch := s.c.epoch; s.c.settings.Aligned {
		// Two origins write the same bytes, so nothing of this one's own time may be in them.
		o.cutter.Produced = func(start int64) time.Time { return hls.WallClock(epoch, start) }
	}
	p := s.plan(&t)
	if t.Kind == media.Video {
		o.cutter.SetParting(p.Video)
	} else {
		o.cutter.SetParting(p.Audio)
	}
	s.c.partTarget = max(s.c.partTarget, p.Target)
}

// plan fits the channel's parts to its video and to one of its renditions of sound.
func (s *session) plan(t *media.Track) segment.Parts {
	sound := s.audio
	if t.Kind == media.Audio {
		sound = t
	}
	var rate media.Rational
	switch {
	case s.video != nil:
		rate = s.video.FrameRate
	case sound != nil:
		rate = media.Rational{Num: sound.Timescale, Den: aac.FrameSamples}
	}
	if sound == nil {
		return segment.PlanParts(s.c.settings.part(), rate, 0, 0)
	}
	return segment.PlanParts(s.c.settings.part(), rate, aac.FrameSamples, sound.Timescale)
}

func sourceName(rungs []ladder.Rung) string {
	for _, r := range rungs {
		if r.Source {
			return r.Name
		}
	}
	return ""
}

// unit takes one access unit of the feed, its times still the sender's.
func (s *session) unit(kind media.Kind, stamp uint32, composition int64, key bool, data []byte) (jumped bool) {
	if s.unaligned {
		s.unaligned = false
		s.feed.Align(stamp, s.c.o.Now().UnixMilli(), s.c.settings.SegmentMillis)
	}
	ms, jumped := s.feed.Map(stamp)
	u := media.AccessUnit{Key: key, Data: data}
	if kind == media.Video {
		u.DTS = s.vtime.DTS(ms)
		u.PTS = u.DTS + s.vtime.Composition(composition)
		s.videoUnit(&u)
	} else {
		u.Key = true
		u.DTS = s.atime.DTS(ms)
		u.PTS, u.Duration = u.DTS, 1024
		s.audioUnit(&u)
	}
	return jumped
}

func (s *session) videoUnit(u *media.AccessUnit) {
	if !s.begun {
		if !u.Key {
			return
		}
		s.begin(u)
	}
	if u.Key {
		s.checkInterval(u.PTS)
	}
	s.offer(u)
	s.noteCaptions(u)
	s.work((*worker.Supervisor).Video, u)
	for _, o := range s.outputs {
		if o.direct && o.cutter.Header().Track.Kind == media.Video {
			direct := *u
			direct.Duration = s.vtime.Step() // so that a part can end with this picture
			s.cut(o, direct)
		}
	}
	s.releaseAudio(false)
}

// begin starts the clock, the channel's numbering and the worker at the first unit.
func (s *session) begin(u *media.AccessUnit) {
	s.begun = true
	if s.sup == nil && s.needsWorker() {
		s.startWorker()
	}
	s.c.sessionBegun(s)
}

func (s *session) needsWorker() bool { return s.video != nil || len(s.config.Sound) > 0 }

func (s *session) startWorker() {
	s.sup = worker.NewSupervisor(s.c.o.Worker, s.config, &handler{s}, s.c.o.Logger.With("channel", s.c.slug))
}

func (s *session) work(send func(*worker.Supervisor, *media.AccessUnit), u *media.AccessUnit) {
	if s.sup != nil {
		send(s.sup, u)
	}
}

// offer shows a unit of the leading track to the clock and passes on the boundary that it opens.
func (s *session) offer(u *media.AccessUnit) {
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
	s.c.boundary(b)
	for _, o := range s.outputs {
		// A segment later every encoder has put out what it held.
		if o.r.until > 0 && b.MSN > o.r.until {
			s.finish(o)
			s.handOver(o)
		}
	}
}

// handOver lets another rendition stand in for one that was turned off, once its last segment is
// whole: at once, since viewers of parts have less than a second in hand.
func (s *session) handOver(o *output) {
	if s.outputs[o.r.Name] != o {
		return // it was done with its last segment
	}
	delete(s.outputs, o.r.Name)
	s.c.retire(o.r, func(name string) bool { return s.outputs[name] != nil })
	s.c.listVariants()
}

// checkInterval tells the engineer when the source's keyframes are too far apart for a rung that
// passes the source through.
func (s *session) checkInterval(pts int64) {
	gap := pts - s.lastKey
	if s.lastKey > 0 && gap > sparseKeyframes*s.c.settings.step() && !s.warnedGap && sourceIsOn(s.rungs) {
		s.warnedGap = true
		s.c.event(Warning, "keyframes-sparse",
			fmt.Sprintf("The sender's keyframes are %d ms apart, and segments of %d ms follow them.", gap/90, s.c.settings.SegmentMillis),
			fmt.Sprintf("Set the encoder's keyframe interval to %d ms, or turn the rung off that passes the source through.", s.c.settings.SegmentMillis))
	}
	s.lastKey = pts
}

func sourceIsOn(rungs []ladder.Rung) bool {
	return slices.ContainsFunc(rungs, func(r ladder.Rung) bool { return r.Source && r.On })
}

func (s *session) audioUnit(u *media.AccessUnit) {
	if s.video == nil {
		lead := *u
		lead.PTS = media.Rescale(u.PTS, s.audio.Timescale, media.VideoTimescale)
		lead.DTS = lead.PTS
		if !s.begun {
			s.begin(&lead)
		}
		s.offer(&lead)
	}
	if !s.begun {
		return
	}
	s.work((*worker.Supervisor).Audio, u)
	for name, o := range s.outputs {
		if o.direct && o.cutter.Header().Track.Kind == media.Audio {
			s.hold(name, *u)
		}
	}
	s.releaseAudio(false)
}

// hold keeps a unit of sound until the clock knows its segment: a keyframe of the source that
// was presented before it may still be on its way.
func (s *session) hold(name string, u media.AccessUnit) {
	s.held = append(s.held, heldUnit{name, u})
	if len(s.held) > maxHeldAudio {
		s.releaseAudio(true)
	}
}

func (s *session) releaseAudio(all bool) {
	kept := s.held[:0]
	for _, h := range s.held {
		o := s.outputs[h.name]
		if o == nil || o.cutter.Header() == nil {
			continue
		}
		pts := media.Rescale(h.u.PTS, o.cutter.Header().Track.Timescale, media.VideoTimescale)
		if !all && s.video != nil && !s.clock.Decided(pts) {
			kept = append(kept, h)
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
	if o.r.until > 0 && b.MSN >= o.r.until {
		s.finish(o) // what comes is behind its end
		return
	}
	for _, seg := range o.cutter.Push(u, b, due, s.c.o.Now()) {
		s.publish(o, seg)
	}
}

func (s *session) publish(o *output, seg *segment.Segment) {
	s.c.publish(o.r, seg)
	if !seg.Open && o.r.until > 0 && seg.MSN+1 >= o.r.until {
		s.handOver(o)
	}
	if o.direct || s.sup == nil || seg.Open {
		return
	}
	// What every rendition of the worker has finished need not be repeated by another worker.
	settled := seg.MSN + 1
	for _, other := range s.outputs {
		if !other.direct && other.r.until == 0 {
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

// end closes the run: what the source fed is published at once, what the worker still holds when
// it has drained.
func (s *session) end() {
	if s.ended {
		return
	}
	s.ended = true
	s.releaseAudio(true)
	for _, o := range s.outputs {
		if o.direct {
			s.finish(o)
		}
	}
	s.c.position.NextMSN = max(s.c.position.NextMSN, s.clock.Next())
	if s.sup == nil {
		s.c.rest()
		return
	}
	s.sup.Drain()
	sup := s.sup
	time.AfterFunc(drainWait, func() { s.dismiss(sup) })
}

// dismiss publishes the last of the worker's renditions and ends it. It takes the channel's lock.
func (s *session) dismiss(sup *worker.Supervisor) {
	s.c.mu.Lock()
	if s.sup != sup {
		s.c.mu.Unlock()
		return
	}
	s.releaseAudio(true)
	for _, o := range s.outputs {
		s.finish(o)
	}
	s.sup = nil
	s.c.rest()
	s.c.mu.Unlock()
	sup.Close()
}

// handler receives what the worker makes.
type handler struct{ s *session }

func (h *handler) lock() func() {
	h.s.c.mu.Lock()
	return h.s.c.mu.Unlock
}

// Track implements worker.Handler.
func (h *handler) Track(name string, t media.Track) {
	defer h.lock()()
	if o := h.s.outputs[name]; o != nil && !o.direct {
		h.s.setTrack(o, t)
		h.s.c.listVariants()
	}
}

// Unit implements worker.Handler.
func (h *handler) Unit(name string, u media.AccessUnit) {
	defer h.lock()()
	o := h.s.outputs[name]
	if o == nil || o.direct || o.cutter.Header() == nil {
		return
	}
	if o.cutter.Header().Track.Kind == media.Audio {
		h.s.hold(name, u)
		h.s.releaseAudio(false)
		return
	}
	h.s.addCaptions(o, &u)
	h.s.cut(o, u)
}

// Picture implements worker.Handler.
func (h *handler) Picture(jpeg []byte) { h.s.c.picture.Store(&Picture{JPEG: jpeg, At: h.s.c.o.Now()}) }

// Stats implements worker.Handler.
func (h *handler) Stats(st worker.Stats) {
	defer h.lock()()
	h.s.c.workerStats(st)
}

// Failed implements worker.Handler.
func (h *handler) Failed(text string) {
	h.s.c.event(Failure, "transcoding-failed", text, "Check the rung's settings; the other rungs go on.")
}

// Replaced implements worker.Handler.
func (h *handler) Replaced(why string, repeats bool) map[string]int64 {
	unlock := h.lock()
	resume := map[string]int64{}
	for name, o := range h.s.outputs {
		if o.direct {
			continue
		}
		if from := o.cutter.Discard(); from > 0 {
			resume[name] = from
		}
	}
	h.s.c.load.replaced++
	unlock()
	text := "The worker was replaced: " + why + ". It goes on behind the last part that is out; viewers miss nothing."
	if !repeats {
		text = "The worker was replaced: " + why + ", twice on the same stretch of the feed. That stretch is left out as a gap."
	}
	h.s.c.event(Warning, "worker-replaced", text, "If it happens again, look at the feed's encoder and at the machine's memory.")
	return resume
}

// Drained implements worker.Handler. The worker is dismissed on another goroutine, since it
// waits for the one that calls this.
func (h *handler) Drained() {
	h.s.c.mu.Lock()
	sup := h.s.sup
	ended := h.s.ended
	h.s.c.mu.Unlock()
	if ended && sup != nil {
		go h.s.dismiss(sup)
	}
}
