package avc

import (
	"encoding/hex"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/internal/core/bits"
	"metaplasis/internal/core/media"
)

// sps writes a parameter set field by field, as section 7.3.2.1.1 lists them.
type spsFields struct {
	profile            uint32
	mbWidth, mapHeight uint32
	interlaced         bool
	crop               [4]uint32 // left, right, top, bottom, in crop units
	sar                [2]uint32 // 0: no aspect ratio
	sarIDC             uint32
	tick, scale        uint32
}

func (f spsFields) marshal() []byte {
	var w bits.Writer
	flag := func(b bool) bool {
		if b {
			w.U(1, 1)
		} else {
			w.U(1, 0)
		}
		return b
	}
	w.U(8, f.profile)
	w.U(8, 0)
	w.U(8, 31)
	w.UE(0)
	if f.profile == 100 {
		w.UE(1) // 4:2:0
		w.UE(0)
		w.UE(0)
		w.U(1, 0)
		w.U(1, 0)
	}
	w.UE(0)
	w.UE(2) // order count type
	w.UE(1)
	w.U(1, 0)
	w.UE(f.mbWidth - 1)
	w.UE(f.mapHeight - 1)
	flag(!f.interlaced)
	if f.interlaced {
		w.U(1, 0)
	}
	w.U(1, 1)
	if flag(f.crop != [4]uint32{}) {
		for _, c := range f.crop {
			w.UE(c)
		}
	}
	if flag(f.sar[0] > 0 || f.sarIDC > 0 || f.tick > 0) {
		if flag(f.sar[0] > 0 || f.sarIDC > 0) {
			if f.sar[0] > 0 {
				w.U(8, 255)
				w.U(16, f.sar[0])
				w.U(16, f.sar[1])
			} else {
				w.U(8, f.sarIDC)
			}
		}
		w.U(3, 0) // overscan, signal type, chroma location
		if flag(f.tick > 0) {
			w.U(32, f.tick)
			w.U(32, f.scale)
		}
	}
	w.U(1, 1) // stop bit
	return escape(append([]byte{0x67}, w.Bytes()...))
}

func TestSPSTellsSizeShapeAndRate(t *testing.T) {
	for name, c := range map[string]struct {
		fields        spsFields
		width, height int
		sar, rate     media.Rational
	}{
		"1080 lines are cropped from 1088": {spsFields{profile: 100, mbWidth: 120, mapHeight: 68, crop: [4]uint32{0, 0, 0, 4}, tick: 1, scale: 60}, 1920, 1080, media.Rational{Num: 1, Den: 1}, media.Rational{Num: 30, Den: 1}},
		"odd crop on all sides":            {spsFields{profile: 77, mbWidth: 40, mapHeight: 30, crop: [4]uint32{1, 2, 3, 4}}, 634, 466, media.Rational{Num: 1, Den: 1}, media.Rational{}},
		"wide samples by table E-1":        {spsFields{profile: 66, mbWidth: 45, mapHeight: 36, sarIDC: 4}, 720, 576, media.Rational{Num: 16, Den: 11}, media.Rational{}},
		"samples of their own":             {spsFields{profile: 66, mbWidth: 90, mapHeight: 68, sar: [2]uint32{4, 3}}, 1440, 1088, media.Rational{Num: 4, Den: 3}, media.Rational{}},
		"fields have half the map's units": {spsFields{profile: 100, mbWidth: 120, mapHeight: 34, interlaced: true, crop: [4]uint32{0, 0, 0, 2}}, 1920, 1080, media.Rational{Num: 1, Den: 1}, media.Rational{}},
		"a rate that is no whole number":   {spsFields{profile: 100, mbWidth: 80, mapHeight: 45, tick: 1001, scale: 60000}, 1280, 720, media.Rational{Num: 1, Den: 1}, media.Rational{Num: 30000, Den: 1001}},
	} {
		s, err := ParseSPS(c.fields.marshal())
		require.NoError(t, err, name)
		assert.Equal(t, [2]int{c.width, c.height}, [2]int{s.Width, s.Height}, name)
		assert.Equal(t, c.sar, s.SAR, name)
		assert.Equal(t, c.rate, s.FrameRate, name)
		if c.fields.interlaced {
			assert.Contains(t, s.Undecodable(), "interlaced")
		} else {
			assert.Empty(t, s.Undecodable(), name)
		}
	}
}

func TestConfigRecordReadsBack(t *testing.T) {
	sps := spsFields{profile: 100, mbWidth: 80, mapHeight: 45}.marshal()
	in := Config{LengthSize: 4, SPS: [][]byte{sps}, PPS: [][]byte{{0x68, 0xee, 0x3c, 0x80}}}
	var out Config
	require.NoError(t, out.Unmarshal(in.Marshal()))
	assert.Equal(t, in, out)
	track, err := out.Track()
	require.NoError(t, err)
	assert.Equal(t, "avc1.64001f", track.CodecName)
	for cut := range len(in.Marshal()) - 4 {
		assert.Error(t, new(Config).Unmarshal(in.Marshal()[:cut]), "cut at %d", cut)
	}
}

func TestNALUnitsInBothWrappings(t *testing.T) {
	stream, _ := hex.DecodeString("00000001" + "6742" + "000001" + "68ce" + "00000001" + "65aabb00")
	nals := SplitAnnexB(stream)
	require.Len(t, nals, 3)
	assert.Equal(t, []byte{0x65, 0xaa, 0xbb}, nals[2], "trailing zeros belong to no unit")
	assert.True(t, HasIDR(nals))
	var lengths []byte
	for _, n := range nals {
		lengths = AppendNAL(lengths, n)
	}
	again, err := Split(lengths, 4)
	require.NoError(t, err)
	assert.Equal(t, nals, again)
	assert.Equal(t, nals, SplitAnnexB(AppendAnnexB(nil, lengths)))
	_, err = Split([]byte{0, 0, 0, 9, 1}, 4)
	assert.ErrorContains(t, err, "a length of 9")
}

func FuzzSPS(f *testing.F) {
	bits.CatchRunaways()
	f.Add(spsFields{profile: 100, mbWidth: 120, mapHeight: 68, crop: [4]uint32{0, 0, 0, 4}, tick: 1, scale: 60}.marshal())
	f.Add([]byte{0x67})
	f.Fuzz(func(t *testing.T, b []byte) {
		if s, err := ParseSPS(b); err == nil {
			if s.Width <= 0 || s.Height <= 0 || s.Width > maxSide+16 || !s.SAR.Valid() {
				t.Fatalf("%+v", s)
			}
		}
	})
}

func FuzzConfig(f *testing.F) {
	bits.CatchRunaways()
	c := Config{LengthSize: 4, SPS: [][]byte{spsFields{profile: 66, mbWidth: 8, mapHeight: 8}.marshal()}, PPS: [][]byte{{0x68, 0xce}}}
	f.Add(c.Marshal())
	f.Fuzz(func(t *testing.T, b []byte) {
		var c Config
		if c.Unmarshal(b) == nil {
			_, _ = c.Track()
		}
	})
}
