package whip

import (
	"testing"
	"time"

	"github.com/pion/rtp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/pion/webrtc/v4"

	"metaplasis/internal/contribution"
	"metaplasis/internal/contribution/rtpmedia"
)

// TestTheLargestSizeIsReceived: of several sizes of a picture the one of which most comes, another one while it does not
// come, and it again once it is steady.
func TestTheLargestSizeIsReceived(t *testing.T) {
	m, err := describe(webrtc.RTPCodecParameters{PayloadType: 96, RTPCodecCapability: webrtc.RTPCodecCapability{MimeType: "video/VP8", ClockRate: 90000}})
	require.NoError(t, err)
	s := rtpmedia.NewSession(func() (contribution.Feed, error) { return nil, assert.AnError })
	track, err := s.Add(m, time.Second)
	require.NoError(t, err)
	l := &layers{track: track}
	now := time.Now()
	var sequence uint16
	send := func(d time.Duration, sizes map[uint32]int) (changes int) {
		for end := now.Add(d); now.Before(end); now = now.Add(33 * time.Millisecond) {
			for _, ssrc := range []uint32{1, 2, 3} {
				if n := sizes[ssrc]; n > 0 {
					sequence++
					if l.take(&rtp.Packet{Header: rtp.Header{SSRC: ssrc, PayloadType: 96, SequenceNumber: sequence}, Payload: make([]byte, n)}, now) {
						changes++
					}
				}
			}
		}
		return changes
	}
	all := map[uint32]int{1: 100, 2: 300, 3: 900}
	assert.Zero(t, send(measureLayers-100*time.Millisecond, all), "they are looked at first")
	assert.Equal(t, 1, send(time.Second, all))
	assert.EqualValues(t, 3, l.chosen)
	assert.Equal(t, 1, send(3*time.Second, map[uint32]int{1: 100, 2: 300}), "it is too much for the line")
	assert.EqualValues(t, 2, l.chosen)
	assert.Zero(t, send(layerSteady-time.Second, all), "it came back")
	assert.EqualValues(t, 2, l.chosen)
	assert.Equal(t, 1, send(2*time.Second, all))
	assert.EqualValues(t, 3, l.chosen)
	assert.Zero(t, send(5*time.Second, map[uint32]int{1: 100, 2: 900, 3: 900}), "one that is about as large changes nothing")
	for ssrc := range uint32(50) {
		l.take(&rtp.Packet{Header: rtp.Header{SSRC: 100 + ssrc, PayloadType: 96}, Payload: make([]byte, 10)}, now)
	}
	assert.Len(t, l.list, maxLayers)
}
