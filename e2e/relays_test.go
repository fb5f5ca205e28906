package e2e

import (
	"context"
	"fmt"
	"io"
	"net"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/demo"
	"metaplasis/internal/api"
	"metaplasis/internal/camera"
	"metaplasis/internal/core/ladder"
	"metaplasis/internal/onward/relay"
	"metaplasis/internal/settings"
)

// relays are how those of a channel are doing, by name.
func (s *service) relays(slug string) map[string]api.ChannelRelay {
	list, err := s.api.Relays(context.Background(), slug)
	require.NoError(s.t, err)
	out := map[string]api.ChannelRelay{}
	for _, r := range list {
		out[r.Name] = r
	}
	return out
}

// TestEveryWayOnward carries a channel by each protocol into another channel: pictures in their order, all of them, and
// sound where it belongs.
func TestEveryWayOnward(t *testing.T) {
	t.Parallel()
	s := start(t)
	loop := demo.Loops[0]
	url := s.channel(loop.Name, settings.Settings{}, sourceOnly)
	s.sendLoop(&loop, camera.Options{URL: url})
	eventually(t, "on air", func() bool { return s.newest(loop.Name, "source") >= 1 })
	udp, rtp, steady := freePort(t), freePort(t), freePort(t)
	ways := []struct{ name, input, to string }{
		{"rtmp", "sender", s.rtmp + "/in/rtmp/KEY"},
		{"srt", "sender", s.srt + "?streamid=srt/KEY"},
		{"rtsp", "sender", s.rtsp + "/in/rtsp?key=KEY"},
		{"udp", fmt.Sprintf("udp://127.0.0.1:%d", udp), fmt.Sprintf("udp://127.0.0.1:%d", udp)},
		{"rtp", fmt.Sprintf("rtp://127.0.0.1:%d", rtp), fmt.Sprintf("rtp://127.0.0.1:%d", rtp)},
		{"steady", fmt.Sprintf("udp://127.0.0.1:%d", steady), fmt.Sprintf("udp://127.0.0.1:%d?rate=5000", steady)},
		{"whip", "sender", s.http + "/whip/whip?key=KEY"},
	}
	for _, w := range ways {
		s.channel(w.name, settings.Settings{Inputs: []settings.Input{settings.ParseInput(w.input)}, Packaging: settings.Packaging{Window: 10}}, sourceOnly)
		to := strings.ReplaceAll(w.to, "KEY", s.key(w.name, api.NewKey{}).Secret)
		out, code := s.command("relays", "add", loop.Name, w.name, to)
		require.Zero(t, code, out)
		assert.NotContains(t, out, "KEY")
	}
	for _, w := range ways {
		t.Log(w.name, s.relays(loop.Name)[w.name].Words)
		eventually(t, w.name+" on air", func() bool { return s.newest(w.name, "source") >= 4 && s.newest(w.name, "audio") >= 4 })
		r := s.relays(loop.Name)[w.name]
		require.NotNil(t, r.Progress, w.name)
		assert.Equal(t, relay.Sending, r.Progress.State, w.name)
		if r.Progress.Lost > 0 { // a machine without time for it is a far end that is slow
			t.Logf("%s: %d units were left out", w.name, r.Progress.Lost)
		}
		if w.name == "whip" { // the sound is re-encoded
			continue
		}
		out := s.made(w.name, &loop)
		assert.Empty(t, out.wrong, w.name)
		assert.Greater(t, out.pictures, 60, "%s: pictures that were found again", w.name)
		assert.Less(t, max(out.apart, -out.apart), 40*time.Millisecond, "%s: sound against pictures", w.name)
		t.Logf("%-10s %4d pictures in order, sound %d ms beside them", w.name, out.pictures, out.apart.Milliseconds())
	}
	eventually(t, "a constant rate, as the receiver measures it", func() bool {
		for _, in := range s.status("steady").Inputs {
			if in.Line != nil && in.Line.TS != nil {
				h := in.Line.TS
				return h.Bitrate > 4_900_000 && h.Bitrate < 5_100_000 && h.NullBitrate > 0 && h.Accuracy >= 0 && h.Accuracy <= 500 &&
					h.PCRInterval <= 60 && h.PATInterval <= 150 && h.PCRAccuracy == 0
			}
		}
		return false
	})
	out, code := s.command("relays", "list", loop.Name)
	assert.Zero(t, code)
	t.Log("\n" + out)
	for _, r := range s.relays(loop.Name) {
		assert.NotContains(t, r.Secret, "mk", "no secret is shown")
	}
	_, code = s.command("relays", "stop", loop.Name, "rtmp")
	assert.Zero(t, code)
	eventually(t, "the far end sees it go", func() bool { return s.status("rtmp").Feed == nil })
	out, code = s.command("relays", "test", loop.Name, "rtmp")
	assert.Zero(t, code, out)
	assert.Contains(t, out, "accepts the stream")
	_, code = s.command("relays", "start", loop.Name, "rtmp")
	assert.Zero(t, code)
	eventually(t, "and return", func() bool { return s.status("rtmp").Feed != nil })
	s.command("relays", "add", loop.Name, "wrong", s.rtmp+"/in/rtmp/nokey")
	eventually(t, "a wrong key is told", func() bool {
		r := s.relays(loop.Name)["wrong"]
		return r.Progress != nil && r.Progress.State == relay.Retrying && strings.Contains(r.Words, "refused")
	})
	eventually(t, "an event that says so", func() bool { return s.hasEvent("relay-failed") })
}

// TestEveryWayPulled lets receivers fetch a channel by each protocol, as other channels do: pictures in their order, all of
// them, and sound where it belongs.
func TestEveryWayPulled(t *testing.T) {
	t.Parallel()
	group := freePort(t)
	s := start(t, "--rtsp-multicast", fmt.Sprintf("239.%d.%d.3:30000?interface=lo", 64+group>>8, group&0xff))
	loop := demo.Loops[0]
	url := s.channel(loop.Name, settings.Settings{Access: settings.Access{Receivers: true}}, sourceOnly, ladder.Rung{Name: "180p", On: true, Height: 180, Bitrate: 300_000, Effort: 1})
	s.sendLoop(&loop, camera.Options{URL: url})
	eventually(t, "on air", func() bool { return s.newest(loop.Name, "180p") >= 1 })
	key := s.key(loop.Name, api.NewKey{}).Secret
	ways := []struct{ name, way, from string }{
		{"rtmp", "rtmp", s.rtmp + "/out/start-line"},
		{"rtsp-udp", "rtsp", s.rtsp + "/out/start-line"},
		{"rtsp-tcp", "rtsp", s.rtsp + "/out/start-line?transport=tcp"},
		{"rtsp-group", "rtsp", s.rtsp + "/out/start-line?transport=multicast&interface=lo"},
		{"rtsp-group-2", "rtsp", s.rtsp + "/out/start-line?transport=multicast&interface=lo"},
		{"srt", "srt", s.srt + "?streamid=request/start-line/" + key},
		{"http-ts", "ts", s.http + "/media/start-line/source.ts"},
	}
	for _, w := range ways {
		s.channel(w.name, settings.Settings{Inputs: []settings.Input{settings.ParseInput(w.from)}, Packaging: settings.Packaging{Window: 10}}, sourceOnly)
	}
	for _, w := range ways {
		eventually(t, w.name+" on air", func() bool { return s.newest(w.name, "source") >= 4 && s.newest(w.name, "audio") >= 4 })
		out := s.made(w.name, &loop)
		assert.Empty(t, out.wrong, w.name)
		assert.Greater(t, out.pictures, 60, "%s: pictures that were found again", w.name)
		assert.Less(t, max(out.apart, -out.apart), 40*time.Millisecond, "%s: sound against pictures", w.name)
		t.Logf("%-10s %4d pictures in order, sound %d ms beside them", w.name, out.pictures, out.apart.Milliseconds())
	}
	want := map[string]int{"rtmp": 1, "rtsp": 4, "srt": 1, "ts": 1}
	eventually(t, "receivers are counted", func() bool {
		v := s.status(loop.Name).Viewers
		for way, n := range want {
			if v[way] != n {
				return false
			}
		}
		return true
	})
	// A rung by its name.
	for name, from := range map[string]string{"rtmp-rung": s.rtmp + "/out/start-line/180p", "rtsp-rung": s.rtsp + "/out/start-line/180p",
		"srt-rung": s.srt + "?streamid=request/start-line/180p/" + key, "ts-rung": s.http + "/media/start-line/180p.ts"} {
		s.channel(name, settings.Settings{Inputs: []settings.Input{settings.ParseInput(from)}}, sourceOnly)
		eventually(t, name+" in its size", func() bool {
			f := s.status(name).Feed
			return f != nil && len(f.Tracks) == 2 && f.Tracks[0].Height == 180
		})
	}
	status, body, _ := s.get("/media/start-line/4320p.ts")
	assert.Equal(t, 404, status)
	assert.Contains(t, string(body), "no rung")
	_, code := s.command("channels", "remove", "rtmp", "--yes")
	if code != 0 {
		_, code = s.command("channels", "remove", "rtmp")
	}
	assert.Zero(t, code)
	eventually(t, "who is gone is not counted", func() bool { return s.status(loop.Name).Viewers["rtmp"] == 1 })
}

// TestAChannelFeedsAnother: a rung of one is the input of the next, and circles are refused.
func TestAChannelFeedsAnother(t *testing.T) {
	t.Parallel()
	s := start(t)
	loop := demo.Loops[0]
	url := s.channel(loop.Name, settings.Settings{}, sourceOnly, ladder.Rung{Name: "180p", On: true, Height: 180, Bitrate: 300_000, Effort: 1})
	stop := s.sendLoop(&loop, camera.Options{URL: url})
	s.channel("whole", settings.Settings{Inputs: []settings.Input{settings.ParseInput("channel:start-line")}, Packaging: settings.Packaging{Window: 10}}, sourceOnly)
	s.channel("small", settings.Settings{Inputs: []settings.Input{settings.ParseInput("channel:start-line#180p")}}, sourceOnly)
	eventually(t, "both on air", func() bool { return s.newest("whole", "source") >= 4 && s.newest("small", "source") >= 2 })
	out := s.made("whole", &loop)
	assert.Empty(t, out.wrong)
	assert.Greater(t, out.pictures, 60)
	assert.Less(t, max(out.apart, -out.apart), 40*time.Millisecond)
	assert.Equal(t, 180, s.status("small").Feed.Tracks[0].Height)
	text, code := s.command("channels", "change", loop.Name, "--inputs", "sender,channel:small")
	assert.NotZero(t, code)
	assert.Contains(t, text, "circle")
	stop()
	eventually(t, "it ends with the other one", func() bool { return s.status("whole").Feed == nil })
	s.sendLoop(&loop, camera.Options{URL: url})
	eventually(t, "and returns", func() bool { return s.status("whole").Feed != nil })
}

// throttled carries connections to an address, so many bytes per second from who connects.
func throttled(t *testing.T, to string, bytesEach int) (address string) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { _ = l.Close() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			far, err := net.Dial("tcp", to)
			if err != nil {
				_ = c.Close()
				continue
			}
			_ = c.(*net.TCPConn).SetReadBuffer(16 << 10)
			go func() { _, _ = io.Copy(c, far) }()
			go func() {
				defer func() { _, _ = c.Close(), far.Close() }()
				for tick := time.NewTicker(50 * time.Millisecond); ; {
					<-tick.C
					if _, err := io.CopyN(far, c, int64(bytesEach/20)); err != nil {
						tick.Stop()
						return
					}
				}
			}()
		}
	}()
	return l.Addr().String()
}

// TestRelaysReturn: a far end that goes away for a while, one that is slow, and one that refuses; then the service itself is
// restarted. All return by themselves, and the channel and the other relays go on.
func TestRelaysReturn(t *testing.T) {
	t.Parallel()
	s, far := start(t), start(t)
	loop := demo.Loops[0]
	url := s.channel(loop.Name, settings.Settings{}, sourceOnly)
	s.sendLoop(&loop, camera.Options{URL: url, Retry: 300 * time.Millisecond})
	s.channel("beside", settings.Settings{}, sourceOnly)
	for _, name := range []string{"away", "slow"} {
		far.channel(name, settings.Settings{}, sourceOnly)
	}
	host := strings.TrimPrefix(far.rtmp, "rtmp://")
	to := map[string]string{
		"away":   far.rtmp + "/in/away/" + far.key("away", api.NewKey{}).Secret,
		"slow":   "rtmp://" + throttled(t, host, 50_000) + "/in/slow/" + far.key("slow", api.NewKey{}).Secret,
		"beside": s.rtmp + "/in/beside/" + s.key("beside", api.NewKey{}).Secret,
		"wrong":  far.rtmp + "/in/away/nokey",
	}
	for name, address := range to {
		out, code := s.command("relays", "add", loop.Name, name, address)
		require.Zero(t, code, out)
	}
	state := func(name string) relay.State {
		if r := s.relays(loop.Name)[name]; r.Progress != nil {
			return r.Progress.State
		}
		return "off"
	}
	eventually(t, "they send, but for the one that is refused", func() bool {
		return state("away") == relay.Sending && state("beside") == relay.Sending && state("wrong") == relay.Retrying && far.onAir("away")
	})
	eventually(t, "the slow one leaves pictures out", func() bool { return s.relays(loop.Name)["slow"].Progress.Lost > 0 })
	before := s.status(loop.Name)
	far.stop(syscall.SIGKILL)
	eventually(t, "it is noticed", func() bool { return state("away") == relay.Retrying })
	from := s.newest("beside", "source")
	eventually(t, "the others go on", func() bool { return s.newest("beside", "source") >= from+2 && state("beside") == relay.Sending })
	far.start()
	eventually(t, "it returns when the far end does", func() bool { return state("away") == relay.Sending && far.onAir("away") })
	assert.Equal(t, before.Feed.Begun, s.status(loop.Name).Feed.Begun, "the sender noticed nothing")
	s.stop(syscall.SIGTERM)
	s.start()
	eventually(t, "all return when the service does", func() bool { return state("away") == relay.Sending && state("beside") == relay.Sending })
}

// TestARelayOnTheStudiosNetwork: a rung goes out as pictures and linear sound that are announced, and another channel finds
// them by their name.
func TestARelayOnTheStudiosNetwork(t *testing.T) {
	t.Parallel()
	s := start(t, "--studio", "lo")
	loop := demo.Loops[0]
	url := s.channel(loop.Name, settings.Settings{}, sourceOnly, ladder.Rung{Name: "180p", On: true, Height: 180, Bitrate: 300_000, Effort: 1})
	s.sendLoop(&loop, camera.Options{URL: url})
	port := freePort(t)
	out, code := s.command("relays", "add", loop.Name, "desk", fmt.Sprintf("studio://239.%d.%d.2:%d?interface=lo&name=Vision+desk&format=jpeg", 64+port>>8, port&0xff, port), "--rung", "180p")
	require.Zero(t, code, out)
	eventually(t, "announced", func() bool { return len(s.sources()) == 1 })
	source, found := s.sources()["Vision desk"]
	require.True(t, found, "%v", s.sources())
	require.Len(t, source.Tracks, 2)
	s.channel("desk", settings.Settings{Inputs: []settings.Input{{Kind: settings.InputStudio, Name: "Vision desk"}}},
		ladder.Rung{Name: "180p", On: true, Height: 180, Bitrate: 300_000, Effort: 1, AudioBitrate: 96_000})
	eventually(t, "on air", func() bool { return s.newest("desk", "180p") >= 2 })
	assert.Equal(t, relay.Sending, s.relays(loop.Name)["desk"].Progress.State)
}

// TestProgrammesOfSeveralChannels go in one transport stream of a constant rate, with names and numbers of our choice, and
// come apart again.
func TestProgrammesOfSeveralChannels(t *testing.T) {
	t.Parallel()
	s := start(t)
	loops := []demo.Loop{demo.Loops[0], demo.Loops[1]}
	for i := range loops {
		s.sendLoop(&loops[i], camera.Options{URL: s.channel(loops[i].Name, settings.Settings{}, sourceOnly)})
	}
	port := freePort(t)
	out, code := s.command("relays", "add", loops[0].Name, "mux", fmt.Sprintf("udp://127.0.0.1:%d?rate=6000", port), "--number", "3", "--programme", loops[1].Name+"=7:Chase boat")
	require.Zero(t, code, out)
	for i, number := range []int{3, 7} {
		s.channel(fmt.Sprintf("out-%d", number), settings.Settings{Inputs: []settings.Input{settings.ParseInput(fmt.Sprintf("udp://127.0.0.1:%d#%d", port, number))}, Packaging: settings.Packaging{Window: 10}}, sourceOnly)
		eventually(t, "on air", func() bool { return s.newest(fmt.Sprintf("out-%d", number), "source") >= 4 })
		made := s.made(fmt.Sprintf("out-%d", number), &loops[i])
		assert.Empty(t, made.wrong, number)
		assert.Greater(t, made.pictures, 60, number)
		assert.Less(t, max(made.apart, -made.apart), 40*time.Millisecond, number)
	}
	names := ""
	for _, in := range s.status("out-3").Inputs {
		for _, p := range in.Line.Programmes {
			names += fmt.Sprintf("%d %s, ", p.Number, p.Name)
		}
	}
	assert.Equal(t, "3 "+loops[0].Name+", 7 Chase boat, ", names)
	out, code = s.command("relays", "add", loops[0].Name, "twice", "udp://127.0.0.1:9", "--programme", loops[1].Name+"=1")
	assert.NotZero(t, code)
	assert.Contains(t, out, "twice")
}
