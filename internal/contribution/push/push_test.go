package push

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestNamesOfTracks(t *testing.T) {
	for name, want := range map[string]string{
		"Streams(audio-1.cmfa)":   "audio-1.cmfa",
		"video/seg-17.m4s":        "video/",
		"video/init.mp4":          "video/",
		"camera-00017.m4s":        "camera",
		"Streams(a b).cmfv":       "a b).cmfv",
		"harbour.cmfv":            "harbour.cmfv",
		"1.m4s":                   "",
		"sound/eng/chunk_0009.m4": "sound/eng/",
	} {
		assert.Equal(t, want, trackName(name), name)
	}
}

func TestTracksAreOrderedByTheirNumbers(t *testing.T) {
	// The second sound's request came first, a track without a number before all.
	none, second, first, long := idOf("sound", 0), idOf("audio-257.cmfa", 1), idOf("audio-1.cmfa", 2), idOf("a/99999999999999999999/", 3)
	assert.Less(t, first, second)
	assert.Less(t, second, none)
	assert.Less(t, none, long)
	assert.NotEqual(t, idOf("left-1", 4), idOf("right-1", 5))
	assert.Less(t, idOf("1", 0), idOf("2", 0))
}
