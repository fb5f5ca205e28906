package origin

import (
	"cmp"
	"fmt"
	"slices"

	"metaplasis/internal/core/coding"
	"metaplasis/internal/core/hls"
	"metaplasis/internal/core/ladder"
	"metaplasis/internal/core/media"
)

const captionGroup = "captions"

func (c *Channel) multivariant(list []offer, w hls.Wrapping) *hls.Multivariant {
	m := &hls.Multivariant{StartOffset: c.settings.StartOffsetMillis}
	file := map[hls.Wrapping]string{hls.CMAF: "/index.m3u8", hls.TS: "/ts.m3u8"}[w]
	groups := map[string]bool{}
	for _, o := range list {
		v := hls.Variant{Name: o.name}
		if o.sound != nil {
			v.Peak, v.Average, v.Codecs = o.sound.Peak, o.sound.Average, []string{o.soundTrack.CodecName}
		}
		switch {
		case o.video == nil:
			v.URI = o.soundName + file
			if w == hls.TS {
				v.URI = o.soundName + "/aac.m3u8"
			}
		case o.sound != nil && w == hls.CMAF:
			v.AudioGroup = o.soundName
			if !groups[o.soundName] {
				groups[o.soundName] = true
				m.Audio = append(m.Audio, c.audioGroup(&o, file)...)
			}
			for _, a := range c.alternates {
				if !slices.Contains(v.Codecs, a.track.CodecName) {
					v.Codecs = append(v.Codecs, a.track.CodecName)
				}
				v.Peak = max(v.Peak, a.view.Peak) // of one sound at a time
			}
		}
		if o.video != nil {
			v.URI = o.name + file
			v.Peak += o.peak()
			v.Average += o.video.Average
			v.Codecs = append([]string{o.videoTrack.CodecName}, v.Codecs...)
			v.Width, v.Height = ladder.Display(&o.videoTrack)
			v.FrameRate = o.videoTrack.FrameRate
			if c.captions != nil {
				v.Captions = captionGroup
			}
			if w == hls.CMAF {
				m.Keys = append(m.Keys, hls.KeyVariant{
					URI: o.name + "/keys.m3u8", Peak: keyRate(o.video), Codec: o.videoTrack.CodecName, Width: v.Width, Height: v.Height,
				})
			}
		}
		if w == hls.TS {
			// Packets and stuffing: 4 of 188 bytes, tables, and the spreading at the end of a segment.
			v.Peak, v.Average = v.Peak*106/100+100_000, v.Average*106/100+60_000
		}
		m.Variants = append(m.Variants, v)
	}
	if list[0].video != nil {
		for _, name := range c.captions {
			t := hls.Captions{Group: captionGroup, Name: "Captions", Channel: name}
			if len(m.Captions) > 0 {
				t.Name = "Captions " + name
			}
			t.Language = c.captionLanguage(name)
			m.Captions = append(m.Captions, t)
		}
	}
	hls.OrderForStart(m.Variants, startBelow)
	if w == hls.TS && len(m.Variants) > 0 && m.Variants[0].Width > 0 && list[0].sound != nil {
		// A receiver on a poor line goes on with the sound alone.
		o := list[0]
		m.Variants = append(m.Variants, hls.Variant{URI: o.soundName + "/aac.m3u8", Name: o.soundName,
			Peak: o.sound.Peak*11/10 + 10_000, Average: o.sound.Average, Codecs: []string{o.soundTrack.CodecName}})
	}
	return m
}

// audioGroup is a rung's sound and the other tracks, for players to choose from.
func (c *Channel) audioGroup(o *offer, file string) (out []hls.AudioRendition) {
	named := map[string]bool{}
	add := func(name, uri string, t *media.Track, main bool) {
		for n, base := 2, name; named[name]; n++ { // names in a group differ (draft, 4.4.6.1.1)
			name = fmt.Sprintf("%s %d", base, n)
		}
		named[name] = true
		out = append(out, hls.AudioRendition{
			Group: o.soundName, Name: name, Language: t.Language, URI: uri + file, Channels: t.Channels, Default: main, Described: t.Role == media.RoleDescription,
		})
	}
	main := o.soundTrack
	main.Language = cmp.Or(main.Language, c.settings.Language)
	add(cmp.Or(main.Name, c.settings.SoundName), o.soundName, &main, true)
	for i := range c.alternates {
		a := &c.alternates[i]
		add(soundTitle(&a.track, main.Codec), a.name, &a.track, false)
	}
	return out
}

// soundTitle is what people call a track of sound beside the main one.
func soundTitle(t *media.Track, main media.Codec) string {
	title := cmp.Or(t.Name, t.Language, string(t.Role), "Sound")
	if t.Name == "" && t.Codec != main {
		title += " (" + coding.Label(t.Codec) + ")"
	}
	return title
}

// captionLanguage returns the language of the first service of each kind; what others speak is not told.
func (c *Channel) captionLanguage(service string) string {
	if service == "CC1" || service == "SERVICE1" {
		return c.settings.Language
	}
	return ""
}

// peak is the highest bitrate to announce: what the rung may take, or what was measured with
// some room, since the source is not ours.
func (o *offer) peak() int64 {
	if o.rung.Source {
		return o.video.Peak * 11 / 10
	}
	return max(o.video.Peak, o.rung.Peak)
}

// keyRate is the highest bitrate of a rendition's keyframes alone.
func keyRate(v *View) (peak int64) {
	for _, s := range v.Snapshot.Whole() {
		if s.Duration > 0 {
			peak = max(peak, int64(s.KeySize+keyOverhead)*8*media.VideoTimescale/s.Duration)
		}
	}
	return peak
}

// keyOverhead is what stands around a keyframe that is sent alone.
const keyOverhead = 256
