package main

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"net"
	"net/http"
	"net/netip"
	"os/exec"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/coder/websocket"
	"github.com/pion/webrtc/v4"
	"golang.org/x/net/ipv4"

	"metaplasis/demo"
	"metaplasis/internal/api"
	"metaplasis/internal/camera"
	"metaplasis/internal/core/sap"
	"metaplasis/internal/settings"
)

// getsIn reports whether a camera gets on air over a protocol within five seconds, beside whatever goes on. to makes the
// address from a key.
func getsIn(r *rig, name string, loop int, input string, to func(key string) string) (time.Duration, error) {
	set := settings.Settings{Slug: name}
	if input != "" {
		set.Inputs = []settings.Input{settings.ParseInput(input)}
	}
	if _, err := r.api.CreateChannel(context.Background(), set); err != nil {
		return 0, err
	}
	defer func() { _ = r.api.RemoveChannel(context.Background(), name) }()
	k, err := r.api.CreateKey(context.Background(), name, api.NewKey{})
	if err != nil {
		return 0, err
	}
	clip, err := camera.Load(demo.Others[loop].FLV)
	if err != nil {
		return 0, err
	}
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan struct{})
	defer func() { cancel(); <-done }()
	begin := time.Now()
	go func() {
		defer close(done)
		address := to(k.Secret)
		if !strings.HasPrefix(address, "srt:") {
			_ = camera.Run(ctx, clip, camera.Options{URL: address, Retry: 200 * time.Millisecond})
			return
		}
		// In a process of its own: the library of those who attack here has thousands of their calls to clean up.
		for ctx.Err() == nil {
			_ = exec.CommandContext(ctx, "bin/metaplasis", "camera", "--loop", demo.Others[loop].Name, "--to", address).Run()
		}
	}()
	for time.Since(begin) < 5*time.Second {
		if c, err := r.api.Channel(context.Background(), name); err == nil && c.Status.Feed != nil && len(c.Status.Feed.Tracks) > 1 {
			return time.Since(begin), nil
		}
		time.Sleep(20 * time.Millisecond)
	}
	return time.Since(begin), errors.New("no camera gets in within 5 s")
}

const (
	committee = 2 // H.264 and AAC
	harbour   = 0 // VP9 and Opus
)

// strangersRTSP opens 1,000 idle connections, and 50 that send what is no RTSP.
func strangersRTSP(r *rig) (string, error) {
	n, closeIdle := openMany(r.rtsp, 1000, nil)
	defer closeIdle()
	junk := bytes.Repeat([]byte("ANNOUNCE rtsp://x/in/line RTSP/1.0\r\nContent-Length: 65000\r\n\r\n$\x00\xff\xff"), 500)
	_, closeJunk := openMany(r.rtsp, 50, func(c net.Conn) {
		_ = c.SetDeadline(time.Now().Add(time.Second))
		_, _ = c.Write(junk)
	})
	defer closeJunk()
	took, err := getsIn(r, "beside-rtsp", committee, "", func(key string) string {
		return "rtsp://" + r.rtsp + "/in/beside-rtsp?key=" + key
	})
	return fmt.Sprintf("%d idle, 50 with junk; a camera gets in after %d ms", n, took.Milliseconds()), err
}

// strangersWebRTC offers with wrong keys, and holds 1,000 connections to the port for media.
func strangersWebRTC(r *rig) (string, error) {
	n, closeIdle := openMany(r.webrtc, 1000, func(c net.Conn) {
		_ = c.SetDeadline(time.Now().Add(200 * time.Millisecond))
		_, _ = c.Write([]byte{0xff, 0xff, 1, 2, 3})
	})
	defer closeIdle()
	var offers atomic.Int64
	stop := time.Now().Add(r.last(5*time.Second, 2*time.Second))
	var all sync.WaitGroup
	for range 8 {
		all.Add(1)
		go func() {
			defer all.Done()
			for time.Now().Before(stop) {
				req, _ := http.NewRequest("POST", r.http+"/whip/"+slug, strings.NewReader("v=0\r\n"+strings.Repeat("a=candidate:junk\r\n", 500)))
				req.Header.Set("Content-Type", "application/sdp")
				req.Header.Set("Authorization", "Bearer wrong")
				if res, err := http.DefaultClient.Do(req); err == nil {
					_ = res.Body.Close()
					offers.Add(1)
				}
			}
		}()
	}
	took, err := getsIn(r, "beside-webrtc", harbour, "", func(key string) string { return r.http + "/whip/beside-webrtc?key=" + key })
	all.Wait()
	return fmt.Sprintf("%d held, %d offers; a camera gets in after %d ms", n, offers.Load(), took.Milliseconds()), err
}

// viewersWhoTakeNothing plays a channel in every way without reading, and offers to receive over WebRTC without ever
// connecting. A viewer who means it gets a picture beside them.
func viewersWhoTakeNothing(r *rig) (string, error) {
	host := strings.TrimPrefix(r.http, "http://")
	ask := func(path string, headers ...string) func(net.Conn) {
		return func(c net.Conn) {
			_, _ = fmt.Fprintf(c, "GET %s HTTP/1.1\r\nHost: %s\r\n%s\r\n", path, host, strings.Join(headers, ""))
		}
	}
	sockets, closeSockets := openMany(host, 60, ask("/socket/"+slug, "Connection: Upgrade\r\nUpgrade: websocket\r\nSec-WebSocket-Version: 13\r\nSec-WebSocket-Key: AAAAAAAAAAAAAAAAAAAAAA==\r\n"))
	defer closeSockets()
	streams, closeStreams := openMany(host, 60, ask("/media/"+slug+"/source.ts"))
	defer closeStreams()
	stop := time.Now().Add(r.last(8*time.Second, 4*time.Second))
	var offers atomic.Int64
	var all sync.WaitGroup
	for range 8 {
		all.Go(func() {
			for time.Now().Before(stop) {
				pc, err := webrtc.NewPeerConnection(webrtc.Configuration{})
				if err != nil {
					return
				}
				_, _ = pc.AddTransceiverFromKind(webrtc.RTPCodecTypeVideo, webrtc.RTPTransceiverInit{Direction: webrtc.RTPTransceiverDirectionRecvonly})
				if o, err := pc.CreateOffer(nil); err == nil { // without a candidate, and never connected
					if res, err := http.Post(r.http+"/whep/"+slug, "application/sdp", strings.NewReader(o.SDP)); err == nil {
						_ = res.Body.Close()
						offers.Add(1)
					}
				}
				_ = pc.Close()
			}
		})
	}
	begin := time.Now()
	c, _, err := websocket.Dial(context.Background(), r.http+"/socket/"+slug, nil)
	if err != nil {
		return "", fmt.Errorf("a viewer who means it: %w", err)
	}
	defer func() { _ = c.CloseNow() }()
	c.SetReadLimit(4 << 20)
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	for {
		kind, b, err := c.Read(ctx)
		if err != nil {
			return "", fmt.Errorf("a viewer who means it gets no picture: %w", err)
		}
		if kind == websocket.MessageBinary && b[0] == 2 && b[1] == 1 {
			break
		}
	}
	took := time.Since(begin)
	all.Wait()
	return fmt.Sprintf("%d sockets, %d streams, %d offers; a viewer has a picture after %d ms", sockets, streams, offers.Load(), took.Milliseconds()), nil
}

// strangersUDP sends noise to the ports of SRT and WebRTC, and beside a camera to the port of its transport stream.
func strangersUDP(r *rig) (string, error) {
	free, err := net.ListenUDP("udp", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1)})
	if err != nil {
		return "", err
	}
	port := free.LocalAddr().(*net.UDPAddr).Port
	_ = free.Close()
	own := fmt.Sprintf("127.0.0.1:%d", port)
	stop := make(chan struct{})
	var sent atomic.Int64
	var all sync.WaitGroup
	for i, to := range []string{r.srt, r.webrtc, own} {
		all.Add(1)
		go func() {
			defer all.Done()
			noise := rand.New(rand.NewPCG(uint64(i), 7))
			at, err := net.ResolveUDPAddr("udp", to)
			if err != nil {
				return
			}
			c, err := net.DialUDP("udp", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 2)}, at)
			if err != nil {
				return
			}
			defer func() { _ = c.Close() }()
			b := make([]byte, 1316)
			for {
				select {
				case <-stop:
					return
				default:
				}
				for range 20 {
					for k := range b[:64] {
						b[k] = byte(noise.Uint32())
					}
					switch noise.IntN(3) {
					case 0:
						b[0] = 0x80 // SRT control, RTP
					case 1:
						b[0] = 'G'
					}
					_, _ = c.Write(b[:64+noise.IntN(1252)])
					sent.Add(1)
				}
				time.Sleep(5 * time.Millisecond)
			}
		}()
	}
	defer func() { close(stop); all.Wait() }()
	over, err := getsIn(r, "beside-srt", committee, "", func(key string) string { return "srt://" + r.srt + "?streamid=beside-srt/" + key })
	if err != nil {
		return "", fmt.Errorf("over SRT: %w", err)
	}
	took, err := getsIn(r, "beside-udp", committee, "udp://"+own+"?source=127.0.0.1", func(string) string { return "udp://" + own })
	return fmt.Sprintf("%d packets; SRT gets in after %d ms, UDP after %d ms", sent.Load(), over.Milliseconds(), took.Milliseconds()), err
}

// strangersStudio announces thousands of sources on the studio's network from several addresses, and nonsense, by both
// ways of announcing, and sends noise to the group of a camera.
func strangersStudio(r *rig) (string, error) {
	const group = "239.20.66.1:5066"
	stop := make(chan struct{})
	var sent atomic.Int64
	var all sync.WaitGroup
	for i, to := range []string{netip.AddrPortFrom(sap.Groups[0], sap.Port).String(), netip.AddrPortFrom(sap.Groups[1], sap.Port).String(), "224.0.0.251:5353", group} {
		at := net.UDPAddrFromAddrPort(netip.MustParseAddrPort(to))
		c, err := net.DialUDP("udp", &net.UDPAddr{IP: net.IPv4(127, 0, 0, byte(2+i))}, at)
		if err != nil {
			return "", err
		}
		lo, err := net.InterfaceByName("lo")
		if err == nil {
			err = ipv4.NewPacketConn(c).SetMulticastInterface(lo)
		}
		if err != nil {
			return "", err
		}
		all.Go(func() {
			defer func() { _ = c.Close() }()
			noise := rand.New(rand.NewPCG(uint64(i), 9))
			for n := 0; ; n++ {
				select {
				case <-stop:
					return
				default:
				}
				for range 20 {
					b := make([]byte, 64+noise.IntN(1200))
					for k := range b {
						b[k] = byte(noise.Uint32())
					}
					if sent.Add(1)%2 == 0 && i < 2 {
						text := fmt.Sprintf("v=0\r\no=- %d 1 IN IP4 192.0.2.7\r\ns=Source %d\r\nc=IN IP4 239.20.66.2/1\r\nt=0 0\r\nm=video 5004 RTP/AVP 26\r\n", noise.Uint32(), n)
						b = (&sap.Announcement{Sender: netip.MustParseAddr("192.0.2.7"), Description: []byte(text)}).Marshal()
					} else if i == 3 {
						b[0] = 0x80 // RTP
					}
					_, _ = c.Write(b)
				}
				time.Sleep(5 * time.Millisecond)
			}
		})
	}
	defer func() { close(stop); all.Wait() }()
	at := "studio://" + group + "?interface=lo&name=Beside&format=jpeg"
	took, err := getsIn(r, "beside-studio", committee, "studio:Beside", func(string) string { return at })
	return fmt.Sprintf("%d packets; a source gets in after %d ms", sent.Load(), took.Milliseconds()), err
}

// strangersSRT calls with wrong stream ids, as many at a time as processors carry.
func strangersSRT(r *rig) (string, error) {
	var calls atomic.Int64
	stop := time.Now().Add(r.last(6*time.Second, 2*time.Second))
	clip, err := camera.Load(demo.Others[committee].FLV)
	if err != nil {
		return "", err
	}
	var all sync.WaitGroup
	for i := range 50 {
		all.Add(1)
		go func() {
			defer all.Done()
			for time.Now().Before(stop) {
				ctx, cancel := context.WithTimeout(context.Background(), time.Second)
				_ = camera.Run(ctx, clip, camera.Options{URL: fmt.Sprintf("srt://%s?streamid=%s/wrong%d", r.srt, slug, i), Loops: 1})
				cancel()
				calls.Add(1)
			}
		}()
	}
	took, err := getsIn(r, "beside-calls", committee, "", func(key string) string { return "srt://" + r.srt + "?streamid=beside-calls/" + key })
	all.Wait()
	return fmt.Sprintf("%d calls with wrong keys; a camera gets in after %d ms", calls.Load(), took.Milliseconds()), err
}

// strangersHTTP pushes without a key, slowly, and what is no media with one.
func strangersHTTP(r *rig) (string, error) {
	host := strings.TrimPrefix(r.http, "http://")
	n, closeSlow := openMany(host, 1000, func(c net.Conn) {
		_ = c.SetDeadline(time.Now().Add(time.Second))
		_, _ = c.Write([]byte("POST /in/" + slug + "/a.ts?key=wrong HTTP/1.1\r\nHost: x\r\nTransfer-Encoding: chunked\r\n\r\n5\r\nGGGGG\r\n"))
	})
	defer closeSlow()
	k, err := r.api.CreateKey(context.Background(), slug, api.NewKey{})
	if err != nil {
		return "", err
	}
	wrong := 0
	for range 50 {
		res, err := http.Post(r.http+"/in/"+slug+"/Streams(x.cmfv)?key="+k.Secret, "video/mp4", strings.NewReader(strings.Repeat("\x7f\xff\xff\xffmdat", 1000)))
		if err == nil {
			_ = res.Body.Close()
			if res.StatusCode >= 400 {
				wrong++
			}
		}
	}
	took, err := getsIn(r, "beside-push", committee, "", func(key string) string { return r.http + "/in/beside-push?key=" + key })
	if err == nil && wrong != 50 {
		err = fmt.Errorf("%d of 50 requests that are no media were taken", 50-wrong)
	}
	return fmt.Sprintf("%d slow, 50 with junk; a camera gets in after %d ms", n, took.Milliseconds()), err
}
