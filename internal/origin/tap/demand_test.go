package tap

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"metaplasis/internal/core/media"
	"metaplasis/internal/onward"
	"metaplasis/internal/origin/layout"
	"metaplasis/internal/origin/run"
)

// Who can take VP8 alone has nothing encoded, since it could not be sent it.
func TestNothingIsEncodedForThoseWhoCannotTakeIt(t *testing.T) {
	r := &run.Run{Options: run.Options{Source: layout.Source{Video: &media.Track{Kind: media.Video, Codec: media.HEVC}}}}
	var d Demand
	assert.False(t, d.Want(r, &onward.Real{Video: []media.Codec{media.VP8}}, Lines{}))
	assert.False(t, d.Video)
	assert.True(t, d.Want(r, &onward.Real{Video: []media.Codec{media.H264}}, Lines{}))
	assert.True(t, d.Video)
	assert.False(t, d.Want(r, &onward.Real{Video: []media.Codec{media.H264}}, Lines{}), "it is made already")
	d.Hold(&onward.Real{Video: []media.Codec{media.H264}})
	assert.False(t, d.Expire(), "somebody needs it")
}
