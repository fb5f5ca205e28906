package codec

import (
	"bytes"
	"image"
	"image/jpeg"
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/internal/codec/aacenc"
	"metaplasis/internal/codec/av1enc"
	"metaplasis/internal/codec/h264enc"
	"metaplasis/internal/codec/hevcenc"
	"metaplasis/internal/codec/mpegaenc"
	"metaplasis/internal/codec/mpegvenc"
	"metaplasis/internal/codec/opusenc"
	"metaplasis/internal/codec/scale"
	"metaplasis/internal/codec/vp9enc"
	"metaplasis/internal/core/coding"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/mpega"
	"metaplasis/internal/core/pcm"
	"metaplasis/internal/core/picture"
	"metaplasis/internal/core/rawvideo"
)

const (
	width, height = 320, 180
	pictures      = 40
	step          = media.VideoTimescale / 25
)

var rate = media.Rational{Num: 25, Den: 1}

// paint draws a number in blocks, above them a field of one colour.
func paint(p *picture.Picture, n int) {
	for i := range p.Y {
		p.Y[i] = 120
	}
	for i := range p.U {
		p.U[i], p.V[i] = 90, 160
	}
	for i, white := range picture.EncodeNumber(n) {
		x, y, side := picture.CodeCell(width, height, i)
		for dy := range side {
			for dx := range side {
				p.Y[(y+dy)*p.StrideY+x+dx] = map[bool]byte{true: 230, false: 20}[white]
			}
		}
	}
}

// films are short films as encoders of each codec make them.
var films = map[media.Codec]func(t *testing.T) (config []byte, units []media.AccessUnit){
	media.H264: func(t *testing.T) ([]byte, []media.AccessUnit) {
		e, err := h264enc.New(h264enc.Settings{Width: width, Height: height, FrameRate: rate, Bitrate: 500_000, Effort: 6})
		require.NoError(t, err)
		defer e.Close()
		track, err := e.Track()
		require.NoError(t, err)
		return track.Config, shoot(t, e.Encode, e.Waiting)
	},
	media.HEVC: func(t *testing.T) ([]byte, []media.AccessUnit) {
		e, err := hevcenc.New(width, height, rate, 500_000)
		require.NoError(t, err)
		defer e.Close()
		return e.Record, shoot(t, e.Encode, nil)
	},
	media.VP9: func(t *testing.T) ([]byte, []media.AccessUnit) {
		e, err := vp9enc.New(width, height, 500_000, 2)
		require.NoError(t, err)
		defer e.Close()
		return e.Config.Marshal(), shoot(t, func(p *picture.Picture, pts int64, key bool) (*media.AccessUnit, error) {
			return e.Encode(p, pts, step, key)
		}, nil)
	},
	media.VP8: func(t *testing.T) ([]byte, []media.AccessUnit) {
		e, err := vp9enc.NewVP8(width, height, 500_000, 2)
		require.NoError(t, err)
		defer e.Close()
		return nil, shoot(t, func(p *picture.Picture, pts int64, key bool) (*media.AccessUnit, error) {
			return e.Encode(p, pts, step, key)
		}, nil)
	},
	media.MPEG2: func(t *testing.T) (config []byte, units []media.AccessUnit) {
		e, err := mpegvenc.New(width, height, rate, false)
		require.NoError(t, err)
		pic := picture.New(width, height)
		for n := range pictures {
			paint(pic, n)
			units = append(units, e.Encode(pic, int64(n)*step))
		}
		return nil, units
	},
	media.JPEG: func(t *testing.T) (config []byte, units []media.AccessUnit) {
		pic := picture.New(width, height)
		img := &image.YCbCr{Y: pic.Y, Cb: pic.U, Cr: pic.V, YStride: pic.StrideY, CStride: pic.Stride, SubsampleRatio: image.YCbCrSubsampleRatio420, Rect: image.Rect(0, 0, width, height)}
		for n := range pictures {
			paint(pic, n)
			var b bytes.Buffer
			require.NoError(t, jpeg.Encode(&b, img, nil))
			units = append(units, media.AccessUnit{PTS: int64(n) * step, DTS: int64(n) * step, Key: true, Data: b.Bytes()})
		}
		return nil, units
	},
	media.RawVideo: func(*testing.T) (config []byte, units []media.AccessUnit) {
		pic := picture.New(width, height)
		f := rawvideo.Format{Width: width, Height: height, Depth: 10}
		for n := range pictures {
			paint(pic, n)
			units = append(units, media.AccessUnit{PTS: int64(n) * step, DTS: int64(n) * step, Key: true, Data: f.Append(nil, pic)})
		}
		return f.Marshal(), units
	},
	media.AV1: func(t *testing.T) (config []byte, units []media.AccessUnit) {
		e, err := av1enc.New(width, height, rate, 500_000, 1, 20)
		require.NoError(t, err)
		defer e.Close()
		pic := picture.New(width, height)
		for n := range pictures + 1 {
			paint(pic, n)
			if n < pictures {
				require.NoError(t, e.Send(pic, int64(n)*step))
			} else {
				require.NoError(t, e.Send(nil, 0))
			}
			for {
				u, err := e.Take(n == pictures)
				require.NoError(t, err)
				if u == nil {
					break
				}
				units = append(units, *u)
			}
		}
		return nil, units
	},
}

func shoot(t *testing.T, encode func(*picture.Picture, int64, bool) (*media.AccessUnit, error), waiting func() int) (out []media.AccessUnit) {
	pic := picture.New(width, height)
	take := func(p *picture.Picture, n int) {
		u, err := encode(p, int64(n)*step, n%20 == 0)
		require.NoError(t, err)
		if u != nil {
			out = append(out, *u)
		}
	}
	for n := range pictures {
		paint(pic, n)
		take(pic, n)
	}
	for waiting != nil && waiting() > 0 {
		take(nil, 1)
	}
	return out
}

// TestEveryDecoderReadsPictures: every picture comes out once, with its time and its colours, and nonsense between
// them is an error and no end.
func TestEveryDecoderReadsPictures(t *testing.T) {
	for c := range pictureDecoders {
		require.NotNil(t, films[c], c)
		config, units := films[c](t)
		require.Len(t, units, pictures, c)
		d, err := NewPictureDecoder(&media.Track{Codec: c, Config: config})
		require.NoError(t, err, c)
		got := map[int64]int{}
		pic := picture.New(width, height)
		var scaler scale.Scaler
		each := func(f *picture.Frame) {
			require.Equal(t, []int{width, height}, []int{f.Width, f.Height}, c)
			require.NoError(t, scaler.FromFrame(pic, f))
			n, ok := picture.DecodeNumber(pic.Y, pic.StrideY, width, height)
			assert.True(t, ok, "%s at %d", c, f.PTS)
			got[f.PTS] = n
			at := 40*pic.StrideY + 160
			assert.InDelta(t, 120, pic.Y[at], 3, c)
			at = 20*pic.Stride + 80
			assert.InDelta(t, 90, pic.U[at], 3, c)
			assert.InDelta(t, 160, pic.V[at], 3, c)
		}
		for i := range units {
			require.NoError(t, d.Decode(&units[i], each), "%s, unit %d", c, i)
		}
		require.NoError(t, d.Decode(nil, each), c)
		assert.Len(t, got, pictures, c)
		for pts, n := range got {
			assert.EqualValues(t, n*step, pts, c)
		}
		bad := media.AccessUnit{Data: []byte{0, 0, 0, 12, 0x41, 0x9a, 0xff, 0xff, 0x13, 0x37, 0x80, 1, 2, 3, 4, 5}}
		_ = d.Decode(&bad, func(*picture.Frame) {})
		got = map[int64]int{}
		for i := 20; i < pictures; i++ {
			_ = d.Decode(&units[i], each)
		}
		_ = d.Decode(nil, each)
		assert.GreaterOrEqual(t, len(got), pictures-20-1, "%s goes on behind nonsense", c)
		d.Close()
	}
}

const (
	tone    = 1000 // Hz
	hertz   = 48_000
	seconds = 1
)

// sine is a tone on both channels, the right one half as loud.
func sine() []int16 {
	out := make([]int16, 0, 2*hertz*seconds)
	for i := range hertz * seconds {
		v := 12_000 * math.Sin(2*math.Pi*tone*float64(i)/hertz)
		out = append(out, int16(v), int16(v/2))
	}
	return out
}

// sounds are a second of the tone as encoders of each codec make it, and how late it comes out at most.
var sounds = map[media.Codec]func(t *testing.T) (config []byte, frames [][]byte){
	media.AAC: func(t *testing.T) ([]byte, [][]byte) {
		e, err := aacenc.New(hertz, 2, 128_000)
		require.NoError(t, err)
		defer e.Close()
		return e.Config.Marshal(), cut(t, e.Encode, 1024)
	},
	media.Opus: func(t *testing.T) ([]byte, [][]byte) {
		e, err := opusenc.New(2, 128_000)
		require.NoError(t, err)
		defer e.Close()
		return e.Config.MarshalBox(), cut(t, e.Encode, opusenc.FrameSamples)
	},
	media.MP2: func(t *testing.T) ([]byte, [][]byte) { return nil, mpeg(t, media.MP2) },
	media.MP3: func(t *testing.T) ([]byte, [][]byte) { return nil, mpeg(t, media.MP3) },
	media.PCM: func(t *testing.T) ([]byte, [][]byte) {
		f := pcm.Format{Codec: media.PCM, Rate: hertz, Channels: 2, Bits: 24}
		return f.Marshal(), cut(t, func(in []int16) (out []byte, _ error) {
			for _, v := range in {
				out = append(out, byte(v>>8), byte(v), 0)
			}
			return out, nil
		}, 1000)
	},
}

func cut(t *testing.T, encode func([]int16) ([]byte, error), samples int) (out [][]byte) {
	in := sine()
	for len(in) >= 2*samples {
		b, err := encode(in[:2*samples])
		require.NoError(t, err)
		out = append(out, b)
		in = in[2*samples:]
	}
	return out
}

func mpeg(t *testing.T, c media.Codec) (out [][]byte) {
	b, err := mpegaenc.Encode(c, sine(), hertz, 2, 192_000)
	require.NoError(t, err)
	for len(b) > 4 {
		h, err := mpega.Parse(b)
		require.NoError(t, err)
		n := min(h.Size, len(b))
		out = append(out, b[:n])
		b = b[n:]
	}
	return out
}

// TestEveryDecoderReadsSound: the tone comes out as it went in, on either side.
func TestEveryDecoderReadsSound(t *testing.T) {
	for c := range soundDecoders {
		if sounds[c] == nil {
			continue // see the tests below
		}
		config, frames := sounds[c](t)
		d, err := NewSoundDecoder(&media.Track{Codec: c, Config: config})
		require.NoError(t, err, c)
		var out []int16
		for _, f := range frames {
			b, err := d.Decode(f)
			require.NoError(t, err, c)
			out = append(out, b...)
		}
		hz, channels := d.Format()
		require.Equal(t, []int{hertz, 2}, []int{hz, channels}, c)
		require.Greater(t, len(out), 2*hertz*8/10, c)
		// A tenth of a second from the middle: its power, and how often it rises through nothing.
		part := out[2*hertz/2 : 2*hertz*6/10]
		var left, right float64
		rises := 0
		for i := 0; i < len(part); i += 2 {
			left, right = left+float64(part[i])*float64(part[i]), right+float64(part[i+1])*float64(part[i+1])
			if i > 0 && part[i-2] < 0 && part[i] >= 0 {
				rises++
			}
		}
		n := float64(len(part) / 2)
		assert.InDelta(t, 12_000/math.Sqrt2, math.Sqrt(left/n), 400, c)
		assert.InDelta(t, 6_000/math.Sqrt2, math.Sqrt(right/n), 300, c)
		assert.InDelta(t, tone/10, rises, 1, c)
		_, _ = d.Decode([]byte{0xff, 0xfb, 1, 2, 3, 4, 5, 6, 7})
		d.Close()
	}
}

// TestLawsAndSilence: the laws of G.711 at their corners, and a frame of AC-3 that holds nothing.
func TestLawsAndSilence(t *testing.T) {
	for c, want := range map[media.Codec]map[byte]int16{
		media.ALaw: {0xd5: 8, 0x55: -8, 0xaa: 32256, 0x2a: -32256, 0x80: 5504},
		media.ULaw: {0xff: 0, 0x7f: 0, 0x80: 32124, 0x00: -32124, 0xf0: 120},
	} {
		d, err := NewSoundDecoder(&media.Track{Codec: c, Config: coding.BareSound(c, 8000, 8, 1)})
		require.NoError(t, err)
		for b, v := range want {
			got, err := d.Decode([]byte{b})
			require.NoError(t, err)
			assert.Equal(t, []int16{v}, got, "%s %#x", c, b)
		}
	}
	d, err := NewSoundDecoder(&media.Track{Codec: media.AC3})
	require.NoError(t, err)
	defer d.Close()
	out, err := d.Decode(append([]byte{0x0b, 0x77, 0, 0, 20, 0x40, 0x40}, make([]byte, 761)...))
	if err == nil {
		assert.Len(t, out, 1536*2)
	}
	_, err = d.Decode([]byte{0x0b, 0x77, 0, 0, 20, 0x40, 0x40, 0, 0})
	assert.Error(t, err, "it is cut off")
	_, err = d.Decode(make([]byte, 100))
	assert.Error(t, err)
}

// TestMoreChannelsAreMixedDown: what is in the middle is heard on both sides, what is behind on its own.
func TestMoreChannelsAreMixedDown(t *testing.T) {
	f := pcm.Format{Codec: media.PCM, Rate: hertz, Channels: 6, Bits: 16, LittleEndian: true}
	d, err := NewSoundDecoder(&media.Track{Codec: media.PCM, Config: f.Marshal()})
	require.NoError(t, err)
	one := func(channel int) []int16 {
		b := make([]byte, 12)
		b[2*channel+1] = 100 // 25,600
		out, err := d.Decode(b)
		require.NoError(t, err)
		return out
	}
	full := 25_600.0 / (1 + 2/math.Sqrt2)
	for channel, want := range [][2]float64{{full, 0}, {0, full}, {full / math.Sqrt2, full / math.Sqrt2}, {0, 0}, {full / math.Sqrt2, 0}, {0, full / math.Sqrt2}} {
		got := one(channel)
		require.Len(t, got, 2)
		assert.InDelta(t, want[0], got[0], 2, "channel %d", channel)
		assert.InDelta(t, want[1], got[1], 2, "channel %d", channel)
	}
}
