package status

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/internal/contribution"
	"metaplasis/internal/core/ladder"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/transcode"
	"metaplasis/internal/core/ts"
	"metaplasis/internal/origin/layout"
	"metaplasis/internal/settings"
	"metaplasis/internal/worker"
)

// live is a channel on which all is well.
func live() *Snapshot {
	now := time.Date(2027, 3, 1, 12, 0, 0, 0, time.UTC)
	s := settings.Settings{Slug: "start-line", Title: "Start line"}.WithDefaults()
	return &Snapshot{Now: now, Settings: s, Started: true, Playable: true, Burst: 10 * time.Second,
		Feed: &Feed{Protocol: "RTMP", Remote: "192.0.2.1:5000", Begun: now.Add(-time.Minute), Heard: now, Pictured: now, HasVideo: true},
		Run:  &Run{EncodesPictures: true, Worker: &Worker{PID: 7}}, Load: Load{Known: true}}
}

func TestStates(t *testing.T) {
	for name, c := range map[string]struct {
		change func(*Snapshot)
		state  State
		told   string // the beginning of the first problem
	}{
		"all is well":                     {func(*Snapshot) {}, Live, ""},
		"nobody sends":                    {func(s *Snapshot) { s.Feed = nil }, Waiting, ""},
		"nothing out yet":                 {func(s *Snapshot) { s.Started, s.Feed.Begun = false, s.Now.Add(-time.Second) }, Starting, ""},
		"nothing to play":                 {func(s *Snapshot) { s.Playable = false }, Starting, ""},
		"no track":                        {func(s *Snapshot) { s.Run, s.Started, s.Feed.Begun = nil, false, s.Now.Add(-3*time.Second) }, Starting, "The sender is connected, but no track"},
		"no track for long":               {func(s *Snapshot) { s.Run, s.Started = nil, false }, Failed, "The sender is connected, but no track"},
		"no segment":                      {func(s *Snapshot) { s.Started = false }, Failed, "Media arrives, but no segment could be made for 60 s"},
		"keyless worker":                  {func(s *Snapshot) { s.Load.Now.Keyless = true }, Degraded, "Nothing can be encoded before"},
		"keyless, but nothing is encoded": {func(s *Snapshot) { s.Load.Now.Keyless, s.Run.EncodesPictures = true, false }, Live, ""},
		"pictures left out":               {func(s *Snapshot) { s.Load.Dropping = 123 }, Degraded, "The CPU cannot keep up: 12.3 %"},
		"behind":                          {func(s *Snapshot) { s.Load.Now.LagMillis = 1500 }, Degraded, "The worker is 1500 ms behind"},
		"faulty":                          {func(s *Snapshot) { s.Fault = "The picture has been black for 30 s." }, Degraded, "The picture has been black"},
		"keyframes":                       {func(s *Snapshot) { s.Run.KeyProblem = "No IDR picture came." }, Degraded, "No IDR picture"},
		"a rung is not made": {func(s *Snapshot) {
			s.Run.NotMade = []layout.NotMade{{Why: "it failed", Rungs: []string{"low", "lower"}}}
		}, Degraded, "The rungs low, lower are not made: it failed."},
		"sound that nobody decodes": {func(s *Snapshot) { s.Run.UndecodedSound = "DTS" }, Degraded, "The audio passes through: there is no decoder for DTS"},
		"worker replaced":           {func(s *Snapshot) { s.Load.Replace("it hung", s.Now.Add(-5*time.Second)) }, Degraded, "The worker was replaced 5 s ago: it hung"},
		"worker replaced long ago":  {func(s *Snapshot) { s.Load.Replace("it hung", s.Now.Add(-time.Hour)) }, Live, ""},
		"unreadable":                {func(s *Snapshot) { s.Load.Errors = 55 }, Degraded, "The decoder cannot decode 5.5 %"},
		"too much":                  {func(s *Snapshot) { s.Squeezed = s.Now.Add(-time.Second) }, Degraded, "The sender sends more than the channel may hold, 40 Mbit/s"},
		"silent":                    {func(s *Snapshot) { s.Feed.Silent, s.Feed.Heard = true, s.Now.Add(-4*time.Second) }, Degraded, "Nothing has arrived from the sender for 4 s"},
		"nothing usable": {func(s *Snapshot) {
			s.Feed.Silent, s.Feed.Heard = true, s.Now.Add(-4*time.Second)
			s.Feed.Line = &contribution.Line{TS: &ts.StreamHealth{Bitrate: 5_000_000}}
		}, Degraded, "The sender's packets (5000 kbit/s) have contained no usable video or audio for 4 s"},
		"no picture":         {func(s *Snapshot) { s.Feed.Pictured = s.Now.Add(-3 * time.Second) }, Degraded, "No video has arrived from the sender for 3 s"},
		"no picture is sent": {func(s *Snapshot) { s.Feed.Pictured, s.Feed.HasVideo = s.Now.Add(-time.Hour), false }, Live, ""},
		"too fast":           {func(s *Snapshot) { s.Feed.Slowed = s.Now }, Degraded, "The sender sends faster than real time: its media is 10 s ahead"},
		"not stored":         {func(s *Snapshot) { s.Unsaved = true }, Degraded, "The database did not store"},
		"bad cue":            {func(s *Snapshot) { s.BadCue = s.Now.Add(-30 * time.Second) }, Degraded, "The sender's cue messages cannot be read"},
		"unpackaged":         {func(s *Snapshot) { s.Settings.Unpackaged, s.Run, s.Started = true, nil, false }, Live, ""},
		"unpackaged and silent": {func(s *Snapshot) {
			s.Settings.Unpackaged, s.Feed.Silent, s.Feed.Heard = true, true, s.Now.Add(-9*time.Second)
		}, Degraded, "Nothing has arrived from the sender for 9 s"},
	} {
		t.Run(name, func(t *testing.T) {
			s := live()
			c.change(s)
			st := Of(s)
			assert.Equal(t, c.state, st.State)
			if c.told == "" {
				assert.Empty(t, st.Problems)
				return
			}
			require.Len(t, st.Problems, 1)
			assert.True(t, strings.HasPrefix(st.Problems[0].Text, c.told), st.Problems[0].Text)
		})
	}
}

func TestFigures(t *testing.T) {
	s := live()
	s.Feed.Meter = Meter{Bitrate: 5_000_000, FrameRate: 30_000, Gap: 70 * time.Millisecond}
	s.Run.DriftPPM, s.Run.DriftKnown, s.Run.ApartMillis, s.PartTarget = 12, true, 40, media.VideoTimescale/5
	s.PictureAt = s.Now
	st := Of(s)
	assert.EqualValues(t, []int64{5_000_000, 30_000, 70, 12, 40, 200, s.Now.UnixMilli()},
		[]int64{st.Feed.Bitrate, st.Feed.FrameRate, st.Feed.GapMillis, st.Feed.DriftPPM, st.Feed.ApartMillis, st.PartTarget, st.PictureAt})
	require.NotNil(t, st.Worker)
	assert.Equal(t, 7, st.Worker.PID)
	assert.Equal(t, []ladder.Rung{}, st.Rungs, "a list, even when it is empty")
	s.Feed, s.LastFeed = nil, &LastFeed{Remote: "192.0.2.1:5000", Reason: "it left"}
	st = Of(s)
	assert.Nil(t, st.Feed)
	assert.Equal(t, "it left", st.LastFeed.Reason)
}

func TestWhatANodeTakes(t *testing.T) {
	var l Load
	now := time.Now()
	node := func(units, busy int64) worker.Stats {
		return worker.Stats{PID: 7, Stats: transcode.Stats{Nodes: []transcode.Node{{Kind: transcode.EncodePictures, Rendition: "720p", Units: units, Busy: busy}}}}
	}
	l.Take(node(0, 0), now)
	l.Take(node(60, 600_000), now.Add(2*time.Second))
	require.Len(t, l.Nodes, 1)
	assert.EqualValues(t, 10_000, l.Nodes[0].Micros)
	assert.EqualValues(t, 300, l.Nodes[0].Load, "thousandths of real time")
	l.Idle()
	assert.False(t, l.Known)
	l.Replace("it hung", now)
	assert.EqualValues(t, 1, l.Replaced)
	l.Reset()
	assert.Zero(t, l.Replaced)
}

func TestWhatComesIsMeasuredOverSeconds(t *testing.T) {
	var m Meter
	now := time.Now()
	m.Reset(now)
	for n := range 60 {
		m.Add(10_000, now.Add(time.Duration(n)*time.Second/30), true)
	}
	m.Measure(now.Add(time.Second))
	assert.Zero(t, m.Bitrate, "not before it is known")
	m.Measure(now.Add(2 * time.Second))
	assert.EqualValues(t, 2_400_000, m.Bitrate)
	assert.EqualValues(t, 30_000, m.FrameRate)
	assert.Equal(t, 34, int(m.Gap.Milliseconds())+1)
}
