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
//
//large:groups and variants refer to each other
func (c *Channel) Multivariant(w hls.Wrapping) *hls.Multivariant {
	list := c.Offers
	m := &hls.Multivariant{StartOffset: c.StartOffset, Dependent: c.Dependent}
	file := map[hls.Wrapping]string{hls.CMAF: "/index.m3u8", hls.TS: "/ts.m3u8"}[w]
	groups, ranks := map[string]bool{}, map[string]rankOf{}
	for i := range list {
		o := &list[i]
		v := hls.Variant{Name: o.Name}
		var choices []soundGroup
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
			choices = c.soundGroups(o)
			for _, g := range choices {
				if !groups[g.id] {
					groups[g.id] = true
					m.Audio = append(m.Audio, c.audioGroup(o, &g, file)...)
				}
			}
			v.Peak, v.Average, v.Codecs = 0, 0, nil
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
		if len(choices) == 0 {
			m.Variants = append(m.Variants, v)
		}
		for rank, g := range choices {
			one := v
			one.AudioGroup, one.Codecs = g.id, append(slices.Clone(v.Codecs), g.codec)
			if one.Peak, one.Average = v.Peak+g.peak, v.Average+g.average; rank > 0 {
				one.Name = o.Name + "-" + string(g.of)
			}
			m.Variants = append(m.Variants, one)
			ranks[one.Name] = rankOf{o.Name, rank}
		}
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
	m.Variants = c.grouped(m.Variants, ranks)
	if w == hls.TS && len(m.Variants) > 0 && m.Variants[0].Width > 0 && list[0].Sound != nil {
		// A receiver on a poor line goes on with the audio only.
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

// soundGroup is the sound of a rung in one codec: players choose within a group, and stay with the codec that they began with (RFC
// 8216bis, 4.4.6.1.1: the renditions of a group have the same attributes).
type soundGroup struct {
	id            string
	of            media.Codec
	codec         string // RFC 6381
	main          bool   // the rung's own sound is in it
	others        []*Alternate
	peak, average int64
}

// rankOf is a rung with its sound in one of several codecs; the first is the one that most players read.
type rankOf struct {
	rung string
	rank int
}

// soundGroups are a rung's sound and the other tracks, for players to choose from: a group for each codec, the one that most players
// read first.
func (c *Channel) soundGroups(o *Offer) (out []soundGroup) {
	add := func(t *media.Track, v *View, a *Alternate) {
		i := slices.IndexFunc(out, func(g soundGroup) bool { return g.of == t.Codec })
		if i < 0 {
			out = append(out, soundGroup{id: o.SoundName + "-" + string(t.Codec), of: t.Codec, codec: t.CodecName})
			i = len(out) - 1
		}
		g := &out[i]
		if g.peak, g.average = max(g.peak, v.Peak), max(g.average, v.Average); a == nil {
			g.main, g.id = true, o.SoundName
		} else {
			g.others = append(g.others, a)
		}
	}
	add(&o.SoundTrack, o.Sound, nil)
	for i := range c.Alternates {
		if a := &c.Alternates[i]; a.Name != o.SoundName { // else it is the main one here
			add(&a.Track, a.View, a)
		}
	}
	slices.SortStableFunc(out, func(a, b soundGroup) int { return cmp.Compare(coding.Order(a.of), coding.Order(b.of)) })
	return out
}

// audioGroup lists the renditions of a group.
func (c *Channel) audioGroup(o *Offer, g *soundGroup, file string) (out []hls.AudioRendition) {
	named := map[string]bool{}
	add := func(name, uri string, t *media.Track) {
		for n, base := 2, name; named[name]; n++ { // names in a group differ (draft, 4.4.6.1.1)
			name = fmt.Sprintf("%s %d", base, n)
		}
		named[name] = true
		out = append(out, hls.AudioRendition{
			Group: g.id, Name: name, Language: t.Language, URI: uri + file, Channels: t.Channels, Default: len(out) == 0, Described: t.Role == media.RoleDescription,
		})
	}
	main := o.SoundTrack
	if g.main {
		main.Language = cmp.Or(main.Language, c.Language)
		add(cmp.Or(main.Name, c.SoundName), o.SoundName, &main)
	}
	for _, a := range g.others {
		add(soundTitle(&a.Track, main.Codec), a.Name, &a.Track)
	}
	return out
}

// soundTitle is what people call an audio track beside the main one.
func soundTitle(t *media.Track, main media.Codec) string {
	title := cmp.Or(t.Name, t.Language, string(t.Role), "Sound")
	if t.Name == "" && t.Codec != main {
		title += " (" + coding.Label(t.Codec) + ")"
	}
	return title
}

// grouped orders variants: a group for each codec of video, in it one for each codec of sound, and behind them those of audio only.
func (c *Channel) grouped(list []hls.Variant, ranks map[string]rankOf) (out []hls.Variant) {
	of := map[string]media.Codec{}
	for i := range c.Offers {
		if o := &c.Offers[i]; o.Video != nil {
			of[o.Name] = o.VideoTrack.Codec
		}
	}
	most := 0
	for _, r := range ranks {
		most = max(most, r.rank)
	}
	for _, codec := range append(c.videoCodecs(), "") {
		for rank := range most + 1 {
			var group []hls.Variant
			for i := range list {
				r, known := ranks[list[i].Name]
				if !known {
					r.rung = list[i].Name
				}
				if of[r.rung] == codec && r.rank == rank {
					group = append(group, list[i])
				}
			}
			hls.OrderForStart(group, startBelow)
			out = append(out, group...)
		}
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
