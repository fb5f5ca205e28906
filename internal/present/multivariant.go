package present

import (
	"cmp"
	"fmt"
	"slices"

	"metaplasis/internal/core/coding"
	"metaplasis/internal/core/hls"
	"metaplasis/internal/core/ladder"
	"metaplasis/internal/core/media"
)

// Groups of the multivariant playlist.
const (
	captionGroup = "captions"
	textGroup    = "text"
)

// Multivariant is the playlist that names all variants. Variants of one codec of video stand together,
// each group with the one to start with first: players stay within the group that they begin with.
func (c *Channel) Multivariant(w hls.Wrapping) *hls.Multivariant {
	list := c.Offers
	m := &hls.Multivariant{StartOffset: c.StartOffset, Dependent: c.Dependent}
	file := map[hls.Wrapping]string{hls.CMAF: "/index.m3u8", hls.TS: "/ts.m3u8"}[w]
	groups := map[string]bool{}
	for i := range list {
		o := &list[i]
		v := hls.Variant{Name: o.Name}
		if o.Sound != nil {
			v.Peak, v.Average, v.Codecs = o.Sound.Peak, o.Sound.Average, []string{o.SoundTrack.CodecName}
		}
		switch {
		case o.Video == nil:
			v.URI = o.SoundName + file
			if w == hls.TS {
				v.URI = o.SoundName + "/aac.m3u8"
			}
		case o.Sound != nil && w == hls.CMAF:
			v.AudioGroup = o.SoundName
			if !groups[o.SoundName] {
				groups[o.SoundName] = true
				m.Audio = append(m.Audio, c.audioGroup(o, file)...)
			}
			for i := range c.Alternates {
				a := &c.Alternates[i]
				if !slices.Contains(v.Codecs, a.Track.CodecName) {
					v.Codecs = append(v.Codecs, a.Track.CodecName)
				}
				v.Peak = max(v.Peak, a.View.Peak) // of one sound at a time
			}
		}
		if o.Video != nil {
			v.URI = o.Name + file
			v.Peak += o.peak()
			v.Average += o.Video.Average
			v.Codecs = append([]string{o.VideoTrack.CodecName}, v.Codecs...)
			v.Width, v.Height = ladder.Display(&o.VideoTrack)
			v.FrameRate = o.VideoTrack.FrameRate
			v.Range = o.VideoTrack.Colour.Range()
			if c.Captions != nil {
				v.Captions = captionGroup
			}
			if w == hls.CMAF && len(c.Texts) > 0 {
				v.Subtitles = textGroup
			}
			if w == hls.CMAF {
				m.Keys = append(m.Keys, hls.KeyVariant{
					URI: o.Name + "/keys.m3u8", Peak: o.Video.KeyPeak, Codec: o.VideoTrack.CodecName, Width: v.Width, Height: v.Height, Range: v.Range,
				})
			}
		}
		if w == hls.TS {
			// Packets and stuffing: 4 of 188 bytes, tables, and the spreading at the end of a segment.
			v.Peak, v.Average = v.Peak*106/100+100_000, v.Average*106/100+60_000
		}
		m.Variants = append(m.Variants, v)
	}
	if list[0].Video != nil {
		for _, name := range c.Captions {
			t := hls.Captions{Group: captionGroup, Name: "Captions", Channel: name}
			if len(m.Captions) > 0 {
				t.Name = "Captions " + name
			}
			t.Language = c.captionLanguage(name)
			m.Captions = append(m.Captions, t)
		}
	}
	if w == hls.CMAF && list[0].Video != nil {
		m.Subtitles = c.subtitles()
	}
	m.Variants = c.grouped(m.Variants)
	if w == hls.TS && len(m.Variants) > 0 && m.Variants[0].Width > 0 && list[0].Sound != nil {
		// A receiver on a poor line goes on with the sound alone.
		o := list[0]
		m.Variants = append(m.Variants, hls.Variant{URI: o.SoundName + "/aac.m3u8", Name: o.SoundName,
			Peak: o.Sound.Peak*11/10 + 10_000, Average: o.Sound.Average, Codecs: []string{o.SoundTrack.CodecName}})
	}
	return m
}

// subtitles lists the renditions of text.
func (c *Channel) subtitles() (out []hls.Subtitles) {
	named := map[string]bool{}
	for i := range c.Texts {
		t := &c.Texts[i]
		name := t.Track.Name
		for n := 2; named[name]; n++ {
			name = fmt.Sprintf("%s %d", t.Track.Name, n)
		}
		named[name] = true
		out = append(out, hls.Subtitles{Group: textGroup, Name: name, Language: cmp.Or(t.Track.Language, c.captionLanguage(t.Track.Name)), URI: t.Name + "/index.m3u8", Impaired: t.Impaired})
	}
	return out
}

// audioGroup is a rung's sound and the other tracks, for players to choose from.
func (c *Channel) audioGroup(o *Offer, file string) (out []hls.AudioRendition) {
	named := map[string]bool{}
	add := func(name, uri string, t *media.Track, main bool) {
		for n, base := 2, name; named[name]; n++ { // names in a group differ (draft, 4.4.6.1.1)
			name = fmt.Sprintf("%s %d", base, n)
		}
		named[name] = true
		out = append(out, hls.AudioRendition{
			Group: o.SoundName, Name: name, Language: t.Language, URI: uri + file, Channels: t.Channels, Default: main, Described: t.Role == media.RoleDescription,
		})
	}
	main := o.SoundTrack
	main.Language = cmp.Or(main.Language, c.Language)
	add(cmp.Or(main.Name, c.SoundName), o.SoundName, &main, true)
	for i := range c.Alternates {
		a := &c.Alternates[i]
		if a.Name == o.SoundName {
			continue // it is the main one here
		}
		add(soundTitle(&a.Track, main.Codec), a.Name, &a.Track, false)
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

// grouped orders variants: a group for each codec of video, and behind them those of sound alone.
func (c *Channel) grouped(list []hls.Variant) (out []hls.Variant) {
	of := map[string]media.Codec{}
	for i := range c.Offers {
		if o := &c.Offers[i]; o.Video != nil {
			of[o.Name] = o.VideoTrack.Codec
		}
	}
	for _, codec := range append(c.videoCodecs(), "") {
		var group []hls.Variant
		for i := range list {
			if of[list[i].Name] == codec {
				group = append(group, list[i])
			}
		}
		hls.OrderForStart(group, startBelow)
		out = append(out, group...)
	}
	return out
}

// startBelow is the bitrate that a player is assumed to manage before it has measured.
const startBelow = 2_500_000

// captionLanguage returns the language of the first service of each kind; what others speak is not told.
func (c *Channel) captionLanguage(service string) string {
	if service == "CC1" || service == "SERVICE1" {
		return c.Language
	}
	return ""
}
