package mpegv

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/internal/core/bits"
	"metaplasis/internal/core/media"
)

// unit writes an access unit of a width and height in the aspect and rate codes given.
func unit(width, height, aspect, rate uint32, extension bool, kind uint32) []byte {
	var w bits.Writer
	w.U(32, 0x1b3)
	w.U(12, width&0xfff)
	w.U(12, height&0xfff)
	w.U(4, aspect)
	w.U(4, rate)
	w.U(18, 10_000)
	w.U(1, 1)
	w.U(10, 112)
	w.U(3, 0)
	if extension {
		w.U(32, 0x1b5)
		w.U(4, sequenceExtension)
		w.U(8, 0x48) // main profile, main level
		w.U(1, 1)
		w.U(2, 1)
		w.U(2, width>>12)
		w.U(2, height>>12)
		w.U(12, 0)
		w.U(1, 1)
		w.U(8, 0)
		w.U(1, 0)
		w.U(2, 0)
		w.U(5, 0)
	}
	w.U(32, 0x1b8)
	w.U(25, 0)
	w.U(1, 1)
	w.U(6, 0)
	w.U(32, 0x100)
	w.U(10, 0)
	w.U(3, kind)
	w.U(16, 0xffff)
	w.U(3, 0)
	return w.Bytes()
}

func TestSequences(t *testing.T) {
	for _, c := range []struct {
		name                        string
		width, height, aspect, rate uint32
		extension                   bool
		sar, frames                 media.Rational
		codec                       string
	}{
		{"wide standard definition", 720, 576, 3, 3, true, media.Rational{Num: 64, Den: 45}, media.Rational{Num: 25, Den: 1}, "mp4v.61"},
		{"square samples", 1920, 1080, 1, 4, true, media.Rational{Num: 1, Den: 1}, media.Rational{Num: 30000, Den: 1001}, "mp4v.61"},
		{"larger than twelve bits", 4200, 2160, 1, 8, true, media.Rational{Num: 1, Den: 1}, media.Rational{Num: 60, Den: 1}, "mp4v.61"},
		{"of the first standard", 352, 288, 2, 3, false, media.Rational{Num: 12, Den: 11}, media.Rational{Num: 25, Den: 1}, "mp4v.6A"},
	} {
		b := unit(c.width, c.height, c.aspect, c.rate, c.extension, 1)
		p, err := Parse(b)
		require.NoError(t, err, c.name)
		assert.True(t, p.Intra && p.Closed, c.name)
		var track media.Track
		require.NoError(t, Complete(&track, b), c.name)
		assert.Equal(t, []any{int(c.width), int(c.height), c.frames, c.codec}, []any{track.Width, track.Height, track.FrameRate, track.CodecName}, c.name)
		assert.Equal(t, c.sar, track.SAR, c.name)
		again, err := Parse(append(append([]byte{}, track.Config...), b...))
		require.NoError(t, err, c.name)
		assert.Equal(t, p.Sequence, again.Sequence, "the configuration is a sequence header")
	}
}

func TestPictures(t *testing.T) {
	p, err := Parse([]byte{0, 0, 1, 0, 0x00, 0x10, 0xff, 0xff})
	require.NoError(t, err)
	assert.True(t, p.Sequence == nil && !p.Intra)
	for _, b := range [][]byte{nil, {0, 0, 1}, {0, 0, 1, 0xb3, 0, 0}, {0, 0, 1, 0}, {0, 0, 1, 0xb8, 1, 2, 3, 4}} {
		_, err := Parse(b)
		assert.Error(t, err, "%x", b)
	}
}

func FuzzParse(f *testing.F) {
	bits.CatchRunaways()
	f.Add(unit(720, 576, 3, 3, true, 1))
	f.Fuzz(func(t *testing.T, b []byte) {
		var track media.Track
		if p, err := Parse(b); err == nil && p.Sequence != nil {
			require.NoError(t, Complete(&track, b))
			require.Positive(t, track.Width)
		}
	})
}
