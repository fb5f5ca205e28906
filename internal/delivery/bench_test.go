package delivery

import (
	"net/http"
	"net/http/httptest"
	"os/exec"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"metaplasis/internal/contribution"
	"metaplasis/internal/core/media"
	"metaplasis/internal/events"
	"metaplasis/internal/origin"
	"metaplasis/internal/origin/publish"
	"metaplasis/internal/settings"
)

type quiet struct{}

func (quiet) Reserve(_ string, _ publish.Position, stored func()) { go stored() }
func (quiet) Settle(string, publish.Position)                     {}
func (quiet) Marked(string, publish.Marker)                       {}
func (quiet) Event(events.Event)                                  {}
func (quiet) NewFeed() int64                                      { return 1 }
func (quiet) Feed(origin.FeedRecord)                              {}
func (quiet) Admit(contribution.Sender) (origin.Grant, error)     { return origin.Grant{Key: 1}, nil }

// newOrigin makes an origin with one channel that has sound only, so that it needs no worker.
func newOrigin(t testing.TB, set settings.Settings) (*origin.Origin, *origin.Feed) {
	return newOriginWith(t, set, nil)
}

// newOriginWith is one whose segments go into an archive too.
func newOriginWith(t testing.TB, set settings.Settings, archive publish.Archive) (*origin.Origin, *origin.Feed) {
	o := origin.New(origin.Options{Keeper: quiet{}, Gate: quiet{}, Archive: archive, Worker: func() *exec.Cmd { return exec.Command("false") }})
	t.Cleanup(o.Close)
	set.Slug = "booth"
	_, err := o.Add(set, time.Now().Add(-time.Hour), publish.Position{})
	require.NoError(t, err)
	f, err := o.Open(contribution.Sender{Channel: "booth", Key: "key", Protocol: "test", Remote: "here"})
	require.NoError(t, err)
	f.Track(media.Track{Kind: media.Audio, Codec: media.AAC, Timescale: 48000, SampleRate: 48000, Channels: 2, FrameSamples: 1024, CodecName: "mp4a.40.2", Config: []byte{0x11, 0x90}})
	return o, f
}

// frames sends AAC frames number from to number until.
func frames(f *origin.Feed, from, until int64) {
	for n := from; n < until; n++ {
		f.Unit(media.TrackID(media.Audio), int64(n*1024*1000/48000), 0, true, make([]byte, 340))
	}
}

type sink struct{ h http.Header }

func (s sink) Header() http.Header         { return s.h }
func (s sink) Write(b []byte) (int, error) { return len(b), nil }
func (s sink) WriteHeader(int)             {}

func BenchmarkRequests(b *testing.B) {
	o, f := newOrigin(b, settings.Settings{})
	frames(f, 0, 1200)
	for _, path := range []string{"/booth/audio/index.m3u8", "/booth/audio/5.m4s", "/booth/audio/8.3.m4s", "/booth/index.m3u8"} {
		b.Run(path, func(b *testing.B) {
			s := New(Options{Origin: o})
			r := httptest.NewRequest("GET", path, nil)
			b.ReportAllocs()
			for b.Loop() {
				w := sink{http.Header{}}
				s.ServeHTTP(w, r)
			}
		})
	}
}

func (quiet) AskAdmission(contribution.Sender) error { return nil }
