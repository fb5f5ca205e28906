package origin_test

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/internal/camera"
	"metaplasis/internal/core/hub"
	"metaplasis/internal/core/ladder"
	"metaplasis/internal/core/media"
	"metaplasis/internal/onward"
	"metaplasis/internal/settings"
)

// taken are units that a tap gave.
type taken struct {
	t     *testing.T
	tap   onward.Tap
	units []hub.Unit
}

// until reads until a condition holds.
func (x *taken) until(ok func() bool) {
	x.t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), 30*time.Second)
	defer cancel()
	var into [64]hub.Unit
	for !ok() {
		n, lost, err := x.tap.Next(ctx, into[:])
		require.NoError(x.t, err)
		require.Zero(x.t, lost.Units)
		x.units = append(x.units, into[:n]...)
	}
}

func (x *taken) runs() int {
	seen := map[uint64]bool{}
	for i := range x.units {
		seen[x.units[i].Run] = true
	}
	return len(seen)
}

// TestATapFollowsTheChannel: it waits while nothing is on air, begins with a keyframe, goes on with the next sender at one, and
// its times never go back.
func TestATapFollowsTheChannel(t *testing.T) {
	r := newRig(t)
	c := r.channel(settings.Settings{Slug: "pier", Ladder: ladder.Ladder{Rungs: []ladder.Rung{{Name: "source", On: true, Source: true}}}})
	x := &taken{t: t, tap: c.Tap(onward.Choice{})}
	defer x.tap.Close()
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Millisecond)
	_, _, err := x.tap.Next(ctx, make([]hub.Unit, 4))
	cancel()
	require.ErrorIs(t, err, context.DeadlineExceeded)
	stop := r.send(0, "pier", camera.Options{})
	x.until(func() bool { return len(x.units) > 200 })
	video, sound := x.tap.Tracks()
	require.NotNil(t, video)
	require.NotNil(t, sound)
	for name, has := range map[string]bool{"": true, "source": true, "audio": true, "nope": false} {
		assert.Equal(t, has, c.Has(name), name)
	}
	stop()
	r.eventually("nothing is on air", func() bool { video, sound := c.Runs(); return !video && !sound })
	assert.True(t, c.Has("nope"), "nobody knows what comes")
	r.send(1, "pier", camera.Options{})
	x.until(func() bool { return x.runs() > 1 })
	x.until(func() bool { return len(x.units) > 500 })
	last := map[media.Kind]int64{}
	run := uint64(0)
	kinds := map[media.Kind]bool{}
	for i := range x.units {
		u := &x.units[i]
		kinds[u.Track.Kind] = true
		require.Greater(t, u.At, last[u.Track.Kind]-1, "unit %d", i)
		last[u.Track.Kind] = u.At
		if u.Run != run && u.Track.Kind == media.Video {
			assert.True(t, u.Key, "a run begins with a keyframe")
			run = u.Run
		}
	}
	assert.Len(t, kinds, 2)
	assert.Equal(t, 2, x.runs())
	require.NoError(t, r.o.Remove("pier"))
	for err = nil; err == nil; {
		_, _, err = x.tap.Next(context.Background(), make([]hub.Unit, 64))
	}
	assert.ErrorIs(t, err, onward.ErrOver)
}
