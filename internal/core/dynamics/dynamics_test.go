package dynamics

import (
	"math"
	"math/rand"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/internal/codec/loudness"
)

const rate = 48_000

// level runs sound through a leveller, which is told once a second what a meter of the source says, and returns what a
// meter of the result says of its second half, and the highest true peak of all of it.
func level(t *testing.T, target float64, seconds int, sample func(i int) (left, right float64)) (lufs, peak, gain float64) {
	source, err := loudness.New(rate, 2)
	require.NoError(t, err)
	defer source.Close()
	result, err := loudness.New(rate, 2)
	require.NoError(t, err)
	defer func() { result.Close() }()
	l := New(target, rate, 2)
	peak = -100
	for s := range seconds {
		pcm := make([]int16, 0, 2*rate)
		for i := range rate {
			a, b := sample(s*rate + i)
			pcm = append(pcm, int16(a*32767), int16(b*32767))
		}
		source.Add(pcm)
		l.Measured(source.Read().Integrated)
		out := l.Process(pcm)
		require.Len(t, out, len(pcm))
		if s == seconds/2 {
			peak = max(peak, result.Read().Peak)
			result.Close()
			result, err = loudness.New(rate, 2)
			require.NoError(t, err)
		}
		result.Add(out)
		peak = max(peak, result.Read().Peak)
	}
	return result.Read().Integrated, peak, l.Gain()
}

func TestSoundIsBroughtToItsTarget(t *testing.T) {
	tone := func(amplitude float64) func(int) (float64, float64) {
		return func(i int) (float64, float64) {
			v := amplitude * math.Sin(2*math.Pi*997*float64(i)/rate)
			return v, v
		}
	}
	for _, c := range []struct{ amplitude, target float64 }{{0.02, -23}, {0.5, -23}, {0.1, -16}, {0.3, -30}} {
		lufs, peak, _ := level(t, c.target, 20, tone(c.amplitude))
		assert.InDelta(t, c.target, lufs, 0.3, "%+v", c)
		assert.LessOrEqual(t, peak, Ceiling+0.05)
	}
	_, _, gain := level(t, -23, 4, func(int) (float64, float64) { return 0, 0 })
	assert.Zero(t, gain, "silence is not raised")
	_, _, gain = level(t, -10, 20, tone(0.0015))
	assert.InDelta(t, mostGain, gain, 0.01, "the gain has a bound")
}

// TestTruePeaksAreLimited: quiet noise with bursts, and tones whose peaks lie between samples, asked for louder than
// there is room.
func TestTruePeaksAreLimited(t *testing.T) {
	random := rand.New(rand.NewSource(3))
	for name, sample := range map[string]func(i int) (float64, float64){
		"bursts": func(i int) (float64, float64) {
			v := 0.03 * (random.Float64()*2 - 1)
			if i%rate < 400 {
				v *= 30
			}
			return v, -v
		},
		"between the samples": func(i int) (float64, float64) { // a quarter of the rate, 45 degrees off: 3 dB above its samples
			v := 0.69 * math.Sin(2*math.Pi*float64(i)/4+math.Pi/4)
			return v, v
		},
		"steps": func(i int) (float64, float64) {
			v := 0.2
			if i/4000%2 == 0 {
				v = 0.9
			}
			return v * math.Sin(2*math.Pi*200*float64(i)/rate), v * math.Sin(2*math.Pi*3100*float64(i)/rate)
		},
	} {
		_, peak, _ := level(t, -8, 8, sample)
		assert.LessOrEqual(t, peak, Ceiling+0.05, name)
	}
}

func BenchmarkLeveller(b *testing.B) {
	l := New(-23, rate, 2)
	l.Measured(-23)
	pcm := make([]int16, 2*rate)
	for i := range pcm {
		pcm[i] = int16(i * 77)
	}
	b.ReportAllocs()
	for b.Loop() { // a second of stereo
		l.Process(pcm)
	}
}
