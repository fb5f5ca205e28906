package item

import (
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
		default:
			continue
		}
		if t.Protected {
			s.trouble = "its media is encrypted"
		}
		c.tracks = append(c.tracks, s)
	}
	return c, nil
}
