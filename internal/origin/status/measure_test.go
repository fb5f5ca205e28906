package status

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"metaplasis/internal/worker"
)

func TestShareOfPicturesLeftOut(t *testing.T) {
	var l Load
	now := time.Now()
	take := func(decoded, dropped, skipped int64) int64 {
		var st worker.Stats
		st.Decoded, st.Dropped, st.Skipped = decoded, dropped, skipped
		l.Take(st, now)
		now = now.Add(2 * span)
		return l.Dropping
	}
	take(0, 0, 0)
	assert.Zero(t, take(100, 0, 0))
	assert.EqualValues(t, 100, take(200, 10, 0), "thousandths")
	assert.EqualValues(t, 750, take(250, 10, 150), "most were not even decoded")
	assert.EqualValues(t, 1000, take(250, 10, 250))
}
