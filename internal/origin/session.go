package origin

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"metaplasis/internal/core/coding"
	"metaplasis/internal/core/hub"
	"metaplasis/internal/core/ladder"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/segment"
	"metaplasis/internal/core/timeline"
	"metaplasis/internal/core/transcode"
	"metaplasis/internal/settings"
	"metaplasis/internal/worker"
)

// Bounds of a session.
const (
	//limit:bytes of sound that wait for the first picture | each channel | the oldest are dropped and counted
	maxHeldBytes = 4 << 20 // of sound that waits until the clock has decided where it belongs
	drainWait    = 3 * time.Second
)

// session is one unbroken run of a feed: its tracks do not change and its times go on. Units go in; what it
// cuts of them goes to the hub and to the publisher. All of it is guarded by the channel's lock.
type session struct {
	shared
	settings     settings.Settings
	aligned      bool
	hub          *hub.Hub
	tracks       *trackIDs
	numbers      *numbering
	notes        *annotations
	out          *publisher
	texts        *texts
	employ       func(*session) *worker.Supervisor // starts a worker for it
	video        *media.Track
	layers       []*layer // smaller pictures that the sender makes itself
	leads        leads    // the newest main pictures, to which those of the layers belong
	sounds       []*sound // the first is the main one, which the ladder codes
	clock        *segment.Clock
	feed         *timeline.Feed
	vtime        *timeline.Track
	varies       bool  // the plan of the parts is one for a frame rate that varies
	longest      int64 // the longest that a picture lasted, ticks of media.VideoTimescale
	outputs      map[string]*output
	leaving      []*output         // in whose place others are from the next segment on
	languages    map[string]string // of coded sound, by rendition, where the ladder says it
	held         []heldUnit
	heldBytes    int
	waiting      []waitingUnit // sound that came before the first picture
	waitingBytes int
	sup          *worker.Supervisor
	config       transcode.Config
	reader       *hub.Reader // of the channel's hub: what is cut is read from there, as by every other reader
	at           uint64      // number of the unit at hand
	begun        bool        // the first keyframe has come
	leading      bool        // pictures that need others from before the first keyframe may still come
	unaligned    bool        // the first stamp is still to be set against the wall clock
	ended        bool
	rungs        []ladder.Rung
	partTarget   int64              // of all renditions, ticks of media.VideoTimescale
	failed       map[string]failure // rungs that the worker could not make
	captions     sourceCaptions
	source       source
	coding       codingTime
	newest       int64     // presentation time of the newest picture
	end          int64     // presentation time behind all units, ticks of media.VideoTimescale
	firstWall    time.Time // when the first unit came
	timer        clock     // since then
	mapped       int64     // media time of the newest picture as it came, ticks of media.VideoTimescale
	paused       bool      // pictures are missing for so long that the run is over
	pause        time.Duration
	cameAt       time.Duration // when the last unit came, since the run began
	stepped      time.Duration // by how much the wall clock was set, which ends the run; 0: it was not
	firstAt      int64         // its media time, ticks of media.VideoTimescale
	first        uint64        // number in the hub of its first unit
	pair         *pair         // what is coded for viewers in real time
	pairVideo    *media.Track  // in the hub, nil while it is not made
	pairSound    *media.Track
	pairBroken   bool                    // it cannot be made in this run
	reordered    map[media.TrackID]bool  // tracks whose pictures come in another order than they are shown
	latest       map[media.TrackID]int64 // presentation time of the newest picture, or unit of the pair
	lead         time.Duration           // by which it began ahead of the wall clock, since the feed before ended there
}

// sound is one of a session's tracks of sound.
type sound struct {
	track *media.Track
	time  *timeline.Track
	name  string // of the rendition that passes it through
}

// waitingUnit is a unit of a track of sound.
type waitingUnit struct {
	of *sound
	u  media.AccessUnit
}

// failure is why a rung is not made.
type failure struct {
	rung ladder.Rung // as it was then: another one is tried anew
	text string
}

// output is a rendition as one session makes it.
type output struct {
	id        media.TrackID // of its units in the hub
	r         *Rendition
	cutter    segment.Cutter
	until     uint64 // the first segment that is not made any more; 0: none
	direct    bool   // fed from the source, not from the worker
	layer     *layer // that it is fed from, nil for the main picture and for sound
	captioned int64  // captions up to this presentation time are in it
}

// mediaAhead is by how much the media that came runs ahead of the wall clock.
func (s *session) mediaAhead(now time.Time) time.Duration {
	return ticks(s.feed.Last()-s.firstAt) - now.Round(0).Sub(s.timer.wall) + s.lead
}

type heldUnit struct {
	name string
	u    media.AccessUnit
}

// newSession prepares a run of some rungs whose first unit came at a time and has a media time in ticks of
// media.VideoTimescale. longest is the longest that a picture lasted so far, in the same.
func (c *Channel) newSession(video *media.Track, sizes, sounds []*media.Track, first time.Time, start, longest int64) *session {
	s := &session{
		shared: c.shared, settings: c.settings, aligned: c.settings.Aligned, hub: c.hub, tracks: &c.tracks, numbers: c.numbers,
		notes: c.notes, out: c.out, texts: c.texts, employ: c.employ, pair: &c.pair,
		reordered: map[media.TrackID]bool{}, latest: map[media.TrackID]int64{},
		video: video, sounds: nameSounds(sounds), outputs: map[string]*output{}, languages: map[string]string{}, failed: map[string]failure{}, feed: timeline.NewFeed(start),
		longest: longest, firstWall: first, timer: newClock(first, c.monotonic), firstAt: start, unaligned: c.settings.Aligned,
	}
	if video != nil {
		s.vtime = timeline.NewVideo(video.FrameRate)
		s.varies = s.vtime.Varies()
	}
	if s.aligned {
		if s.vtime != nil {
			s.vtime.Stiff()
		}
		for _, a := range s.sounds {
			a.time.Stiff()
		}
	}
	s.clock = segment.NewClock(s.numbers.position.NextMSN, s.settings.SegmentTicks())
	s.clock.SetAligned(s.aligned)
	s.clock.Begin(0, s.numbers.position.NextMSN > 0)
	for _, t := range sizes {
		s.layers = append(s.layers, &layer{track: t})
	}
	s.applyLadder(c.ladderFor(s))
	return s
}

// nameSounds gives each track of sound the rendition that passes it through: the main one is called as
// the ladder calls it, others by their language or their number.
func nameSounds(tracks []*media.Track) (out []*sound) {
	taken := map[string]bool{}
	for i, t := range tracks {
		name := ladder.SourceAudio
		if i > 0 {
			base := name + "-" + cmp.Or(soundLabel(t.Language), "track")
			name = base
			for n := i + 1; taken[name] || name == base && t.Language == ""; n++ {
				name = fmt.Sprintf("%s-%d", base, n)
			}
		}
		taken[name] = true
		out = append(out, &sound{track: t, time: timeline.NewAudio(t.Timescale, t.FrameSamples), name: name})
	}
	return out
}

// soundLabel keeps what may stand in an address.
func soundLabel(language string) string {
	return strings.Map(func(r rune) rune {
		if r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' {
			return r
		}
		return -1
	}, language)
}

// main returns the main track of sound, nil when there is none.
func (s *session) main() *media.Track {
	if len(s.sounds) == 0 {
		return nil
	}
	return s.sounds[0].track
}

// sound returns the track of sound of an id, nil when it is none of the session's.
func (s *session) sound(id media.TrackID) *sound {
	for _, a := range s.sounds {
		if a.track.ID == id {
			return a
		}
	}
	return nil
}

// soundOf is the track of sound that a rung has, nil when there is none.
func (s *session) soundOf(r *ladder.Rung) *sound {
	if i := max(r.AudioTrack-1, 0); i < len(s.sounds) {
		return s.sounds[i]
	}
	return nil
}

// soundName is the rendition of sound of a rung, "" for none: what cannot be decoded passes through.
func (s *session) soundName(r *ladder.Rung) string {
	a := s.soundOf(r)
	switch {
	case a == nil:
		return ""
	case a.track.Undecodable != "" || r.AudioBitrate == 0:
		return a.name
	}
	return r.AudioName()
}

// refused says why a rung of the ladder cannot be made of this source, "" when it can.
func (s *session) refused(r ladder.Rung) string {
	switch f, failed := s.failed[r.Name]; {
	case r.Source && s.source.suspended:
		return "it waits for the sender's IDR pictures"
	case !r.Source && s.video != nil && s.video.Undecodable != "":
		return fmt.Sprintf("the source cannot be coded anew, since no decoder here reads %s; it can only pass through",
			s.video.Undecodable)
	case failed && f.rung.Equal(r):
		return f.text
	case r.SoundOnly() && s.soundOf(&r) == nil:
		return "the source has no such track of sound"
	case !r.Source && !r.SoundOnly() && s.video != nil:
		w, h := r.Size(s.video)
		cadence := s.cadence(&r)
		return r.LevelProblem(w, h, cadence.Of(s.codedRate()))
	}
	return ""
}

// applyLadder plans the renditions from the next boundary on.
func (s *session) applyLadder(rungs []ladder.Rung) {
	at := s.clock.Next()
	s.rungs = rungs
	s.partTarget = 0
	for _, o := range s.outputs {
		if h := o.cutter.Header(); h != nil {
			s.setTrack(o, h.Track)
		}
	}
	s.clock.SetStep(s.settings.SegmentTicks())
	l := s.layOut(rungs, at)
	for _, name := range l.names {
		s.want(name, l.from[name], at)
	}
	for name, o := range s.outputs {
		if _, wanted := l.from[name]; !wanted && o.until == 0 {
			o.until = at
		}
	}
	s.clock.SetMode(l.mode)
	s.layout.tell()
	s.config = l.conf
	if s.sup != nil {
		s.sup.Configure(l.conf)
	}
	s.out.offer(s.offering(), s.partTarget)
}

// offering says what viewers may be offered of the rungs.
func (s *session) offering() (o offering) {
	for _, r := range s.rungs {
		if !r.On || s.refused(r) != "" {
			continue
		}
		offered := offeredRung{Rung: r, video: s.video != nil && !r.SoundOnly()}
		offered.sound = s.soundName(&r)
		o.rungs = append(o.rungs, offered)
	}
	for i, a := range s.sounds {
		if i > 0 {
			o.alternates = append(o.alternates, a.name)
		}
	}
	return o
}

// layout is what a ladder makes of a source: the renditions in their order, which of them pass through, and
// what the worker has to do for the others.
type layout struct {
	names []string
	from  map[string]origins
	conf  transcode.Config
	mode  segment.Mode
}

// origins is where the units of a rendition come from.
type origins struct {
	direct bool   // from the source
	layer  *layer // which one of its pictures, nil for the main one
}

// add takes a rendition in. It reports whether it is new.
func (l *layout) add(name string, from origins) bool {
	if _, known := l.from[name]; known {
		return false
	}
	l.names, l.from[name] = append(l.names, name), from
	return true
}

// layOut plans the renditions of the rungs that can be made, from a segment on.
func (s *session) layOut(rungs []ladder.Rung, at uint64) *layout {
	l := &layout{from: map[string]origins{}, mode: segment.Grid,
		conf: transcode.Config{At: at, Video: decodable(s.video), Audio: decodable(s.main()), Interlaced: s.settings.Ladder.Interlaced, Nice: s.settings.Ladder.Nice()}}
	for i, a := range s.sounds {
		if t := decodable(a.track); i > 0 && t != nil {
			l.conf.Others = append(l.conf.Others, t)
		}
	}
	if s.video != nil {
		l.conf.Part = s.plan(s.video).Video.Step
	}
	for _, r := range rungs {
		if !r.On {
			continue
		}
		r = r.WithDefaults()
		if s.refused(r) != "" {
			continue
		}
		switch {
		case s.video == nil, r.SoundOnly():
		case r.Source:
			l.mode = segment.Lead
			l.add(r.Name, origins{direct: true})
		case s.layerFor(&r) != nil:
			l.mode = segment.Lead
			l.add(r.Name, origins{true, s.layerFor(&r)})
		default:
			l.conf.Rungs = append(l.conf.Rungs, s.codedRung(&r, &l.conf))
			l.add(r.Name, origins{})
		}
		for i, a := range s.sounds {
			if i > 0 {
				l.add(a.name, origins{direct: true})
				continue
			}
			name, own := s.soundName(&r), s.soundOf(&r)
			if name == "" {
				continue
			}
			passes := name == own.name
			if l.add(name, origins{direct: passes}) && !passes {
				track := own.track.ID
				if own == s.sounds[0] {
					track = 0
				}
				s.languages[name] = r.AudioLanguage
				l.conf.Sound = append(l.conf.Sound, transcode.AudioRung{ID: s.tracks.of(name), Name: name, Track: track,
					Codec: cmp.Or(r.AudioCodec, coding.Usual(media.Audio)), Bitrate: r.AudioBitrate, Channels: r.AudioChannels, Rate: r.AudioRate, Loudness: r.Loudness})
			}
		}
	}
	s.layOutPair(l)
	return l
}

// codedRung is what the worker makes for a rung of pictures; its logo goes into the configuration.
func (s *session) codedRung(r *ladder.Rung, conf *transcode.Config) transcode.Rung {
	out := s.coded(r)
	out.ID = s.tracks.of(r.Name)
	if img, ok := s.images.Get(r.Picture.Logo.Image); ok {
		out.Logo = img.Digest
		if conf.Images == nil {
			conf.Images = map[string][]byte{}
		}
		conf.Images[img.Digest] = img.File
	}
	return out
}

// coded is how a rung's pictures are coded.
func (s *session) coded(r *ladder.Rung) transcode.Rung {
	w, h := r.Size(s.video)
	limits := r.Limits(s.settings.SegmentMillis)
	return transcode.Rung{
		Name: r.Name, Codec: cmp.Or(r.Codec, coding.Usual(media.Video)),
		Width: w, Height: h, SAR: r.SAR(s.video),
		Bitrate: limits.Bitrate, Peak: limits.Rate, Buffer: limits.Buffer, Effort: r.Effort, Colour: transcode.Flattened(s.video.Colour),
		Quality: r.Quality, Profile: r.Profile, Level: r.Level, BFrames: r.BFrames, Content: r.Content,
		Cadence: s.cadence(r), Picture: r.Picture, Inner: r.Inner(s.video),
	}
}

// codedRate is the rate of the pictures that can be coded: a picture of each field, where the source is interlaced.
func (s *session) codedRate() media.Rational {
	rate := s.video.FrameRate
	if s.video.Interlaced && transcode.Fields(s.settings.Ladder.Interlaced) {
		rate.Num *= 2
	}
	return rate
}

// want makes an output for a rendition, unless there is one that goes on.
func (s *session) want(name string, from origins, at uint64) {
	old := s.outputs[name]
	if old != nil && old.direct == from.direct && old.layer == from.layer && old.until == 0 {
		return
	}
	o := &output{direct: from.direct, layer: from.layer, id: s.tracks.of(name), r: s.out.rendition(name)}
	o.cutter.SetFloor(at)
	s.limit(o, name)
	switch {
	case o.layer != nil:
		s.setTrack(o, s.layerTrack(o.layer))
	case o.direct:
		s.setTrack(o, *s.sourceTrack(name))
	}
	if old != nil {
		if other := old.direct != o.direct || old.layer != o.layer; other && old.goesOn(at) && !s.ended {
			old.until = at
			s.leaving = append(s.leaving, old)
		} else {
			s.finish(old)
		}
	}
	s.outputs[name] = o
}

// goesOn reports whether an output of pictures has a segment open that ends before another one.
func (o *output) goesOn(until uint64) bool {
	msn, open := o.cutter.Open()
	return open && msn < until && o.cutter.Header().Track.Kind == media.Video
}

// all are the outputs that units may belong to.
func (s *session) all() []*output {
	return slices.AppendSeq(slices.Clone(s.leaving), maps.Values(s.outputs))
}

// awaits reports whether an output that takes the place of another one waits for its end.
func (s *session) awaits(o *output) bool {
	return slices.ContainsFunc(s.leaving, func(old *output) bool { return old.r == o.r && old != o })
}

// decodable returns a track that a decoder here reads, else nil: there is nothing to do for the worker.
func decodable(t *media.Track) *media.Track {
	if t == nil || t.Undecodable != "" {
		return nil
	}
	return t
}

// sourceTrack returns the track that a rendition passes through.
func (s *session) sourceTrack(name string) *media.Track {
	for _, a := range s.sounds {
		if a.name == name {
			return a.track
		}
	}
	return s.video
}

// setTrack gives a rendition its header, and the parts that fit its frames.
func (s *session) setTrack(o *output, t media.Track) {
	if o.layer != nil {
		t.ID = o.id
	} else if !o.direct {
		t.ID = o.id
		t.Language = cmp.Or(s.languages[o.r.Name], t.Language)
	}
	o.cutter.SetHeader(segment.NewHeader(t))
	o.cutter.Prefix = s.numbers.incarnation
	if t.Kind == media.Video || s.video == nil {
		o.cutter.Messages = s.notes.messages
	}
	if epoch := s.out.epoch; s.aligned {
		// Two origins write the same bytes, so nothing of this one's own time may be in them.
		o.cutter.Produced = func(start int64) time.Time { return media.WallClock(epoch, start) }
	}
	o.cutter.Fragments = segment.FragmentNumbers(s.settings.SegmentTicks(), s.settings.PartTicks())
	p := s.plan(&t)
	if t.Kind == media.Video {
		o.cutter.SetParting(p.Video)
	} else {
		o.cutter.SetParting(p.Audio)
	}
	s.partTarget = max(s.partTarget, p.Target)
}

// plan fits the channel's parts to its video and to one of its renditions of sound.
func (s *session) plan(t *media.Track) segment.Parts {
	sound := s.main()
	if t.Kind == media.Audio {
		sound = t
	}
	var rate media.Rational
	var longest int64
	switch {
	case s.video != nil:
		rate, longest = s.pictures()
	case sound != nil:
		rate = media.Rational{Num: sound.Timescale, Den: sound.FrameSamples}
	}
	if sound == nil {
		return segment.PlanParts(s.settings.PartTicks(), rate, longest, 0, 0)
	}
	return segment.PlanParts(s.settings.PartTicks(), rate, longest, sound.FrameSamples, sound.Timescale)
}

// pictures is how the pictures of all renditions lie: at a rate, of which each rendition's is a multiple, so that
// all of them have one where a part begins; or where there is none, how long they last at most, in ticks of
// media.VideoTimescale.
func (s *session) pictures() (rate media.Rational, longest int64) {
	rate = s.video.FrameRate
	if s.varies || !rate.Valid() {
		rate, longest = media.Rational{}, max(s.longest, usualPicture)
	}
	for i := range s.rungs {
		r := &s.rungs[i]
		if !r.On || r.Source || r.SoundOnly() || s.refused(*r) != "" {
			continue
		}
		c := s.cadence(r)
		switch own := c.Of(s.codedRate()); {
		case c == (transcode.Cadence{}):
		case rate.Valid():
			if common := rate.Common(own); common.Milli() >= slowestCommon {
				rate = common
				continue
			}
			longest = max(longest, rate.Period(media.VideoTimescale)+1)
			rate = media.Rational{}
			fallthrough
		case own.Valid():
			longest = max(longest, own.Period(media.VideoTimescale)+1)
		default:
			longest = max(longest, 2*max(s.longest, usualPicture))
		}
	}
	return rate, longest
}

// slowestCommon is how often, in thousandths a second, the pictures of all renditions must stand at one time so that
// parts begin there.
const slowestCommon = 2500

// cadence is how a rung's pictures are taken from the source's.
func (s *session) cadence(r *ladder.Rung) (c transcode.Cadence) {
	rate, err := ladder.ParseRate(r.FrameRate)
	if err != nil || r.Source || !rate.Other(s.codedRate()) {
		return c
	}
	if rate.Half {
		return transcode.Cadence{Every: 2}
	}
	return transcode.Cadence{Rate: rate.Number}
}

// usualPicture is how long the pictures of a varying rate last when nothing better is known: 24 a second.
const usualPicture = media.VideoTimescale / 24

// setClock takes another clock by which the sender stamps a track.
func (s *session) setClock(t *media.Track) {
	if a := s.sound(t.ID); a != nil {
		track := *a.track // readers hold the one before
		track.Clock = t.Clock
		a.track = &track
	} else if s.video != nil && s.video.ID == t.ID {
		track := *s.video
		track.Clock = t.Clock
		s.video = &track
	}
}

// setParameters takes other parameter sets for the same picture: decoders hear of them, viewers do not.
func (s *session) setParameters(t *media.Track) {
	t.FrameRate = s.video.FrameRate
	s.video = t
	for _, o := range s.outputs {
		if h := o.cutter.Header(); o.direct && o.layer == nil && h.Track.Kind == media.Video {
			s.setTrack(o, *t)
		}
	}
	s.applyLadder(s.rungs) // so that the next worker begins with them
}

// limit bounds what a rendition may hold.
func (s *session) limit(o *output, name string) {
	bitrate := int64(maxSourceBitrate)
	for _, r := range s.rungs {
		if r.Name == name && !r.Source {
			bitrate = r.Most() * 3 / 2
		}
	}
	if ladder.IsAudioName(name) {
		bitrate = maxSoundBitrate
	}
	budget := budget(&s.settings, bitrate)
	o.r.window.SetBudget(budget)
	o.cutter.MaxBytes = int(openShare(budget))
}
