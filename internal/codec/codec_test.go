package codec

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/internal/core/coding"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/picture"
)

// TestTheTableSaysWhatThereIs: the origin, which runs none of this, knows from the table of codecs what
// a worker can decode and encode.
func TestTheTableSaysWhatThereIs(t *testing.T) {
	for _, c := range []struct {
		codecs []media.Codec
		there  func(media.Codec) bool
		count  int
	}{
		{coding.Encoded(media.Video), func(c media.Codec) bool { return pictureEncoders[c] != nil }, len(pictureEncoders)},
		{coding.Encoded(media.Audio), func(c media.Codec) bool { return soundEncoders[c] != nil }, len(soundEncoders)},
		{coding.Decoded(media.Video), func(c media.Codec) bool { return pictureDecoders[c] != nil }, len(pictureDecoders)},
		{coding.Decoded(media.Audio), func(c media.Codec) bool { return soundDecoders[c] != nil }, len(soundDecoders)},
	} {
		assert.Len(t, c.codecs, c.count)
		for _, id := range c.codecs {
			assert.True(t, c.there(id), id)
		}
	}
}

func TestWhatIsNotThereIsRefused(t *testing.T) {
	_, err := NewPictureEncoder(media.HEVC, PictureSettings{})
	assert.EqualError(t, err, "there is no encoder of HEVC here")
	_, err = NewSoundEncoder(media.MP3, 48000, 2, 64_000)
	assert.Error(t, err)
	_, err = NewSoundEncoder(media.Opus, 44100, 2, 64_000)
	assert.ErrorContains(t, err, "expected 48000")
	_, err = NewPictureDecoder(&media.Track{Codec: media.MPEG2})
	assert.Error(t, err)
	_, err = NewSoundDecoder(&media.Track{Codec: media.EAC3})
	assert.Error(t, err)
}

// TestEveryEncoderKeepsTheRules: a track that describes itself, one unit a picture with its time, and
// keyframes where they are asked for and nowhere else.
func TestEveryEncoderKeepsTheRules(t *testing.T) {
	for c := range pictureEncoders {
		e, err := NewPictureEncoder(c, PictureSettings{Width: 160, Height: 90, Bitrate: 200_000, Peak: 250_000, Buffer: 1000, Effort: 1,
			SAR: media.Rational{Num: 1, Den: 1}, FrameRate: media.Rational{Num: 25, Den: 1}})
		require.NoError(t, err, c)
		track, err := e.Track()
		require.NoError(t, err, c)
		assert.Equal(t, []any{c, 160, 90, int64(media.VideoTimescale)}, []any{track.Codec, track.Width, track.Height, track.Timescale})
		assert.NotEmpty(t, track.CodecName)
		pic := picture.New(160, 90)
		var times []int64
		take := func(p *picture.Picture, i int64) {
			u, err := e.Encode(p, i*3600, i%10 == 0)
			require.NoError(t, err, c)
			if u == nil {
				return
			}
			times = append(times, u.PTS)
			assert.Equal(t, u.PTS%36000 == 0, u.Key, "%s at %d", c, u.PTS)
			assert.Equal(t, u.Key, coding.Look(c, u.Data).Random, "%s at %d", c, u.PTS)
		}
		for i := range int64(40) {
			pic.Y[i*7] = byte(i)
			take(pic, i)
		}
		for e.Waiting() > 0 {
			take(nil, 1)
		}
		assert.Len(t, times, 40, c)
		e.Close()
		_, err = NewPictureEncoder(c, PictureSettings{Effort: 12})
		assert.Error(t, err, c)
	}
}
