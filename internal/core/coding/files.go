package coding

import (
	"bytes"
	"slices"

	"metaplasis/internal/core/aac"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/pcm"
)

// What files call codecs, and how frames lie in files that hold nothing but them.

// matroska are the names in Matroska and WebM files (draft-ietf-cellar-codec, sections 4 and 5).
var matroska = map[string]media.Codec{
	"V_MPEG4/ISO/AVC": media.H264, "V_MPEGH/ISO/HEVC": media.HEVC, "V_VP8": media.VP8, "V_VP9": media.VP9, "V_AV1": media.AV1,
	"V_MPEG1": media.MPEG2, "V_MPEG2": media.MPEG2, "V_MJPEG": media.JPEG,
	"A_AAC": media.AAC, "A_OPUS": media.Opus, "A_MPEG/L3": media.MP3, "A_MPEG/L2": media.MP2, "A_AC3": media.AC3, "A_EAC3": media.EAC3,
	"A_PCM/INT/LIT": media.PCM, "A_PCM/INT/BIG": media.PCM,
}

// Sampled is how a container describes sound that is not compressed.
type Sampled struct {
	Rate, Bits, Channels int
	BigEndian            bool
	Law                  byte // 'A' or 'u' of ITU-T G.711, 0 for linear samples
}

// Describe returns the codec of such sound and its configuration.
func (s Sampled) Describe() (*Codec, []byte, error) {
	f := pcm.Format{Codec: media.PCM, Rate: s.Rate, Channels: s.Channels, Bits: s.Bits, LittleEndian: !s.BigEndian}
	switch s.Law {
	case 'A':
		f.Codec = media.ALaw
	case 'u':
		f.Codec = media.ULaw
	}
	b := f.Marshal()
	return Find(f.Codec), b, new(pcm.Format).Unmarshal(f.Codec, b)
}

// ByMatroska returns the row of a name in Matroska files, nil when there is none, and the configuration that the file's own means.
func ByMatroska(name string, private []byte, s Sampled) (*Codec, []byte) {
	c := Find(matroska[name])
	switch {
	case c == nil:
		return nil, nil
	case c.uncompressed:
		s.BigEndian = name[len(name)-3:] == "BIG"
		_, b, err := s.Describe()
		if err != nil {
			return nil, nil
		}
		return c, b
	case slices.Contains([]media.Codec{media.VP8, media.VP9}, c.ID): // the stream itself tells
		return c, nil
	}
	return c, private
}

// Frame is the first of a file of frames with headers of their own.
type Frame struct {
	Codec   *Codec
	Size    int   // bytes of all of it; 0 when b ends before that can be told
	Skip    int   // bytes before the data
	Samples int64 // of each channel
	Rate    int   // samples per second
	Config  []byte
	Info    bool // it holds facts of the file instead of sound
}

// ReadADTS reads the frame of AAC that b begins with, ReadMPEGAudio that of MPEG audio.
func ReadADTS(b []byte) (f Frame, err error) {
	h, err := aac.ParseADTS(b)
	if err != nil {
		return f, err
	}
	f = Frame{Codec: Find(media.AAC), Size: h.Size, Config: h.Config}
	if f.Skip = 7; b[1]&1 == 0 {
		f.Skip = 9
	}
	t, err := aacTrack(h.Config)
	f.Samples, f.Rate = t.FrameSamples, t.SampleRate
	return f, err
}

// ReadMPEGAudio reads the frame of MPEG audio that b begins with.
func ReadMPEGAudio(b []byte) (f Frame, err error) {
	var t media.Track
	if err := Find(media.MP3).complete(&t, b); err != nil {
		return f, err
	}
	c, err := mpegaElementary(nil)(b)
	if err != nil {
		return f, err
	}
	f = Frame{Codec: Find(t.Codec), Size: c.size, Samples: t.FrameSamples, Rate: t.SampleRate}
	head := b[:min(len(b), 64)]
	f.Info = t.Codec == media.MP3 && (bytes.Contains(head, []byte("Xing")) || bytes.Contains(head, []byte("Info")) || bytes.Contains(head, []byte("VBRI")))
	return f, nil
}

// ConfigOf makes the configuration of a track of its first access unit, for a container that has none; nil when it cannot be told.
func (c *Codec) ConfigOf(unit []byte) []byte {
	if c.elementary == nil {
		return nil
	}
	cut, err := c.elementary(nil)(unit)
	if err != nil {
		return nil
	}
	return cut.config
}
