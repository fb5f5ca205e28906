package run

import (
	"cmp"
	"maps"
	"slices"
	"time"

	"metaplasis/internal/core/bmff"
	"metaplasis/internal/core/hub"
	"metaplasis/internal/core/ladder"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/segment"
	"metaplasis/internal/core/timeline"
	"metaplasis/internal/core/transcode"
	"metaplasis/internal/origin/layout"
	"metaplasis/internal/settings"
)

// Worker encodes for a run. None of its methods waits.
type Worker interface {
	Configure(transcode.Config)
	Boundary(segment.Boundary)
	Take(below uint64)  // units of the hub below a number are there
	Settled(msn uint64) // segments below are finished, and need not be repeated
	Drain()             // no unit follows
}

// Options of a run.
type Options struct {
	layout.Source
	Sizes []*media.Track // smaller pictures that the sender makes itself
	Audio []*media.Track // the main track first

	Hub    *hub.Hub
	Employ func(at uint64, conf transcode.Config) Worker // starts a worker from a unit of the hub on
	// Messages makes the events at the beginning of a segment.
	Messages func(msn uint64) []bmff.Message

	Now       func() time.Time
	Monotonic func(time.Time) time.Duration // how long the origin has run at a time that Now returned
	First     time.Time                     // when the first unit came
	Epoch     time.Time                     // the wall clock at media time 0
	Start     int64                         // media time of the first unit, ticks of media.VideoTimescale
	Lead      time.Duration                 // by how much it begins ahead of the wall clock, since the feed before ended there
	NextMSN   uint64                        // no segment below has the number of one to come
	Distance  int64                         // between keyframes of the source in the run before, ticks of media.VideoTimescale
	Prefix    string                        // of the addresses of its segments
}

// Run is one run of a feed. It is a record of all that goes on within it, hence its many fields: the tracks with their times, the
// outputs with what waits for them, the worker, and what is told of the source.
//
//large:times, outputs and cutting of one run share the state of its timeline
type Run struct {
	Options
	out, spare []Made

	sounds    []*sound
	layers    []*layer
	align     bool         // segments are cut and numbered by the wall clock
	pictures  mainPictures // the newest main pictures, to which those of the layers belong
	clock     *segment.Clock
	feed      *timeline.Feed
	videoTime *timeline.Track

	outputs   map[string]*output
	leaving   []*output         // in whose place others are from the next segment on
	languages map[string]string // of encoded audio, by rendition, where the ladder says it
	held      heldUnits         // sound whose segment is not decided
	waiting   waitingUnits      // sound that came before the first picture

	worker     Worker
	config     transcode.Config
	reader     *hub.Reader // of the channel's hub: what is cut is read from there, as by every other reader
	at         uint64      // number of the unit at hand
	first      uint64      // number of the run's first unit
	begun      bool        // the first keyframe has come
	leading    bool        // pictures that need others from before the first keyframe may still come
	ended      bool
	partTarget int64 // of all renditions, ticks of media.VideoTimescale
	longest    int64 // the most that a segment may last, ticks of media.VideoTimescale; 0: no bound yet
	captions   sourceCaptions
	source     source
	encoding   encodingTime
	progress   progress
	pair       pairTracks
	order      pictureOrder
}

// progress is how far the units have come.
type progress struct {
	timer     clock         // since the first unit came
	unaligned bool          // the first stamp is still to be set against the wall clock
	newest    int64         // presentation time of the newest picture
	end       int64         // presentation time behind all units, ticks of media.VideoTimescale
	firstAt   int64         // media time of the first unit, ticks of media.VideoTimescale
	mapped    int64         // media time of the newest picture as it came, ticks of media.VideoTimescale
	cameAt    time.Duration // when the newest picture came, since the run began
	pause     time.Duration // pictures were missing for so long that the run is over; 0: they were not
	stepped   time.Duration // by how much the wall clock was set, which ends the run; 0: it was not
}

// sound is one of a run's audio tracks.
type sound struct {
	*layout.Sound
	time *timeline.Track
}

// New prepares a run; the first unit begins it.
func New(o Options) *Run {
	r := &Run{Options: o, outputs: map[string]*output{}, languages: map[string]string{}, feed: timeline.NewFeed(o.Start)}
	r.Failed, r.align = map[string]layout.Failure{}, o.Settings.Aligned
	r.order = pictureOrder{reordered: map[media.TrackID]bool{}, latest: map[media.TrackID]int64{}}
	r.progress = progress{timer: newClock(o.First, o.Monotonic), firstAt: o.Start, unaligned: r.Aligned()}
	r.Sounds = layout.NameSounds(o.Audio)
	for _, a := range r.Sounds {
		r.sounds = append(r.sounds, &sound{a, timeline.NewAudio(a.Track.Timescale, a.Track.FrameSamples)})
	}
	if r.Video != nil {
		r.videoTime = timeline.NewVideo(r.Video.FrameRate)
		r.Varies = r.videoTime.Varies()
	}
	if r.Aligned() {
		if r.videoTime != nil {
			r.videoTime.Stiff()
		}
		for _, a := range r.sounds {
			a.time.Stiff()
		}
	}
	r.clock = segment.NewClock(o.NextMSN, r.Settings.SegmentTicks())
	r.clock.SetAligned(r.Aligned())
	r.clock.Begin(0, o.NextMSN > 0)
	r.clock.SetDistance(o.Distance)
	r.feed.Lead(o.Lead)
	for _, t := range o.Sizes {
		r.addLayer(t)
	}
	return r
}

// Aligned reports whether segments are cut and numbered by the wall clock.
func (r *Run) Aligned() bool { return r.align }

// Clock is the clock of the segments, which tells when the next boundary is likely.
func (r *Run) Clock() *segment.Clock { return r.clock }

// Apply takes other settings, from the next segment on. The ladder is applied by itself.
func (r *Run) Apply(s settings.Settings) { r.Settings = s }

// SetLongest says how long a segment may last from now on, in ticks of media.VideoTimescale; 0: no bound yet.
func (r *Run) SetLongest(ticks int64) { r.longest = ticks }

// sound returns the audio track of an id, nil when it is none of the run's.
func (r *Run) sound(id media.TrackID) *sound {
	for _, a := range r.sounds {
		if a.Track.ID == id {
			return a
		}
	}
	return nil
}

// isVideo reports whether an id is that of the main picture.
func (r *Run) isVideo(id media.TrackID) bool { return r.Video != nil && r.Video.ID == id }

// Has reports whether a track is one of the run's.
func (r *Run) Has(id media.TrackID) bool {
	return r.isVideo(id) || r.layerOf(id) != nil || r.sound(id) != nil
}

// ApplyLadder lays out the renditions from the next boundary on.
func (r *Run) ApplyLadder(rungs []ladder.Rung) {
	at := r.clock.Next()
	r.Rungs = rungs
	r.partTarget = 0
	for _, o := range r.outputs {
		if h := o.cutter.Header(); h != nil {
			r.setTrack(o, h.Track)
		}
	}
	r.clock.SetStep(r.Settings.SegmentTicks())
	l := layout.Of(&r.Source, at)
	maps.Copy(r.languages, l.Languages)
	r.pair.reuse(&r.Source)
	for _, name := range l.Names {
		r.want(name, l.From[name], at)
	}
	for name, o := range r.outputs {
		if _, wanted := l.From[name]; !wanted && o.until == 0 {
			o.until = at
		}
	}
	r.clock.SetMode(l.Mode)
	r.make(TracksChanged{})
	r.config = l.Config
	if r.worker != nil {
		r.worker.Configure(l.Config)
	}
	r.make(Offer{r.Offering(), r.partTarget})
}

// SetPair says what real-time viewers need beside the ladder, from the next boundary on.
func (r *Run) SetPair(video, sound bool) {
	r.Pair.Video, r.Pair.Sound = video, sound
	r.ApplyLadder(r.Rungs)
}

// setTrack gives a rendition its header, and the parts that fit its frames.
func (r *Run) setTrack(o *output, t media.Track) {
	if o.layer != nil {
		t.ID = o.id
	} else if !o.direct {
		t.ID = o.id
		t.Language = cmp.Or(r.languages[o.name], t.Language)
	}
	o.cutter.SetHeader(segment.NewHeader(t))
	o.cutter.Prefix = r.Prefix
	if t.Kind == media.Video || r.Video == nil {
		o.cutter.Messages = r.Messages
	}
	if r.Aligned() {
		// Two origins write the same bytes, so nothing of this one's own time may be in them.
		o.cutter.Produced = func(start int64) time.Time { return media.WallClock(r.Epoch, start) }
	}
	o.cutter.Fragments = segment.FragmentNumbers(r.Settings.SegmentTicks(), r.Settings.PartTicks())
	p := r.Parts(&t)
	if t.Kind == media.Video {
		o.cutter.SetParting(p.Video)
	} else {
		o.cutter.SetParting(p.Audio)
	}
	r.partTarget = max(r.partTarget, p.Target)
}

// SetClock takes another clock by which the sender stamps a track.
func (r *Run) SetClock(t *media.Track) {
	if a := r.sound(t.ID); a != nil {
		track := *a.Track // readers hold the one before
		track.Clock = t.Clock
		a.Track = &track
	} else if r.isVideo(t.ID) {
		track := *r.Video
		track.Clock = t.Clock
		r.Video = &track
	}
}

// SetParameters takes other parameter sets for the same picture: decoders hear of them, viewers do not.
func (r *Run) SetParameters(t *media.Track) {
	t.FrameRate = r.Video.FrameRate
	r.Video = t
	for _, o := range r.outputs {
		if h := o.cutter.Header(); o.direct && o.layer == nil && h.Track.Kind == media.Video {
			r.setTrack(o, *t)
		}
	}
	r.ApplyLadder(r.Rungs) // so that the next worker begins with them
}

// SetJitter says by how much the sender's video stamps scatter, in milliseconds.
func (r *Run) SetJitter(millis int64) { r.videoTime.SetJitter(millis) }

// SetShift says by how much pictures are presented before they say that they are decoded, in ticks of media.VideoTimescale.
func (r *Run) SetShift(ticks int64) { r.videoTime.SetShift(ticks) }

// Close ends the run: what the source fed is made at once, what the worker still holds when it has drained.
func (r *Run) Close() {
	r.ended = true
	r.releaseAudio(true)
	r.pictures.ended = true
	r.releaseLayers()
	for _, o := range r.all() {
		if o.direct {
			r.finish(o)
		}
	}
	if r.worker != nil {
		r.worker.Drain()
	}
}

// Flush makes the last of the worker's renditions.
func (r *Run) Flush() {
	r.releaseAudio(true)
	for _, o := range r.all() {
		r.finish(o)
	}
	r.worker = nil
}

// Ended reports whether Close was called.
func (r *Run) Ended() bool { return r.ended }

// Working reports whether a worker encodes for the run, and has not been flushed.
func (r *Run) Working() bool { return r.worker != nil }

// Makes reports whether the run makes a rendition.
func (r *Run) Makes(rendition string) bool { return r.outputs[rendition] != nil }

// End is the media time behind all that came, in ticks of media.VideoTimescale.
func (r *Run) End() int64 { return max(r.progress.end, r.feed.Last()+1) }

// names of what is made, for those who look it up.
func (r *Run) encodes() bool { return r.config.Video != nil || len(r.config.Sound) > 0 }

// all are the outputs that units may belong to.
func (r *Run) all() []*output {
	return slices.AppendSeq(slices.Clone(r.leaving), maps.Values(r.outputs))
}

// Drift is by how many millionths the sender's clock runs fast, less than 0 slow, and whether that is known yet.
func (r *Run) Drift() (ppm int64, known bool) { return r.feed.Drift() }

// Distance is how far the source's keyframes lie apart, in ticks of media.VideoTimescale, 0 when it is not known.
func (r *Run) Distance() int64 { return r.clock.Distance() }

// Dropped is how many units of a rendition had no place, and whether it is a picture that the sender makes.
func (r *Run) Dropped(rendition string) (units uint64, ready bool) {
	if o := r.outputs[rendition]; o != nil {
		return o.cutter.Dropped, o.layer != nil
	}
	return 0, false
}

// EncodingTime is how long a picture takes on average from its arrival until it comes back encoded.
func (r *Run) EncodingTime(rendition string) time.Duration { return r.encoding.by[rendition] }

// EncodesPictures reports whether the worker encodes pictures.
func (r *Run) EncodesPictures() bool { return len(r.config.Rungs) > 0 }
