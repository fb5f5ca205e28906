package tags

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/internal/core/amf"
	"metaplasis/internal/core/flv"
	"metaplasis/internal/core/media"
)

// line notes what is written.
type line struct {
	metadata int
	bodies   []flv.Body
	stamps   []uint32
}

func (l *line) Metadata(amf.ECMAArray) { l.metadata++ }

func (l *line) Media(kind uint8, at uint32, b []byte) {
	_ = flv.Bodies(kind, b, func(body *flv.Body) error {
		l.bodies, l.stamps = append(l.bodies, *body), append(l.stamps, at)
		return nil
	})
}

func TestATrackThatComesLater(t *testing.T) {
	l := &line{}
	w := New(l)
	video := media.Track{ID: 1, Kind: media.Video, Codec: media.H264, Clock: media.Clock{Scale: 90000}, Timescale: 90000, Config: []byte{1, 66, 0, 30, 255, 225}}
	audio := media.Track{ID: 2, Kind: media.Audio, Codec: media.AAC, Clock: media.Clock{Scale: 48000}, Timescale: 48000, Config: []byte{0x11, 0x90}, SampleRate: 48000, Channels: 2}
	w.Track(video)
	w.Unit(1, 0, 0, true, []byte{0, 0, 0, 1, 0x65})
	w.Track(audio)
	w.Unit(2, 48000, 0, true, []byte{1, 2, 3})
	w.Unit(2, 49024, 0, true, []byte{1, 2, 3})
	video.Config = []byte{1, 77, 0, 31, 255, 225}
	w.Track(video) // another picture size from now on
	w.Unit(1, 180000, 0, true, []byte{0, 0, 0, 1, 0x65})
	require.NoError(t, w.Err())
	assert.Equal(t, 1, l.metadata)
	var configs []bool
	for _, b := range l.bodies {
		configs = append(configs, b.Config)
	}
	assert.Equal(t, []bool{true, false, true, false, false, true, false}, configs)
	assert.Equal(t, []uint32{0, 0, 1000, 1000, 1021, 2000, 2000}, l.stamps)
	assert.Equal(t, video.Config, l.bodies[5].Data)

	w.Track(media.Track{ID: 3, Kind: media.Video, Codec: media.MPEG2, Timescale: 90000})
	var unsupported *media.UnsupportedError
	require.ErrorAs(t, w.Err(), &unsupported)
}
