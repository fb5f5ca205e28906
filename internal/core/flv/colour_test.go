package flv

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/internal/core/amf"
	"metaplasis/internal/core/media"
)

func TestColourInfo(t *testing.T) {
	read := func(values ...any) (out Body) {
		b := append([]byte{0x80 | 1<<4 | 4, 'h', 'v', 'c', '1'}, amf.Append(nil, values...)...)
		require.NoError(t, Bodies(TagVideo, b, func(b *Body) error { out = *b; return nil }))
		return out
	}
	b := read("colorInfo", amf.Object{
		{Name: "colorConfig", Value: amf.Object{{Name: "bitDepth", Value: 10.0}, {Name: "colorPrimaries", Value: 9.0},
			{Name: "transferCharacteristics", Value: 16.0}, {Name: "matrixCoefficients", Value: 9.0}}},
		{Name: "hdrCll", Value: amf.Object{{Name: "maxFall", Value: 400.0}, {Name: "maxCLL", Value: 1000.0}}},
		{Name: "hdrMdcv", Value: amf.Object{{Name: "redX", Value: 0.68}, {Name: "redY", Value: 0.32}, {Name: "maxLuminance", Value: 1000.0},
			{Name: "minLuminance", Value: 0.005}}},
	})
	assert.Equal(t, &media.Colour{Primaries: 9, Transfer: 16, Matrix: 9}, b.Colour)
	assert.Equal(t, "PQ", b.Colour.Range())
	assert.Equal(t, &media.Light{MaxContent: 1000, MaxAverage: 400, Display: [8]int{34000, 16000}, Brightest: 10_000_000, Darkest: 50}, b.Light)
	assert.Empty(t, b.Data)
	for _, odd := range [][]any{{"colorInfo"}, {"other", amf.Object{}}, {"colorInfo", 3.0}, {"colorInfo", amf.Object{{Name: "hdrCll", Value: "x"}}}} {
		b := read(odd...)
		assert.True(t, b.Colour == nil && b.Light == nil, "%v", odd)
	}
}
