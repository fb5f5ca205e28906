package webrtc

import (
	"testing"
	"time"

	"github.com/pion/rtp"
	"github.com/stretchr/testify/assert"
)

type counted struct{ packets, bytes int }

func (c *counted) WriteRTP(_ *rtp.Header, payload []byte) (int, error) {
	c.packets++
	c.bytes += len(payload)
	return len(payload), nil
}

func (c *counted) Write(b []byte) (int, error) { return len(b), nil }

// However often a viewer asks for packets again, no more is sent again than half of what is sent, and a packet no sooner than the one
// before may have come.
func TestRepeatingHasABudget(t *testing.T) {
	out := &counted{}
	track := &viewerTrack{writer: out}
	payload := make([]byte, 1000)
	now := time.Now()
	for n := range 600 {
		track.write(uint32(n*3000), true, payload)
		now = now.Add(time.Millisecond)
		for range 20 { // all that are there, again and again
			track.repeat(track.sequence, now)
			track.repeat(track.sequence-5, now)
			track.repeat(track.sequence-500, now)
		}
	}
	again := out.packets - 600
	assert.Greater(t, again, 100, "what is missing is sent again")
	assert.LessOrEqual(t, again*1000, 600*1000/againShare+maxAgain)

	out.packets = 0
	assert.True(t, track.repeat(track.sequence-7, now.Add(time.Hour)) || track.again < 1000)
	assert.False(t, track.repeat(track.sequence-7, now.Add(time.Hour)), "it is on its way")
	assert.False(t, track.repeat(track.sequence+7, now), "it was never sent")
}
