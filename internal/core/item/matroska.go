package item

import (
	"strings"

	"metaplasis/internal/core/bmff"
	"metaplasis/internal/core/coding"
	"metaplasis/internal/core/matroska"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/pcm"
)

// matroskaCodecs are the names of codecs (draft-ietf-cellar-codec, sections 4 and 5).
var matroskaCodecs = map[string]media.Codec{
	"V_MPEG4/ISO/AVC": media.H264, "V_MPEGH/ISO/HEVC": media.HEVC, "V_VP8": media.VP8, "V_VP9": media.VP9, "V_AV1": media.AV1,
	"V_MPEG1": media.MPEG2, "V_MPEG2": media.MPEG2, "V_MJPEG": media.JPEG,
	"A_AAC": media.AAC, "A_OPUS": media.Opus, "A_MPEG/L3": media.MP3, "A_MPEG/L2": media.MP2, "A_AC3": media.AC3, "A_EAC3": media.EAC3,
	"A_PCM/INT/LIT": media.PCM, "A_PCM/INT/BIG": media.PCM,
}

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
		s := &source{called: t.CodecID, config: t.Private, scale: 1_000_000_000, language: t.Language, title: t.Name, trouble: t.Encoding, prefix: t.Prefix, coarse: true, frame: t.FrameTime}
		switch t.Type {
		case matroska.TypeVideo:
			s.kind = media.Video
		case matroska.TypeAudio:
			s.kind = media.Audio
		default:
			continue
		}
		id := matroskaCodecs[t.CodecID]
		if strings.HasPrefix(t.CodecID, "A_AAC/") { // of before, without a configuration of its own
			id = ""
		}
		if s.codec = coding.Find(id); id == media.PCM {
			format := pcm.Format{Codec: media.PCM, Rate: int(t.Rate), Channels: t.Channels, Bits: t.Bits, LittleEndian: strings.HasSuffix(t.CodecID, "LIT")}
			s.config = format.Marshal()
		}
		if id == media.VP9 || id == media.VP8 { // the stream itself tells
			s.config = nil
		}
		s.samples = make([]bmff.Sample, len(t.Frames))
		for k := range t.Frames {
			fr := &t.Frames[k]
			s.samples[k] = bmff.Sample{Offset: fr.Offset, Size: fr.Size, PTS: fr.Nanos, Key: fr.Key}
		}
		c.tracks = append(c.tracks, s)
	}
	return c, nil
}
