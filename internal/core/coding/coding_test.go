package coding_test

import (
	"testing"

	"metaplasis/internal/core/bits"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/internal/codec/aacenc"
	"metaplasis/internal/codec/av1enc"
	"metaplasis/internal/codec/h264enc"
	"metaplasis/internal/codec/hevcenc"
	"metaplasis/internal/codec/opusenc"
	"metaplasis/internal/codec/vp9enc"
	"metaplasis/internal/core/av1"
	"metaplasis/internal/core/coding"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/picture"
)

const width, height = 160, 90

// sample is a configuration as a sender announces it, and a first access unit.
type sample struct {
	config, unit []byte
	name         string
}

// samples makes one of each codec that an encoder here makes.
func samples(t testing.TB) map[media.Codec]sample {
	out := map[media.Codec]sample{}
	p := picture.New(width, height)
	rate := media.Rational{Num: 25, Den: 1}

	h264, err := h264enc.New(h264enc.Settings{Width: width, Height: height, FrameRate: rate, Bitrate: 200_000, Effort: 1})
	require.NoError(t, err)
	defer h264.Close()
	u, err := h264.Encode(p, 0, true)
	for err == nil && u == nil {
		u, err = h264.Encode(nil, 0, false)
	}
	require.NoError(t, err)
	out[media.H264] = sample{h264.Config.Marshal(), u.Data, "avc1.42c00c"}

	hevc, err := hevcenc.New(width, height, rate, 200_000)
	require.NoError(t, err)
	defer hevc.Close()
	u, err = hevc.Encode(p, 0, true)
	require.NoError(t, err)
	out[media.HEVC] = sample{hevc.Record, u.Data, "hvc1.1.6.L60.90"}

	vp9, err := vp9enc.New(width, height, 200_000, 1)
	require.NoError(t, err)
	defer vp9.Close()
	u, err = vp9.Encode(p, 0, 3600, true)
	require.NoError(t, err)
	out[media.VP9] = sample{vp9.Config.Marshal(), u.Data, "vp09.00.10.08"}

	enc, err := av1enc.New(width, height, rate, 200_000, 1, 25)
	require.NoError(t, err)
	defer enc.Close()
	require.NoError(t, enc.Send(p, 0))
	require.NoError(t, enc.Send(nil, 0))
	u, err = enc.Take(true)
	require.NoError(t, err)
	unit, err := av1.ParseUnit(u.Data)
	require.NoError(t, err)
	out[media.AV1] = sample{av1.NewConfig(unit.Sequence), u.Data, "av01.0.00M.08"}

	aac, err := aacenc.New(48000, 2, 64_000)
	require.NoError(t, err)
	defer aac.Close()
	frame, err := aac.Encode(make([]int16, 2048))
	require.NoError(t, err)
	out[media.AAC] = sample{aac.Config.Marshal(), frame, "mp4a.40.2"}

	opus, err := opusenc.New(2, 64_000)
	require.NoError(t, err)
	defer opus.Close()
	frame, err = opus.Encode(make([]int16, 2*opusenc.FrameSamples))
	require.NoError(t, err)
	out[media.Opus] = sample{opus.Config.MarshalHead(), frame, "opus"}

	out[media.MPEG2] = sample{nil, []byte{0, 0, 1, 0xb3, width >> 4, width<<4&0xf0 | height>>8, height & 0xff, 0x13, 0, 0xff, 0xe0, 0, 0, 0, 1, 0xb8, 0, 8, 0, 0x40, 0, 0, 1, 0, 0, 0x0f, 0xff, 0xf8}, "mp4v.6A"}
	out[media.VP8] = sample{nil, []byte{0x10, 2, 0, 0x9d, 0x01, 0x2a, width & 0xff, width >> 8, height & 0xff, height >> 8, 0}, "vp08.00.00.08"}
	out[media.MP3] = sample{nil, []byte{0xff, 0xfb, 0x90, 0x00}, "mp4a.6B"}
	out[media.MP2] = sample{nil, []byte{0xff, 0xfd, 0xa4, 0x00}, "mp4a.6B"}
	for id, name := range map[media.Codec]string{media.ALaw: "alaw", media.ULaw: "ulaw", media.PCM: "ipcm"} {
		out[id] = sample{coding.BareSound(id, 44100, 16, 2), make([]byte, 640), name}
	}
	out[media.AC3] = sample{nil, []byte{0x0b, 0x77, 0, 0, 28, 0x40, 0xe1, 0, 0, 0}, "ac-3"}
	out[media.EAC3] = sample{nil, []byte{0x0b, 0x77, 0x01, 0x7f, 0x34, 0x80, 0, 0, 0, 0}, "ec-3"}
	return out
}

func TestEveryRow(t *testing.T) {
	for id, s := range samples(t) {
		c := coding.Find(id)
		require.NotNil(t, c, id)
		if c.FourCC != "" {
			assert.Same(t, c, coding.ByFourCC(c.FourCC), id)
		}
		assert.Equal(t, c.ObjectType, coding.ByEntry(c.Entry, c.ObjectType).ObjectType, id)
		if c.Box != "" {
			assert.Equal(t, c.Box, coding.ByBox(c.Box).Box, id)
		}
		stream, err := coding.Open(c, s.config)
		require.NoError(t, err, id)
		u, err := stream.Unit(s.unit)
		require.NoError(t, err, id)
		assert.True(t, u.Key, id)
		track, known := stream.Track()
		assert.True(t, known, id)
		assert.Equal(t, c.Kind, track.Kind, id)
		assert.Equal(t, id, track.Codec)
		assert.Equal(t, s.name, track.CodecName)
		if c.ObjectType != 0x6b { // frames of MPEG audio need none
			assert.NotEmpty(t, track.Config, id)
		}
		assert.Positive(t, track.Timescale, id)
		if c.Kind == media.Video {
			assert.Equal(t, []int{width, height}, []int{track.Width, track.Height}, id)
			assert.True(t, coding.Look(id, u.Data).Random, id)
		} else {
			assert.Positive(t, track.FrameSamples, id)
		}
		if len(s.config) > 0 {
			_, err = coding.Open(c, s.config[:1])
			assert.Error(t, err, id)
		}
	}
	assert.Nil(t, coding.Find("none"))
	assert.Nil(t, coding.ByFourCC("none"))
}

// TestKeyframesTellOfChanges: parameter sets and sizes come along with the media.
func TestKeyframesTellOfChanges(t *testing.T) {
	s := samples(t)
	for _, id := range []media.Codec{media.H264, media.VP9, media.AV1} {
		stream, err := coding.Open(coding.Find(id), s[id].config)
		require.NoError(t, err)
		_, err = stream.Unit(s[id].unit)
		require.NoError(t, err)
		track, _ := stream.Track()
		track.ID, track.Language = 3, "en"
		_, changed := coding.Renew(&track, s[id].unit)
		assert.False(t, changed, id)
	}
	stream, err := coding.Open(coding.Find(media.VP9), s[media.VP9].config)
	require.NoError(t, err)
	track, _ := stream.Track()
	track.ID, track.Width, track.Height = 3, 640, 360
	now, changed := coding.Renew(&track, s[media.VP9].unit)
	assert.True(t, changed)
	assert.Equal(t, []int{width, height, 3}, []int{now.Width, now.Height, int(now.ID)})
}

func FuzzUnit(f *testing.F) {
	bits.CatchRunaways()
	list := samples(f)
	for _, s := range list {
		f.Add(s.unit)
	}
	f.Fuzz(func(_ *testing.T, b []byte) {
		for id, s := range list {
			if stream, err := coding.Open(coding.Find(id), s.config); err == nil {
				_, _ = stream.Unit(b)
			}
			coding.Look(id, b)
			_, _ = coding.Open(coding.Find(id), b)
		}
	})
}

func TestShorterLengthsAreRewritten(t *testing.T) {
	for id, key := range map[media.Codec]byte{media.H264: 0x65, media.HEVC: 19 << 1} {
		s := samples(t)[id]
		config := append([]byte(nil), s.config...)
		at := map[media.Codec]int{media.H264: 4, media.HEVC: 21}[id]
		config[at] = config[at]&^3 | 1 // two bytes
		stream, err := coding.Open(coding.Find(id), config)
		require.NoError(t, err)
		u, err := stream.Unit([]byte{0, 2, key, 9, 0, 2, 0x0c, 1})
		require.NoError(t, err)
		assert.Equal(t, coding.Unit{Key: true, Data: []byte{0, 0, 0, 2, key, 9, 0, 0, 0, 2, 0x0c, 1}}, u, id)
		track, _ := stream.Track()
		assert.EqualValues(t, 3, track.Config[at]&3, "%s: the record says four bytes", id)
	}
}
