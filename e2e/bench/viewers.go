package main

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"sort"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"github.com/coder/websocket"
	"github.com/pion/webrtc/v4"

	"metaplasis/demo"
	"metaplasis/internal/contribution/tracks"
	"metaplasis/internal/core/flv"
	"metaplasis/internal/core/hub"
	"metaplasis/internal/core/media"
	"metaplasis/internal/network/rtc"
	"metaplasis/internal/onward"
	"metaplasis/internal/protocol/socket"
	rtcout "metaplasis/internal/protocol/webrtc"
)

// station puts a loop out, forever, at a bitrate.
type station struct {
	h      *hub.Hub
	tracks map[media.Kind]*media.Track
	units  []stationUnit
	length int64 // ticks of media.VideoTimescale
	bits   int64 // a second
}

type stationUnit struct {
	kind             media.Kind
	at, dts, compose int64
	key              bool
	data             []byte
}

func (s *station) FrameRate(int64) {}
func (s *station) Track(t media.Track) {
	if s.tracks[t.Kind] == nil {
		t.ID = media.TrackID(t.Kind)
		s.tracks[t.Kind] = &t
	}
}
func (s *station) Unit(id media.TrackID, stamp, composition int64, key bool, data []byte) {
	kind := media.Kind(id >> 8)
	t := s.tracks[kind]
	at := t.Stamps().Ticks(stamp)
	s.units = append(s.units, stationUnit{kind, at, media.Rescale(at, media.VideoTimescale, t.Timescale), t.Stamps().Ticks(composition), key, bytes.Clone(data)})
	s.bits += int64(len(data)) * 8
}

func newStation(loop *demo.Loop) (*station, error) {
	s := &station{h: hub.New(64<<20, 8*media.VideoTimescale), tracks: map[media.Kind]*media.Track{}}
	set := tracks.New(s)
	r, err := flv.NewReader(bytes.NewReader(loop.FLV))
	if err != nil {
		return nil, err
	}
	for {
		t, err := r.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return nil, err
		}
		kind := media.Video
		switch t.Type {
		case flv.TagAudio:
			kind = media.Audio
		case flv.TagVideo:
		default:
			continue
		}
		if err := flv.Bodies(t.Type, t.Body, func(b *flv.Body) error { return set.Body(kind, t.Timestamp, b) }); err != nil {
			return nil, err
		}
	}
	s.length = int64(loop.Frames) * 3000
	s.bits = s.bits * media.VideoTimescale / s.length
	return s, nil
}

// run puts the loop out at so many times its pace.
func (s *station) run(ctx context.Context, speed float64) {
	begin := time.Now()
	for turn := int64(0); ; turn++ {
		for i := range s.units {
			u := &s.units[i]
			at := u.at + turn*s.length
			if d := time.Until(begin.Add(time.Duration(float64(at) / speed * 1e9 / media.VideoTimescale))); d > 0 {
				select {
				case <-ctx.Done():
					return
				case <-time.After(d):
				}
			}
			t := s.tracks[u.kind]
			dts := u.dts + media.Rescale(turn*s.length, media.VideoTimescale, t.Timescale)
			s.h.Push(t, &media.AccessUnit{DTS: dts, PTS: dts + u.compose, Key: u.key || u.kind == media.Audio, Data: u.data, Duration: t.FrameSamples})
		}
	}
}

type stationTap struct {
	s *station
	r *hub.Reader
}

// Tap implements onward.Channels.
func (s *station) Tap(_ string, c onward.Choice) (onward.Tap, error) {
	id := media.TrackID(media.Video)
	if c.Only == media.Audio || c.Real != nil && len(c.Real.Video) == 0 {
		id = media.TrackID(media.Audio)
	}
	return &stationTap{s, s.h.NewReader(hub.Newest, id)}, nil
}

// Runs implements onward.Channels.
func (s *station) Runs(string) (known, video, sound bool) {
	return true, s.tracks[media.Video] != nil, s.tracks[media.Audio] != nil
}

// Has implements onward.Channels.
func (s *station) Has(_, rung string) bool { return rung == "" || rung == "source" }

// Epoch implements onward.Channels.
func (s *station) Epoch(string) time.Time { return time.Time{} }

// Sounds implements onward.Channels.
func (s *station) Sounds(string) []onward.Sound { return nil }

// Offers implements onward.Channels.
func (s *station) Offers(string, *onward.Real) []onward.Offer {
	return []onward.Offer{{Rung: "source", Width: 1280, Height: 720}}
}

func (t *stationTap) Tracks() (video, sound *media.Track) {
	return t.s.tracks[media.Video], t.s.tracks[media.Audio]
}
func (t *stationTap) Close() {}
func (t *stationTap) Next(ctx context.Context, into []hub.Unit) (int, hub.Loss, error) {
	for {
		if n, lost := t.r.Read(into); n > 0 {
			return n, lost, nil
		}
		ready, _ := t.r.Wait()
		select {
		case <-ready:
		case <-ctx.Done():
			return 0, hub.Loss{}, ctx.Err()
		}
	}
}

const viewedBits = 2_000_000

// audience starts this program as so many viewers of an address, and returns what they saw and the processor time that this
// process took meanwhile.
func audience(way, address string, n int, take time.Duration) (seen audienceReport, busy time.Duration, err error) {
	exe, err := os.Executable()
	if err != nil {
		return seen, 0, err
	}
	cmd := exec.Command(exe, "audience", way, address, strconv.Itoa(n), take.String())
	cmd.Stderr = os.Stderr
	out, err := cmd.StdoutPipe()
	if err != nil {
		return seen, 0, err
	}
	if err := cmd.Start(); err != nil {
		return seen, 0, err
	}
	d := json.NewDecoder(out)
	var ready string
	if err := d.Decode(&ready); err != nil {
		return seen, 0, fmt.Errorf("viewers: %w", err)
	}
	var before, after syscall.Rusage
	_ = syscall.Getrusage(syscall.RUSAGE_SELF, &before)
	if err := d.Decode(&seen); err != nil {
		return seen, 0, fmt.Errorf("viewers: %w", err)
	}
	_ = syscall.Getrusage(syscall.RUSAGE_SELF, &after)
	spent := func(u *syscall.Rusage) time.Duration { return time.Duration(u.Utime.Nano() + u.Stime.Nano()) }
	return seen, spent(&after) - spent(&before), cmd.Wait()
}

// audienceReport is what viewers saw together.
type audienceReport struct {
	Bytes int64   `json:"bytes"`
	Lost  int64   `json:"lost"`
	P99   float64 `json:"p99"` // milliseconds from the first viewer's to the last's of the same message
}

// watchers are viewers of WebSocket and WebRTC, against a bare writer of the same messages.
func watchers() error {
	s, err := newStation(&demo.Loops[0])
	if err != nil {
		return err
	}
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	go s.run(ctx, float64(viewedBits)/float64(s.bits))
	const take = 10 * time.Second
	join := func(*http.Request, string, string) (func(), error) { return func() {}, nil }
	web := httptest.NewServer(socket.New(s, join).Routes())
	defer web.Close()
	const sockets = 200
	seen, busy, err := audience("websocket", web.URL+"/pier", sockets, take)
	if err != nil {
		return err
	}
	each := float64(busy) / float64(seen.Bytes)
	bare, err := bareWriter(seen.Bytes/int64(sockets), sockets)
	if err != nil {
		return err
	}
	perCore := func(each float64) string { return fmt.Sprintf("%.0f a core", 1e9/(each*viewedBits/8)) }
	row("WebSocket viewers of 2 Mbit/s", perCore(each), perCore(bare), fmt.Sprintf("%.2f", bare/each), ">= 0.80")
	row(fmt.Sprintf("WebSocket: %d viewers, the last behind the first, p99", sockets), fmt.Sprintf("%.1f ms", seen.P99), "", "", "")

	port, err := rtc.Open(rtc.Config{Address: "127.0.0.1:0"}, slog.New(slog.DiscardHandler))
	if err != nil {
		return err
	}
	defer port.Close()
	w := rtcout.NewWHEP(port, s, func(*http.Request, string) error { return nil }, slog.New(slog.DiscardHandler))
	defer w.Close()
	rtcWeb := httptest.NewServer(http.StripPrefix("/whep", w.Routes()))
	defer rtcWeb.Close()
	const viewers = 100
	seen, busy, err = audience("webrtc", rtcWeb.URL+"/whep/pier", viewers, take)
	if err != nil {
		return err
	}
	row("WebRTC viewers of 2 Mbit/s", fmt.Sprintf("%.0f a core", float64(viewers)*take.Seconds()/busy.Seconds()*float64(seen.Bytes)*8/take.Seconds()/viewers/viewedBits), "", "",
		fmt.Sprintf(">= 300; %d of %d packets lost", seen.Lost, seen.Bytes/1100))
	return nil
}

// bareWriter writes so many bytes to each of some connections, in messages of a picture's size, and returns the nanoseconds of
// processor time a byte.
func bareWriter(each int64, conns int) (float64, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0, err
	}
	defer func() { _ = l.Close() }()
	exe, err := os.Executable()
	if err != nil {
		return 0, err
	}
	cmd := exec.Command(exe, "audience", "bare", l.Addr().String(), strconv.Itoa(conns), "0s")
	if err := cmd.Start(); err != nil {
		return 0, err
	}
	var list []net.Conn
	for range conns {
		c, err := l.Accept()
		if err != nil {
			return 0, err
		}
		list = append(list, c)
	}
	message := make([]byte, viewedBits/8/77) // 30 pictures and 47 frames of sound a second
	var before, after syscall.Rusage
	_ = syscall.Getrusage(syscall.RUSAGE_SELF, &before)
	var all sync.WaitGroup
	var sent atomic.Int64
	rounds := each / int64(len(message))
	for _, c := range list {
		all.Go(func() {
			tick := time.NewTicker(time.Second / 77)
			defer tick.Stop()
			for range min(rounds, 77*5) {
				<-tick.C
				n, _ := c.Write(message)
				sent.Add(int64(n))
			}
		})
	}
	all.Wait()
	_ = syscall.Getrusage(syscall.RUSAGE_SELF, &after)
	for _, c := range list {
		_ = c.Close()
	}
	spent := after.Utime.Nano() + after.Stime.Nano() - before.Utime.Nano() - before.Stime.Nano()
	return float64(spent) / float64(sent.Load()), cmd.Wait()
}

// audienceOf is the other process: audience WAY ADDRESS N TIME.
//
//large:one measurement, told from its begin to its end
func audienceOf(args []string) {
	n, _ := strconv.Atoi(args[2])
	take, _ := time.ParseDuration(args[3])
	var bytesSeen, lost, connected atomic.Int64
	var mu sync.Mutex
	arrived := map[uint32][]time.Time{}
	counting := atomic.Bool{}
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	var all sync.WaitGroup
	for range n {
		all.Go(func() {
			switch args[0] {
			case "bare":
				c, err := net.Dial("tcp", args[1])
				if err != nil {
					return
				}
				_, _ = io.Copy(io.Discard, c)
			case "websocket":
				c, _, err := websocket.Dial(ctx, args[1], nil)
				if err != nil {
					return
				}
				c.SetReadLimit(8 << 20)
				connected.Add(1)
				for {
					kind, r, err := c.Reader(ctx)
					if err != nil {
						return
					}
					b, err := io.ReadAll(r)
					if err != nil {
						return
					}
					if kind != websocket.MessageBinary || !counting.Load() {
						continue
					}
					bytesSeen.Add(int64(len(b)))
					if b[0] == 2 && b[1] == 1 {
						number := uint32(b[4])<<24 | uint32(b[5])<<16 | uint32(b[6])<<8 | uint32(b[7])
						mu.Lock()
						arrived[number] = append(arrived[number], time.Now())
						mu.Unlock()
					}
				}
			case "webrtc":
				_ = receiveWebRTC(ctx, args[1], func(n int) {
					if counting.Load() {
						bytesSeen.Add(int64(n))
					}
				}, func() { connected.Add(1) }, &lost)
			}
		})
	}
	if args[0] == "bare" {
		all.Wait()
		return
	}
	for begin := time.Now(); connected.Load() < int64(n) && time.Since(begin) < 30*time.Second; {
		time.Sleep(20 * time.Millisecond)
	}
	time.Sleep(2 * time.Second)
	lost.Store(0)
	counting.Store(true)
	_ = json.NewEncoder(os.Stdout).Encode("ready")
	time.Sleep(take)
	counting.Store(false)
	report := audienceReport{Bytes: bytesSeen.Load(), Lost: lost.Load()}
	cancel()
	mu.Lock()
	var late []float64
	for _, list := range arrived {
		if len(list) < n {
			continue
		}
		sort.Slice(list, func(i, j int) bool { return list[i].Before(list[j]) })
		for _, at := range list {
			late = append(late, float64(at.Sub(list[0]).Microseconds())/1000)
		}
	}
	mu.Unlock()
	if sort.Float64s(late); len(late) > 0 {
		report.P99 = late[len(late)*99/100]
	}
	_ = json.NewEncoder(os.Stdout).Encode(report)
}

// receiveWebRTC receives pictures by WHEP until the context ends.
func receiveWebRTC(ctx context.Context, address string, got func(int), up func(), lost *atomic.Int64) error {
	var e webrtc.SettingEngine
	e.SetIncludeLoopbackCandidate(true)
	pc, err := webrtc.NewAPI(webrtc.WithSettingEngine(e)).NewPeerConnection(webrtc.Configuration{})
	if err != nil {
		return err
	}
	defer func() { _ = pc.Close() }()
	for _, kind := range []webrtc.RTPCodecType{webrtc.RTPCodecTypeVideo} {
		if _, err := pc.AddTransceiverFromKind(kind, webrtc.RTPTransceiverInit{Direction: webrtc.RTPTransceiverDirectionRecvonly}); err != nil {
			return err
		}
	}
	var once sync.Once
	pc.OnTrack(func(t *webrtc.TrackRemote, _ *webrtc.RTPReceiver) {
		once.Do(up)
		var last uint16
		first := true
		for {
			p, _, err := t.ReadRTP()
			if err != nil {
				return
			}
			if !first && p.SequenceNumber != last+1 {
				lost.Add(1)
			}
			first, last = false, p.SequenceNumber
			got(len(p.Payload) + 12)
		}
	})
	offer, err := pc.CreateOffer(nil)
	if err != nil {
		return err
	}
	gathered := webrtc.GatheringCompletePromise(pc)
	if err := pc.SetLocalDescription(offer); err != nil {
		return err
	}
	<-gathered
	var answer []byte
	for {
		res, err := http.Post(address, "application/sdp", strings.NewReader(pc.LocalDescription().SDP))
		if err != nil {
			return err
		}
		answer, err = io.ReadAll(res.Body)
		_ = res.Body.Close()
		if err != nil {
			return err
		}
		if res.StatusCode == http.StatusCreated {
			break
		}
		time.Sleep(200 * time.Millisecond)
	}
	if err := pc.SetRemoteDescription(webrtc.SessionDescription{Type: webrtc.SDPTypeAnswer, SDP: string(answer)}); err != nil {
		return err
	}
	<-ctx.Done()
	return nil
}
