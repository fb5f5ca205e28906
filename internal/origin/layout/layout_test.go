package layout

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/internal/core/ladder"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/segment"
	"metaplasis/internal/settings"
)

func video() *media.Track {
	return &media.Track{ID: 1, Kind: media.Video, Codec: media.H264, Timescale: 90000, Width: 1280, Height: 720, FrameRate: media.Rational{Num: 30, Den: 1}, CodecName: "avc1.64001f"}
}

func sound(id media.TrackID, language string) *media.Track {
	return &media.Track{ID: id, Kind: media.Audio, Codec: media.AAC, Timescale: 48000, SampleRate: 48000, Channels: 2, FrameSamples: 1024, Language: language}
}

var (
	passing = ladder.Rung{Name: "source", On: true, Source: true}
	low     = ladder.Rung{Name: "360p", On: true, Height: 360, Bitrate: 600_000, AudioBitrate: 96_000}
	ready   = ladder.Rung{Name: "small", On: true, Ready: true, Width: 640, Height: 360, Bitrate: 600_000}
	radio   = ladder.Rung{Name: "radio", On: true, AudioBitrate: 64_000}
)

// source is one with pictures and two languages.
func source(rungs ...ladder.Rung) *Source {
	return &Source{Settings: settings.Settings{Slug: "line"}.WithDefaults(), Rungs: rungs, Video: video(), Sounds: NameSounds([]*media.Track{sound(2, "en"), sound(3, "de")}),
		Failed: map[string]Failure{}, IDs: TrackIDs{}}
}

func TestRungsAreRefused(t *testing.T) {
	other := low
	other.Bitrate = 700_000
	for name, c := range map[string]struct {
		change func(*Source)
		rung   ladder.Rung
		why    string
	}{
		"it passes through":     {func(*Source) {}, passing, ""},
		"no IDR pictures":       {func(s *Source) { s.Suspended = true }, passing, "waits for the sender's IDR pictures"},
		"the others go on":      {func(s *Source) { s.Suspended = true }, low, ""},
		"nobody decodes it":     {func(s *Source) { s.Video.Undecodable = "lossless coding" }, low, "no decoder here reads lossless coding"},
		"it failed":             {func(s *Source) { s.Failed["360p"] = Failure{low, "the encoder refused it"} }, low, "the encoder refused it"},
		"it failed as it was":   {func(s *Source) { s.Failed["360p"] = Failure{low, "the encoder refused it"} }, other, ""},
		"another one failed":    {func(s *Source) { s.Failed["360p"] = Failure{low, "the encoder refused it"} }, passing, ""},
		"sound without a track": {func(s *Source) { s.Sounds = nil }, radio, "no such audio track"},
		"sound":                 {func(*Source) {}, radio, ""},
	} {
		s := source(c.rung)
		c.change(s)
		if got := s.Refused(c.rung); c.why == "" {
			assert.Empty(t, got, name)
			assert.Len(t, s.Made(), 1, name)
		} else {
			assert.Contains(t, got, c.why, name)
			assert.Empty(t, s.Made(), name)
		}
	}
	s := source(passing, low, radio)
	s.Video.Undecodable = "lossless coding"
	list := s.NotMade()
	require.Len(t, list, 1)
	assert.Equal(t, []string{"360p"}, list[0].Rungs)
}

func TestWhatIsMadeOfASource(t *testing.T) {
	small := &Layer{Track: &media.Track{ID: 4, Kind: media.Video, Codec: media.H264, Timescale: 90000, Width: 640, Height: 360}}
	for name, c := range map[string]struct {
		s       *Source
		names   []string
		encoded []string // video and audio that the worker makes
		mode    segment.Mode
	}{
		"all passes through":     {source(passing), []string{"source", "audio", "audio-de"}, nil, segment.Lead},
		"one is encoded":         {source(passing, low), []string{"source", "audio", "audio-de", "360p", "audio-96k"}, []string{"360p", "audio-96k"}, segment.Lead},
		"all is encoded":         {source(low), []string{"360p", "audio-96k", "audio-de"}, []string{"360p", "audio-96k"}, segment.Grid},
		"one that is off":        {func() *Source { r := low; r.On = false; return source(passing, r) }(), []string{"source", "audio", "audio-de"}, nil, segment.Lead},
		"the sender makes it":    {func() *Source { s := source(ready); s.Layers = []*Layer{small}; return s }(), []string{"small", "audio", "audio-de"}, nil, segment.Lead},
		"the sender's is no use": {func() *Source { s := source(ready); s.Layers = []*Layer{{small.Track, true}}; return s }(), []string{"small", "audio", "audio-de"}, []string{"small"}, segment.Grid},
		"no pictures":            {func() *Source { s := source(passing); s.Video = nil; return s }(), []string{"audio", "audio-de"}, nil, segment.Grid},
		"real-time viewers":      {func() *Source { s := source(passing); s.Pair = Pair{Video: true, Sound: true}; return s }(), []string{"source", "audio", "audio-de"}, []string{PairVideo, PairSound}, segment.Lead},
		"the pair broke":         {func() *Source { s := source(passing); s.Pair = Pair{Video: true, Sound: true, Broken: true}; return s }(), []string{"source", "audio", "audio-de"}, nil, segment.Lead},
	} {
		l := Of(c.s, 7)
		assert.Equal(t, c.names, l.Names, name)
		var encoded []string
		for _, r := range l.Config.Rungs {
			encoded = append(encoded, r.Name)
			assert.Equal(t, r.Name, c.s.IDs.Name(r.ID), name)
		}
		for _, r := range l.Config.Sound {
			encoded = append(encoded, r.Name)
		}
		assert.Equal(t, c.encoded, encoded, name)
		assert.Equal(t, c.mode, l.Mode, name)
		assert.EqualValues(t, 7, l.Config.At)
	}
	l := Of(source(passing, low), 0)
	assert.True(t, l.From["source"].Direct)
	assert.False(t, l.From["360p"].Direct)
	assert.True(t, l.From["audio-de"].Direct, "other languages pass through")
}

func TestWhatIsOffered(t *testing.T) {
	s := source(passing, low, radio)
	o := s.Offering()
	require.Len(t, o.Rungs, 3)
	assert.Equal(t, []string{"audio", "audio-96k", "audio-64k"}, []string{o.Rungs[0].Sound, o.Rungs[1].Sound, o.Rungs[2].Sound})
	assert.Equal(t, []bool{true, true, false}, []bool{o.Rungs[0].Video, o.Rungs[1].Video, o.Rungs[2].Video})
	assert.Equal(t, []string{"audio-de"}, o.Alternates)
	s.Sounds[0].Track.Undecodable = "DTS"
	assert.Equal(t, "audio", s.SoundName(&low), "what nobody decodes passes through")
}

func TestAudioTracksHaveNamesOfTheirOwn(t *testing.T) {
	var names []string
	for _, a := range NameSounds([]*media.Track{sound(1, "en"), sound(2, "de"), sound(3, "de"), sound(4, ""), sound(5, "x/../y")}) {
		names = append(names, a.Name)
	}
	assert.Equal(t, []string{"audio", "audio-de", "audio-de-3", "audio-track-4", "audio-xy"}, names)
}

func TestPartsBeginWithPicturesOfAllRenditions(t *testing.T) {
	s := source(passing)
	even := s.Parts(s.Video)
	half := low
	half.FrameRate = "half"
	s.Rungs = []ladder.Rung{passing, half}
	assert.Zero(t, s.Parts(s.Video).Video.Step%(2*3000), "of which each has one every 1/15 s")
	assert.LessOrEqual(t, even.Target, s.Parts(s.Video).Target)
	s.Video = nil
	assert.Positive(t, s.Parts(s.Main()).Audio.Step)
}

func TestTrackIDsStayTheSame(t *testing.T) {
	ids := TrackIDs{}
	a, b := ids.Of("a"), ids.Of("b")
	assert.NotEqual(t, a, b)
	assert.Equal(t, a, ids.Of("a"))
	assert.Equal(t, "b", ids.Name(b))
	assert.Empty(t, ids.Name(7))
}
