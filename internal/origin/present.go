package origin

import (
	"time"

	"metaplasis/internal/core/hls"
	"metaplasis/internal/core/ladder"
	"metaplasis/internal/core/media"
)

// offer is a rung that viewers can play now: its video, its sound, or both.
type offer struct {
	name         string
	rung         ladder.Rung
	video, sound *View
	videoTrack   media.Track
	soundTrack   media.Track
	soundName    string
}

// offers lists the rungs that can be played, and whether one is missing that should be there.
func (c *Channel) offers() (out []offer, missing bool) {
	rends := *c.renditions.Load()
	for _, r := range c.onAir {
		if !r.On {
			continue
		}
		if c.session.refused(r) != "" {
			continue
		}
		o := offer{name: r.Name, rung: r.WithDefaults()}
		if c.session.main() != nil {
			o.soundName = c.session.soundName(&r)
			if o.sound, o.soundTrack = c.viewOf(rends, o.soundName); o.sound == nil {
				missing = true
				continue
			}
		}
		if c.session.video != nil {
			if o.video, o.videoTrack = c.viewOf(rends, r.Name); o.video == nil {
				missing = true
				continue
			}
		}
		if o.video != nil || o.sound != nil {
			out = append(out, o)
		}
	}
	return out, missing
}

// choose returns the offers of a selection; of all rungs with nil.
func choose(all []offer, s *Selection) (out []offer) {
	sounds := map[string]bool{}
	for _, o := range all {
		switch {
		case s == nil:
			out = append(out, o)
		case s.SoundOnly:
			if o.sound != nil && !sounds[o.soundName] {
				sounds[o.soundName] = true
				o.video = nil
				out = append(out, o)
			}
		default:
			for _, name := range s.Rungs {
				if name == o.name {
					out = append(out, o)
				}
			}
		}
	}
	return out
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
		sounds[o.name] = o.soundName
		if o.video == nil {
			sounds[o.soundName] = o.soundName
		}
	}
	c.sounds.Store(&sounds)
	c.shown, c.alternates = all, c.alternateSounds()
	c.describe()
}

// alternate is a track of sound beside the main one.
type alternate struct {
	name  string
	view  *View
	track media.Track
}

// alternateSounds lists the tracks of sound beside the main one that can be played.
func (c *Channel) alternateSounds() (out []alternate) {
	rends := *c.renditions.Load()
	for i, a := range c.session.sounds {
		if i == 0 {
			continue
		}
		if v, t := c.viewOf(rends, a.name); v != nil {
			out = append(out, alternate{a.name, v, t})
		}
	}
	return out
}

// inTransport lists the offers that transport streams can hold.
func inTransport(all []offer) (out []offer) {
	for _, o := range all {
		if o.video != nil && !transportable(&o.videoTrack) {
			continue
		}
		if o.sound != nil && !transportable(&o.soundTrack) {
			if o.video == nil {
				continue
			}
			o.sound = nil
		}
		out = append(out, o)
	}
	return out
}

// describe makes the documents anew from what is shown.
func (c *Channel) describe() {
	if len(c.shown) == 0 {
		return
	}
	c.notePeriods(c.shown)
	// Players of whole segments begin with more than players of parts; once begun they are not held up again.
	whole := c.wholeShown || showWhole(c.shown)
	c.wholeShown = whole
	docs := map[string]*Doc{}
	add := func(name string, s *Selection) {
		list := choose(c.shown, s)
		if len(list) == 0 {
			return
		}
		if c.targetKnown() {
			c.listed = true
			docs[name+".m3u8"] = NewDoc(c.multivariant(list, hls.CMAF).Marshal)
		}
		if len(c.counted) > 0 && c.listed {
			docs[lowName(name)] = NewDoc(c.manifest(list, true, true).Marshal)
		}
		if whole && len(c.periods) > 0 {
			docs[name+".mpd"] = NewDoc(c.manifest(list, c.settings.Numbered, false).Marshal)
		}
	}
	add("index", nil)
	for i := range c.settings.Selections {
		add(c.settings.Selections[i].Name, &c.settings.Selections[i])
	}
	if list := inTransport(c.shown); c.settings.TS && whole && len(list) > 0 {
		docs["ts.m3u8"] = NewDoc(c.multivariant(list, hls.TS).Marshal)
	}
	c.documents.Store(&docs)
}

func showWhole(list []offer) bool {
	for _, o := range list {
		for _, v := range []*View{o.video, o.sound} {
			if v != nil && !v.ShowsWhole() {
				return false
			}
		}
	}
	return true
}

// Document returns a playlist or manifest of the channel by its file name, nil while there is
// nothing to play, and whether the channel has one of that name.
func (c *Channel) Document(file string) (d *Doc, known bool) {
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

func ticks(t int64) time.Duration {
	return time.Duration(t/media.VideoTimescale)*time.Second + time.Duration(t%media.VideoTimescale)*time.Second/media.VideoTimescale
}
