package rtpmedia

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"metaplasis/internal/core/rtpmap"
)

// Decode times are even from the first picture on, where the stream tells how it reorders pictures and not how many there are a second.
func TestFirstDecodeTimes(t *testing.T) {
	for name, c := range map[string]struct {
		depth int
		shown []int64 // numbers of pictures as they come
	}{
		"pairs":     {1, []int64{1, 3, 2, 5, 4, 7, 6, 9, 8}},
		"runs":      {1, []int64{1, 4, 2, 3, 7, 5, 6, 10, 8, 9}},
		"a pyramid": {2, []int64{2, 6, 4, 3, 5, 10, 8, 7, 9}},
	} {
		for _, period := range []int64{1500, 3000, 3600, 9000} {
			w, order := opening{depth: c.depth}, rtpmap.Order{}
			held := 0
			for held < len(c.shown) && w.add(1000+c.shown[held]*period, []byte{1}) {
				held++
			}
			assert.Equal(t, c.depth+1, held, name)
			assert.Equal(t, period, w.period(), name)
			order.Expect(c.depth, w.period())
			last := int64(0)
			for i, n := range c.shown {
				pts := 1000 + n*period
				dts := order.Decode(pts)
				assert.LessOrEqual(t, dts, pts, name)
				if i > 0 {
					assert.Equal(t, period, dts-last, "%s, picture %d", name, i)
				}
				last = dts
			}
		}
	}
	w := opening{depth: 16}
	assert.True(t, w.add(1, make([]byte, openingBytes-1)))
	assert.False(t, w.add(2, make([]byte, 1)), "what is held is bounded")
}
