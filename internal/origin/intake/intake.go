// Package intake turns what one feed sends into a known source: which of its tracks are used, which picture is the main one and
// which are smaller sizes of it, at what rate pictures come and in which order. Tracks and units go in; a Source comes out once
// all of it is known, or once waiting longer is not worth it, with the units that came meanwhile.
//
// While a run goes on, intake watches for what ends it: another codec, another main picture. It decides nothing about who is on
// air, and calls nobody. The channel calls it with its lock held.
package intake

import (
	"bytes"
	"cmp"
	"fmt"
	"slices"
	"time"

	"metaplasis/internal/core/coding"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/timeline"
)

// Bounds of what is held before the tracks are known.
const (
	//limit:bytes that wait until the tracks are known | each feed | the feed begins with the tracks that are known
	MaxEarlyBytes = 16 << 20
	// orderUnits is how many pictures tell whether some are presented before they say that they are decoded.
	orderUnits = 5
	// patience is how long, in milliseconds of media, a feed waits for a second track and for its frame rate to show.
	patience = 700
	// unitCost is what a waiting unit takes beside its data, in bytes.
	unitCost = 128
	// maxSounds is how many audio tracks of a feed are used.
	//limit:audio tracks that are used | each feed | further ones are left out
	maxSounds = 8
	// So many pictures tell the frame rate, and so few whether it is another than was said.
	enoughFrames = 12
	fewFrames    = 6
	// ticksEachMilli converts ticks of media.VideoTimescale.
	ticksEachMilli = media.VideoTimescale / 1000
)

// Unit is an access unit as the sender stamps it.
type Unit struct {
	ID                 media.TrackID
	Kind               media.Kind
	Stamp, Composition int64 // of the track's clock
	Data               []byte
}

// State is what becomes of what a feed sends.
type State int

// The states of a feed.
const (
	Standby State = iota // it is not used
	Waiting              // the source is not known yet
	Running              // a run goes on
)

// Step is what a track or a unit asks for.
type Step int

// The steps.
const (
	Nothing    Step = iota
	Clock           // the run takes another clock of a track
	Parameters      // the run takes other parameter sets for the same picture
	Layer           // the run takes a smaller picture of the sender's
	Restart         // the run ends; another one begins once the source is known
)

// Change is what a track or a unit asks for.
type Change struct {
	Step  Step
	Track *media.Track
	Text  string // for the event log, "" for nothing
}

// Ignored is a track that is not used, told once.
type Ignored struct{ Text, Do string }

// Intake is what is known of one feed's tracks.
//
//large:a small method for each question about the source
type Intake struct {
	video      *media.Track // the main one of sizes
	sizes      []*size      // all tracks of pictures
	keyless    bool         // the main picture waits for a keyframe
	sounds     []*media.Track
	ignored    map[media.TrackID]bool
	early      []Unit
	earlyBytes int
	first      time.Time // when the first of them came
	rate       timeline.RateMeter
	announced  media.Rational // frame rate from metadata
}

// New knows nothing yet.
func New() *Intake { return &Intake{ignored: map[media.TrackID]bool{}} }

// Video is the main picture, nil for none so far.
func (x *Intake) Video() *media.Track { return x.video }

// Sounds are the audio tracks by their ids; the first is the main one.
func (x *Intake) Sounds() []*media.Track { return x.sounds }

// Keyless reports whether the main picture waits for a keyframe.
func (x *Intake) Keyless() bool { return x.keyless }

// SetFrameRate takes the frame rate that the sender announces, in thousandths, for tracks that do not say.
func (x *Intake) SetFrameRate(milli int64) {
	if milli > 1000 && milli < 300_000 {
		x.announced = timeline.SnapRate(milli)
	}
}

// Kind is that of a track that is used, and whether it is the main picture; ok is false for others.
func (x *Intake) Kind(id media.TrackID) (kind media.Kind, main, ok bool) {
	switch {
	case x.size(id) != nil:
		return media.Video, x.video.ID == id, true
	case x.sound(id) >= 0:
		return media.Audio, false, true
	}
	return 0, false, false
}

// Announce takes a track that the sender announces, or another state of it, at a time at which the newest unit came.
func (x *Intake) Announce(t media.Track, state State) (c Change, ignored *Ignored) {
	t.ID = cmp.Or(t.ID, media.TrackID(t.Kind))
	old, used := x.known(&t)
	if !used {
		return c, x.ignore(&t)
	}
	if old != nil && old.Codec == t.Codec && bytes.Equal(old.Config, t.Config) && old.SamePicture(&t) && old.Stamps() == t.Stamps() {
		return c, nil
	}
	if old != nil && !t.FrameRate.Valid() {
		t.FrameRate = old.FrameRate
	}
	x.remember(&t)
	if old != nil && old.Stamps() != t.Stamps() {
		for i := range x.early {
			if e := &x.early[i]; e.ID == t.ID {
				e.Stamp = media.Rescale(e.Stamp, old.Stamps().Scale, t.Stamps().Scale)
				e.Composition = media.Rescale(e.Composition, old.Stamps().Scale, t.Stamps().Scale)
			}
		}
	}
	if t.Kind == media.Video && x.video.ID != t.ID {
		return x.otherSize(&t, state), nil
	}
	switch {
	case state != Running:
	case old != nil && bytes.Equal(old.Config, t.Config) && old.SamePicture(&t):
		c = Change{Step: Clock, Track: &t}
	case old != nil && old.SamePicture(&t) && t.Kind == media.Video:
		c = Change{Step: Parameters, Track: &t}
	case old != nil:
		c = Change{Restart, &t, fmt.Sprintf("The sender changed its %s to %s.", t.Kind, describe(&t))}
	default:
		c = Change{Restart, &t, fmt.Sprintf("The sender also sends %s: %s.", t.Kind, describe(&t))}
	}
	return c, nil
}

// known returns the track that another one takes the place of, nil when it is new, and whether it is used: of video one track is and
// its other sizes are, of sound so many.
func (x *Intake) known(t *media.Track) (old *media.Track, used bool) {
	if t.Kind == media.Video {
		if o := x.size(t.ID); o != nil {
			return o.track, true
		}
		return nil, x.video == nil || len(x.sizes) < maxSizes && sameScene(x.video, t)
	}
	if i := x.sound(t.ID); i >= 0 {
		return x.sounds[i], true
	}
	return nil, len(x.sounds) < maxSounds
}

// ignore returns what is to be told of a track that is not used, nil when it was told before.
func (x *Intake) ignore(t *media.Track) *Ignored {
	if x.ignored[t.ID] {
		return nil
	}
	x.ignored[t.ID] = true
	return &Ignored{fmt.Sprintf("The sender sends more %s tracks than are supported; %s is ignored.", t.Kind, describe(t)),
		fmt.Sprintf("Send one track of video, or %d at most that show the same in several sizes, and up to %d of sound; give other pictures a channel of their own.",
			maxSizes, maxSounds)}
}

// sound returns where an audio track is among the others, -1 when it is not.
func (x *Intake) sound(id media.TrackID) int {
	return slices.IndexFunc(x.sounds, func(t *media.Track) bool { return t.ID == id })
}

// remember takes a track in its place.
func (x *Intake) remember(t *media.Track) {
	if t.Kind == media.Video {
		x.keepSize(t)
		return
	}
	if i := x.sound(t.ID); i >= 0 {
		x.sounds[i] = t
		return
	}
	x.sounds = append(x.sounds, t)
	slices.SortFunc(x.sounds, func(a, b *media.Track) int { return cmp.Compare(a.ID, b.ID) })
}

// Renew reads what a keyframe tells of its track. ok says that this is another one, which has to be announced.
func (x *Intake) Renew(id media.TrackID, data []byte) (t media.Track, ok bool) {
	if o := x.size(id); o != nil {
		return coding.Renew(o.track, data)
	}
	return t, false
}

// Ready reports whether all is known that a run needs from its beginning on.
func (x *Intake) Ready() bool {
	return x.video != nil && len(x.sounds) > 0 && x.rateKnown() && x.orderKnown()
}

// rateKnown reports whether enough pictures came to tell their rate. What waits for that is not late: a channel shows itself with
// more media than that.
func (x *Intake) rateKnown() bool {
	return x.video == nil || x.rate.Frames() >= enoughFrames
}

// orderKnown reports whether it shows if pictures are presented before they say that they are decoded: such senders are told by
// their first pictures.
func (x *Intake) orderKnown() bool {
	if x.video == nil || !x.video.Reordered {
		return true
	}
	pictures := 0
	for i := range x.early {
		if e := &x.early[i]; e.ID == x.video.ID {
			if pictures++; e.Composition > 0 && pictures == 1 || pictures >= orderUnits {
				return true
			}
		}
	}
	return false
}

// Hold keeps a unit that came at a time while no run goes on. It reports whether the source is known by now, or has been waited for
// long enough.
func (x *Intake) Hold(u Unit, now time.Time) (begin bool) {
	if len(x.early) == 0 {
		x.first = now
	}
	x.early = append(x.early, u)
	x.earlyBytes += len(u.Data) + unitCost
	if x.video != nil && x.video.ID == u.ID {
		x.rate.Add(x.video.Stamps().Ticks(u.Stamp) / ticksEachMilli)
	}
	return x.Ready() || x.waited(&u) >= patience || now.Sub(x.first) > 3*patience*time.Millisecond || x.earlyBytes >= MaxEarlyBytes
}

// Holds reports whether units wait.
func (x *Intake) Holds() bool { return len(x.early) > 0 }

// waited is how much of a unit's track has come, in milliseconds.
func (x *Intake) waited(u *Unit) int64 {
	clock := media.Milliseconds
	if o := x.size(u.ID); o != nil {
		clock = o.track.Stamps()
	} else if i := x.sound(u.ID); i >= 0 {
		clock = x.sounds[i].Stamps()
	}
	for i := range x.early {
		if first := &x.early[i]; first.ID == u.ID {
			return clock.Ticks(clock.Between(first.Stamp, u.Stamp)) / ticksEachMilli
		}
	}
	return 0
}

// Source is a source that is known.
type Source struct {
	Video   *media.Track   // nil for none
	Sizes   []*media.Track // smaller pictures of the sender's that show the same, the largest first
	Sounds  []*media.Track // the first is the main one
	First   time.Time      // when the first unit came
	Longest int64          // the longest that a picture lasted, ticks of media.VideoTimescale
	Jitter  int64          // by how much the video stamps scatter, milliseconds; JitterKnown says that it was seen
	Shift   int64          // by how much pictures are presented before they say that they are decoded, ticks of media.VideoTimescale

	JitterKnown bool
	Units       []Unit // that came meanwhile
}

// Begin returns the source as it is known now, at a time at which the newest unit came.
func (x *Intake) Begin(now time.Time) Source {
	if x.video != nil {
		v := *x.video
		if !v.FrameRate.Valid() {
			v.FrameRate = x.announced
		}
		if x.rate.Frames() >= fewFrames && !x.rate.Fits(v.FrameRate) { // what was seen counts more than what was said
			v.FrameRate = x.rate.Constant()
		}
		x.keepSize(&v)
	}
	s := x.Again(now)
	s.First, s.Longest, s.Units = x.first, media.Rescale(x.rate.Longest(), 1000, media.VideoTimescale), x.early
	x.early, x.earlyBytes = nil, 0
	if x.video == nil {
		return s
	}
	if x.rate.Frames() >= fewFrames {
		s.Jitter, s.JitterKnown = x.rate.Jitter(x.video.FrameRate), true
	}
	var shift int64
	for i := range s.Units {
		if u := &s.Units[i]; u.ID == x.video.ID {
			shift = max(shift, -u.Composition)
		}
	}
	if shift > 0 {
		s.Shift = x.video.Stamps().Ticks(shift)
	}
	return s
}

// Again returns the source for another run of the same tracks, whose first unit came at a time.
func (x *Intake) Again(now time.Time) Source {
	return Source{Video: x.video, Sizes: x.beside(now), Sounds: x.sounds, First: now}
}

// Reset forgets what waits and how fast pictures came, since the feed is off air. The tracks stay.
func (x *Intake) Reset() {
	x.Rewind()
	x.early, x.earlyBytes = nil, 0
}

// Rewind lets the rate be found out again, since the run is over.
func (x *Intake) Rewind() { x.first, x.rate = time.Time{}, timeline.RateMeter{} }

// Tracks lists all tracks that are used, the main picture first, at a time at which the newest unit came.
func (x *Intake) Tracks(now time.Time) []media.Track {
	out := []media.Track{}
	if x.video != nil {
		out = append(out, *x.video)
		for _, t := range x.beside(now) {
			out = append(out, *t)
		}
	}
	for _, t := range x.sounds {
		out = append(out, *t)
	}
	return out
}

func describe(t *media.Track) string {
	if t.Kind == media.Video {
		return fmt.Sprintf("%s, %dx%d", t.CodecName, t.Width, t.Height)
	}
	return fmt.Sprintf("%s, %d Hz, %d channels", t.CodecName, t.SampleRate, t.Channels)
}
