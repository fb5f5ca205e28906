package bits

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestExpGolombMatchesTheTableOfTheStandard(t *testing.T) {
	// ITU-T H.264, table 9-2: 1, 010, 011, 00100, 00101 code 0 to 4.
	r := NewReader([]byte{0b10100110, 0b01000010, 0b10000000})
	for want := range uint32(5) {
		assert.Equal(t, want, r.UE())
	}
	assert.NoError(t, r.Err())

	r = NewReader([]byte{0b10100110, 0b01000010, 0b10000000})
	for _, want := range []int32{0, 1, -1, 2, -2} {
		assert.Equal(t, want, r.SE())
	}
}

func TestWriterReadsBack(t *testing.T) {
	var w Writer
	w.U(3, 5)
	for _, v := range []uint32{0, 7, 255, 1 << 20} {
		w.UE(v)
	}
	w.U(32, 0xdeadbeef)
	r := NewReader(w.Bytes())
	assert.EqualValues(t, 5, r.U(3))
	for _, v := range []uint32{0, 7, 255, 1 << 20} {
		assert.Equal(t, v, r.UE())
	}
	assert.EqualValues(t, 0xdeadbeef, r.U(32))
	assert.NoError(t, r.Err())
}

func TestReaderPastTheEndStaysAnError(t *testing.T) {
	r := NewReader([]byte{0})
	assert.Zero(t, r.UE())
	assert.Error(t, r.Err())
	assert.Zero(t, r.U(8))
}

// unescapeByBytes is Unescape as the standard has it, a byte at a time.
func unescapeByBytes(nal []byte) []byte {
	out := []byte{}
	zeros := 0
	for _, b := range nal {
		if zeros >= 2 && b == 3 {
			zeros = 0
			continue
		}
		if zeros++; b != 0 {
			zeros = 0
		}
		out = append(out, b)
	}
	return out
}

func FuzzUnescape(f *testing.F) {
	for _, b := range [][]byte{{}, {0, 0, 3}, {0, 0, 0, 3, 1}, {0, 0, 3, 0, 0, 3, 3}, {0, 0, 3, 0, 3}, {1, 0, 0, 3, 0, 0, 3, 1, 0, 0}} {
		f.Add(b)
	}
	f.Fuzz(func(t *testing.T, b []byte) {
		want := unescapeByBytes(b)
		assert.Equal(t, want, append([]byte{}, Unescape(b)...), "% x", b)
	})
}

func TestSkippingCostsTheSameHoweverFar(t *testing.T) {
	r := NewReader([]byte{1, 2, 3})
	r.Skip(9)
	assert.EqualValues(t, 2, r.U(7), "from the tenth bit on")
	r.Skip(1<<62 - 1)
	require.Error(t, r.Err())
	r = NewReader(nil)
	r.Skip(-1)
	require.Error(t, r.Err(), "a length that overflowed")
}

func TestRunawaysAreCaught(t *testing.T) {
	CatchRunaways()
	defer func() { runaway = nil }()
	assert.Panics(t, func() {
		r := NewReader(nil)
		for range 1 << 20 {
			r.UE()
		}
	})
}
