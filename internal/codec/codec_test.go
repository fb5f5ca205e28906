package codec

import (
	"cmp"
	"math/rand"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/internal/core/coding"
	"metaplasis/internal/core/ladder"
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
	_, err := NewPictureEncoder(media.VP8, PictureSettings{})
	assert.EqualError(t, err, "there is no encoder of VP8 here")
	_, err = NewSoundEncoder(media.MP3, 48000, 2, 64_000)
	assert.Error(t, err)
	_, err = NewSoundEncoder(media.Opus, 44100, 2, 64_000)
	assert.ErrorContains(t, err, "expected 48000")
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

// TestSegmentsStayBelowThePeak: a minute of what is hard to code, with moments that are not, in segments of two
// seconds: none takes more than the rung's peak, and the mean is what was asked for.
func TestSegmentsStayBelowThePeak(t *testing.T) {
	const fps, segment = 15, 2
	for _, rung := range []ladder.Rung{
		{Bitrate: 200_000, Effort: 1}, {Bitrate: 200_000, Effort: 5}, {Bitrate: 200_000, Peak: 400_000, Effort: 1}, {Bitrate: 200_000, Effort: 1, Codec: media.VP9}, {Bitrate: 200_000, Effort: 1, Codec: media.HEVC},
		{Bitrate: 200_000, Effort: 1, Codec: media.AV1}, {Bitrate: 200_000, Effort: 1, Quality: 90}, {Bitrate: 200_000, Effort: 1, Quality: 90, Codec: media.HEVC},
	} {
		l := rung.Limits(segment * 1000)
		e, err := NewPictureEncoder(cmp.Or(rung.Codec, media.H264), PictureSettings{Width: 160, Height: 90, SAR: media.Rational{Num: 1, Den: 1}, FrameRate: media.Rational{Num: fps, Den: 1},
			Bitrate: l.Bitrate, Peak: l.Rate, Buffer: l.Buffer, Effort: rung.Effort, Quality: rung.Quality})
		require.NoError(t, err)
		random := rand.New(rand.NewSource(1))
		pic := picture.New(160, 90)
		bytes := map[int64]int{}
		take := func(p *picture.Picture, n int64) {
			u, err := e.Encode(p, n*media.VideoTimescale/fps, n%(segment*fps) == 0)
			require.NoError(t, err)
			if u != nil {
				bytes[u.PTS/(segment*media.VideoTimescale)] += len(u.Data)
			}
		}
		for n := range int64(60 * fps) {
			if n/fps%10 < 7 { // else it stands still
				for i := range pic.Y {
					pic.Y[i] = byte(64 + random.Intn(128))
				}
			}
			take(pic, n)
		}
		for e.Waiting() > 0 {
			take(nil, 1)
		}
		e.Close()
		require.Len(t, bytes, 60/segment)
		total := 0
		for at, b := range bytes {
			total += b
			assert.LessOrEqual(t, int64(b)*8/segment, rung.WithDefaults().Peak, "%+v, segment %d", rung, at)
		}
		assert.InDelta(t, 0.85*float64(l.Bitrate), float64(total*8/60), 0.35*float64(l.Bitrate), "%+v", rung)
	}
}

// TestEncodersDoAsTheyAreTold: profile, level and pictures that refer to later ones show in what comes out; a higher
// quality takes more bits.
func TestEncodersDoAsTheyAreTold(t *testing.T) {
	asked := PictureSettings{Width: 320, Height: 180, Bitrate: 900_000, Peak: 2_000_000, Buffer: 1000, Effort: 3, SAR: media.Rational{Num: 1, Den: 1},
		FrameRate: media.Rational{Num: 25, Den: 1}}
	code := func(c media.Codec, s PictureSettings) (name string, size int, reordered bool) {
		e, err := NewPictureEncoder(c, s)
		require.NoError(t, err)
		defer e.Close()
		track, err := e.Track()
		require.NoError(t, err)
		pic := picture.New(s.Width, s.Height)
		random := rand.New(rand.NewSource(2))
		for i := range int64(50) {
			for n := range 2000 {
				pic.Y[(int(i)*997+n*13)%len(pic.Y)] = byte(random.Intn(255))
			}
			u, err := e.Encode(pic, i*3600, i == 0)
			require.NoError(t, err)
			for u != nil {
				size += len(u.Data)
				reordered = reordered || u.PTS != u.DTS && i > 10
				if u = nil; i == 49 && e.Waiting() > 0 {
					u, _ = e.Encode(nil, 0, false)
				}
			}
		}
		return track.CodecName, size, reordered
	}
	with := func(change func(*PictureSettings)) PictureSettings {
		s := asked
		change(&s)
		return s
	}
	name, _, _ := code(media.H264, with(func(s *PictureSettings) { s.Profile, s.Level = "baseline", "3.1" }))
	assert.Regexp(t, "avc1.42..1f", name)
	name, _, reordered := code(media.H264, with(func(s *PictureSettings) { s.Profile, s.Level, s.BFrames = "main", "4", 2 }))
	assert.Regexp(t, "avc1.4d..28", name)
	assert.True(t, reordered)
	_, _, reordered = code(media.H264, with(func(s *PictureSettings) { s.Effort, s.BFrames = 6, -1 }))
	assert.False(t, reordered)
	name, _, _ = code(media.HEVC, with(func(s *PictureSettings) { s.Level = "4.1" }))
	assert.Contains(t, name, ".L123.")
	for _, c := range []media.Codec{media.H264, media.HEVC, media.VP9, media.AV1} {
		_, small, _ := code(c, with(func(s *PictureSettings) { s.Quality = 20 }))
		_, large, _ := code(c, with(func(s *PictureSettings) { s.Quality = 80 }))
		assert.Greater(t, large, small*5/4, c)
	}
	for _, content := range []ladder.Content{ladder.Screen, ladder.Drawn} {
		for c := range pictureEncoders {
			_, size, _ := code(c, with(func(s *PictureSettings) { s.Content = content }))
			assert.Positive(t, size)
		}
	}
}
