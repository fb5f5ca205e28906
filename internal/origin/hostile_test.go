package origin

import (
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/internal/contribution"
	"metaplasis/internal/core/hls"
	"metaplasis/internal/core/ladder"
	"metaplasis/internal/core/media"
	"metaplasis/internal/events"
	"metaplasis/internal/origin/publish"
	"metaplasis/internal/settings"
)

// nobody keeps nothing and lets everybody in.
type nobody struct{ events chan events.Event }

func (nobody) Reserve(_ string, _ publish.Position, stored func()) { go stored() }
func (nobody) Settle(string, publish.Position)                     {}
func (nobody) Marked(string, publish.Marker)                       {}
func (nobody) NewFeed() int64                                      { return 1 }
func (nobody) Feed(FeedRecord)                                     {}
func (nobody) Admit(contribution.Sender) (Grant, error)            { return Grant{Key: 1}, nil }
func (nobody) AskAdmission(contribution.Sender) error              { return nil }
func (n nobody) Event(e events.Event) {
	select {
	case n.events <- e:
	default:
	}
}

// set is a pair of clocks that a test moves.
type set struct {
	mu              sync.Mutex // it is read by the channel's own goroutines
	wall, monotonic time.Duration
	stepped         time.Duration // wall clock less the other one
	before          time.Duration // the same before the newest step
	since           time.Duration // the wall clock behind that
}

// set sets the wall clock.
func (s *set) set(by time.Duration) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.before, s.stepped, s.wall = s.stepped, s.stepped+by, s.wall+by
	s.since = s.wall
}

// elapsed is the other clock's reading of a time that now returned.
func (s *set) elapsed(at time.Time) time.Duration {
	s.mu.Lock()
	defer s.mu.Unlock()
	if d := at.Sub(zero) - s.stepped; d >= s.since-s.stepped {
		return d
	}
	return at.Sub(zero) - s.before
}

var zero = time.Date(2027, 3, 1, 12, 0, 0, 0, time.UTC)

func (s *set) now() time.Time {
	s.mu.Lock()
	defer s.mu.Unlock()
	return zero.Add(s.wall)
}

func (s *set) pass(d time.Duration) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.wall, s.monotonic = s.wall+d, s.monotonic+d
}

// aired is a channel of audio only, on a clock that the test moves.
func aired(t *testing.T) (*set, *Channel, *Feed, nobody) {
	clock, keep := &set{}, nobody{make(chan events.Event, 100)}
	o := New(Options{Keeper: keep, Gate: keep, Burst: -1, Now: clock.now, Monotonic: clock.elapsed})
	t.Cleanup(o.Close)
	c, err := o.Add(settings.Settings{Slug: "booth", Packaging: settings.Packaging{SegmentMillis: 2000}, Ladder: ladder.Ladder{Planned: true}}, zero.Add(-time.Hour), publish.Position{})
	require.NoError(t, err)
	f, err := o.Open(contribution.Sender{Channel: "booth", Key: "key", Protocol: "test", Remote: "192.0.2.1:5000"})
	require.NoError(t, err)
	f.Track(media.Track{Kind: media.Audio, Codec: media.AAC, Timescale: 48000, SampleRate: 48000, Channels: 2, CodecName: "mp4a.40.2", FrameSamples: 1024, Config: []byte{0x11, 0x90}})
	return clock, c, f, keep
}

// talk sends frames of sound for a while, as the clock passes; n counts them.
func talk(clock *set, f *Feed, n *int64, d time.Duration) {
	const frame = 1024 * time.Second / 48000
	for end := clock.monotonic + d; clock.monotonic < end; *n++ {
		f.Unit(media.TrackID(media.Audio), media.Rescale(*n*1024, 48000, 1000), 0, true, make([]byte, 40))
		clock.pass(frame)
	}
}

// newestDate is the wall clock at the end of the newest whole segment, by the playlist.
func newestDate(t *testing.T, c *Channel) time.Time {
	b, _ := c.Rendition("audio").View().Playlist(hls.CMAF, false).Bytes()
	p, err := hls.ReadMedia(b)
	require.NoError(t, err)
	var at time.Time
	for _, e := range p.Whole() {
		if !e.DateTime.IsZero() {
			at = e.DateTime
		}
		at = at.Add(e.Duration)
	}
	return at
}

// The wall clock is set while a sender goes on: dates in playlists follow it, and the event log says so.
func TestTheClockIsSet(t *testing.T) {
	clock, c, f, keep := aired(t)
	n := int64(0)
	told := func() (out int) {
		for {
			select {
			case e := <-keep.events:
				if e.Kind == "clock-stepped" {
					out++
				}
			default:
				return out
			}
		}
	}
	talk(clock, f, &n, 10*time.Second)
	assert.Less(t, clock.now().Sub(newestDate(t, c)), 3*time.Second)
	numbers, _ := c.Rendition("audio").View().Newest()
	for _, by := range []time.Duration{time.Hour, -40 * time.Minute, 3 * time.Second, -2 * time.Second, 60 * time.Millisecond} {
		clock.set(by)
		talk(clock, f, &n, 12*time.Second)
		behind := clock.now().Sub(newestDate(t, c))
		assert.True(t, behind > -200*time.Millisecond && behind < 3*time.Second, "set by %v, the newest segment is told to be %v old", by, behind)
		newest, _ := c.Rendition("audio").View().Newest()
		assert.Greater(t, newest, numbers, "numbers go up")
		numbers = newest
		want := 1
		if by < 100*time.Millisecond && by > 0 {
			want = 0
		}
		assert.Equal(t, want, told(), "set by %v", by)
	}
	assert.Less(t, c.o.Monotonic(c.now()), 2*time.Minute, "what is counted of time is not the wall clock's")
}

// Sound that takes more than all that may wait, before the first picture.
func TestSoundThatIsTooLargeForItsWaiting(t *testing.T) {
	clock, _, f, _ := aired(t)
	f.Track(media.Track{Kind: media.Video, Codec: media.H264, CodecName: "avc1.42c00d", Timescale: media.VideoTimescale, Width: 320, Height: 180,
		FrameRate: media.Rational{Num: 25, Den: 1}, Config: []byte{1, 0x42, 0xc0, 0x0d, 0xff, 0xe1, 0, 0, 1, 0, 0}, Undecodable: "a test"})
	for n := range int64(8) {
		f.Unit(media.TrackID(media.Video), n*40, 0, false, []byte{0, 0, 0, 1, 1})
		f.Unit(media.TrackID(media.Audio), n*40, 0, true, make([]byte, 5<<20))
		clock.pass(400 * time.Millisecond)
	}
	f.End("over")
}
