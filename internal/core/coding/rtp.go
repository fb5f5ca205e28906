package coding

import (
	"slices"
	"strings"

	"metaplasis/internal/core/aac"
	"metaplasis/internal/core/avc"
	"metaplasis/internal/core/hevc"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/opus"
	"metaplasis/internal/core/pcm"
	"metaplasis/internal/core/rawvideo"
)

// RTPFormat is what a session description says of a stream's configuration.
type RTPFormat struct {
	Rate, Channels, Bits int
	Config               []byte            // "config" of AAC
	Sets                 [][]byte          // parameter sets of H.264 and HEVC
	Loas                 bool              // frames come in audio mux elements, with their configuration in them
	Parameters           map[string]string // of the format, names in lower case
}

// RTPConfig makes the configuration that OpenElementary takes from a session description, nil where the stream tells it.
func RTPConfig(c *Codec, f RTPFormat) []byte {
	if c.rtpConfig == nil {
		return nil
	}
	return c.rtpConfig(f)
}

// Reordering is how many pictures are decoded before one that is presented first, and how far apart pictures are in ticks of
// media.VideoTimescale (0: not told), by a configuration or else by the parameter sets at the begin of a stretch of an
// elementary stream. known is false where neither tells.
func Reordering(c *Codec, config, stretch []byte) (depth int, period int64, known bool) {
	t, ok := Announced(c, config)
	if !ok && c.elementary != nil {
		if first, err := c.elementary(nil)(stretch); err == nil {
			t, ok = Announced(c, first.config)
		}
	}
	if !ok || t.Reorder == nil {
		return 0, 0, false
	}
	if t.FrameRate.Valid() {
		period = t.FrameRate.Period(media.VideoTimescale)
	}
	return *t.Reorder, period, true
}

// FirstSlice reports whether a NAL unit is a slice of a picture, and whether it is the first; neither of a codec without them.
func (c *Codec) FirstSlice(nal []byte) (slice, first bool) {
	if c.first == nil {
		return false, false
	}
	return c.first(nal)
}

// avcFirst: first_mb_in_slice comes first in a slice (ITU-T H.264, 7.3.3).
func avcFirst(nal []byte) (slice, first bool) {
	t := avc.NALType(nal)
	slice = len(nal) > 1 && (t == avc.TypeSlice || t == avc.TypePartitionA || t == avc.TypeIDR)
	return slice, slice && nal[1]&0x80 != 0
}

func hevcFirst(nal []byte) (slice, first bool) {
	slice = len(nal) > 2 && hevc.NALType(nal) < hevc.TypeVPS
	return slice, slice && hevc.FirstSlice(nal)
}

// Elements reads audio mux elements of AAC whose configuration was told apart from them (RFC 6416, 7.3).
type Elements struct{ latm aac.LATM }

// NewElements takes the StreamMuxConfig.
func NewElements(config []byte) (*Elements, error) {
	e := &Elements{}
	return e, e.latm.SetConfig(config)
}

// Frames returns those of one element.
func (e *Elements) Frames(element []byte) ([][]byte, error) { return e.latm.Element(element, false) }

func avcRTPConfig(f RTPFormat) []byte {
	r := avc.Config{LengthSize: 4}
	for _, n := range f.Sets {
		switch avc.NALType(n) {
		case avc.TypeSPS:
			r.SPS = append(r.SPS, n)
		case avc.TypePPS:
			r.PPS = append(r.PPS, n)
		}
	}
	if len(r.SPS) == 0 || len(r.PPS) == 0 || len(r.SPS[0]) < 4 {
		return nil
	}
	if _, err := r.Track(); err != nil {
		return nil // those in the stream may be better
	}
	return r.Marshal()
}

func hevcRTPConfig(f RTPFormat) []byte {
	record, err := hevc.NewRecord(f.Sets)
	if err != nil {
		return nil
	}
	return record
}

func aacRTPConfig(f RTPFormat) []byte {
	if f.Loas && strings.TrimSpace(f.Parameters["cpresent"]) == "0" {
		var l aac.LATM
		if l.SetConfig(f.Config) != nil {
			return nil
		}
		return l.Config()
	}
	if f.Loas {
		return nil
	}
	return f.Config
}

func opusRTPConfig(f RTPFormat) []byte {
	channels := uint8(2)
	if f.Channels == 1 {
		channels = 1
	}
	return (&opus.Config{Channels: channels, InputRate: opus.SampleRate}).MarshalHead()
}

func pcmRTPConfig(id media.Codec) func(f RTPFormat) []byte {
	return func(f RTPFormat) []byte {
		p := pcm.Format{Codec: id, Rate: f.Rate, Channels: max(f.Channels, 1), Bits: f.Bits, LittleEndian: true}
		if id != media.PCM {
			p.Bits, p.LittleEndian = 8, false
		}
		return p.Marshal()
	}
}

func rawRTPConfig(f RTPFormat) []byte {
	r, err := rawvideo.Parse(f.Parameters)
	if err != nil {
		return nil
	}
	return r.Marshal()
}

// ParameterSets lists the parameter sets of a track's configuration, nil of a codec that has none.
func ParameterSets(t *media.Track) [][]byte {
	if c := Find(t.Codec); c != nil && c.sets != nil {
		return c.sets(t.Config)
	}
	return nil
}

func avcSets(config []byte) [][]byte {
	var c avc.Config
	if c.Unmarshal(config) != nil {
		return nil
	}
	return slices.Concat(c.SPS, c.PPS)
}

func hevcSets(config []byte) [][]byte {
	var c hevc.Config
	if c.Unmarshal(config) != nil {
		return nil
	}
	return slices.Concat(c.VPS, c.SPS, c.PPS)
}
