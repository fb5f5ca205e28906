package publish

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

func TestSelectionsHaveDocumentsOfTheirOwn(t *testing.T) {
	p := newPacker(t, settings.Settings{Outputs: settings.Outputs{TS: true, Selections: []settings.Selection{{Name: "phones", Rungs: []string{"b"}}, {Name: "radio", SoundOnly: true}}}, Packaging: settings.Packaging{Language: "en", StartOffsetMillis: 4500}}, 2)
	p.seconds(13)
	all, _, err := hls.ReadMultivariant([]byte(p.text("index.m3u8")))
	require.NoError(t, err)
	assert.Len(t, all, 2)
	assert.Len(t, hls.ReadKeyVariants([]byte(p.text("index.m3u8"))), 2)
	assert.Contains(t, p.text("index.m3u8"), "#EXT-X-START:TIME-OFFSET=-4.500")
	some, _, _ := hls.ReadMultivariant([]byte(p.text("phones.m3u8")))
	require.Len(t, some, 1)
	assert.Equal(t, "b/index.m3u8", some[0].URI)
	radio, groups, _ := hls.ReadMultivariant([]byte(p.text("radio.m3u8")))
	require.Len(t, radio, 1)
	assert.Empty(t, groups)
	assert.Equal(t, "audio/index.m3u8", radio[0].URI)
	old, _, _ := hls.ReadMultivariant([]byte(p.text("ts.m3u8")))
	assert.Equal(t, "audio/aac.m3u8", old[len(old)-1].URI, "the audio only comes last")
	assert.Len(t, p.mpd("radio.mpd").Periods[0].Sets, 1)
	assert.Len(t, p.mpd("phones-low.mpd").Periods[0].Sets[0].Representations, 1)
	assert.Equal(t, "en", p.mpd("index.mpd").Periods[0].Sets[1].Lang)
	_, known := p.Document("other.m3u8")
	assert.False(t, known)
}

func TestManifestsFollowTheSegments(t *testing.T) {
	p := newPacker(t, settings.Settings{}, 1)
	p.seconds(13)
	timeline := func() *dash.SegmentTemplate { return p.mpd("index.mpd").Periods[0].Sets[0].Template }
	assert.Len(t, timeline().Timeline.S, 1)
	assert.EqualValues(t, 5, timeline().Timeline.S[0].Repeat, "six even segments are one run")
	low := p.mpd("low.mpd")
	counted := low.Periods[0].Sets[0].Template
	assert.Nil(t, counted.Timeline)
	assert.EqualValues(t, 180_000, counted.Duration)
	assert.InDelta(t, 1.787, counted.TimeOffset, 0.001, "a segment less a part")
	assert.Positive(t, low.ServiceDescription.Latency.Target)

	// The next keyframes come a second late: who counts needs a new period, who lists does not.
	p.clock.SetStep(3 * 90_000)
	p.clock.Begin(p.frames*3000, false)
	p.key = 90
	p.frames = (p.frames + 89) / 90 * 90
	p.seconds(12)
	assert.Len(t, p.mpd("index.mpd").Periods, 1)
	low = p.mpd("low.mpd")
	require.Greater(t, len(low.Periods), 1)
	last := low.Periods[len(low.Periods)-1]
	assert.EqualValues(t, 270_000, last.Sets[0].Template.Duration)
	before := low.Periods[len(low.Periods)-2]
	assert.Equal(t, last.Start.D(), before.Start.D()+before.Duration.D(), "periods lie one behind the other")
}

func TestMarkersAreDateRangesAndEvents(t *testing.T) {
	p := newPacker(t, settings.Settings{}, 1)
	p.seconds(13)
	v := p.Rendition("a").View()
	at := media.WallClock(p.Epoch(), v.Snapshot.Advertised()[2].Start)
	p.notes.set(Marker{ID: "m1", Class: "start", Text: `Say "go"`, At: at, DurationMillis: 1500})
	out := scte35.Section{Command: scte35.SpliceInsert, EventID: 7, Out: true, Immediate: true, PTS: -1, Duration: 30 * 90_000}
	p.splice(at, out.Marshal())
	p.splice(at, out.Marshal()) // cue messages come again
	p.seconds(1)
	list := func() string {
		b, _ := p.Rendition("a").View().Playlist(hls.CMAF, false).Bytes()
		return string(b)
	}
	assert.Contains(t, list(), `X-TEXT="Say 'go'"`)
	assert.Equal(t, 1, strings.Count(list(), "SCTE35-OUT=0xFC"))
	assert.Contains(t, list(), "PLANNED-DURATION=30.000")
	in := scte35.Section{Command: scte35.SpliceInsert, EventID: 7, In: true, Immediate: true, PTS: -1, Duration: -1}
	p.splice(at.Add(4*time.Second), in.Marshal())
	p.splice(at, []byte("nonsense"))
	p.seconds(1)
	assert.Regexp(t, `ID="splice-7".*,DURATION=4\.000.*SCTE35-OUT=0xFC[0-9A-F]+,SCTE35-IN=0xFC`, list())
	events := p.mpd("index.mpd").Periods[0].Events
	require.Len(t, events, 2)
	assert.NotEmpty(t, events[0].Events[0].Signal.Binary)
	assert.Contains(t, events[1].Events[0].Text, "start: Say")
	p.seconds(30)
	assert.NotContains(t, list(), `ID="m1"`, "a marker goes with the segments that it stands in")
	open := scte35.Section{Command: scte35.SpliceInsert, EventID: 8, Out: true, Immediate: true, PTS: -1, Duration: -1}
	shut := scte35.Section{Command: scte35.SpliceInsert, EventID: 8, In: true, Immediate: true, PTS: -1, Duration: -1}
	left := time.Now()
	p.splice(left, open.Marshal())
	stored := p.notes.Markers()
	p.notes.mu.Lock()
	p.notes.markers = nil
	p.notes.mu.Unlock()
	p.notes.Recall(stored) // as after a restart
	p.seconds(60)
	assert.Contains(t, list(), `ID="splice-8"`, "who left the programme has not returned")
	p.splice(left.Add(300*time.Second), shut.Marshal())
	p.seconds(1)
	assert.Regexp(t, `ID="splice-8".*,DURATION=300\.000.*SCTE35-OUT=0xFC[0-9A-F]+,SCTE35-IN=0xFC`, list())
	assert.Len(t, p.notes.Ranges(left.Add(time.Minute), left.Add(2*time.Minute)), 1)
	assert.Empty(t, p.notes.Ranges(left.Add(301*time.Second), time.Time{}))
	for range 2 * MaxMarkers {
		_, err := p.notes.Mark(Marker{Text: "again"}, time.Now())
		require.NoError(t, err)
	}
	assert.Len(t, p.notes.Markers(), MaxMarkers)
	for _, bad := range []Marker{{}, {Text: "x", DurationMillis: -1}, {Text: "x", At: time.Now().Add(-2 * time.Hour)}, {Text: strings.Repeat("x", 501)}} {
		_, err := p.notes.Mark(bad, time.Now())
		assert.ErrorIs(t, err, ErrBadMarker)
	}
}

func TestNowPlayingStandsInEverySegment(t *testing.T) {
	p := newPacker(t, settings.Settings{Packaging: settings.Packaging{CoverEvery: 3}}, 1)
	cover := append([]byte("\x89PNG\r\n\x1a\n"), make([]byte, 100)...)
	require.NoError(t, p.notes.SetPlaying(NowPlaying{Title: "Race 3", Artist: "Kestrel Bay Regatta", Picture: cover}))
	p.seconds(13)
	covers := 0
	for _, s := range p.Rendition("a").View().Snapshot.Listed {
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
	for _, bad := range []NowPlaying{{Artist: "nobody"}, {Title: "x", Picture: []byte("GIF89a")}, {Title: strings.Repeat("x", 301)}, {Title: "x", Picture: make([]byte, MaxCover+1)}} {
		assert.ErrorIs(t, p.notes.SetPlaying(bad), ErrBadPlaying)
	}
}

// TestCaptionServicesAreAnnounced: every service that was seen, once, in playlists and manifests.
func TestCaptionServicesAreAnnounced(t *testing.T) {
	p := newPacker(t, settings.Settings{Packaging: settings.Packaging{Language: "en"}}, 1)
	p.seconds(7)
	assert.Contains(t, p.text("index.m3u8"), "CLOSED-CAPTIONS=NONE")
	p.Announce([]string{"SERVICE1", "CC3"})
	p.Announce([]string{"CC1", "CC3"})
	text := p.text("index.m3u8")
	assert.Contains(t, text, `NAME="Captions",DEFAULT=NO,AUTOSELECT=YES,INSTREAM-ID="CC1",LANGUAGE="en"`)
	assert.Contains(t, text, `NAME="Captions CC3",DEFAULT=NO,AUTOSELECT=YES,INSTREAM-ID="CC3"`+"\n")
	assert.Contains(t, text, `INSTREAM-ID="SERVICE1",LANGUAGE="en"`)
	assert.Equal(t, 3, strings.Count(text, "TYPE=CLOSED-CAPTIONS"))
	assert.Equal(t, []dash.Descriptor{
		{Scheme: "urn:scte:dash:cc:cea-608:2015", Value: "CC1=en;CC3=und"}, {Scheme: "urn:scte:dash:cc:cea-708:2015", Value: "1=lang:en"},
	}, p.mpd("index.mpd").Periods[0].Sets[0].Accessibility)
}
