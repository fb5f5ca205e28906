package fan

import (
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"

	"metaplasis/internal/core/media"
	"metaplasis/internal/onward"
)

// TestABetterRungIsTriedEverLater: each time that a better rung is soon given up, the next try waits twice as long.
func TestABetterRungIsTriedEverLater(t *testing.T) {
	now := time.Unix(0, 0)
	var s Steps
	s.Begin(now, 4*time.Second)
	assert.False(t, s.Settled(now.Add(2*time.Second)))
	var waits []time.Duration
	for range 8 {
		begun := now
		for !s.MayClimb(now) {
			now = now.Add(time.Second)
		}
		waits = append(waits, now.Sub(begun))
		s.Climb(now)
		s.Changed(now)
		for !s.Settled(now) {
			now = now.Add(time.Second)
		}
		s.Sink(now) // too much
		s.Changed(now)
	}
	second := time.Second
	assert.Equal(t, []time.Duration{5 * second, 9 * second, 17 * second, 33 * second, 65 * second, 121 * second, 121 * second, 121 * second}, waits)
	assert.Equal(t, 16, s.Changes)
}

// counted counts what is asked of a channel.
type counted struct {
	onward.Channels
	asked int
}

func (c *counted) Offers(_ string, r *onward.Real) []onward.Offer {
	c.asked++
	if r == nil {
		return []onward.Offer{{Rung: "720p"}, {Rung: "360p"}}
	}
	return []onward.Offer{{Rung: "360p"}}
}

func (c *counted) Epoch(string) time.Time { return time.Unix(7, 0) }

// TestManyViewersAskOnce: what all viewers want to know is asked of the channel four times per second at most.
func TestManyViewersAskOnce(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		c := &counted{}
		p := &Pool{Channels: c}
		for range 1000 {
			assert.Len(t, p.About("pier", "").Offers, 2)
			assert.Len(t, p.About("pier", media.H264).Offers, 1)
		}
		assert.Equal(t, 2, c.asked)
		time.Sleep(time.Second)
		assert.Equal(t, time.Unix(7, 0), p.About("pier", "").Epoch)
		assert.Equal(t, 3, c.asked)
	})
}
