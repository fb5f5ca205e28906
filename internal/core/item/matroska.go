package item

import (
	"metaplasis/internal/core/bmff"
	"metaplasis/internal/core/coding"
	"metaplasis/internal/core/matroska"
	"metaplasis/internal/core/media"
)

// readMatroska reads Matroska and WebM files.
func readMatroska(src Source, _ func(int64)) (*contents, error) {
	f, err := matroska.ReadFile(src, src.Size())
	if err != nil {
		return nil, err
	}
	c := &contents{container: "Matroska", truncated: f.Truncated}
	if f.DocType == "webm" {
		c.container = "WebM"
	}
	for i := range f.Tracks {
		t := &f.Tracks[i]
		s := &source{called: t.CodecID, scale: 1_000_000_000, language: t.Language, title: t.Name, trouble: t.Encoding, prefix: t.Prefix, coarse: true, frame: t.FrameTime}
		switch t.Type {
		case matroska.TypeVideo:
			s.kind = media.Video
		case matroska.TypeAudio:
			s.kind = media.Audio
		default:
			continue
		}
		// The codec of sound is told with its configuration: "A_AAC/..." of before has none.
		s.codec, s.config = coding.ByMatroska(t.CodecID, t.Private, coding.Sampled{Rate: int(t.Rate), Bits: t.Bits, Channels: t.Channels})
		s.samples = make([]bmff.Sample, len(t.Frames))
		for k := range t.Frames {
			fr := &t.Frames[k]
			s.samples[k] = bmff.Sample{Offset: fr.Offset, Size: fr.Size, PTS: fr.Nanos, Key: fr.Key}
		}
		c.tracks = append(c.tracks, s)
	}
	return c, nil
}
