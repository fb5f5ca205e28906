package publish

import (
	"slices"
	"strings"
	"time"

	"metaplasis/internal/core/hls"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/segment"
	"metaplasis/internal/present"
	"metaplasis/internal/settings"
)

// targetFor returns the target duration of all of the channel's playlists, which agree. It is chosen with the first that is shown and
// does not change then (RFC 8216, 6.2.1), unless somebody sets longer segments: where the source leads, by how far its keyframes
// were apart, or, while nobody knows, with headroom over the segment length that is set. A segment that would be longer is cut
// without a keyframe. whole is the newest segment that is whole, or nil.
func (p *Publisher) targetFor(whole *segment.Segment) int64 {
	if whole != nil {
		p.longest = max(p.longest, whole.Duration)
	}
	set := hls.TargetDuration(p.settings.SegmentTicks(), nil)
	if p.listed {
		p.target = max(p.target, set)
		return p.target
	}
	chosen := int64(0)
	if p.forecast != nil {
		chosen = (p.forecast.Length() + media.VideoTimescale/2) / media.VideoTimescale
		if p.forecast.Even() == 0 && !p.forecast.Known() {
			chosen = set + (set+1)/2
		}
	}
	p.target = max(p.target, chosen, hls.TargetDuration(p.settings.SegmentTicks(), whole))
	return p.target
}

// lengthKnown reports whether it is known how long segments will be: where the source leads, two keyframes tell.
func (p *Publisher) lengthKnown() bool {
	return p.forecast == nil || p.forecast.Even() > 0 || p.forecast.Known()
}

// expectedEnd is where the open segments are likely to end, 0 when nobody knows.
func (p *Publisher) expectedEnd() int64 {
	if p.forecast == nil {
		return 0
	}
	return p.forecast.Expected()
}

// offers lists the rungs that can be played, and whether one is missing that should be there.
func (p *Publisher) offers() (out []present.Offer, missing bool) {
	for _, r := range p.offering.Rungs {
		o := present.Offer{Name: r.Name, Rung: r.WithDefaults(), SoundName: r.Sound}
		if r.Sound != "" {
			if o.Sound, o.SoundTrack = p.viewOf(r.Sound); o.Sound == nil {
				missing = true
				continue
			}
		}
		if r.Video {
			if o.Video, o.VideoTrack = p.viewOf(r.Name); o.Video == nil {
				missing = true
				continue
			}
		}
		if o.Video != nil || o.Sound != nil {
			out = append(out, o)
		}
	}
	// What is of audio only stands behind: a player begins with the first.
	slices.SortStableFunc(out, func(a, b present.Offer) int {
		switch {
		case a.Video != nil && b.Video == nil:
			return -1
		case a.Video == nil && b.Video != nil:
			return 1
		}
		return 0
	})
	return out, missing
}

// List renders what names renditions: multivariant playlists and manifests. A rung
// appears with its first segments. At the start of a channel they wait for all rungs, but not for
// long, so that no viewer is given half a ladder.
func (p *Publisher) List() {
	if p.forecast != nil {
		p.list()
	}
}

func (p *Publisher) list() {
	all, missing := p.offers()
	late := !p.firstMedia.IsZero() && p.now().Sub(p.firstMedia) > allowance
	if len(all) == 0 || missing && p.documents.Load() == nil && !late {
		return
	}
	sounds := map[string]string{}
	for _, o := range all {
		sounds[o.Name] = o.SoundName
		if o.Video == nil {
			sounds[o.SoundName] = o.SoundName
		}
	}
	p.sounds.Store(&sounds)
	p.shown, p.alternates = all, nil
	for _, name := range p.offering.Alternates {
		if v, t := p.viewOf(name); v != nil {
			p.alternates = append(p.alternates, present.Alternate{Name: name, View: v, Track: t})
		}
	}
	p.texts = nil
	for name, r := range *p.renditions.Load() {
		if v, t := p.viewOf(name); r.text && v != nil {
			p.texts = append(p.texts, present.Text{Name: name, View: v, Track: t, Impaired: r.impaired})
		}
	}
	slices.SortFunc(p.texts, func(a, b present.Text) int { return strings.Compare(a.Name, b.Name) })
	p.Describe()
}

// Describe takes a picture of what is shown, from which the documents are made when somebody asks.
func (p *Publisher) Describe() {
	if len(p.shown) == 0 {
		return
	}
	p.periods.Note(&present.Look{Offers: p.shown, Alternates: p.alternates, Known: p.lengthKnown(), Even: p.evenStep})
	now := p.describedNow()
	// Players of whole segments begin with more than players of parts; once begun they are not held up again.
	p.wholeShown = p.wholeShown || now.ShowsWhole()
	docs := map[string]*present.Doc{}
	add := func(name string, d *present.Channel) {
		if len(d.Offers) == 0 {
			return
		}
		p.listed = true
		docs[name+".m3u8"] = present.NewDoc(func() []byte { return d.Multivariant(hls.CMAF).Marshal() })
		if len(d.Counted) > 0 {
			docs[lowName(name)] = present.NewDoc(func() []byte { return d.Manifest(true, true).Marshal() })
		}
		if p.wholeShown && len(d.Periods) > 0 {
			docs[name+".mpd"] = present.NewDoc(func() []byte { return d.Manifest(d.Numbered, false).Marshal() })
		}
	}
	add("index", now)
	for i := range p.settings.Selections {
		s := &p.settings.Selections[i]
		rungs := append([]string{}, s.Rungs...)
		if s.SoundOnly {
			rungs = nil
		}
		add(s.Name, now.Choose(rungs))
	}
	if t := now.Transportable(); p.settings.TS && p.wholeShown && len(t.Offers) > 0 {
		docs["ts.m3u8"] = present.NewDoc(func() []byte { return t.Multivariant(hls.TS).Marshal() })
	}
	p.documents.Store(&docs)
}

// describedNow is the picture of what is shown now.
func (p *Publisher) describedNow() *present.Channel {
	d := &present.Channel{
		Slug: p.slug, Epoch: p.epoch, Now: p.now(), Step: p.settings.SegmentTicks(), PartTarget: p.partTarget, Dependent: p.forecast != nil && p.forecast.Even() == 0, Longest: max(p.longest, p.settings.SegmentTicks()), Window: p.settings.Window,
		StartOffset: p.settings.StartOffsetMillis, Numbered: p.settings.Numbered,
		Over: p.settings.Closed && p.forecast == nil, Language: p.settings.Language,
		SoundName: p.settings.SoundName, Captions: p.captions, Titled: p.notes.everTitled(), Offers: p.shown, Alternates: p.alternates, Texts: p.texts,
		Periods: slices.Clone(p.periods.Listed), Counted: slices.Clone(p.periods.Counted),
	}
	d.Markers = p.notes.Noted()
	return d
}

// evenStep returns how long segments are that begin like one, exactly: where encoders follow our
// steps that is our step, and where the source leads a whole number of its pictures.
func (p *Publisher) evenStep(s *segment.Segment) (step, scale int64) {
	length := s.Duration
	if p.forecast != nil {
		near := func(even int64) bool { return s.Open || length > even*3/5 && length < even*7/5 }
		if even := p.forecast.Even(); even > 0 && near(even) {
			return even, media.VideoTimescale
		}
		if s.Open {
			length = p.forecast.Length()
		}
	}
	if rate := s.Header.Track.FrameRate; s.Header.Track.Kind == media.Video && rate.Valid() {
		n := media.Rescale(length, media.VideoTimescale*rate.Den, rate.Num)
		fine := (media.VideoTimescale + rate.Num - 1) / rate.Num // so that a tick is short
		if d := media.Rescale(n*rate.Den, rate.Num, media.VideoTimescale) - length; n > 0 && d < wholeWithin &&
			-d < wholeWithin {
			return n * rate.Den * fine, rate.Num * fine
		}
	}
	return length, media.VideoTimescale
}

// wholeWithin is by how much a segment may miss a whole number of pictures: by rounding, and by the
// sender's jitter.
const wholeWithin = media.VideoTimescale / 100

// Document returns a playlist or manifest of the channel by its file name, nil while there is
// nothing to play, and whether the channel has one of that name.
func (p *Publisher) Document(file string) (d *present.Doc, known bool) {
	if m := p.documents.Load(); m != nil {
		if d = (*m)[file]; d != nil {
			return d, true
		}
	}
	return nil, (*p.names.Load())[file]
}

// lowName is the file of the low-latency manifest beside a manifest. It counts segments, since a
// player that stays a second behind cannot wait for a list to be fetched again.
func lowName(name string) string {
	if name == "index" {
		return "low.mpd"
	}
	return name + "-low.mpd"
}

// promised lists the files that settings promise.
func promised(s *settings.Settings) map[string]bool {
	out := map[string]bool{"index.m3u8": true, "index.mpd": true, lowName("index"): true}
	for _, sel := range s.Selections {
		out[sel.Name+".m3u8"], out[sel.Name+".mpd"], out[lowName(sel.Name)] = true, true, true
	}
	if s.TS {
		out["ts.m3u8"] = true
	}
	return out
}

// Transport reports whether the channel offers transport streams and packed audio.
func (p *Publisher) Transport() bool { return (*p.names.Load())["ts.m3u8"] }

// allowance is how long the multivariant playlist waits for renditions that are late.
const allowance = 12 * time.Second
