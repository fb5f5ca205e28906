// Package age holds the test that lets a whole origin live through days and months of media time in minutes. It runs in
// a bubble of testing/synctest, whose clock goes on when everybody waits: nothing in the code under test is replaced
// but the wall clock, which can be set, and the network, which is a pipe.
package age

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"net"
	"net/http"
	"os/exec"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"metaplasis/internal/codec/h264enc"
	"metaplasis/internal/codec/settings"
	"metaplasis/internal/contribution"
	"metaplasis/internal/contribution/source"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/picture"
	"metaplasis/internal/events"
	"metaplasis/internal/onward"
	"metaplasis/internal/origin"
	"metaplasis/internal/origin/publish"
	"metaplasis/internal/present"
)

// clock is the machine's: a wall clock that can be set, and one that cannot.
type clock struct {
	mu    sync.Mutex
	begun time.Time
	steps []step // the newest last
}

type step struct {
	at time.Duration // on the monotonic clock
	by time.Duration // all steps up to this one together
}

func newClock() *clock { return &clock{begun: time.Now(), steps: []step{{}}} }

// elapsed is the monotonic clock now.
func (c *clock) elapsed() time.Duration { return time.Since(c.begun) }

// Now is the wall clock.
func (c *clock) Now() time.Time {
	c.mu.Lock()
	defer c.mu.Unlock()
	return time.Now().Round(0).Add(c.steps[len(c.steps)-1].by)
}

// Monotonic returns the reading of the other clock when Now returned a time.
func (c *clock) Monotonic(at time.Time) time.Duration {
	c.mu.Lock()
	defer c.mu.Unlock()
	for i := len(c.steps) - 1; ; i-- {
		if d := at.Add(-c.steps[i].by).Sub(c.begun.Round(0)); d >= c.steps[i].at || i == 0 {
			return d
		}
	}
}

// set sets the wall clock forward or back.
func (c *clock) set(by time.Duration) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.steps = append(c.steps, step{c.elapsed(), c.steps[len(c.steps)-1].by + by})
}

// keeper is the records and the gate, in memory.
type keeper struct {
	mu     sync.Mutex
	events map[string]int
}

func (*keeper) Reserve(_ string, _ publish.Position, stored func()) { stored() }
func (*keeper) Settle(string, publish.Position)                     {}
func (*keeper) Marked(string, publish.Marker)                       {}
func (*keeper) NewFeed() int64                                      { return 1 }
func (*keeper) Feed(origin.FeedRecord)                              {}
func (*keeper) Admit(contribution.Sender) (origin.Grant, error)     { return origin.Grant{Key: 1}, nil }
func (*keeper) AskAdmission(contribution.Sender) error              { return nil }
func (k *keeper) Event(e events.Event) {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.events[e.Kind]++
}

// Periods of what is sent: few units, so that days are short, and nothing in which a number of picture could not be told.
const (
	pictureEach = time.Second
	frameEach   = 128 * time.Millisecond
	soundRate   = 8000
	frameLength = 1024
)

// film is what is sent: one picture and one frame of sound, into which numbers are written.
type film struct {
	video, sound media.Track
	picture      []byte
}

func newFilm(t *testing.T) *film {
	e, err := h264enc.New(settings.Pictures{Width: 64, Height: 64, FrameRate: media.Rational{Num: 1, Den: 1},
		Bitrate: 20_000, Peak: 40_000, Buffer: 1000, Effort: 1, BFrames: -1})
	require.NoError(t, err)
	defer e.Close()
	p := picture.New(64, 64)
	p.Fill(90, 100, 150)
	u, err := e.Encode(p, 0, true)
	for n := 0; err == nil && u == nil && n < 50; n++ {
		u, err = e.Encode(nil, 0, false)
	}
	require.NoError(t, err)
	require.NotNil(t, u)
	f := &film{picture: u.Data}
	f.video, err = e.Track()
	require.NoError(t, err)
	f.video.ID, f.video.Timescale, f.video.FrameRate = 1, media.VideoTimescale, media.Rational{Num: 1, Den: 1}
	f.video.Undecodable = "ageing runs without workers"
	f.sound = media.Track{ID: 2, Kind: media.Audio, Codec: media.AAC, Timescale: soundRate, SampleRate: soundRate, Channels: 1, FrameSamples: frameLength,
		CodecName: "mp4a.40.2", Config: []byte{0x15, 0x88}}
	return f
}

// mark is what stands before a number in a unit.
const mark = "Kestrel Bay "

// Picture returns the picture with a number, in a user data message before it (ITU-T H.264, D.1.7).
func (f *film) Picture(n int64) []byte {
	text := fmt.Sprintf("0123456789abcdef%s%012d", mark, n)
	sei := append([]byte{6, 5, byte(len(text))}, text...)
	sei = append(sei, 0x80)
	out := binary.BigEndian.AppendUint32(nil, uint32(len(sei)))
	return append(append(out, sei...), f.picture...)
}

// Frame returns the frame of sound with a number.
func (f *film) Frame(n int64) []byte { return fmt.Appendf(nil, "%s%012d", mark, n) }

// number reads the number of a unit, -1 when there is none.
func number(data []byte) int64 {
	i := strings.Index(string(data), mark)
	if i < 0 || len(data) < i+len(mark)+12 {
		return -1
	}
	n := int64(0)
	for _, c := range data[i+len(mark):][:12] {
		n = n*10 + int64(c-'0')
	}
	return n
}

// sender sends a film to a feed until the context ends, its stamps those of a clock that the receiver's does not
// concern.
type sender struct {
	world   *world
	film    *film
	clock   media.Clock
	begin   int64                        // stamp at the world's beginning
	arrived func(n int64, now time.Time) // a picture was handed over
}

func (s *sender) run(ctx context.Context, feed contribution.Feed) {
	video, sound := s.film.video, s.film.sound
	video.Clock, sound.Clock = s.clock, s.clock
	feed.Track(video)
	feed.Track(sound)
	stamp := func(at time.Duration) int64 {
		v := s.begin + media.Ticks(at, s.clock.Scale)
		return v % s.clock.Turn
	}
	begun := s.world.clock.elapsed()
	pictures, frames := int64(begun/pictureEach)+1, int64(begun/frameEach)+1
	for {
		due, isPicture := time.Duration(frames)*frameEach, false
		if p := time.Duration(pictures) * pictureEach; p <= due {
			due, isPicture = p, true
		}
		if wait := due - s.world.clock.elapsed(); wait > 0 {
			select {
			case <-ctx.Done():
				return
			case <-time.After(wait):
			}
		}
		if isPicture {
			if s.arrived != nil {
				s.arrived(pictures, s.world.clock.Now())
			}
			feed.Unit(video.ID, stamp(due), 0, true, s.film.Picture(pictures))
			pictures++
		} else {
			feed.Unit(sound.ID, stamp(due), 0, true, s.film.Frame(frames))
			frames++
		}
	}
}

// channels gives relays and inputs the channels of the origin.
type channels struct {
	o       *origin.Origin
	film    *film
	sources []source.Source
	mu      sync.Mutex
	trouble map[string]string
}

func (c *channels) Tap(slug string, choice onward.Choice) (onward.Tap, error) {
	return c.o.Channel(slug).Tap(choice), nil
}
func (c *channels) Runs(string) (known, video, sound bool)     { return true, true, true }
func (c *channels) Has(slug, rung string) bool                 { return c.o.Channel(slug).Has(rung) }
func (c *channels) Epoch(slug string) time.Time                { return c.o.Channel(slug).Created() }
func (c *channels) Sounds(string) []onward.Sound               { return nil }
func (c *channels) Offers(string, *onward.Real) []onward.Offer { return nil }
func (c *channels) Sources() []source.Source                   { return c.sources }
func (c *channels) Lets(string, string) bool                   { return true }
func (c *channels) Problem(s source.Source, text string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if text != "" {
		c.trouble[s.Channel] = text
	}
}
func (c *channels) Open(s source.Source, protocol, remote string, silence time.Duration) (contribution.Feed, error) {
	feed, err := c.o.OpenSource(s.Channel, c.o.Channel(s.Channel).Settings().Inputs[0], protocol, remote, silence)
	if err != nil {
		return nil, err
	}
	return undecoded{feed}, nil
}

// undecoded keeps workers from being started for what is fetched.
type undecoded struct{ contribution.Feed }

func (u undecoded) Track(t media.Track) {
	if t.Kind == media.Video {
		t.Undecodable = "ageing runs without workers"
	}
	u.Feed.Track(t)
}

// farEnd takes a feed over a protocol, as another origin does.
type farEnd struct{ feed func() contribution.Feed }

func (f farEnd) Open(contribution.Sender) (contribution.Feed, error) { return f.feed(), nil }
func (farEnd) May(contribution.Sender) error                         { return nil }
func (farEnd) IsTaken(error) bool                                    { return false }
func (farEnd) Report(channel, network, kind, text, do string)        {}

// shelves lets channels be written as files.
type shelves struct{ o *origin.Origin }

func (s shelves) Document(channel, file string) []byte {
	d, _ := s.o.Channel(channel).Document(file)
	if d == nil {
		return nil
	}
	b, _ := d.Bytes()
	return b
}
func (s shelves) Views(channel string) map[string]*present.View { return s.o.Channel(channel).Views() }

// pipes is the network: a listener that is dialled within the process.
type pipes struct {
	conns chan net.Conn
	over  chan struct{}
	once  sync.Once
}

func newPipes() *pipes { return &pipes{conns: make(chan net.Conn), over: make(chan struct{})} }

func (p *pipes) Accept() (net.Conn, error) {
	select {
	case c := <-p.conns:
		return c, nil
	case <-p.over:
		return nil, http.ErrServerClosed
	}
}
func (p *pipes) Close() error   { p.once.Do(func() { close(p.over) }); return nil }
func (p *pipes) Addr() net.Addr { return &net.TCPAddr{IP: net.IPv4(127, 0, 0, 1), Port: 8780} }

func (p *pipes) dial(ctx context.Context, _, _ string) (net.Conn, error) {
	a, b := net.Pipe()
	select {
	case p.conns <- b:
		return a, nil
	case <-ctx.Done():
		return nil, ctx.Err()
	case <-p.over:
		return nil, errors.New("the network is gone")
	}
}

func noWorker() *exec.Cmd { return exec.Command("false") }
