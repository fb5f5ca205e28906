package ladder

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/internal/core/media"
)

func source(w, h int, sar media.Rational) *media.Track {
	return &media.Track{Kind: media.Video, Width: w, Height: h, SAR: sar, FrameRate: media.Rational{Num: 30, Den: 1}}
}

var square = media.Rational{Num: 1, Den: 1}

func TestPlanNeverEnlargesAndKeepsTheShape(t *testing.T) {
	for name, c := range map[string]struct {
		source *media.Track
		names  []string
		sizes  [][2]int
	}{
		"1080p":            {source(1920, 1080, square), []string{"source", "720p", "480p", "360p"}, [][2]int{{1280, 720}, {854, 480}, {640, 360}}},
		"portrait":         {source(1080, 1920, square), []string{"source", "720p", "480p", "360p"}, [][2]int{{720, 1280}, {480, 854}, {360, 640}}},
		"wide samples":     {source(720, 576, media.Rational{Num: 16, Den: 11}), []string{"source", "480p", "360p", "240p"}, [][2]int{{874, 480}, {654, 360}, {436, 240}}},
		"odd and small":    {source(425, 239, square), []string{"source"}, nil},
		"a square picture": {source(600, 600, square), []string{"source", "480p", "360p", "240p"}, [][2]int{{480, 480}, {360, 360}, {240, 240}}},
		"cut to 2.39 to 1": {source(1920, 804, square), []string{"source", "720p", "480p", "360p"}, [][2]int{{1720, 720}, {1146, 480}, {860, 360}}},
	} {
		rungs := Default(c.source, nil)
		var names []string
		for i, r := range rungs {
			names = append(names, r.Name)
			if i > 0 && i <= len(c.sizes) {
				w, h := r.Size(c.source)
				assert.Equal(t, c.sizes[i-1], [2]int{w, h}, name)
				assert.Equal(t, square, r.SAR(c.source), name)
			}
		}
		assert.Equal(t, c.names, names, name)
		assert.Empty(t, Check(rungs), name)
	}
	assert.Len(t, Default(nil, nil), 1)
	assert.InDelta(t, 4_500_000, Bitrate(1920, 1080, media.Rational{Num: 30, Den: 1}), 100_000)
}

func TestSizesFollowTheSource(t *testing.T) {
	hd := source(1280, 720, square)
	w, h := Rung{Height: 1080}.Size(hd)
	assert.Equal(t, [2]int{1280, 720}, [2]int{w, h}, "never enlarged")
	stretched := Rung{Width: 720, Height: 480}
	assert.Equal(t, media.Rational{Num: 32, Den: 27}, stretched.SAR(hd), "both sides given: the samples make the shape")
	w, h = Rung{Width: 640}.Size(source(853, 479, square))
	assert.Equal(t, [2]int{640, 360}, [2]int{w, h})
}

func TestCheckNamesEveryProblem(t *testing.T) {
	got := Check([]Rung{
		{Name: "Big One", On: true, Height: 721, Bitrate: 10},
		{Name: "a", On: true, Source: true},
		{Name: "a", On: true, Source: true, AudioBitrate: 5},
		{Name: "audio", Height: 360, Bitrate: 500_000, Peak: 400_000, Effort: 12, Buffer: 5},
		{Name: "none", Bitrate: 500_000},
	})
	var fields []string
	for _, p := range got {
		fields = append(fields, p.Field)
	}
	assert.ElementsMatch(t, []string{
		"rungs[0].name", "rungs[0].height", "rungs[0].bitrate", "rungs[2].name", "rungs[2].audioBitrate", "rungs[2].source",
		"rungs[3].name", "rungs[3].peak", "rungs[3].effort", "rungs[3].buffer", "rungs[4].height",
	}, fields)
	assert.Contains(t, Check([]Rung{{Name: "x", Source: true}})[0].Text, "every rung is off")
	assert.Empty(t, Check(nil))
}

func TestMemoryFollowsFromTheSettings(t *testing.T) {
	rungs := []Rung{{Name: "source", On: true, Source: true}, {Name: "360p", On: true, Height: 360, Bitrate: 800_000}, {Name: "off", Height: 240, Bitrate: 90_000_000}}
	// 13 retained segments and an open one of 2 s: source 4 Mbit/s, 360p peak 0.96, one audio at most 0.32.
	assert.EqualValues(t, 1000+14*2*(4_000_000+960_000+320_000)/8, memoryOf(rungs, 4_000_000, 2000, 13, 1000))
}

// TestNamesOfSoundsAreTaken: a rung may not have the address of an audio track.
func TestNamesOfSoundsAreTaken(t *testing.T) {
	for _, name := range []string{"audio", "audio-64k", "audio-fr", "audio-track-2"} {
		problems := Check([]Rung{{Name: name, On: true, Height: 360, Bitrate: 500_000, Effort: 1}})
		if assert.NotEmpty(t, problems, name) {
			assert.Contains(t, problems[0].Text, "is taken by the channel's audio", name)
		}
	}
	assert.Empty(t, Check([]Rung{{Name: "audience", On: true, Height: 360, Bitrate: 500_000, Effort: 1}}))
}

func TestRatesAreRead(t *testing.T) {
	thirty := media.Rational{Num: 30, Den: 1}
	for text, want := range map[string]media.Rational{"": thirty, "half": {Num: 15, Den: 1}, "25": {Num: 25, Den: 1}, "29.97": {Num: 30000, Den: 1001},
		"24000/1001": {Num: 24000, Den: 1001}, "60": thirty} {
		r, err := ParseRate(text)
		require.NoError(t, err, text)
		assert.Equal(t, want, r.Of(thirty), text)
		assert.Equal(t, want != thirty, r.Other(thirty), text)
	}
	r, _ := ParseRate("25")
	assert.Equal(t, media.Rational{Num: 25, Den: 1}, r.Of(media.Rational{}), "of a source whose rate varies")
	for _, bad := range []string{"third", "0", "-5", "121", "1/0", "30/x", "1000000/1", "NaN"} {
		_, err := ParseRate(bad)
		assert.ErrorContains(t, err, "expected nothing for the source's rate", bad)
	}
}

func TestSoundsHaveNamesOfTheirOwn(t *testing.T) {
	for want, r := range map[string]Rung{
		"audio": {}, "audio-96k": {AudioBitrate: 96_000, AudioCodec: media.AAC}, "audio-opus-64k-mono": {AudioBitrate: 64_000, AudioCodec: media.Opus, AudioChannels: 1},
		"audio-96k-stereo": {AudioBitrate: 96_000, AudioChannels: 2},
	} {
		assert.Equal(t, want, r.AudioName())
		assert.True(t, IsAudioName(want))
	}
	problems := Check([]Rung{{Name: "a", On: true, Height: 90, Bitrate: 100_000, AudioCodec: media.MP3, AudioChannels: 6, FrameRate: "fast"}})
	var fields []string
	for _, p := range problems {
		fields = append(fields, p.Field)
	}
	assert.Equal(t, []string{"rungs[0].audioCodec", "rungs[0].audioChannels", "rungs[0].audioBitrate", "rungs[0].frameRate"}, fields)
}

func TestLimitsKeepSegmentsBelowThePeak(t *testing.T) {
	for _, r := range []Rung{
		{Bitrate: 1_200_000}, {Bitrate: 1_200_000, Peak: 1_200_000}, {Bitrate: 1_000_000, Peak: 3_000_000}, {Bitrate: 300_000, Buffer: 5000},
		{Bitrate: 50_000, Peak: 55_000, Buffer: 100},
	} {
		for _, segment := range []int64{500, 2000, 10_000} {
			l := r.Limits(segment)
			peak := r.WithDefaults().Peak
			assert.LessOrEqual(t, l.Rate*(segment+int64(l.Buffer))/segment, peak, "%+v", l)
			assert.LessOrEqual(t, l.Bitrate, l.Rate)
			assert.LessOrEqual(t, l.Bitrate, r.Bitrate)
			assert.Greater(t, l.Bitrate, r.Bitrate*3/4)
			assert.GreaterOrEqual(t, l.Buffer, shortestBuffer)
		}
	}
	assert.Equal(t, 1000, Rung{Bitrate: 1_000_000, Peak: 3_000_000}.Limits(2000).Buffer, "there is room for what was asked")
}

func TestPicturesThatBrowsersDoNotPlayAreCodedAnew(t *testing.T) {
	for codec, passes := range map[media.Codec]bool{media.H264: true, media.HEVC: true, media.VP9: true, media.AV1: true, media.MPEG2: false, media.VP8: false, media.RawVideo: false} {
		top := Default(&media.Track{Kind: media.Video, Codec: codec, Width: 720, Height: 576, SAR: media.Rational{Num: 64, Den: 45}}, nil)[0]
		assert.Equal(t, passes, top.Source, codec)
		if !passes {
			assert.Equal(t, []any{"576p", 1024, 576}, []any{top.Name, top.Width, top.Height}, codec)
		}
	}
	assert.True(t, Default(&media.Track{Kind: media.Video, Codec: media.MPEG2, Width: 720, Height: 576, Undecodable: "this test"}, nil)[0].Source)
}

func TestSoundThatBrowsersDoNotPlayIsCodedAnew(t *testing.T) {
	video := &media.Track{Kind: media.Video, Codec: media.H264, Width: 1280, Height: 720}
	for codec, coded := range map[media.Codec]bool{media.AAC: false, media.Opus: false, media.AC3: true, media.PCM: true, media.EAC3: false /* no decoder */} {
		sound := &media.Track{Kind: media.Audio, Codec: codec}
		if codec == media.EAC3 {
			sound.Undecodable = "E-AC-3"
		}
		for _, r := range Default(video, sound) {
			assert.Equal(t, coded, r.AudioBitrate > 0, "%s of %s", r.Name, codec)
		}
	}
}
