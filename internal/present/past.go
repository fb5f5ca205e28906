package present

import (
	"cmp"
	"fmt"
	"hash/fnv"
	"slices"
	"time"

	"metaplasis/internal/core/coding"
	"metaplasis/internal/core/dash"
	"metaplasis/internal/core/hls"
	"metaplasis/internal/core/ladder"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/segment"
)

// RetainedRendition is a stretch of one rendition that lies back.
type RetainedRendition struct {
	Name   string
	Sound  string             // the rendition of sound that goes with pictures
	List   []*segment.Segment // with gaps where there is nothing
	Gapped bool               // there may be some
	// Impaired: text that also tells what is to be heard beside speech.
	Impaired bool
	Goes     bool   // it is being made: what it has not yet is still to come
	Ordinal  uint64 // of the first segment among all that were ever kept
	Breaks   uint32 // discontinuities before it
	Longest  int64  // that a segment lasts, ticks of media.VideoTimescale
}

// Track is that of the newest segment.
func (s *RetainedRendition) Track() media.Track { return s.List[len(s.List)-1].Header.Track }

// last is the ordinal of the newest segment.
func (s *RetainedRendition) last() uint64 { return s.Ordinal + uint64(len(s.List)) - 1 }

// at returns the segment of an ordinal, nil when there is none.
func (s *RetainedRendition) at(ordinal uint64) *segment.Segment {
	if ordinal < s.Ordinal || ordinal > s.last() {
		return nil
	}
	return s.List[ordinal-s.Ordinal]
}

// Past is a stretch of a channel that lies back: a time-shift or a recording. Its documents are made as those of what is on air.
type Past struct {
	Slug       string
	Epoch      time.Time // wall clock at media time 0
	Now        time.Time
	From       time.Time     // where players begin; zero leaves it to them
	Depth      time.Duration // how far back it goes, of one that is not over
	Ended      bool          // nothing will follow
	Query      string        // of the addresses of media playlists
	Suffix     string        // of those of headers and segments: the query that makes them public
	Step       int64         // segments' nominal length, ticks of media.VideoTimescale
	Language   string
	SoundName  string
	Undated    bool // the wall clock is not told
	Renditions []RetainedRendition
	Tiles      bool // small pictures are kept too
	Ranges     []hls.DateRange
	Markers    []Marker // the same as manifests show them
}

// IsText reports whether a rendition is text.
func (p *Past) IsText(name string) bool {
	s := p.rendition(name)
	return s != nil && s.Track().Kind == media.Data
}

// Align lets renditions that begin one after the other begin with one segment: that of the last of them.
func (p *Past) Align() {
	first := uint64(1<<63 - 1)
	for i := range p.Renditions {
		first = min(first, p.Renditions[i].Ordinal)
	}
	begin := first
	for i := range p.Renditions {
		if s := &p.Renditions[i]; s.Ordinal <= first+slackOfStart && s.last() >= s.Ordinal+slackOfStart {
			begin = max(begin, s.Ordinal)
		}
	}
	for i := range p.Renditions {
		// What is cut off may leave a gap in front, with which no list begins.
		for s := &p.Renditions[i]; (s.Ordinal < begin || s.List[0].Gap) && len(s.List) > 1; s.Ordinal++ {
			if s.List[0].Discontinuity {
				s.Breaks++
			}
			s.List = s.List[1:]
		}
	}
}

// target is the target duration of all playlists, in seconds.
func (p *Past) target() int64 {
	longest := p.Step
	for i := range p.Renditions {
		longest = max(longest, p.Renditions[i].Longest)
	}
	return max((longest+media.VideoTimescale/2)/media.VideoTimescale, 1)
}

// rendition returns a rendition, nil when there is none.
func (p *Past) rendition(name string) *RetainedRendition {
	for i := range p.Renditions {
		if p.Renditions[i].Name == name {
			return &p.Renditions[i]
		}
	}
	return nil
}

// Playlist writes the media playlist of a rendition, nil when there is none. What a delta update costs does not depend on how long
// the list is, as long as the rendition has no gap.
func (p *Past) Playlist(name string, w hls.Wrapping, skip bool) []byte {
	s := p.rendition(name)
	if s == nil {
		return nil
	}
	m := hls.Media{Suffix: p.Suffix, Wrapping: w, Whole: s.List, Sequence: s.Ordinal + 1, Discontinuity: uint64(s.Breaks), TargetDuration: p.target(), Epoch: p.Epoch,
		Ended: p.Ended, Undated: p.Undated, Skippable: !p.Ended, Skip: skip && !p.Ended, Ranges: p.Ranges}
	if p.partial(s) {
		p.standIns(&m, s)
	}
	if first := m.First(); first != nil && !p.From.IsZero() {
		// A player that is told to begin with the very first begins there by itself when the list is over.
		if at := media.TicksSince(p.Epoch, p.From) - first.Start; at > 0 || !p.Ended {
			m.StartAt = max(at, 1)
		}
	}
	return m.Marshal()
}

// partial reports whether a rendition lacks something that another one of its kind may have.
func (p *Past) partial(s *RetainedRendition) bool {
	if s.Gapped {
		return true
	}
	for i := range p.Renditions {
		o := &p.Renditions[i]
		if o.Track().Kind == s.Track().Kind && (o.Ordinal+slackOfStart < s.Ordinal || o.last() > s.last()+slackOfStart && !s.Goes) {
			return true
		}
	}
	return false
}

// standIns lets the nearest other rendition of the same kind stand in where one has nothing, as it does on air.
func (p *Past) standIns(m *hls.Media, s *RetainedRendition) {
	mine := s.Track()
	var others []*RetainedRendition
	first, last := s.Ordinal, s.last()
	for i := range p.Renditions {
		if o := &p.Renditions[i]; o != s && o.Track().Kind == mine.Kind && (mine.Kind != media.Audio || o.Track().Language == mine.Language) {
			others = append(others, o)
			if o.Ordinal < first {
				first, m.Discontinuity = o.Ordinal, uint64(o.Breaks)
			}
			if !s.Goes {
				last = max(last, o.last())
			}
		}
	}
	distance := func(o *RetainedRendition) int {
		t := o.Track()
		d := t.Width*t.Height - mine.Width*mine.Height
		return max(d*4, -d) // rather a smaller one
	}
	slices.SortStableFunc(others, func(a, b *RetainedRendition) int { return cmp.Compare(distance(a), distance(b)) })
	m.Whole, m.Elsewhere, m.Sequence = nil, map[uint64]string{}, first+1
	for n := first; n <= last; n++ {
		own := s.at(n)
		if own == nil || own.Gap {
			for _, o := range others {
				if seg := o.at(n); seg != nil && !seg.Gap {
					own = seg
					m.Elsewhere[seg.MSN] = o.Name
					break
				}
			}
		}
		if own == nil && len(m.Whole) == 0 { // nobody has it, and nothing is before it
			m.Sequence++
			continue
		}
		if k := len(m.Whole); own == nil { // nobody has it
			before := m.Whole[k-1]
			own = &segment.Segment{MSN: before.MSN + 1, Prefix: before.Prefix, Gap: true, Start: before.Start + before.Duration, Duration: p.Step, Header: before.Header}
		}
		m.Whole = append(m.Whole, own)
	}
}

// Multivariant writes the playlist that names all renditions in a wrapping, nil when none is there in it.
func (p *Past) Multivariant(w hls.Wrapping) []byte {
	c := p.channel()
	if w == hls.TS {
		c.Offers = slices.DeleteFunc(c.Offers, func(o Offer) bool { return !transportable(&o) })
		c.Alternates = slices.DeleteFunc(c.Alternates, func(a Alternate) bool { return !coding.Transportable(&a.Track) })
	}
	if len(c.Offers) == 0 {
		return nil
	}
	m := c.Multivariant(w)
	for i := range m.Variants {
		if o := &c.Offers[0]; w == hls.TS && o.Video == nil && coding.Find(o.SoundTrack.Codec).Packed {
			m.Variants[i].Codecs = nil // players ask for it in ISO media files, and take its own frames all the same
		}
		m.Variants[i].URI += p.Query
	}
	for i := range m.Audio {
		m.Audio[i].URI += p.Query
	}
	for i := range m.Subtitles {
		m.Subtitles[i].URI += p.Query
	}
	for i := range m.Keys {
		m.Keys[i].URI += p.Query
	}
	return m.Marshal()
}

// transportable reports whether transport streams hold what is offered.
func transportable(o *Offer) bool {
	return (o.Video == nil || coding.Transportable(&o.VideoTrack)) && (o.Sound == nil || coding.Transportable(&o.SoundTrack))
}

// Manifest writes the DASH manifest.
func (p *Past) Manifest() []byte {
	c := p.channel()
	if len(c.Offers) == 0 || len(c.Periods) == 0 {
		return nil
	}
	m := c.Manifest(false, false)
	if p.Tiles {
		var begin []int64
		for i := range c.Periods {
			begin = append(begin, c.Periods[i].Start)
		}
		tiles(m, begin, p.Suffix)
	}
	if p.Ended { // what was not on air takes no time
		at := time.Duration(0)
		for i := range m.Periods {
			m.Periods[i].Start = dash.NewDuration(at)
			at += m.Periods[i].Duration.D()
		}
		m.Duration = dash.NewDuration(at)
	} else {
		m.TimeShiftBufferDepth = dash.NewDuration(c.Now.Sub(media.WallClock(p.Epoch, c.Periods[0].Start)))
	}
	return m.Marshal()
}

// late reports whether a rendition begins later than others of its kind: it is not offered, since a player that begins with it would
// begin with another's pictures. One that ends earlier is: the nearest stands in from there on.
func (p *Past) late(s *RetainedRendition) bool {
	for i := range p.Renditions {
		if o := &p.Renditions[i]; o.Track().Kind == s.Track().Kind && o.Ordinal+slackOfStart < s.Ordinal {
			return true
		}
	}
	return false
}

// slackOfStart is by how many segments renditions may begin one after the other.
const slackOfStart = 2

// rateSpan is over how many segments bitrates are measured.
const rateSpan = 512

// channel is the picture that documents are made of.
func (p *Past) channel() *Channel {
	c := &Channel{Suffix: p.Suffix, Slug: p.Slug, Epoch: p.Epoch, Now: p.Now, Step: p.Step, Longest: p.target() * media.VideoTimescale, Over: p.Ended,
		Language: p.Language, SoundName: cmp.Or(p.SoundName, "Sound"), Markers: p.Markers}
	views := map[string]*View{}
	for i := range p.Renditions {
		views[p.Renditions[i].Name] = p.view(&p.Renditions[i])
	}
	main := map[string]bool{}
	add := func(o Offer) {
		o.Rung = ladder.Rung{Name: o.Name, Source: true}
		c.Offers = append(c.Offers, o)
	}
	for i := range p.Renditions {
		s := &p.Renditions[i]
		if t := s.Track(); t.Kind == media.Video && !p.late(s) {
			o := Offer{Name: s.Name, Video: views[s.Name], VideoTrack: t}
			if sound := p.rendition(s.Sound); sound != nil {
				o.Sound, o.SoundTrack, o.SoundName = views[sound.Name], sound.Track(), sound.Name
				main[sound.Name] = true
			}
			add(o)
		}
	}
	pictures := len(c.Offers) > 0
	for i := range p.Renditions {
		s := &p.Renditions[i]
		t := s.Track()
		if t.Kind == media.Data && !p.late(s) {
			c.Texts = append(c.Texts, Text{Name: s.Name, View: views[s.Name], Track: t, Impaired: s.Impaired})
		}
		if t.Kind != media.Audio || main[s.Name] {
			continue
		}
		if pictures && len(main) > 0 {
			if p.late(s) {
				continue
			}
			c.Alternates = append(c.Alternates, Alternate{Name: s.Name, View: views[s.Name], Track: t})
			continue
		}
		add(Offer{Name: s.Name, Sound: views[s.Name], SoundTrack: t, SoundName: s.Name})
	}
	c.Periods = p.periods()
	return c
}

// view is a rendition without its gaps.
func (p *Past) view(s *RetainedRendition) *View {
	list := s.List
	if s.Gapped {
		list = slices.DeleteFunc(slices.Clone(list), func(s *segment.Segment) bool { return s.Gap })
	}
	v := NewView(hls.Media{Whole: list, TargetDuration: p.target(), Epoch: p.Epoch, Ended: p.Ended}, segment.SnapshotOf(list), nil)
	var bytes, ticks, key int64
	for _, s := range list[max(len(list)-rateSpan, 0):] {
		bytes, ticks = bytes+s.Size, ticks+s.Duration
		v.Peak = max(v.Peak, s.Bitrate())
		if s.Duration > 0 {
			key = max(key, media.PerSecond(int64(s.KeySize)*8, s.Duration, media.VideoTimescale))
		}
	}
	if v.KeyPeak = key; ticks > 0 {
		v.Average = media.PerSecond(bytes*8, ticks, media.VideoTimescale)
	}
	return v
}

// periods finds where encodings change, and where there is a discontinuity.
func (p *Past) periods() (out []Period) {
	first, last := uint64(1<<63), uint64(0)
	for i := range p.Renditions {
		if s := &p.Renditions[i]; s.Track().Kind != media.Data {
			first, last = min(first, s.Ordinal), max(last, s.last())
		}
	}
	if !p.Ended { // to where all are that go on
		newest := last
		for i := range p.Renditions {
			if l := p.Renditions[i].last(); (p.Renditions[i].Goes || l+2 >= newest) && p.Renditions[i].Track().Kind != media.Data {
				last = min(last, l)
			}
		}
	}
	notOffered := make([]bool, len(p.Renditions))
	for i := range p.Renditions {
		// Text comes and goes without an end of anything.
		kind := p.Renditions[i].Track().Kind
		notOffered[i] = kind == media.Video && p.late(&p.Renditions[i]) || kind == media.Data
	}
	end := int64(0)
	for n := first; n <= last; n++ {
		h := fnv.New64a()
		var one *segment.Segment
		begins := false
		for i := range p.Renditions {
			s := p.Renditions[i].at(n)
			if s == nil || notOffered[i] {
				continue
			}
			begins = begins || s.Discontinuity
			if s.Gap {
				continue
			}
			_, _ = fmt.Fprintf(h, "%d %s;", i, s.Header.Name)
			if one == nil || s.Header.Track.Kind == media.Video && one.Header.Track.Kind != media.Video {
				one = s
			}
		}
		if one == nil {
			continue
		}
		key := h.Sum64()
		if k := len(out); k == 0 || begins || out[k-1].Key != key {
			if k > 0 {
				out[k-1].End = end
			}
			out = append(out, Period{MSN: one.MSN, Start: one.Start, Key: key, Step: p.Step, Scale: media.VideoTimescale})
		}
		end = one.Start + one.Duration
	}
	if k := len(out); k > 0 && p.Ended {
		out[k-1].End = end
	}
	return out
}
