package transcode

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"metaplasis/internal/core/media"
)

// TestCatchingUpLeavesNothingOut: a worker that begins behind and catches up by itself drops nothing; one that does not get nearer does.
func TestCatchingUpLeavesNothingOut(t *testing.T) {
	const frame = media.VideoTimescale / 30
	g := New(nil)
	pts, lag := int64(frame), int64(3*media.VideoTimescale)
	for ; lag > lagLow; lag -= frame * 2 { // two seconds nearer each second
		g.stats.lag.Store(lag)
		assert.False(t, g.drop(pts), "%d ms behind", lag/90)
		pts += frame
	}
	assert.Zero(t, g.level)
	dropped := 0
	for range 90 { // as far behind for three seconds
		g.stats.lag.Store(2 * media.VideoTimescale)
		if g.drop(pts) {
			dropped++
		}
		pts += frame
	}
	assert.Greater(t, g.level, 2)
	assert.Positive(t, dropped)
}
