package origin

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"sync"
	"time"

	"metaplasis/internal/core/coding"
	"metaplasis/internal/core/hub"
	"metaplasis/internal/core/ladder"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/transcode"
	"metaplasis/internal/onward"
)

// changes wakes who waits for another layout of a channel's tracks.
type changes struct {
	mu   sync.Mutex
	next chan struct{} // nil while nobody waits
}

func (c *changes) wait() <-chan struct{} {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.next == nil {
		c.next = make(chan struct{})
	}
	return c.next
}

func (c *changes) tell() {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.next != nil {
		close(c.next)
		c.next = nil
	}
}

// tap is an onward.Tap of a channel.
type tap struct {
	c       *Channel
	choice  onward.Choice
	reader  *hub.Reader // nil while there is nothing to read
	lines   lines
	changed <-chan struct{}
	next    uint64 // number behind the newest unit that was read
	release func()
	once    sync.Once
}

// lines are the tracks that a choice means now.
type lines struct {
	video, sound *media.Track // nil for none
	since        uint64       // number of the run's first unit
}

func (l *lines) ids() (out []media.TrackID) {
	for _, t := range []*media.Track{l.video, l.sound} {
		if t != nil {
			out = append(out, t.ID)
		}
	}
	return out
}

// Tap begins to read the channel.
func (c *Channel) Tap(choice onward.Choice) onward.Tap {
	t := &tap{c: c, choice: choice, release: func() {}}
	if choice.Real != nil && !choice.Look {
		t.release = c.pair.hold(c, choice.Real)
	}
	t.resolve()
	return t
}

// resolve finds what to read.
func (t *tap) resolve() {
	t.changed = t.c.layout.wait() // before looking, so that no change is missed
	t.c.mu.Lock()
	l := t.c.linesOf(t.choice)
	if t.choice.Real != nil && !t.choice.Look {
		t.c.pair.want(t.c, t.choice.Real, l)
	}
	t.c.mu.Unlock()
	ids := l.ids()
	same := t.reader != nil && slices.Equal(ids, t.lines.ids())
	t.lines = l
	if same {
		return
	}
	t.reader = nil
	if len(ids) == 0 {
		return
	}
	from := hub.Newest
	switch {
	case t.next > 0 || t.choice.Oldest:
		from = hub.Oldest
	case t.choice.Coming:
		from = hub.Coming
	}
	t.reader = t.c.hub.NewReader(from, ids...)
	t.reader.NotBelow(max(t.next, l.since))
}

// Tracks implements onward.Tap.
func (t *tap) Tracks() (video, sound *media.Track) { return t.lines.video, t.lines.sound }

// Close implements onward.Tap.
func (t *tap) Close() { t.once.Do(t.release) }

// Next implements onward.Tap.
func (t *tap) Next(ctx context.Context, into []hub.Unit) (n int, lost hub.Loss, err error) {
	for {
		t.c.Watched()
		var arrived <-chan struct{}
		if t.reader != nil {
			if n, lost = t.reader.Read(into); n > 0 {
				t.next = into[n-1].Number + 1
				return n, lost, nil
			}
			arrived, _ = t.reader.Wait()
		}
		select {
		case <-t.changed:
			if t.c.over() {
				return 0, lost, onward.ErrOver
			}
			t.resolve()
		case <-arrived:
		case <-ctx.Done():
			return 0, lost, ctx.Err()
		}
	}
}

func (c *Channel) over() bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.closed
}

// linesOf finds the tracks of a choice. It is called with the channel's lock.
func (c *Channel) linesOf(choice onward.Choice) (l lines) {
	s := c.session
	if s == nil {
		return l
	}
	l.since = s.first
	if !s.begun {
		l.since = c.hub.Next()
	}
	if choice.Real != nil {
		l.video, l.sound = s.realVideo(choice), s.realSound(choice)
	} else {
		l.video, l.sound = s.chosen(choice.Rung)
		if choice.Sound != "" {
			l.sound = s.soundTrack(choice.Sound)
		}
	}
	switch choice.Only {
	case media.Video:
		l.sound = nil
	case media.Audio:
		l.video = nil
	}
	return l
}

// Has reports whether the channel has a rung, or a rendition of sound, of a name. While nothing is on air it may have all.
func (c *Channel) Has(rung string) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	s := c.session
	if rung == "" || rung == pairVideoName || rung == pairSoundName || s == nil || s.outputs[rung] != nil || s.soundTrack(rung) != nil {
		return true
	}
	return slices.ContainsFunc(s.rungs, func(r ladder.Rung) bool { return r.Name == rung && r.On && s.refused(r) == "" })
}

// chosen are the tracks of a rung by its name; "" is the source as it came.
func (s *session) chosen(rung string) (video, sound *media.Track) {
	if rung == "" {
		return s.video, s.main()
	}
	for i := range s.rungs {
		r := &s.rungs[i]
		if r.Name != rung || !r.On || s.refused(*r) != "" {
			continue
		}
		if !r.SoundOnly() {
			video = s.outTrack(rung)
		}
		return video, s.soundTrack(s.soundName(r))
	}
	return nil, s.soundTrack(rung)
}

// outTrack is the track in the hub of a rendition of pictures, nil when there is none yet.
func (s *session) outTrack(name string) *media.Track {
	o := s.outputs[name]
	if o == nil || o.cutter.Header() == nil {
		return nil
	}
	if o.direct && o.layer == nil {
		return s.video
	}
	return &o.cutter.Header().Track
}

// soundTrack is the track in the hub of a rendition of sound, nil when there is none yet.
func (s *session) soundTrack(name string) *media.Track {
	for _, a := range s.sounds {
		if a.name == name {
			return a.track
		}
	}
	if o := s.outputs[name]; o != nil && !o.direct && o.cutter.Header() != nil && o.cutter.Header().Track.Kind == media.Audio {
		return &o.cutter.Header().Track
	}
	return nil
}

// realVideo chooses pictures for a viewer in real time: the rung that it asks for when it fits, else the best one that
// does, else what is coded for such viewers.
func (s *session) realVideo(choice onward.Choice) *media.Track {
	if s.video == nil || len(choice.Real.Video) == 0 {
		return nil
	}
	if choice.Rung != "" {
		if t, _ := s.chosen(choice.Rung); s.inRealTime(t, choice.Real.Video) {
			return t
		}
	} else if offers := s.offers(choice.Real); len(offers) > 0 && offers[0].Rung != pairVideoName {
		t, _ := s.chosen(offers[0].Rung)
		return t
	}
	if slices.Contains(choice.Real.Video, coding.RealTime(media.Video)) {
		return s.pairVideo
	}
	return nil
}

// realSound chooses sound in the same way.
func (s *session) realSound(choice onward.Choice) *media.Track {
	if s.main() == nil || len(choice.Real.Audio) == 0 {
		return nil
	}
	fits := func(t *media.Track) bool { return t != nil && slices.Contains(choice.Real.Audio, t.Codec) }
	if choice.Sound != "" {
		if t := s.soundTrack(choice.Sound); fits(t) {
			return t
		}
	}
	if fits(s.main()) {
		return s.main()
	}
	for _, o := range s.outputs {
		if o.cutter.Header() != nil && o.cutter.Header().Track.Kind == media.Audio && !o.direct && fits(&o.cutter.Header().Track) {
			return &o.cutter.Header().Track
		}
	}
	return s.pairSound
}

// inRealTime reports whether a track of pictures can be shown as it comes: its codec is one of some, and its pictures
// come as they are shown.
func (s *session) inRealTime(t *media.Track, codecs []media.Codec) bool {
	return t != nil && t.Kind == media.Video && slices.Contains(codecs, t.Codec) && !s.reordered[t.ID] && (t.ID != s.video.ID || !s.video.Interlaced)
}

// offers lists the rungs that fit a viewer in real time, the best first.
func (s *session) offers(real *onward.Real) (out []onward.Offer) {
	for i := range s.rungs {
		r := &s.rungs[i]
		if !r.On || r.SoundOnly() || s.refused(*r) != "" {
			continue
		}
		if t := s.outTrack(r.Name); t != nil && (real == nil || s.inRealTime(t, real.Video)) {
			out = append(out, onward.Offer{Rung: r.Name, Bitrate: r.Bitrate, Width: t.Width, Height: t.Height})
		}
	}
	if w, h := ladder.Display(s.video); real != nil && s.video.Undecodable == "" && slices.Contains(real.Video, coding.RealTime(media.Video)) &&
		!slices.ContainsFunc(out, func(o onward.Offer) bool { return min(o.Width, o.Height) >= min(w, h, enoughLines) }) {
		r := pairRung(s.video)
		w, h = r.Size(s.video)
		out = append(out, onward.Offer{Rung: pairVideoName, Bitrate: r.Bitrate, Width: w, Height: h})
	}
	slices.SortStableFunc(out, func(a, b onward.Offer) int { return b.Width*b.Height - a.Width*a.Height })
	return out
}

// Offers lists the rungs that fit a viewer in real time, the best first; all of them for nil.
func (c *Channel) Offers(real *onward.Real) []onward.Offer {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.session == nil || c.session.video == nil {
		return nil
	}
	return c.session.offers(real)
}

// shownAt notes in which order the pictures of a track come.
func (s *session) shownAt(id media.TrackID, pts int64) {
	if latest, seen := s.latest[id]; seen && pts < latest && !s.reordered[id] {
		s.reordered[id] = true
		s.layout.tell()
	}
	s.latest[id] = max(s.latest[id], pts)
}

// pair is what is coded for viewers in real time, while somebody needs it.
type pair struct {
	videos, sounds int // taps that may need it, of each kind
	video, sound   bool
	idle           *time.Timer
}

// pairIdle is for how long the pair is coded on when nobody needs it any more.
const pairIdle = 30 * time.Second

// hold notes a viewer, until the function that it returns is called.
func (p *pair) hold(c *Channel, real *onward.Real) func() {
	add := func(n int) {
		if len(real.Video) > 0 {
			p.videos += n
		}
		if len(real.Audio) > 0 {
			p.sounds += n
		}
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	add(1)
	if p.idle != nil {
		p.idle.Stop()
		p.idle = nil
	}
	return func() {
		c.mu.Lock()
		defer c.mu.Unlock()
		if add(-1); p.videos+p.sounds == 0 && (p.video || p.sound) {
			p.idle = time.AfterFunc(pairIdle, func() {
				c.mu.Lock()
				defer c.mu.Unlock()
				if p.videos+p.sounds == 0 {
					p.video, p.sound = false, false
					c.pairChanged()
				}
			})
		}
	}
}

// want turns on what a viewer does not find. It is called with the channel's lock.
func (p *pair) want(c *Channel, real *onward.Real, found lines) {
	s := c.session
	if s == nil || s.pairBroken {
		return
	}
	video := s.video != nil && slices.Contains(real.Video, coding.RealTime(media.Video)) && found.video == nil && s.video.Undecodable == ""
	sound := s.main() != nil && slices.Contains(real.Audio, coding.RealTime(media.Audio)) && found.sound == nil && s.main().Undecodable == ""
	if video && !p.video || sound && !p.sound {
		p.video, p.sound = p.video || video, p.sound || sound
		c.pairChanged()
	}
}

// pairChanged plans the ladder of the run anew, with or without the pair.
func (c *Channel) pairChanged() {
	if s := c.session; s != nil {
		s.pair = &c.pair
		s.applyLadder(s.rungs)
	}
}

// The pair's tracks in the hub, by name. No rung is called so.
const (
	pairVideoName = "real time"
	pairSoundName = "real-time sound"
	enoughLines   = 480 // a rung of so many lines is good enough for viewers in real time
	pairEffort    = 2
	pairSoundBits = 96_000 // bits a second
	pairHeight    = 720    // at most
)

// layOutPair has the worker make the pair too.
func (s *session) layOutPair(l *layout) {
	if s.pair == nil || s.pairBroken {
		s.pairVideo, s.pairSound = nil, nil
		return
	}
	if s.pair.video && l.conf.Video != nil {
		r := pairRung(s.video)
		l.conf.Rungs = append(l.conf.Rungs, s.codedRung(&r, &l.conf))
	} else {
		s.pairVideo = nil
	}
	if s.pair.sound && l.conf.Audio != nil {
		l.conf.Sound = append(l.conf.Sound, transcode.AudioRung{ID: s.tracks.of(pairSoundName), Name: pairSoundName,
			Codec: coding.RealTime(media.Audio), Bitrate: pairSoundBits})
	} else {
		s.pairSound = nil
	}
}

// pairTrack takes the configuration of one of the pair. It reports whether it is one.
func (s *session) pairTrack(id media.TrackID, t media.Track) bool {
	t.ID = id
	switch s.tracks.name(id) {
	case pairVideoName:
		s.pairVideo = &t
	case pairSoundName:
		s.pairSound = &t
	default:
		return false
	}
	s.layout.tell()
	return true
}

// pairUnit takes a unit of the pair: it goes to the hub alone. What a worker that was replaced repeats is left out.
func (s *session) pairUnit(id media.TrackID, u *media.AccessUnit) {
	for _, t := range []*media.Track{s.pairVideo, s.pairSound} {
		if t == nil || t.ID != id {
			continue
		}
		if last, seen := s.latest[id]; seen && u.PTS <= last {
			return
		}
		s.latest[id] = u.PTS
		s.hub.Push(t, u)
	}
}

// pairRung is the pair's rung of pictures: none refers to a later one.
func pairRung(video *media.Track) ladder.Rung {
	r := ladder.Small(video, pairHeight)
	r.Name, r.Effort, r.BFrames, r.Codec = pairVideoName, pairEffort, -1, coding.RealTime(media.Video)
	return r
}

// Runs reports whether the run on air has pictures, and sound.
func (c *Channel) Runs() (video, sound bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.session == nil {
		return false, false
	}
	return c.session.video != nil, c.session.main() != nil
}

// Sounds lists the source's tracks of sound, the main one first.
func (c *Channel) Sounds() (out []onward.Sound) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.session == nil {
		return nil
	}
	for i, a := range c.session.sounds {
		out = append(out, onward.Sound{Name: a.name, Label: cmp.Or(a.track.Name, a.track.Language, fmt.Sprintf("Sound %d", i+1))})
	}
	return out
}

// Epoch is the wall clock at media time 0.
func (c *Channel) Epoch() time.Time {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.out.epoch
}
