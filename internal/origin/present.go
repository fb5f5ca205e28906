package origin

import (
	"slices"
	"time"

	"metaplasis/internal/core/hls"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/segment"
	"metaplasis/internal/present"
)

// offers lists the rungs that can be played, and whether one is missing that should be there.
func (c *Channel) offers() (out []present.Offer, missing bool) {
	rends := *c.renditions.Load()
	for _, r := range c.onAir {
		if !r.On {
			continue
		}
		if c.session.refused(r) != "" {
			continue
		}
		o := present.Offer{Name: r.Name, Rung: r.WithDefaults()}
		if c.session.main() != nil {
			o.SoundName = c.session.soundName(&r)
			if o.Sound, o.SoundTrack = c.viewOf(rends, o.SoundName); o.Sound == nil {
				missing = true
				continue
			}
		}
		if c.session.video != nil {
			if o.Video, o.VideoTrack = c.viewOf(rends, r.Name); o.Video == nil {
				missing = true
				continue
			}
		}
		if o.Video != nil || o.Sound != nil {
			out = append(out, o)
		}
	}
	return out, missing
}

// listVariants renders what names renditions: multivariant playlists and manifests. A rung
// appears with its first segments. At the start of a channel they wait for all rungs, but not for
// long, so that no viewer is given half a ladder.
func (c *Channel) listVariants() {
	if c.session == nil {
		return
	}
	all, missing := c.offers()
	late := !c.firstMedia.IsZero() && c.o.Now().Sub(c.firstMedia) > allowance
	if len(all) == 0 || missing && c.documents.Load() == nil && !late {
		return
	}
	sounds := map[string]string{}
	for _, o := range all {
		sounds[o.Name] = o.SoundName
		if o.Video == nil {
			sounds[o.SoundName] = o.SoundName
		}
	}
	c.sounds.Store(&sounds)
	c.shown, c.alternates = all, c.alternateSounds()
	c.describe()
}

// alternateSounds lists the tracks of sound beside the main one that can be played.
func (c *Channel) alternateSounds() (out []present.Alternate) {
	rends := *c.renditions.Load()
	for i, a := range c.session.sounds {
		if i == 0 {
			continue
		}
		if v, t := c.viewOf(rends, a.name); v != nil {
			out = append(out, present.Alternate{Name: a.name, View: v, Track: t})
		}
	}
	return out
}

// describe takes a picture of what is shown, from which the documents are made when somebody asks.
func (c *Channel) describe() {
	if len(c.shown) == 0 {
		return
	}
	c.periods.Note(&present.Look{Offers: c.shown, Alternates: c.alternates, Known: c.targetKnown(), Even: c.evenStep})
	p := c.describedNow()
	// Players of whole segments begin with more than players of parts; once begun they are not held up again.
	c.wholeShown = c.wholeShown || p.ShowsWhole()
	docs := map[string]*present.Doc{}
	add := func(name string, p *present.Channel) {
		if len(p.Offers) == 0 {
			return
		}
		if c.targetKnown() {
			c.listed = true
			docs[name+".m3u8"] = present.NewDoc(func() []byte { return p.Multivariant(hls.CMAF).Marshal() })
		}
		if len(p.Counted) > 0 && c.listed {
			docs[lowName(name)] = present.NewDoc(func() []byte { return p.Manifest(true, true).Marshal() })
		}
		if c.wholeShown && len(p.Periods) > 0 {
			docs[name+".mpd"] = present.NewDoc(func() []byte { return p.Manifest(p.Numbered, false).Marshal() })
		}
	}
	add("index", p)
	for i := range c.settings.Selections {
		s := &c.settings.Selections[i]
		rungs := append([]string{}, s.Rungs...)
		if s.SoundOnly {
			rungs = nil
		}
		add(s.Name, p.Choose(rungs))
	}
	if t := p.Transportable(); c.settings.TS && c.wholeShown && len(t.Offers) > 0 {
		docs["ts.m3u8"] = present.NewDoc(func() []byte { return t.Multivariant(hls.TS).Marshal() })
	}
	c.documents.Store(&docs)
}

// describedNow is the picture of what is shown now.
func (c *Channel) describedNow() *present.Channel {
	p := &present.Channel{
		Slug: c.slug, Epoch: c.epoch, Now: c.o.Now(), Step: c.settings.step(), PartTarget: c.partTarget, Longest: max(c.longest, c.settings.step()), Window: c.settings.Window,
		StartOffset: c.settings.StartOffsetMillis, Numbered: c.settings.Numbered,
		Over: c.settings.Closed && (c.session == nil || c.session.ended), Language: c.settings.Language,
		SoundName: c.settings.SoundName, Captions: c.captions, Titled: c.titled, Offers: c.shown, Alternates: c.alternates,
		Periods: slices.Clone(c.periods.Listed), Counted: slices.Clone(c.periods.Counted),
	}
	for _, m := range c.markers {
		p.Markers = append(p.Markers, present.Marker{ID: m.ID, Class: m.Class, Text: m.Text, At: m.At, DurationMillis: m.DurationMillis, Splice: m.Splice})
	}
	return p
}

// evenStep returns how long segments are that begin like one, exactly: where encoders follow our
// steps that is our step, and where the source leads a whole number of its pictures.
func (c *Channel) evenStep(s *segment.Segment) (step, scale int64) {
	length := s.Duration
	if c.session != nil && !c.session.ended {
		near := func(even int64) bool { return s.Open || length > even*3/5 && length < even*7/5 }
		if even := c.session.clock.Even(); even > 0 && near(even) {
			return even, media.VideoTimescale
		}
		if s.Open {
			length = c.session.clock.Length()
		}
	}
	if rate := s.Header.Track.FrameRate; s.Header.Track.Kind == media.Video && rate.Valid() {
		n := (length*rate.Num + media.VideoTimescale*rate.Den/2) / (media.VideoTimescale * rate.Den)
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
func (c *Channel) Document(file string) (d *present.Doc, known bool) {
	if m := c.documents.Load(); m != nil {
		if d = (*m)[file]; d != nil {
			return d, true
		}
	}
	return nil, (*c.names.Load())[file]
}

// lowName is the file of the low-latency manifest beside a manifest. It counts segments, since a
// player that stays a second behind cannot wait for a list to be fetched anew.
func lowName(name string) string {
	if name == "index" {
		return "low.mpd"
	}
	return name + "-low.mpd"
}

// names lists the files that settings promise.
func (s *Settings) names() map[string]bool {
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
func (c *Channel) Transport() bool { return (*c.names.Load())["ts.m3u8"] }

func ticksOf(d time.Duration) int64 {
	return int64(d/time.Second)*media.VideoTimescale + int64(d%time.Second)*media.VideoTimescale/int64(time.Second)
}

func ticks(t int64) time.Duration { return present.Ticks(t) }
