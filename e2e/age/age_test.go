package age

import (
	"bytes"
	"context"
	"flag"
	"fmt"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"runtime"
	"runtime/debug"
	"slices"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"metaplasis/internal/origin/publish"
	"metaplasis/internal/protocol/channel"
	"metaplasis/internal/protocol/http/files"
	"metaplasis/internal/protocol/http/pull"
	"metaplasis/internal/protocol/rtmp"
	"metaplasis/internal/settings"

	_ "time/tzdata"

	"github.com/pion/rtcp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/internal/contribution"
	"metaplasis/internal/contribution/demux"
	"metaplasis/internal/contribution/source"
	"metaplasis/internal/core/bmff"
	"metaplasis/internal/core/dash"
	"metaplasis/internal/core/hls"
	"metaplasis/internal/core/hub"
	"metaplasis/internal/core/ladder"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/ts"
	"metaplasis/internal/delivery"
	"metaplasis/internal/onward"
	"metaplasis/internal/onward/mux"
	"metaplasis/internal/onward/relay"
	"metaplasis/internal/onward/rtpmedia"
	"metaplasis/internal/origin"
	"metaplasis/internal/store"
)

// a change to and from summer time

var days = flag.Float64("days", 0.4, "how many days to live through")

// world is the origin under test and all that lives with it.
type world struct {
	t     *testing.T
	clock *clock
	keep  *keeper
	film  *film
	o     *origin.Origin
	store *store.Store
	sent  string // the folder of relays that write files
	holds map[string][]store.Hold
	web   *delivery.Server
	all   sync.WaitGroup

	mu      sync.Mutex
	arrived map[int64]time.Time // wall clock when a picture came, of the newest ones
	views   map[string]*view
	sinks   []*sink
	lost    map[string]int64 // pictures that did not come out, by who missed them
}

// stepsOfClock are when the machine's clock is set, in hours, and by how much. A leap second sets a clock back by one;
// a machine that was suspended finds its clock far ahead. They come again each week.
var stepsOfClock = []struct {
	hour float64
	by   time.Duration
}{
	{0.3, -400 * time.Millisecond}, {5.2, 3700 * time.Millisecond}, {9.4, -2300 * time.Millisecond}, {11.7, 60 * time.Millisecond}, {15.1, -time.Second}, {20.3, 37 * time.Minute},
	{29.9, -400 * time.Millisecond}, {33.3, 9 * time.Second},
}

// TestAge lives through days: real wraps of 33 and 32 bits, clocks that are set, summer time. After each day everything
// still puts out pictures in order, sound in step and times that are the clock's, and holds no more than the day before.
func TestAge(t *testing.T) {
	film := newFilm(t)
	defer debug.SetGCPercent(debug.SetGCPercent(1000)) // little is held, much is made
	synctest.Test(t, func(t *testing.T) { live(t, film) })
}

func live(t *testing.T, film *film) {
	zone, err := time.LoadLocation("Europe/Lisbon")
	require.NoError(t, err)
	before := time.Local
	time.Local = zone
	defer func() { time.Local = before }()
	time.Sleep(time.Until(time.Date(2027, 3, 27, 17, 0, 0, 0, time.UTC))) // summer time begins the next night

	w := &world{t: t, clock: newClock(), keep: &keeper{events: map[string]int{}}, film: film, arrived: map[int64]time.Time{}, views: map[string]*view{}, lost: map[string]int64{}, holds: map[string][]store.Hold{}, sent: t.TempDir()}
	ctx, cancel := context.WithCancel(t.Context())
	w.start(ctx)
	defer func() {
		cancel()
		w.o.Close()
		w.all.Wait()
		w.store.Close()
	}()
	began := time.Now()
	real := newStopwatch()
	var first footprint
	steps := 0
	for day := 1; float64(day-1) < *days; day++ {
		for hour := 0; hour < 24 && (float64(day-1)+float64(hour)/24) < *days; hour++ {
			for n := range 300 { // each 12 s
				time.Sleep(12 * time.Second)
				w.look()
				passed := time.Since(began).Hours()
				week := int(passed / (7 * 24))
				if k := steps - week*len(stepsOfClock); k >= 0 && k < len(stepsOfClock) && passed-float64(week*7*24) >= stepsOfClock[k].hour {
					w.clock.set(stepsOfClock[k].by)
					steps++
					w.forgive()
				}
				if n == 0 {
					w.record(w.clock.Now())
					w.lookBack()
				}
			}
			if t.Failed() {
				t.Fatalf("stopped after %v", time.Since(began))
			}
		}
		now := w.footprint()
		t.Logf("day %d in %v: %v, lost %v, events %v", day, real(), now, w.lost, w.keep.events)
		w.dayIsOver()
		if day == 1 {
			first = now
			continue
		}
		assert.Less(t, now.heap, first.heap+first.heap/5+8<<20, "memory grows")
		assert.LessOrEqual(t, now.goroutines, first.goroutines+3, "goroutines grow")
		assert.LessOrEqual(t, now.files, first.files+3, "descriptors grow")
		assert.LessOrEqual(t, now.kept, first.kept+first.kept/4, "what is kept grows")
	}
}

func (w *world) start(ctx context.Context) {
	t := w.t
	var err error
	w.store, err = store.Open(store.Options{Place: store.Folder(t.TempDir()), Now: w.clock.Now}, nil)
	require.NoError(t, err)
	w.o = origin.New(origin.Options{Keeper: w.keep, Gate: w.keep, Archive: w.store, Worker: noWorker, Now: w.clock.Now, Monotonic: w.clock.Monotonic})
	w.web = delivery.New(delivery.Options{Origin: w.o, Store: w.store})
	passed := ladder.Ladder{Rungs: []ladder.Rung{{Name: "source", On: true, Source: true}}}
	packaging := settings.Packaging{SegmentMillis: 6000, PartMillis: 1000, Window: 6}
	add := func(slug string, set settings.Settings) {
		set.Slug, set.Ladder = slug, passed
		aligned := set.Packaging.Aligned
		set.Packaging = packaging
		set.Packaging.Aligned = aligned
		_, err := w.o.Add(set, w.clock.Now().Add(-24*time.Hour), publish.Position{})
		require.NoError(t, err)
		w.views[slug] = &view{w: w, slug: slug}
	}
	kept := settings.Keeping{TimeShiftMinutes: 120}
	add("start-line", settings.Settings{Packaging: settings.Packaging{Aligned: true}, Keeping: kept})
	add("chase-boat", settings.Settings{Keeping: kept})
	add("by-hls", settings.Settings{Inputs: []settings.Input{{Kind: settings.InputAddress, Address: "http://origin/start-line/index.m3u8"}}})
	add("by-dash", settings.Settings{Inputs: []settings.Input{{Kind: settings.InputAddress, Address: "http://origin/chase-boat/index.mpd"}}})
	add("by-channel", settings.Settings{Inputs: []settings.Input{{Kind: settings.InputChannel, Channel: "chase-boat"}}})
	for _, slug := range []string{"start-line", "chase-boat"} {
		w.store.Set(slug, store.Keeping{TimeShift: 2 * time.Hour})
	}

	// Cameras. The first stamps its pictures by a wall clock, as the second does by any.
	wall := media.TicksSince(time.Unix(0, 0), w.clock.Now())
	w.send(ctx, "start-line", ts.Stamps, wall%ts.Stamps.Turn, nil)
	w.send(ctx, "chase-boat", media.Clock{Scale: media.VideoTimescale, Turn: 1 << 32}, 1<<32-9*3600*media.VideoTimescale, func(n int64, now time.Time) {
		w.mu.Lock()
		defer w.mu.Unlock()
		w.arrived[n] = now
		delete(w.arrived, n-600)
	})

	// Inputs that fetch.
	net := newPipes()
	server := &http.Server{Handler: http.HandlerFunc(func(a http.ResponseWriter, r *http.Request) {
		a.Header().Set("Date", w.clock.Now().UTC().Format(http.TimeFormat)) // the machine's clock, as everything else
		w.web.ServeHTTP(a, r)
	})}
	w.all.Go(func() { _ = server.Serve(net) })
	c := &channels{o: w.o, film: w.film, trouble: map[string]string{}, sources: []source.Source{
		{Channel: "by-hls", Address: "http://origin/start-line/index.m3u8"}, {Channel: "by-dash", Address: "http://origin/chase-boat/index.mpd"},
		{Channel: "by-channel", From: "chase-boat", Address: "channel:chase-boat"}}}
	fetcher := &pull.Fetcher{Logger: slog.New(slog.DiscardHandler), Dial: net.dial, Now: w.clock.Now}
	runner := &source.Runner{Channels: c, Logger: slog.New(slog.DiscardHandler), Protocols: map[string]source.Protocol{"http": fetcher, "channel": &channel.Receiver{Channels: c}}}
	w.all.Go(func() { runner.Run(ctx) })
	context.AfterFunc(ctx, func() { _ = net.Close(); _ = server.Close() })

	// Relays: transport streams and RTP, of both channels.
	for _, slug := range []string{"start-line", "chase-boat"} {
		w.relay(ctx, slug+" over TS", slug, func(got *sink) onward.Sender {
			back := demux.NewStream(w.clock.Now)
			_, _ = back.Take("", func() (contribution.Feed, error) { return got, nil })
			conn := mux.NewConn(func(b []byte) error { back.Write(b); return nil }, func() error { back.Close(context.Canceled); return nil }, nil)
			return conn.Programme(1, slug)
		})
		w.relay(ctx, slug+" over RTP", slug, func(got *sink) onward.Sender { return &rtpSender{w: w, got: got, failed: make(chan error)} })
		w.overRTMP(ctx, slug)
		w.asFiles(ctx, slug)
	}
}

// overRTMP carries a channel to a server of RTMP.
func (w *world) overRTMP(ctx context.Context, slug string) {
	port := newPipes()
	var got *sink
	server := &rtmp.Server{Receiver: farEnd{feed: func() contribution.Feed { return got }}, Logger: slog.New(slog.DiscardHandler)}
	w.all.Go(func() { _ = server.Serve(port) })
	context.AfterFunc(ctx, func() { _ = port.Close() })
	w.relay(ctx, slug+" over RTMP", slug, func(s *sink) onward.Sender {
		got = s
		conn, err := rtmp.Dial(ctx, "rtmp://far-end/in/"+slug+"/key", rtmp.Options{Dial: port.dial})
		require.NoError(w.t, err)
		return rtmp.NewSender(conn)
	})
}

// asFiles writes a channel into a folder.
func (w *world) asFiles(ctx context.Context, slug string) {
	writer := &files.Writer{Channels: shelves{w.o}, Folder: w.sent}
	plan := &relay.Plan{Channel: slug, Name: "files", Address: "folder://" + slug, Full: "folder://" + slug}
	w.all.Go(func() {
		err := writer.Copy(ctx, plan, func() {}, func(int, int64) {}, func(string) {})
		if ctx.Err() == nil {
			w.t.Errorf("%s is no longer written as files: %v", slug, err)
		}
	})
}

func (w *world) send(ctx context.Context, slug string, clock media.Clock, begin int64, arrived func(int64, time.Time)) {
	feed, err := w.o.Open(contribution.Sender{Channel: slug, Key: "key", Protocol: "test", Remote: "192.0.2.1:5000"})
	require.NoError(w.t, err)
	s := &sender{world: w, film: w.film, clock: clock, begin: begin, arrived: arrived}
	w.all.Go(func() {
		s.run(ctx, feed)
		feed.End("over")
	})
}

// relay carries a channel to a far end, and again whenever that ends.
func (w *world) relay(ctx context.Context, name, slug string, dial func(*sink) onward.Sender) {
	got := &sink{w: w, name: name}
	w.sinks = append(w.sinks, got)
	w.all.Go(func() {
		for ctx.Err() == nil {
			tap := w.o.Channel(slug).Tap(onward.Choice{})
			var units [32]hub.Unit
			n, _, err := tap.Next(ctx, units[:])
			if err == nil {
				to := dial(got)
				c := onward.Carrier{To: to, Fixed: true, Idle: 10 * time.Second}
				_ = c.Run(ctx, tap, units[:n])
				_ = to.Close()
			}
			tap.Close()
			if ctx.Err() == nil {
				got.again++
				time.Sleep(time.Second)
			}
		}
	})
}

// sink is the far end of a relay. It implements contribution.Feed.
type sink struct {
	w     *world
	name  string
	order order
	scale [3]int64
	came  int64
	again int
}

func (s *sink) Track(t media.Track) { s.scale[t.Kind] = t.Stamps().Scale }
func (s *sink) Unit(id media.TrackID, stamp, composition int64, key bool, data []byte) {
	n := number(data)
	if n < 0 {
		return
	}
	if bytes.Contains(data, s.w.film.picture) {
		s.w.mu.Lock()
		defer s.w.mu.Unlock()
		s.came++
		s.order.see(s.w, s.name, n)
	}
}
func (s *sink) FrameRate(int64)                        {}
func (s *sink) Anchor(media.TrackID, int64, time.Time) {}
func (s *sink) Line(contribution.Line)                 {}
func (s *sink) Extras(map[string]string)               {}
func (s *sink) Splice(media.Clock, int64, []byte)      {}
func (s *sink) Caption(contribution.Caption)           {}
func (s *sink) Grid() time.Duration                    { return 0 }
func (s *sink) Pace() time.Duration                    { return 0 }
func (s *sink) End(string)                             {}
func (s *sink) Kicked() <-chan string                  { return nil }

// rtpSender packs units as RTP and reads its reports.
type rtpSender struct {
	w       *world
	got     *sink
	failed  chan error
	streams map[media.TrackID]*rtpmedia.Stream
	clocks  map[media.TrackID]media.Clock
	begun   time.Time
	video   media.TrackID
}

func (s *rtpSender) FrameRate(int64) {}
func (s *rtpSender) Track(t media.Track) {
	if s.streams == nil {
		s.streams, s.clocks, s.begun = map[media.TrackID]*rtpmedia.Stream{}, map[media.TrackID]media.Clock{}, s.w.clock.Now()
	}
	if t.Kind == media.Video {
		s.video = t.ID
	}
	st, err := rtpmedia.New(t, 96, s.begun)
	require.NoError(s.w.t, err)
	s.streams[t.ID], s.clocks[t.ID] = st, t.Stamps()
}
func (s *rtpSender) Unit(id media.TrackID, stamp, composition int64, key bool, data []byte) {
	pts := s.clocks[id].Ticks(stamp + composition)
	packets := s.streams[id].Packets(pts, key, data)
	if report := s.streams[id].Report(pts, time.Now()); report != nil {
		list, err := rtcp.Unmarshal(report)
		require.NoError(s.w.t, err)
		sr := list[0].(*rtcp.SenderReport)
		at := time.Unix(int64(sr.NTPTime>>32)-2208988800, 0)
		// The line's clock goes on as media time does, which follows the steps of the wall clock forward.
		if d := s.w.clock.Now().Sub(at); d.Abs() > 3*time.Second+s.w.setBack() {
			s.w.t.Errorf("%s: a report tells a time that is %v from the clock", s.got.name, d)
		}
	}
	if id == s.video {
		var all []byte
		for _, p := range packets {
			all = append(all, p.Payload...)
		}
		s.got.w.mu.Lock()
		defer s.got.w.mu.Unlock()
		if n := number(all); n >= 0 {
			s.got.came++
			s.got.order.see(s.w, s.got.name, n)
		}
	}
}
func (s *rtpSender) Cue(int64, []byte)    {}
func (s *rtpSender) Flush() error         { return nil }
func (s *rtpSender) Failed() <-chan error { return s.failed }
func (s *rtpSender) Close() error         { return nil }

// order checks that numbers go up, and counts those that are missing.
type order struct {
	last  int64
	until time.Time // the clock was set: until then some may be missing
}

func (o *order) see(w *world, who string, n int64) {
	switch missing := n - o.last - 1; {
	case o.last == 0, missing == 0:
	case n <= o.last:
		w.t.Errorf("%s: picture %d came behind %d", who, n, o.last)
	case missing <= 60 && time.Now().Before(o.until):
		w.lost[who] += missing
	default:
		w.t.Errorf("%s: %d pictures are missing before %d", who, missing, n)
	}
	o.last = n
}

// setBack is by how much the clock was set, in all: forward steps reach the media of one channel alone.
func (w *world) setBack() (d time.Duration) {
	w.clock.mu.Lock()
	defer w.clock.mu.Unlock()
	for i := 1; i < len(w.clock.steps); i++ {
		d += (w.clock.steps[i].by - w.clock.steps[i-1].by).Abs()
	}
	return d
}

// keptHours is how many recordings of an hour there are of a channel.
const keptHours = 6

// forgivenFor is how long after the clock was set pictures may be missing.
const forgivenFor = 5 * time.Minute

// forgive lets everybody miss a few pictures for a while.
func (w *world) forgive() {
	w.mu.Lock()
	defer w.mu.Unlock()
	for _, v := range w.views {
		v.order.until = time.Now().Add(forgivenFor)
		v.stepped = time.Now()
	}
	for _, s := range w.sinks {
		s.order.until = time.Now().Add(forgivenFor)
	}
}

// view is a viewer of one channel.
type view struct {
	w       *world
	slug    string
	next    map[string]uint64 // media sequence number behind what was seen, by rendition
	header  map[string]int64
	order   order
	offset  map[string]time.Duration // media time less the camera's time, by rendition
	stepped time.Time
	came    int64
}

func (w *world) get(path string) (int, []byte) {
	r := httptest.NewRequest("GET", path, nil)
	a := httptest.NewRecorder()
	w.web.ServeHTTP(a, r)
	return a.Code, a.Body.Bytes()
}

func (w *world) look() {
	for _, v := range w.views {
		v.look()
	}
}

// look reads what is new of all renditions.
func (v *view) look() {
	if v.next == nil {
		v.next, v.header, v.offset = map[string]uint64{}, map[string]int64{}, map[string]time.Duration{}
	}
	for _, name := range []string{"source", "audio"} {
		code, body := v.w.get("/" + v.slug + "/" + name + "/index.m3u8")
		if code != 200 {
			continue // dayIsOver tells when nothing came
		}
		p, err := hls.ReadMedia(body)
		require.NoError(v.w.t, err)
		var told time.Time
		for _, e := range p.Whole() {
			if !e.DateTime.IsZero() {
				told = e.DateTime
			}
			at := told
			if told = told.Add(e.Duration); e.MSN < v.next[name] || e.Gap {
				continue
			}
			code, b := v.w.get("/" + v.slug + "/" + name + "/" + e.URI)
			require.Equal(v.w.t, 200, code, "%s %s", v.slug, e.URI)
			scale := v.scale(name, e.Header)
			list, err := bmff.ReadFragments(b)
			require.NoError(v.w.t, err)
			v.next[name] = e.MSN + 1
			first := true
			for _, f := range list {
				for _, u := range f.Units {
					v.unit(name, &u, scale, at, first)
					first = false
				}
			}
		}
	}
	if d := v.offset["source"] - v.offset["audio"]; d.Abs() > 20*time.Millisecond && time.Since(v.stepped) > 2*time.Minute {
		v.w.t.Errorf("%s: video and audio are %v apart", v.slug, d)
	}
}

func (v *view) scale(name, uri string) int64 {
	if s := v.header[uri]; s > 0 {
		return s
	}
	code, b := v.w.get("/" + v.slug + "/" + name + "/" + uri)
	require.Equal(v.w.t, 200, code, uri)
	h, err := bmff.ReadHeader(b)
	require.NoError(v.w.t, err)
	clear(v.header)
	v.header[uri] = h.Timescale
	return h.Timescale
}

func (v *view) unit(name string, u *media.AccessUnit, scale int64, told time.Time, first bool) {
	n := number(u.Data)
	require.GreaterOrEqual(v.w.t, n, int64(0))
	each := frameEach
	if name == "source" {
		each = pictureEach
	}
	v.offset[name] = media.Duration(u.PTS, scale) - time.Duration(n)*each
	if name != "source" {
		return
	}
	v.w.mu.Lock()
	defer v.w.mu.Unlock()
	v.came++
	v.order.see(v.w, v.slug, n)
	if !first || time.Since(v.stepped) < 10*time.Minute {
		return
	}
	switch v.slug {
	case "start-line": // the camera's own clock
		want := v.w.clock.begun.Round(0).Add(time.Duration(n) * pictureEach)
		if ours := v.w.clock.Now(); want.Sub(ours).Abs() > 30*time.Second {
			// Its stamps are not taken for a wall clock then: times are this machine's, to half a segment.
			if d := ours.Sub(told); d < -4*time.Second || d > 40*time.Second {
				v.w.t.Errorf("%s: picture %d is told to be of %v, %v ago", v.slug, n, told, d)
			}
		} else if d := told.Sub(want); d.Abs() > 50*time.Millisecond {
			v.w.t.Errorf("%s: picture %d is told to be of %v, %v from the camera's clock", v.slug, n, told, d)
		}
	case "chase-boat":
		if want := v.w.arrived[n]; !want.IsZero() && told.Sub(want).Abs() > 50*time.Millisecond {
			v.w.t.Errorf("%s: picture %d is told to be of %v, %v from the clock", v.slug, n, told, told.Sub(want))
		}
	default: // fetched a little later
		if d := v.w.clock.Now().Sub(told); d < -5*time.Second || d > 90*time.Second {
			v.w.t.Errorf("%s: picture %d is told to be of %v, %v ago", v.slug, n, told, d)
		}
	}
}

// lookBack reads the time-shift and the manifests.
func (w *world) lookBack() {
	for _, slug := range []string{"start-line", "chase-boat"} {
		if w.clock.elapsed() < 2*time.Hour || time.Since(w.views[slug].stepped) < 2*time.Hour {
			continue
		}
		from := w.clock.Now().Add(-time.Hour).UTC().Format("2006-01-02T15:04:05.000Z")
		code, body := w.get("/" + slug + "/source/index.m3u8?from=" + from)
		require.Equal(w.t, 200, code, "%s", body)
		p, err := hls.ReadMedia(body)
		require.NoError(w.t, err)
		assert.InDelta(w.t, 3600, length(p).Seconds(), 20, "an hour of %s", slug)
		if whole := p.Whole(); len(whole) > 0 && slug == "chase-boat" {
			assert.Less(w.t, w.clock.Now().Sub(whole[0].DateTime).Abs(), time.Hour+10*time.Second)
			code, _ = w.get("/" + slug + "/source/" + whole[0].URI)
			assert.Equal(w.t, 200, code)
		}
		code, body = w.get("/" + slug + "/index.mpd")
		require.Equal(w.t, 200, code)
		var m dash.MPD
		require.NoError(w.t, m.Unmarshal(body))
		assert.NotEmpty(w.t, m.Periods)
	}
}

// dayIsOver checks that everybody still gets pictures.
func (w *world) dayIsOver() {
	w.mu.Lock()
	defer w.mu.Unlock()
	newest := int64(w.clock.elapsed() / pictureEach)
	for slug, v := range w.views {
		assert.Greater(w.t, v.order.last, newest-120, "%s stands still", slug)
	}
	for _, s := range w.sinks {
		assert.Greater(w.t, s.order.last, newest-60, "%s stands still", s.name)
	}
	for _, slug := range []string{"start-line", "chase-boat"} {
		folder := filepath.Join(w.sent, slug, "source")
		b, err := os.ReadFile(filepath.Join(folder, "index.m3u8"))
		require.NoError(w.t, err)
		p, err := hls.ReadMedia(b)
		require.NoError(w.t, err)
		e := p.Whole()[len(p.Whole())-1]
		b, err = os.ReadFile(filepath.Join(folder, filepath.FromSlash(e.URI)))
		require.NoError(w.t, err)
		list, err := bmff.ReadFragments(b)
		require.NoError(w.t, err)
		assert.Greater(w.t, number(list[0].Units[0].Data), newest-60, "%s is no longer written as files", slug)
	}
}

// record goes on with the recording of a channel, of which the newest hours are kept, one recording each.
func (w *world) record(hour time.Time) {
	for _, slug := range []string{"start-line", "chase-boat"} {
		holds := append(w.holds[slug], store.Hold{From: hour, Renditions: []string{"source", "audio"}})
		if n := len(holds); n > 1 {
			holds[n-2].To = hour
			if bytes, _, _ := w.store.Held(slug, holds[n-2]); bytes == 0 {
				w.t.Errorf("%s: nothing is held of the hour from %v", slug, holds[n-2].From)
			}
		}
		holds = slices.Clone(holds[max(0, len(holds)-keptHours):])
		w.holds[slug] = holds
		w.store.Set(slug, store.Keeping{TimeShift: 2 * time.Hour, Holds: slices.Clone(holds)})
		if begun := w.clock.elapsed() > (keptHours+1)*time.Hour; begun {
			oldest, _, _ := w.store.Held(slug, holds[0])
			newest, _, _ := w.store.Held(slug, holds[len(holds)-2])
			if oldest < newest*8/10 && time.Since(w.views[slug].stepped) > (keptHours+1)*time.Hour {
				w.t.Errorf("%s: the oldest recording holds %d bytes, the newest %d", slug, oldest, newest)
			}
		}
	}
}

// footprint is what the process holds.
type footprint struct {
	heap              uint64
	goroutines, files int
	kept              int64 // bytes
}

func (f footprint) String() string {
	return fmt.Sprintf("%.1f MB, %d goroutines, %d descriptors, %.1f MB kept", float64(f.heap)/1e6, f.goroutines, f.files, float64(f.kept)/1e6)
}

func (w *world) footprint() (f footprint) {
	var m runtime.MemStats
	runtime.GC()
	runtime.ReadMemStats(&m)
	list, _ := os.ReadDir("/proc/self/fd")
	f.heap, f.goroutines, f.files = m.HeapAlloc, runtime.NumGoroutine(), len(list)
	for _, slug := range []string{"start-line", "chase-boat"} {
		st, _ := w.store.Status(slug)
		f.kept += st.Bytes
	}
	return f
}

// newStopwatch measures real time, which stands still for everything else in here.
func newStopwatch() func() string {
	read := func() string {
		b, _ := os.ReadFile("/proc/uptime")
		first, _, _ := strings.Cut(string(b), " ")
		return first
	}
	begun := read()
	return func() string { return begun + " to " + read() + " s of uptime" }
}

// length is how much a playlist lists.
func length(p *hls.Playlist) (d time.Duration) {
	for _, e := range p.Whole() {
		d += e.Duration
	}
	return d
}
