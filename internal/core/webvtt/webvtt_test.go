package webvtt

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"metaplasis/internal/core/media"
)

const second = media.VideoTimescale

func TestTextInTime(t *testing.T) {
	start := int64(10 * second)
	cues := []Cue{
		{Start: start, End: start + second/2, Text: "Wind 14 < 20 knots\n\n& rising"},
		{Start: start + second, End: start + 2*second, Text: "Gate closes", Top: true},
	}
	assert.Equal(t, `WEBVTT
X-TIMESTAMP-MAP=MPEGTS:900000,LOCAL:00:00:00.000

00:00:00.000 --> 00:00:00.500
Wind 14 &lt; 20 knots
&amp; rising

00:00:01.000 --> 00:00:02.000 line:10%
Gate closes
`, string(File(start, cues)))
	assert.Equal(t, "WEBVTT\nX-TIMESTAMP-MAP=MPEGTS:5,LOCAL:00:00:00.000\n", string(File(1<<33+5, nil)), "stamps have 33 bits")

	var at int64 = start
	var kinds []string
	for _, u := range Samples(start, start+3*second, cues) {
		assert.Equal(t, at, u.PTS, "without a gap")
		at += u.Duration
		kinds = append(kinds, string(u.Data[4:8]))
	}
	assert.Equal(t, start+3*second, at)
	assert.Equal(t, []string{"vttc", "vtte", "vttc", "vtte"}, kinds)
	assert.Equal(t, "\x00\x00\x00\x2b"+"vttc"+"\x00\x00\x00\x10sttgline:10%"+"\x00\x00\x00\x13paylGate closes", string(Samples(start, start+2*second, cues)[2].Data))
	assert.Len(t, Samples(0, second, nil), 1)
}
