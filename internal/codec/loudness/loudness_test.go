package loudness

import (
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestTheReferenceTones are those of EBU Tech 3341: a stereo sine of 1 kHz at -23 dBFS is -23 LUFS, and so on.
func TestTheReferenceTones(t *testing.T) {
	for _, level := range []float64{-23, -33, -18} {
		m, err := New(48_000, 2)
		require.NoError(t, err)
		v := m.Read()
		assert.Equal(t, Values{Silence, Silence, Silence, Silence}, v, "nothing came yet")
		amplitude := 32767 * math.Pow(10, level/20)
		for part := range 100 { // ten seconds
			pcm := make([]int16, 0, 9600)
			for i := range 4800 {
				s := int16(math.Round(amplitude * math.Sin(2*math.Pi*1000*float64(part*4800+i)/48_000)))
				pcm = append(pcm, s, s)
			}
			m.Add(pcm)
		}
		v = m.Read()
		assert.InDelta(t, level, v.Momentary, 0.1)
		assert.InDelta(t, level, v.ShortTerm, 0.1)
		assert.InDelta(t, level, v.Integrated, 0.1)
		assert.InDelta(t, level, v.Peak, 0.2)
		assert.Equal(t, Silence, m.Read().Peak, "the peak is of what came since")
		m.Close()
	}
	_, err := New(48_000, 0)
	assert.Error(t, err)
}
