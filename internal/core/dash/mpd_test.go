package dash

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestManifestsReadBack(t *testing.T) {
	first, complete := uint64(7), false
	in := MPD{
		Profiles: "urn:mpeg:dash:profile:isoff-live:2011", Type: "dynamic",
		AvailabilityStartTime: NewDate(time.Date(2026, 6, 1, 12, 0, 0, 5e8, time.UTC)), MinimumUpdatePeriod: NewDuration(2500 * time.Millisecond),
		ServiceDescription: &ServiceDescription{Latency: &Latency{Target: 800, Min: 200, Max: 6000}, PlaybackRate: &PlaybackRate{0.96, 1.1}},
		UTCTiming:          []Descriptor{{"urn:mpeg:dash:utc:http-iso:2014", "/time"}},
		Periods: []Period{{ID: "p7", Start: NewDuration(1780315200*time.Second + 40*time.Millisecond),
			Events: []EventStream{{Scheme: "urn:scte:scte35:2014:xml+bin", Timescale: 1000, Events: []Event{{Time: 5, ID: 1, Signal: &Signal{Binary: "/DA="}}}}},
			Sets: []AdaptationSet{{ID: 1, ContentType: "video", Label: "a < b", Addressing: Addressing{Template: &SegmentTemplate{Timescale: 90000, StartNumber: &first, TimeOffset: 1.8, TimeComplete: &complete, Media: "$RepresentationID$/$Number$.m4s"}},
				Representations: []Representation{{ID: "480p", Bandwidth: 1, Addressing: Addressing{Template: &SegmentTemplate{Header: "h.mp4"}}}}}},
		}},
	}
	var out MPD
	require.NoError(t, out.Unmarshal(in.Marshal()))
	assert.True(t, in.AvailabilityStartTime.Equal(out.AvailabilityStartTime.Time))
	assert.Equal(t, in.Periods[0].Start.D(), out.Periods[0].Start.D(), "a start in this century, to the millisecond")
	assert.Equal(t, 2500*time.Millisecond, out.MinimumUpdatePeriod.D())
	assert.Equal(t, in.Periods[0].Sets[0].Template, out.Periods[0].Sets[0].Template)
	assert.Equal(t, "/DA=", out.Periods[0].Events[0].Events[0].Signal.Binary)
	assert.Equal(t, "a < b", out.Periods[0].Sets[0].Label)
}

func TestTimelineRuns(t *testing.T) {
	var l Timeline
	for _, s := range [][2]int64{{100, 10}, {110, 10}, {120, 10}, {130, 12}, {142, 10}, {200, 10}} {
		l.Add(s[0], s[1])
	}
	a, b := int64(100), int64(200)
	assert.Equal(t, []S{{T: &a, D: 10, Repeat: 2}, {D: 12}, {D: 10}, {T: &b, D: 10}}, l.S)
}

func TestDurations(t *testing.T) {
	for text, want := range map[string]time.Duration{"PT2S": 2 * time.Second, "PT1H2M3.5S": time.Hour + 2*time.Minute + 3500*time.Millisecond, "P1DT1S": 24*time.Hour + time.Second} {
		var d Duration
		require.NoError(t, d.UnmarshalText([]byte(text)))
		assert.Equal(t, want, d.D(), text)
	}
	for _, text := range []string{"", "2S", "PT2", "PTxS", "P2Y", "PT99999999999999S"} {
		var d Duration
		assert.Error(t, d.UnmarshalText([]byte(text)), text)
	}
	var d Date
	require.NoError(t, d.UnmarshalText([]byte("2026-06-01T12:00:00")))
	assert.Error(t, d.UnmarshalText([]byte("noon")))
}

func FuzzUnmarshal(f *testing.F) {
	f.Add([]byte(`<MPD xmlns="urn:mpeg:dash:schema:mpd:2011" type="dynamic"><Period start="PT1S"/></MPD>`))
	f.Fuzz(func(_ *testing.T, b []byte) {
		var m MPD
		_ = m.Unmarshal(b)
	})
}
