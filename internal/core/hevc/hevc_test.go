package hevc_test

import (
	"strings"
	"testing"

	"metaplasis/internal/core/bits"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/internal/codec/hevcenc"
	"metaplasis/internal/core/hevc"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/picture"
)

// encoded encodes three pictures, the first and the last of them keyframes.
func coded(t testing.TB, width, height int) (record []byte, units [][]byte) {
	enc, err := hevcenc.New(width, height, media.Rational{Num: 25, Den: 1}, 200_000)
	require.NoError(t, err)
	defer enc.Close()
	for n := range 3 {
		u, err := enc.Encode(picture.New(width, height), int64(n), n != 1)
		require.NoError(t, err)
		units = append(units, u.Data)
	}
	return enc.Record, units
}

func TestConfig(t *testing.T) {
	record, units := coded(t, 322, 182) // no whole number of blocks
	var c hevc.Config
	require.NoError(t, c.Unmarshal(record))
	assert.Equal(t, 4, c.LengthSize)
	track, err := c.Track(record)
	require.NoError(t, err)
	assert.Equal(t, []int{322, 182}, []int{track.Width, track.Height})
	assert.Equal(t, media.Rational{Num: 25, Den: 1}, track.FrameRate)
	assert.True(t, strings.HasPrefix(track.CodecName, "hvc1.1.6.L"), track.CodecName)
	assert.Equal(t, []bool{true, false, true}, []bool{hevc.HasIRAP(units[0]), hevc.HasIRAP(units[1]), hevc.HasIRAP(units[2])})
}

func TestNames(t *testing.T) {
	// The examples of ISO/IEC 14496-15, E.3.
	for want, p := range map[string]hevc.Profile{
		"hvc1.1.6.L93.B0":       {IDC: 1, Compatibility: 0x60000000, Level: 93, Constraints: [6]byte{0xb0}},
		"hvc1.A4.41.H120.B0.23": {Space: 1, IDC: 4, Compatibility: 0x82000000, High: true, Level: 120, Constraints: [6]byte{0xb0, 0x23}},
	} {
		assert.Equal(t, want, p.Name())
	}
}

func TestBadRecords(t *testing.T) {
	record, _ := coded(t, 64, 64)
	var c hevc.Config
	for n := range record {
		if err := c.Unmarshal(record[:n]); err == nil {
			_, err = c.Track(record[:n])
			assert.Error(t, err, "the first %d bytes", n)
		}
	}
	version := append([]byte{9}, record[1:]...)
	assert.ErrorContains(t, c.Unmarshal(version), "found version 9, expected 1")
}

func FuzzRecord(f *testing.F) {
	bits.CatchRunaways()
	record, units := coded(f, 64, 64)
	f.Add(record)
	f.Add(units[0])
	f.Fuzz(func(_ *testing.T, b []byte) {
		hevc.HasIRAP(b)
		var c hevc.Config
		if c.Unmarshal(b) == nil {
			_, _ = c.Track(b)
		}
		_, _ = hevc.ParseSPS(b)
	})
}

// A set whose order counts would be of two thousand million bits is refused at once.
func TestHugeOrderCountsAreRefused(t *testing.T) {
	var w bits.Writer
	w.U(16, 33<<9|1) // NAL unit header
	w.U(8, 1)        // one layer
	for range 12 {
		w.U(8, 0x40) // profile_tier_level, without emulation prevention
	}
	w.UE(0)
	w.UE(1)
	w.UE(64)
	w.UE(64)
	w.U(1, 0)
	w.UE(0)
	w.UE(0)
	w.UE(1<<31 - 2) // log2_max_pic_order_cnt_lsb_minus4
	_, err := hevc.ParseSPS(append(w.Bytes(), make([]byte, 16)...))
	require.ErrorContains(t, err, "2^16 at most")
}
