package delivery

import (
	"bytes"
	"context"
	"fmt"
	"image"
	"image/color"
	"image/jpeg"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/internal/core/dash"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/segment"
	"metaplasis/internal/origin/publish"
	"metaplasis/internal/present"
)

// grey is a small picture of one brightness.
func grey(level uint8) []byte {
	img := image.NewGray(image.Rect(0, 0, 32, 18))
	for i := range img.Pix {
		img.Pix[i] = level
	}
	var b bytes.Buffer
	_ = jpeg.Encode(&b, img, nil) // memory does not fail
	return b.Bytes()
}

// TestSmallPicturesLieManyInOne: a manifest of what lies back names tiles, and each cell holds the picture of its time.
func TestSmallPicturesLieManyInOne(t *testing.T) {
	s, st := newPast(t, 150)
	span, err := st.Span(context.Background(), "booth", time.Now().Add(-2*time.Hour), time.Time{})
	require.NoError(t, err)
	first := span.Renditions[0].List[0]
	h := &segment.Header{Name: "header-stills", Track: media.Track{Kind: media.Data, Timescale: media.VideoTimescale}}
	for n := range int64(30) { // one each five seconds, each a little brighter
		b := grey(uint8(10 + 8*n))
		at := first.Start + n*5*media.VideoTimescale
		st.Keep("booth", publish.Stills, "", span.Epoch, &segment.Segment{MSN: first.MSN + uint64(n), Prefix: first.Prefix, Start: at, Duration: 2 * media.VideoTimescale, Header: h, ETag: segment.Tag(uint64(n), h),
			Size: int64(len(b)), Blob: segment.Memory{b}, Units: 1, FirstPTS: at, TrackDuration: 2 * media.VideoTimescale})
	}
	s.now = func() time.Time { return time.Now().Add(10 * time.Minute) }
	w := ask(s, "/booth/index.mpd?from="+span.Begin().UTC().Format(timeForm))
	require.Equal(t, 200, w.Code, w.Body)
	var m dash.MPD
	require.NoError(t, m.Unmarshal(w.Body.Bytes()))
	set := m.Periods[0].Sets[len(m.Periods[0].Sets)-1]
	require.Equal(t, "image", set.ContentType, w.Body.String())
	r := set.Representations[0]
	assert.Equal(t, []dash.Descriptor{{Scheme: present.TileScheme, Value: "5x5"}}, r.Essential)
	base := 0
	_, err = fmt.Sscanf(r.Template.Media, "tiles-%d-$Number$.jpg", &base)
	require.NoError(t, err)
	assert.EqualValues(t, first.Start, base, "it begins with the period")
	tile := ask(s, fmt.Sprintf("/booth/tiles-%d-0.jpg", base))
	require.Equal(t, 200, tile.Code, tile.Body)
	img, err := jpeg.Decode(tile.Body)
	require.NoError(t, err)
	assert.Equal(t, image.Rect(0, 0, r.Width, r.Height), img.Bounds())
	for cell := range 25 {
		x, y := cell%5*present.TileWidth+present.TileWidth/2, cell/5*present.TileHeight+present.TileHeight/2
		level := color.GrayModel.Convert(img.At(x, y)).(color.Gray).Y
		assert.InDelta(t, 10+8*cell, int(level), 5, "cell %d", cell)
	}
	assert.Equal(t, tile.Header().Get("Etag"), ask(s, fmt.Sprintf("/booth/tiles-%d-0.jpg", base)).Header().Get("Etag"))
	for _, wrong := range []string{"tiles-x-0.jpg", "tiles-0.jpg", "tiles-0--1.jpg", "tiles-9000000000000000-0.jpg", fmt.Sprintf("tiles-%d-9.jpg", base)} {
		assert.Equal(t, 404, ask(s, "/booth/"+wrong).Code, wrong)
	}
}
