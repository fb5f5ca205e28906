package av1_test

import (
	"testing"

	"metaplasis/internal/core/bits"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/internal/codec/av1enc"
	"metaplasis/internal/core/av1"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/picture"
)

// encoded encodes some pictures, every fourth of them a key frame.
func coded(t testing.TB) (units [][]byte, keys []bool) {
	const pictures = 9
	enc, err := av1enc.New(322, 182, media.Rational{Num: 25, Den: 1}, 200_000, 1, 4)
	require.NoError(t, err)
	defer enc.Close()
	for n := range pictures {
		require.NoError(t, enc.Send(picture.New(322, 182), int64(n)))
	}
	require.NoError(t, enc.Send(nil, 0))
	for len(units) < pictures {
		u, err := enc.Take(true)
		require.NoError(t, err)
		require.NotNil(t, u)
		units, keys = append(units, u.Data), append(keys, u.Key)
	}
	return units, keys
}

func TestUnitsAndTrack(t *testing.T) {
	units, keys := coded(t)
	assert.Equal(t, []bool{true, false, false, false, true, false, false, false, true}, keys)
	u, err := av1.ParseUnit(units[0])
	require.NoError(t, err)
	require.NotNil(t, u.Sequence)
	assert.Equal(t, []int{322, 182}, []int{u.Sequence.Width, u.Sequence.Height})
	assert.EqualValues(t, 8, u.Sequence.Depth)

	var c av1.Config
	require.NoError(t, c.Unmarshal(av1.NewConfig(u.Sequence)))
	track := c.Track()
	assert.Equal(t, []int{322, 182}, []int{track.Width, track.Height})
	assert.Regexp(t, `^av01\.0\.\d\dM\.08$`, track.CodecName)

	// Without a sequence header in the record, the first key frame tells.
	require.NoError(t, c.Unmarshal(av1.NewConfig(u.Sequence)[:4]))
	track = c.Track()
	assert.Zero(t, track.Width)
	require.NoError(t, av1.Complete(&track, units[0]))
	assert.Equal(t, 322, track.Width)
	assert.Equal(t, av1.NewConfig(u.Sequence), track.Config)
}

func TestDelimitersAreLeftOut(t *testing.T) {
	units, _ := coded(t)
	delimiter, padding := []byte{2<<3 | 2, 0}, []byte{15<<3 | 2, 2, 1, 0x80}
	u, err := av1.ParseUnit(append(append(append([]byte(nil), delimiter...), units[0]...), padding...))
	require.NoError(t, err)
	assert.Equal(t, units[0], u.Data)
	assert.True(t, u.Key)
	u, err = av1.ParseUnit(units[1])
	require.NoError(t, err)
	assert.Same(t, &units[1][0], &u.Data[0], "nothing is copied without a need")
}

func TestBad(t *testing.T) {
	_, err := av1.ParseUnit([]byte{1<<3 | 2, 200, 0})
	assert.ErrorContains(t, err, "a size of")
	_, err = av1.ParseUnit([]byte{0x80})
	assert.ErrorContains(t, err, "forbidden bit")
	_, err = av1.ParseUnit([]byte{1<<3 | 2, 1, 0})
	assert.ErrorContains(t, err, "sequence header")
	var c av1.Config
	assert.ErrorContains(t, c.Unmarshal([]byte{1, 2, 3, 4}), "begin with 81")
}

func FuzzUnit(f *testing.F) {
	bits.CatchRunaways()
	units, _ := coded(f)
	f.Add(units[0])
	f.Add(units[1])
	f.Fuzz(func(_ *testing.T, b []byte) {
		_, _ = av1.ParseUnit(b)
		var c av1.Config
		if c.Unmarshal(b) == nil {
			c.Track()
		}
	})
}
