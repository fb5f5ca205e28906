package item

import (
	"fmt"
	"slices"

	"metaplasis/internal/core/bmff"
	"metaplasis/internal/core/coding"
	"metaplasis/internal/core/media"
)

// readMP4 reads MP4 and MOV files.
func readMP4(src Source, _ func(int64)) (*contents, error) {
	f, err := bmff.ReadFile(src, src.Size())
	if err != nil {
		return nil, err
	}
	c := &contents{container: "MP4", truncated: f.Truncated}
	if f.Fragmented {
		c.container = "fragmented MP4"
	}
	for i := range f.Tracks {
		t := &f.Tracks[i]
		s := &source{kind: media.Video, codec: coding.ByEntry(t.SampleEntry, t.ObjectType), called: t.SampleEntry, config: t.Config, scale: t.Timescale, language: t.Language, samples: t.Samples}
		if v := t.Sampled; v != nil {
			var err error
			if s.codec, s.config, err = v.Describe(); err != nil {
				s.trouble = err.Error()
			}
		}
		switch t.Handler {
		case "soun":
			s.kind = media.Audio
		case "vide":
			if s.turned = t.Turned; s.turned != 0 {
				c.note("Players turn its pictures by %d degrees, as the file says; what is encoded of them again is not turned.", s.turned)
			}
		case "text", "sbtl", "subt", "clcp":
			c.note("Text tracks in the file are not read: put subtitles beside it, as NAME.de.vtt.")
			continue
		default:
			continue
		}
		if t.Cuts > 1 {
			c.note("Its edit list has %d cuts, which are not followed: all of the media plays.", t.Cuts)
		}
		if t.Descriptions > 1 {
			s.trouble = fmt.Sprintf("its samples change their format within the file: %d descriptions, where one is read", t.Descriptions)
		}
		if t.Protected {
			s.trouble = "its media is encrypted"
		}
		c.tracks = append(c.tracks, s)
	}
	return c, nil
}

// note tells something once.
func (c *contents) note(text string, args ...any) {
	if text = fmt.Sprintf(text, args...); !slices.Contains(c.notes, text) {
		c.notes = append(c.notes, text)
	}
}
