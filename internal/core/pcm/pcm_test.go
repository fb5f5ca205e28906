package pcm

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/internal/core/media"
)

func TestFormats(t *testing.T) {
	for codec, name := range map[media.Codec]string{media.PCM: "ipcm", media.ALaw: "alaw", media.ULaw: "ulaw"} {
		f := Format{Codec: codec, Rate: 8000, Channels: 2, Bits: 16, LittleEndian: true}
		var back Format
		require.NoError(t, back.Unmarshal(codec, f.Marshal()))
		assert.Equal(t, f, back)
		track := f.Track()
		require.NoError(t, Complete(&track, make([]byte, 640)))
		assert.Equal(t, []any{name, int64(160), int64(8000)}, []any{track.CodecName, track.FrameSamples, track.Timescale})
		assert.Equal(t, []byte{1, 16}, Box(track.Config))
		assert.Error(t, Complete(&track, []byte{1, 2}))
	}
	var f Format
	assert.Error(t, f.Unmarshal(media.PCM, []byte{1}))
	assert.Error(t, f.Unmarshal(media.PCM, []byte{1, 16, 0, 0, 0, 1, 2}))
}
