package ac3_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/internal/core/ac3"
	"metaplasis/internal/core/bits"
	"metaplasis/internal/core/media"
)

// frame writes the header of a frame of AC-3: 48 kHz, 384 kbit/s, five channels and one for effects.
func frame() []byte {
	var w bits.Writer
	for _, f := range [][2]uint32{{16, 0x0b77}, {16, 0}, {2, 0}, {6, 28}, {5, 8}, {3, 0}, {3, 7}, {2, 0}, {2, 0}, {1, 1}} {
		w.U(int(f[0]), f[1])
	}
	return append(w.Bytes(), make([]byte, 1536-len(w.Bytes()))...)
}

// enhanced writes the header of a frame of Enhanced AC-3: 48 kHz, 768 bytes, stereo.
func enhanced() []byte {
	var w bits.Writer
	for _, f := range [][2]uint32{{16, 0x0b77}, {2, 0}, {3, 0}, {11, 383}, {2, 0}, {2, 3}, {3, 2}, {1, 0}, {5, 16}} {
		w.U(int(f[0]), f[1])
	}
	return append(w.Bytes(), make([]byte, 768-len(w.Bytes()))...)
}

func TestFrames(t *testing.T) {
	f, err := ac3.Parse(frame())
	require.NoError(t, err)
	assert.Equal(t, []int{1536, 48000, 1536, 6}, []int{f.Size, f.SampleRate, int(f.Samples), f.Channels})
	assert.Equal(t, []byte{0x10, 0x3d, 0xc0}, f.Box()) // fscod 0, bsid 8, bsmod 0, acmod 7, lfe, rate 14
	f, err = ac3.Parse(enhanced())
	require.NoError(t, err)
	assert.Equal(t, []int{768, 48000, 1536, 2}, []int{f.Size, f.SampleRate, int(f.Samples), f.Channels})
	assert.Equal(t, []byte{0x06, 0x00, 0x20, 0x04, 0x00}, f.Box()) // 192 kbit/s, bsid 16, acmod 2

	track := media.Track{ID: 7, Language: "en"}
	require.NoError(t, ac3.Complete(&track, enhanced()))
	assert.Equal(t, media.EAC3, track.Codec)
	assert.Equal(t, "ec-3", track.CodecName)
	assert.Equal(t, "en", track.Language)
}

func TestBad(t *testing.T) {
	_, err := ac3.Parse([]byte{1, 2, 3})
	assert.ErrorContains(t, err, "sync word")
	b := frame()
	b[4] = 0xff
	_, err = ac3.Parse(b)
	assert.ErrorContains(t, err, "a rate up to 2")
	b = frame()
	b[5] = 31 << 3
	_, err = ac3.Parse(b)
	assert.ErrorContains(t, err, "identification 31")
}

func FuzzFrame(f *testing.F) {
	bits.CatchRunaways()
	f.Add(frame())
	f.Add(enhanced())
	f.Fuzz(func(_ *testing.T, b []byte) {
		if h, err := ac3.Parse(b); err == nil {
			h.Box()
			h.Track()
		}
	})
}
