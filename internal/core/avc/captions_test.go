package avc

import (
	"bytes"
	"testing"

	"metaplasis/internal/core/bits"

	"metaplasis/internal/core/captions"

	"github.com/stretchr/testify/assert"
)

func TestCaptionsGoThroughAUnit(t *testing.T) {
	slice := AppendNAL(nil, []byte{0x41, 1, 2})
	assert.Empty(t, Captions(slice))
	long := bytes.Repeat([]byte{0, 0, 1}, 100) // needs escapes, and a size of two bytes
	one := captions.Pair608(0x14, 0x25)
	data := InsertSEI(append(AppendNAL(nil, []byte{TypeAUD, 0xf0}), slice...), CaptionSEI(one), CaptionSEI(long))
	assert.Equal(t, [][]byte{one, long}, Captions(data))
	nals, err := Split(data, 4)
	assert.NoError(t, err)
	var kinds []int
	for _, n := range nals {
		kinds = append(kinds, NALType(n))
		assert.NotContains(t, string(n), "\x00\x00\x01", "no start code may show")
	}
	assert.Equal(t, []int{TypeAUD, TypeSEI, TypeSEI, TypeSlice}, kinds)
	for cut := range data {
		Captions(data[:cut])
	}
}

func FuzzCaptions(f *testing.F) {
	bits.CatchRunaways()
	f.Add(InsertSEI(nil, CaptionSEI(captions.Pair608(1, 2))))
	f.Fuzz(func(_ *testing.T, b []byte) { Captions(b) })
}
