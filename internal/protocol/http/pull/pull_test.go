package pull

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/internal/contribution"
	"metaplasis/internal/contribution/source"
	"metaplasis/internal/core/avc"
	"metaplasis/internal/core/bmff"
	"metaplasis/internal/core/dash"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/ts"
)

// sink is a feed that notes the stamps of each track.
type sink struct {
	mu     sync.Mutex
	begun  time.Time
	tracks map[media.TrackID]media.Track
	stamps map[media.TrackID][]int64
	last   time.Duration
}

func (s *sink) Track(t media.Track) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.tracks[t.ID] = t
}

func (s *sink) Unit(id media.TrackID, stamp, _ int64, _ bool, _ []byte) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.stamps[id] = append(s.stamps[id], stamp)
	s.last = time.Since(s.begun)
}

func (s *sink) FrameRate(int64)                        {}
func (s *sink) Anchor(media.TrackID, int64, time.Time) {}
func (s *sink) Line(contribution.Line)                 {}
func (s *sink) Extras(map[string]string)               {}
func (s *sink) Caption(contribution.Caption)           {}
func (s *sink) Splice(media.Clock, int64, []byte)      {}
func (s *sink) Grid() time.Duration                    { return 0 }
func (s *sink) Pace() time.Duration                    { return 0 }
func (s *sink) End(string)                             {}
func (s *sink) Kicked() <-chan string                  { return nil }
func (s *sink) count(id media.TrackID) (n int)         { return len(s.stamps[id]) }

// pipes is a listener whose connections are in memory.
type pipes struct {
	conns chan net.Conn
	once  sync.Once
	done  chan struct{}
}

func (p *pipes) Accept() (net.Conn, error) {
	select {
	case c := <-p.conns:
		return c, nil
	case <-p.done:
		return nil, net.ErrClosed
	}
}

func (p *pipes) Close() error { p.once.Do(func() { close(p.done) }); return nil }

func (p *pipes) Addr() net.Addr { return &net.TCPAddr{} }

// receive fetches an address of a handler until it ends or for so long, on a clock that is simulated.
func receive(t *testing.T, address string, h http.Handler, most time.Duration) (*sink, error) {
	t.Helper()
	out := &sink{begun: time.Now(), tracks: map[media.TrackID]media.Track{}, stamps: map[media.TrackID][]int64{}}
	p := &pipes{conns: make(chan net.Conn), done: make(chan struct{})}
	server := &http.Server{Handler: h, ReadHeaderTimeout: time.Minute}
	go func() { _ = server.Serve(p) }()
	u, err := url.Parse(address)
	require.NoError(t, err)
	ctx, cancel := context.WithTimeout(t.Context(), most)
	defer cancel()
	f := &Fetcher{Logger: slog.New(slog.DiscardHandler), Dial: func(ctx context.Context, _, _ string) (net.Conn, error) {
		near, far := net.Pipe()
		select {
		case p.conns <- far:
			return near, nil
		case <-ctx.Done():
			return nil, ctx.Err()
		}
	}}
	err = f.Receive(ctx, &source.Line{URL: u, Problem: func(string) {},
		Open: func(string, string, time.Duration) (contribution.Feed, error) { return out, nil }})
	_ = server.Close()
	synctest.Wait()
	return out, err
}

const frame = 1024

func sound(language string) media.Track {
	return media.Track{Kind: media.Audio, Codec: media.AAC, Timescale: 48000, Config: []byte{0x11, 0x90}, SampleRate: 48000, Channels: 2, FrameSamples: frame, Language: language}
}

// units are consecutive frames.
func units(from, n int64) (list []media.AccessUnit) {
	for i := range n {
		list = append(list, media.AccessUnit{DTS: (from + i) * frame, PTS: (from + i) * frame, Duration: frame, Key: true, Data: make([]byte, 60)})
	}
	return list
}

func segment(from, n int64) []byte {
	t := sound("")
	return bmff.Chunk(&t, bmff.ChunkOptions{First: true, Sequence: uint32(from)}, units(from, n))
}

// A playlist behind a redirect, with a byte order mark, names segments beside where it led; one of them comes seconds late.
func TestAPlaylistBehindARedirect(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		track := sound("")
		begun := time.Now()
		mux := http.NewServeMux()
		mux.Handle("/live.m3u8", http.RedirectHandler("/edge/7/list.m3u8", http.StatusFound))
		mux.HandleFunc("/edge/7/list.m3u8", func(w http.ResponseWriter, _ *http.Request) {
			fmt.Fprint(w, "\ufeff#EXTM3U\n#EXT-X-VERSION:7\n#EXT-X-TARGETDURATION:2\n#EXT-X-MAP:URI=\"init.mp4\"\n")
			for n := range 4 {
				fmt.Fprintf(w, "#EXTINF:2,\n%d.m4s\n", n)
			}
			fmt.Fprint(w, "#EXT-X-ENDLIST\n")
		})
		mux.HandleFunc("/edge/7/init.mp4", func(w http.ResponseWriter, _ *http.Request) { _, _ = w.Write(bmff.Header(&track)) })
		mux.HandleFunc("/edge/7/{name}", func(w http.ResponseWriter, r *http.Request) {
			var n int64
			_, _ = fmt.Sscanf(r.PathValue("name"), "%d.m4s", &n)
			if n == 2 && time.Since(begun) < 2500*time.Millisecond {
				http.NotFound(w, r)
				return
			}
			_, _ = w.Write(segment(n*94, 94))
		})
		out, err := receive(t, "http://origin.example/live.m3u8", mux, time.Minute)
		require.ErrorIs(t, err, errEnded)
		require.Len(t, out.stamps, 1)
		for id := range out.stamps {
			assert.Equal(t, 4*94, out.count(id), "every frame of every segment, the last ones too")
		}
	})
}

// A live window of five segments in transport streams, behind five of which the times start over.
func TestADiscontinuityBehindFiveSegments(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		begun := time.Now()
		track := sound("")
		const each, window, at = 94, 5, 5
		mux := http.NewServeMux()
		mux.HandleFunc("/live.m3u8", func(w http.ResponseWriter, _ *http.Request) {
			next := 5 + int(time.Since(begun)/(2*time.Second))
			from := max(0, next-window)
			fmt.Fprintf(w, "#EXTM3U\n#EXT-X-VERSION:3\n#EXT-X-TARGETDURATION:2\n#EXT-X-MEDIA-SEQUENCE:%d\n", from)
			if from > at {
				fmt.Fprint(w, "#EXT-X-DISCONTINUITY-SEQUENCE:1\n")
			}
			for n := from; n < next; n++ {
				if n == at {
					fmt.Fprint(w, "#EXT-X-DISCONTINUITY\n")
				}
				fmt.Fprintf(w, "#EXTINF:2,\n%d.ts\n", n)
			}
			if next >= 14 {
				fmt.Fprint(w, "#EXT-X-ENDLIST\n")
			}
		})
		mux.HandleFunc("/{name}", func(w http.ResponseWriter, r *http.Request) {
			var n int64
			_, _ = fmt.Sscanf(r.PathValue("name"), "%d.ts", &n)
			from := 3_000_000 + n*each // hours before the discontinuity, and nothing behind it
			if n >= at {
				from = (n - at) * each
			}
			_, _ = w.Write(openEnded(ts.Segment(&ts.Input{Audio: &track, AudioUnits: units(from, each), FrameHeader: adts,
				Video: &pictures, VideoUnits: shown(from, each)})))
		})
		out, err := receive(t, "http://origin.example/live.m3u8", mux, time.Minute)
		require.ErrorIs(t, err, errEnded)
		require.Len(t, out.stamps, 2)
		for id, track := range out.tracks {
			lost := 11*each - out.count(id)
			assert.True(t, lost == 0 || track.Kind == media.Audio && lost <= 4, "from two before the edge on, every frame but the sound before the first picture: %d of %s are missing", lost, track.Kind)
		}
		assert.Less(t, out.last, 25*time.Second, "nothing is waited for by its old times")
	})
}

// pictures is a track of H.264 of 128 by 96.
var pictures = media.Track{Kind: media.Video, Codec: media.H264, Timescale: 48000, Width: 128, Height: 96,
	Config: (&avc.Config{LengthSize: 4, SPS: [][]byte{{0x67, 0x42, 0, 0x0a, 0xf8, 0x41, 0xa2}}, PPS: [][]byte{{0x68, 0xce, 0x38, 0x80}}}).Marshal()}

// shown are pictures as far apart as the frames of sound.
func shown(from, n int64) (list []media.AccessUnit) {
	for _, u := range units(from, n) {
		u.Data = avc.AppendNAL(nil, []byte{0x65, 0x05, 0x88, 0x84, 0x21, 0xa0, 1, 2, 3, 4})
		list = append(list, u)
	}
	return list
}

// openEnded takes their lengths from PES packets of pictures, as most encoders leave them out: the next packet ends them.
func openEnded(b []byte) []byte {
	for at := 0; at < len(b); at += ts.PacketSize {
		body := b[at+4 : at+ts.PacketSize]
		if b[at+3]&0x20 != 0 {
			body = body[1+int(body[0]):]
		}
		if b[at+1]&0x40 != 0 && len(body) > 6 && body[2] == 1 && body[3] == 0xe0 {
			body[4], body[5] = 0, 0
		}
	}
	return b
}

// adts is the header of a frame of AAC-LC at 48 kHz in stereo (ISO/IEC 14496-3, 1.A.2).
func adts(size int) []byte {
	n := size + 7
	return []byte{0xff, 0xf1, 0x4c, 0x80 | byte(n>>11), byte(n >> 3), byte(n<<5) | 0x1f, 0xfc}
}

// mpd serves a static manifest, and segments of any representation of it.
func mpd(periods string) http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc("/live.mpd", func(w http.ResponseWriter, _ *http.Request) {
		fmt.Fprintf(w, "\ufeff<MPD xmlns=\"urn:mpeg:dash:schema:mpd:2011\" profiles=\"x\" type=\"static\" mediaPresentationDuration=\"PT100S\">%s</MPD>", periods)
	})
	mux.HandleFunc("/{name}/{file}", func(w http.ResponseWriter, r *http.Request) {
		track := sound("")
		var n int64
		if _, err := fmt.Sscanf(r.PathValue("file"), "%d.m4s", &n); err != nil {
			_, _ = w.Write(bmff.Header(&track))
			return
		}
		_, _ = w.Write(segment(n, 1))
	})
	return mux
}

func set(name, language string, count int) string {
	return fmt.Sprintf(`<AdaptationSet contentType="audio" lang="%s"><SegmentTemplate timescale="48000" startNumber="0" media="%s/$Number$.m4s" initialization="%s/init.mp4"><SegmentTimeline><S t="0" d="1024" r="%d"/></SegmentTimeline></SegmentTemplate><Representation id="%s" mimeType="audio/mp4" bandwidth="1"/></AdaptationSet>`,
		language, name, name, count-1, name)
}

// A manifest that is whole from the begin may name any number of segments.
func TestAManifestOfManySegments(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		out, err := receive(t, "http://origin.example/live.mpd", mpd(`<Period id="a" start="PT0S">`+set("a", "en", 700)+set("b", "fr", 700)+`</Period>`), time.Minute)
		require.ErrorIs(t, err, errEnded)
		require.Len(t, out.stamps, 2)
		for id := range out.stamps {
			assert.Equal(t, 700, out.count(id))
		}
	})
}

// Each of twenty periods names its representations again: they go on in the feed's two tracks, by their languages.
func TestPeriodsWithOtherRepresentations(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		var b strings.Builder
		for n := range 20 {
			sets := []string{set(fmt.Sprintf("a%d", n), "en", 10), set(fmt.Sprintf("b%d", n), "fr", 10)}
			if n%2 == 1 {
				sets[0], sets[1] = sets[1], sets[0]
			}
			fmt.Fprintf(&b, `<Period id="p%d" duration="PT0.2133S">%s</Period>`, n, strings.Join(sets, ""))
		}
		out, err := receive(t, "http://origin.example/live.mpd", mpd(b.String()), time.Minute)
		require.ErrorIs(t, err, errEnded)
		require.Len(t, out.stamps, 2)
		languages := map[string]bool{}
		for id := range out.stamps {
			assert.Equal(t, 200, out.count(id))
			languages[out.tracks[id].Language] = true
		}
		assert.Equal(t, map[string]bool{"en": true, "fr": true}, languages)
	})
}

func TestPlacesOfSounds(t *testing.T) {
	var s places
	period := func(id string, languages ...string) dash.Period {
		p := dash.Period{ID: id}
		for _, l := range languages {
			p.Sets = append(p.Sets, dash.AdaptationSet{ContentType: "audio", Lang: l, Representations: []dash.Representation{{ID: "r" + l}}})
		}
		return p
	}
	got := s.chosen(&dash.MPD{Periods: []dash.Period{period("1", "en", "fr"), period("2", "fr", "en"), period("3", "de"), period("4", "fr", "es", "it")}})
	for name, want := range map[periodName]int{{"1", "ren"}: 1, {"1", "rfr"}: 2, {"2", "rfr"}: 2, {"2", "ren"}: 1, {"3", "rde"}: 1, {"4", "rfr"}: 2, {"4", "res"}: 1, {"4", "rit"}: 3} {
		assert.Equal(t, want, got[name].number, "%v", name)
	}
	var many []string
	for n := range 12 {
		many = append(many, fmt.Sprint("l", n))
	}
	assert.Len(t, s.chosen(&dash.MPD{Periods: []dash.Period{period("5", many...)}}), maxRenditions-1)
}

// The clock that a manifest names counts, whatever the dates of answers say.
func TestTheClockOfAManifest(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		track := sound("")
		const ahead = 40 * time.Second
		mux := http.NewServeMux()
		mux.HandleFunc("/live.mpd", func(w http.ResponseWriter, _ *http.Request) {
			fmt.Fprintf(w, `<MPD xmlns="urn:mpeg:dash:schema:mpd:2011" profiles="x" type="dynamic" availabilityStartTime="1970-01-01T00:00:00Z" minimumUpdatePeriod="PT2S" timeShiftBufferDepth="PT10S"><Period id="a" start="PT0S"><AdaptationSet contentType="audio"><SegmentTemplate timescale="1" duration="2" startNumber="0" media="a/$Number$.m4s" initialization="a/init.mp4"/><Representation id="a" mimeType="audio/mp4" bandwidth="1"/></AdaptationSet></Period><UTCTiming schemeIdUri="urn:mpeg:dash:utc:ntp:2014" value="ntp.example"/><UTCTiming schemeIdUri="urn:mpeg:dash:utc:http-xsdate:2014" value="/time"/></MPD>`)
		})
		mux.HandleFunc("/time", func(w http.ResponseWriter, _ *http.Request) {
			fmt.Fprint(w, time.Now().Add(ahead).UTC().Format(time.RFC3339Nano))
		})
		var first int64
		var early error
		mux.HandleFunc("/a/{file}", func(w http.ResponseWriter, r *http.Request) {
			var n int64
			if _, err := fmt.Sscanf(r.PathValue("file"), "%d.m4s", &n); err != nil {
				_, _ = w.Write(bmff.Header(&track))
				return
			}
			if now := time.Now().Add(ahead).Unix(); (n+1)*2 > now {
				early = errors.Join(early, fmt.Errorf("segment %d was asked for %d s too early", n, (n+1)*2-now))
				http.NotFound(w, r)
				return
			}
			if first == 0 {
				first = n
			}
			_, _ = w.Write(segment(n*94, 94))
		})
		edge := time.Now().Add(ahead).Unix()/2 - 1
		_, _ = receive(t, "http://origin.example/live.mpd", mux, 10*time.Second)
		require.NoError(t, early)
		assert.Equal(t, edge-fromEnd+1, first)
	})
}
