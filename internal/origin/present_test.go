package origin

import (
	"bytes"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/internal/core/bmff"
	"metaplasis/internal/core/dash"
	"metaplasis/internal/core/hls"
	"metaplasis/internal/core/id3"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/scte35"
	"metaplasis/internal/settings"
)

func (p *packer) text(t *testing.T, file string) string {
	d, known := p.c.Document(file)
	require.True(t, known, file)
	require.NotNil(t, d, file)
	b, _ := d.Bytes()
	return string(b)
}

func (p *packer) mpd(t *testing.T, file string) *dash.MPD {
	var m dash.MPD
	require.NoError(t, m.Unmarshal([]byte(p.text(t, file))))
	return &m
}

func (p *packer) seconds(n int) {
	for range n * 30 {
		p.picture(2000)
	}
}

func TestSelectionsHaveDocumentsOfTheirOwn(t *testing.T) {
	p := newPacker(t, settings.Settings{Outputs: settings.Outputs{TS: true, Selections: []settings.Selection{{Name: "phones", Rungs: []string{"b"}}, {Name: "radio", SoundOnly: true}}}, Packaging: settings.Packaging{Language: "en", StartOffsetMillis: 4500}}, 2)
	p.seconds(13)
	all, _, err := hls.ReadMultivariant([]byte(p.text(t, "index.m3u8")))
	require.NoError(t, err)
	assert.Len(t, all, 2)
	assert.Len(t, hls.ReadKeyVariants([]byte(p.text(t, "index.m3u8"))), 2)
	assert.Contains(t, p.text(t, "index.m3u8"), "#EXT-X-START:TIME-OFFSET=-4.500")
	some, _, _ := hls.ReadMultivariant([]byte(p.text(t, "phones.m3u8")))
	require.Len(t, some, 1)
	assert.Equal(t, "b/index.m3u8", some[0].URI)
	radio, groups, _ := hls.ReadMultivariant([]byte(p.text(t, "radio.m3u8")))
	require.Len(t, radio, 1)
	assert.Empty(t, groups)
	assert.Equal(t, "audio/index.m3u8", radio[0].URI)
	old, _, _ := hls.ReadMultivariant([]byte(p.text(t, "ts.m3u8")))
	assert.Equal(t, "audio/aac.m3u8", old[len(old)-1].URI, "the sound alone comes last")
	assert.Len(t, p.mpd(t, "radio.mpd").Periods[0].Sets, 1)
	assert.Len(t, p.mpd(t, "phones-low.mpd").Periods[0].Sets[0].Representations, 1)
	assert.Equal(t, "en", p.mpd(t, "index.mpd").Periods[0].Sets[1].Lang)
	_, known := p.c.Document("other.m3u8")
	assert.False(t, known)
}

func TestManifestsFollowTheSegments(t *testing.T) {
	p := newPacker(t, settings.Settings{}, 1)
	p.seconds(13)
	timeline := func() *dash.SegmentTemplate { return p.mpd(t, "index.mpd").Periods[0].Sets[0].Template }
	assert.Len(t, timeline().Timeline.S, 1)
	assert.EqualValues(t, 5, timeline().Timeline.S[0].Repeat, "six even segments are one run")
	low := p.mpd(t, "low.mpd")
	counted := low.Periods[0].Sets[0].Template
	assert.Nil(t, counted.Timeline)
	assert.EqualValues(t, 180_000, counted.Duration)
	assert.InDelta(t, 1.787, counted.TimeOffset, 0.001, "a segment less a part")
	assert.Positive(t, low.ServiceDescription.Latency.Target)

	// The next keyframes come a second late: who counts needs a new period, who lists does not.
	p.s.clock.SetStep(3 * 90_000)
	p.s.clock.Begin(p.frames*3000, false)
	p.key = 90
	p.frames = (p.frames + 89) / 90 * 90
	p.seconds(12)
	assert.Len(t, p.mpd(t, "index.mpd").Periods, 1)
	low = p.mpd(t, "low.mpd")
	require.Greater(t, len(low.Periods), 1)
	last := low.Periods[len(low.Periods)-1]
	assert.EqualValues(t, 270_000, last.Sets[0].Template.Duration)
	before := low.Periods[len(low.Periods)-2]
	assert.Equal(t, last.Start.D(), before.Start.D()+before.Duration.D(), "periods lie one behind the other")
}

func TestMarkersAreDateRangesAndEvents(t *testing.T) {
	p := newPacker(t, settings.Settings{}, 1)
	p.seconds(13)
	v := p.c.Rendition("a").View()
	at := media.WallClock(p.c.out.epoch, v.Snapshot.Advertised()[2].Start)
	p.c.mu.Lock()
	p.c.notes.mark(Marker{ID: "m1", Class: "start", Text: `Say "go"`, At: at, DurationMillis: 1500})
	out := scte35.Section{Command: scte35.SpliceInsert, EventID: 7, Out: true, Immediate: true, PTS: -1, Duration: 30 * 90_000}
	p.c.splice(at, out.Marshal())
	p.c.splice(at, out.Marshal()) // cue messages come again
	p.c.mu.Unlock()
	p.seconds(1)
	list := func() string {
		b, _ := p.c.Rendition("a").View().Playlist(hls.CMAF, false).Bytes()
		return string(b)
	}
	assert.Contains(t, list(), `X-TEXT="Say 'go'"`)
	assert.Equal(t, 1, strings.Count(list(), "SCTE35-OUT=0xFC"))
	assert.Contains(t, list(), "PLANNED-DURATION=30.000")
	in := scte35.Section{Command: scte35.SpliceInsert, EventID: 7, In: true, Immediate: true, PTS: -1, Duration: -1}
	p.c.mu.Lock()
	p.c.splice(at.Add(4*time.Second), in.Marshal())
	p.c.splice(at, []byte("nonsense"))
	p.c.mu.Unlock()
	p.seconds(1)
	assert.Regexp(t, `ID="splice-7".*,DURATION=4\.000.*SCTE35-OUT=0xFC[0-9A-F]+,SCTE35-IN=0xFC`, list())
	events := p.mpd(t, "index.mpd").Periods[0].Events
	require.Len(t, events, 2)
	assert.NotEmpty(t, events[0].Events[0].Signal.Binary)
	assert.Contains(t, events[1].Events[0].Text, "start: Say")
	p.seconds(30)
	assert.NotContains(t, list(), `ID="m1"`, "a marker goes with the segments that it stands in")
	open := scte35.Section{Command: scte35.SpliceInsert, EventID: 8, Out: true, Immediate: true, PTS: -1, Duration: -1}
	shut := scte35.Section{Command: scte35.SpliceInsert, EventID: 8, In: true, Immediate: true, PTS: -1, Duration: -1}
	left := p.c.now()
	p.c.mu.Lock()
	p.c.splice(left, open.Marshal())
	p.c.mu.Unlock()
	stored := p.c.Markers()
	p.c.notes.mu.Lock()
	p.c.notes.markers = nil
	p.c.notes.mu.Unlock()
	p.c.RecallMarkers(stored) // as after a restart
	p.seconds(60)
	assert.Contains(t, list(), `ID="splice-8"`, "who left the programme has not returned")
	p.c.mu.Lock()
	p.c.splice(left.Add(300*time.Second), shut.Marshal())
	p.c.mu.Unlock()
	p.seconds(1)
	assert.Regexp(t, `ID="splice-8".*,DURATION=300\.000.*SCTE35-OUT=0xFC[0-9A-F]+,SCTE35-IN=0xFC`, list())
	assert.Len(t, p.c.Ranges(left.Add(time.Minute), left.Add(2*time.Minute)), 1)
	assert.Empty(t, p.c.Ranges(left.Add(301*time.Second), time.Time{}))
	for range 2 * MaxMarkers {
		_, err := p.c.Mark(Marker{Text: "again"})
		require.NoError(t, err)
	}
	assert.Len(t, p.c.Markers(), MaxMarkers)
	for _, bad := range []Marker{{}, {Text: "x", DurationMillis: -1}, {Text: "x", At: time.Now().Add(-2 * time.Hour)}, {Text: strings.Repeat("x", 501)}} {
		_, err := p.c.Mark(bad)
		assert.ErrorIs(t, err, ErrBadMarker)
	}
}

func TestNowPlayingStandsInEverySegment(t *testing.T) {
	p := newPacker(t, settings.Settings{Packaging: settings.Packaging{CoverEvery: 3}}, 1)
	cover := append([]byte("\x89PNG\r\n\x1a\n"), make([]byte, 100)...)
	require.NoError(t, p.c.SetPlaying(NowPlaying{Title: "Race 3", Artist: "Kestrel Bay Regatta", Picture: cover}))
	p.seconds(13)
	covers := 0
	for _, s := range p.c.Rendition("a").View().Snapshot.Listed {
		f, err := bmff.ReadFragments(bytes.Join(s.Blob.Pieces(), nil))
		require.NoError(t, err)
		require.Len(t, f[0].Messages, 1)
		var tag id3.Tag
		_, err = tag.Unmarshal(f[0].Messages[0].Data)
		require.NoError(t, err)
		assert.Equal(t, "Race 3", tag.Title)
		if tag.Picture != nil {
			covers++
			assert.Zero(t, s.MSN%3)
		}
	}
	assert.Equal(t, 2, covers)
	for _, bad := range []NowPlaying{{Artist: "nobody"}, {Title: "x", Picture: []byte("GIF89a")}, {Title: strings.Repeat("x", 301)}, {Title: "x", Picture: make([]byte, maxCover+1)}} {
		assert.ErrorIs(t, p.c.SetPlaying(bad), ErrBadPlaying)
	}
}

func TestSettingsOfPackagingAreChecked(t *testing.T) {
	good := settings.Settings{Slug: "start-line"}.WithDefaults()
	require.Empty(t, good.Check())
	for field, change := range map[string]func(*settings.Settings){
		"packaging.partMillis":        func(s *settings.Settings) { s.PartMillis = 50 },
		"packaging.startOffsetMillis": func(s *settings.Settings) { s.StartOffsetMillis = 60_000 },
		"packaging.coverEvery":        func(s *settings.Settings) { s.CoverEvery = -1 },
		"packaging.language":          func(s *settings.Settings) { s.Language = "English!" },
		"outputs.selections.0.name":   func(s *settings.Settings) { s.Selections = []settings.Selection{{Name: "index", SoundOnly: true}} },
		"outputs.selections.0.rungs":  func(s *settings.Settings) { s.Selections = []settings.Selection{{Name: "phones"}} },
		"outputs.selections.1.name": func(s *settings.Settings) {
			s.Selections = []settings.Selection{{Name: "x", SoundOnly: true}, {Name: "x", SoundOnly: true}}
		},
	} {
		s := good
		change(&s)
		problems := s.Check()
		require.Len(t, problems, 1, field)
		assert.Equal(t, field, problems[0].Field)
	}
}

// TestCaptionServicesAreAnnounced: every service that was seen, once, in playlists and manifests.
func TestCaptionServicesAreAnnounced(t *testing.T) {
	p := newPacker(t, settings.Settings{Packaging: settings.Packaging{Language: "en"}}, 1)
	p.seconds(7)
	assert.Contains(t, p.text(t, "index.m3u8"), "CLOSED-CAPTIONS=NONE")
	p.c.out.announce([]string{"SERVICE1", "CC3"})
	p.c.out.announce([]string{"CC1", "CC3"})
	text := p.text(t, "index.m3u8")
	assert.Contains(t, text, `NAME="Captions",DEFAULT=NO,AUTOSELECT=YES,INSTREAM-ID="CC1",LANGUAGE="en"`)
	assert.Contains(t, text, `NAME="Captions CC3",DEFAULT=NO,AUTOSELECT=YES,INSTREAM-ID="CC3"`+"\n")
	assert.Contains(t, text, `INSTREAM-ID="SERVICE1",LANGUAGE="en"`)
	assert.Equal(t, 3, strings.Count(text, "TYPE=CLOSED-CAPTIONS"))
	assert.Equal(t, []dash.Descriptor{
		{Scheme: "urn:scte:dash:cc:cea-608:2015", Value: "CC1=en;CC3=und"}, {Scheme: "urn:scte:dash:cc:cea-708:2015", Value: "1=lang:en"},
	}, p.mpd(t, "index.mpd").Periods[0].Sets[0].Accessibility)
}
