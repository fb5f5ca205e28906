//go:build pairs

package e2e

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/demo"
	"metaplasis/internal/camera"
	"metaplasis/internal/control/api"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/ts"
	"metaplasis/internal/origin"
)

// TestEveryPairOfWays brings a loop in by each protocol and lets it out by each: pushed by a relay, or fetched. All pictures
// come in their order, and sound is where it belongs; and how much later they come than to the first channel. What a protocol does not carry is told. The table in docs/relays.md
// is what it prints.
func TestEveryPairOfWays(t *testing.T) {
	t.Parallel()
	s := start(t)
	outs := []string{"rtmp pushed", "srt pushed", "rtsp pushed", "udp pushed", "whip pushed", "rtmp fetched", "rtsp fetched", "srt fetched", "ts fetched", "channel"}
	table := "| in \\ out | " + strings.Join(outs, " | ") + " |\n|" + strings.Repeat(" --- |", len(outs)+1) + "\n"
	for _, in := range []string{"rtmp", "udp", "srt", "rtsp", "cmaf", "whip"} {
		table += s.pairs(t, in, outs)
	}
	t.Log("\n" + table)
}

// pairs is a row of the table.
func (s *service) pairs(t *testing.T, in string, outs []string) (row string) {
	loop := &demo.Others[committeeLoop]
	if in == "whip" {
		loop = &demo.Others[harbourLoop]
	}
	slug := "in-" + in
	port := freePort(t)
	input, to := "sender", map[string]string{"rtmp": s.rtmp + "/in/" + slug + "/KEY", "srt": s.srt + "?streamid=" + slug + "/KEY", "rtsp": s.rtsp + "/in/" + slug + "?key=KEY",
		"cmaf": s.http + "/in/" + slug + "?key=KEY", "whip": s.http + "/whip/" + slug + "?key=KEY"}[in]
	if in == "udp" {
		input = fmt.Sprintf("udp://127.0.0.1:%d", port)
		to = input
	}
	s.channel(slug, origin.Settings{Inputs: []origin.Input{origin.ParseInput(input)}, Access: origin.Access{Receivers: true}}, sourceOnly)
	key := s.key(slug, api.NewKey{}).Secret
	stop := s.sendLoop(loop, camera.Options{URL: strings.ReplaceAll(to, "KEY", key), Name: loop.Title, Retry: 300 * time.Millisecond})
	defer stop()
	eventually(t, slug+" on air", func() bool { return s.newest(slug, "source") >= 1 })
	for i, out := range outs {
		name := fmt.Sprintf("%s-%d", slug, i)
		way, how, _ := strings.Cut(out, " ")
		from := map[string]string{"rtmp": s.rtmp + "/out/" + slug, "rtsp": s.rtsp + "/out/" + slug, "srt": s.srt + "?streamid=" + url.QueryEscape("request/"+slug+"/"+key),
			"ts": s.http + "/media/" + slug + "/source.ts", "channel": "channel:" + slug}[way]
		if how == "pushed" {
			from = "sender"
			if way == "udp" {
				from = fmt.Sprintf("udp://127.0.0.1:%d", freePort(t))
			}
		}
		s.channel(name, origin.Settings{Inputs: []origin.Input{origin.ParseInput(from)}, Packaging: origin.Packaging{Window: 10}}, sourceOnly)
		if how != "pushed" {
			continue
		}
		far := map[string]string{"rtmp": s.rtmp + "/in/" + name + "/KEY", "srt": s.srt + "?streamid=" + name + "/KEY", "rtsp": s.rtsp + "/in/" + name + "?key=KEY", "whip": s.http + "/whip/" + name + "?key=KEY", "udp": from}[way]
		_, err := s.api.PutRelay(context.Background(), slug, origin.Relay{Name: way, Address: strings.ReplaceAll(far, "KEY", s.key(name, api.NewKey{}).Secret)})
		require.NoError(t, err)
	}
	row = "| " + in + " |"
	for i, out := range outs {
		name := fmt.Sprintf("%s-%d", slug, i)
		refused := func() bool {
			why := s.status(name).Inputs[0].Problem
			for _, r := range s.status(slug).Relays {
				if out == r.Name+" pushed" {
					why += r.Error
				}
			}
			// SRT has no word for it: who sends the channel is told.
			return strings.Contains(why, "over another protocol") || out == "srt fetched" && s.hasEvent("receiver-refused")
		}
		eventually(t, in+" to "+out+", or why not", func() bool { return s.newest(name, "source") >= 4 || refused() })
		cell := "not carried"
		switch {
		case refused():
		case out == "whip pushed" && in != "whip": // re-encoded
			cell = "re-encoded"
		default:
			made := s.made(name, loop)
			assert.Empty(t, made.wrong, "%s to %s", in, out)
			assert.Greater(t, made.pictures, 50, "%s to %s", in, out)
			assert.Less(t, max(made.apart, -made.apart), 40*time.Millisecond, "%s to %s", in, out)
			cell = fmt.Sprintf("%d, %d ms", made.pictures, made.apart.Milliseconds())
			if in != "whip" { // whose pictures a transport stream does not carry
				behind := s.behind(slug, name)
				assert.Less(t, behind, 2*time.Second, "%s to %s", in, out)
				cell += fmt.Sprintf(", %d ms", behind.Milliseconds())
			}
		}
		row += " " + cell + " |"
		require.NoError(t, s.api.RemoveChannel(context.Background(), name))
	}
	stop()
	require.NoError(t, s.api.RemoveChannel(context.Background(), slug))
	return row + "\n"
}

// behind is how much later than one channel another has the same pictures, on average: both are read as transport streams.
func (s *service) behind(first, second string) time.Duration {
	arrivals := [2]map[[32]byte]time.Time{}
	var both sync.WaitGroup
	for i, slug := range []string{first, second} {
		both.Go(func() { arrivals[i] = s.arrivals(slug) })
	}
	both.Wait()
	var sum, n time.Duration
	for d, at := range arrivals[0] {
		if later, known := arrivals[1][d]; known {
			sum += later.Sub(at)
			n++
		}
	}
	if !assert.Positive(s.t, n, "pictures that came by both, to %s", second) {
		return 0
	}
	return sum / n
}

// arrivals tells when the pictures of a channel come, but those that were there before.
func (s *service) arrivals(slug string) map[[32]byte]time.Time {
	const before, during = time.Second, 3 * time.Second
	ctx, cancel := context.WithTimeout(context.Background(), before+during)
	defer cancel()
	out := map[[32]byte]time.Time{}
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, s.http+"/media/"+slug+"/source.ts", nil)
	assert.NoError(s.t, err)
	res, err := http.DefaultClient.Do(req)
	if !assert.NoError(s.t, err) {
		return nil
	}
	defer func() { _ = res.Body.Close() }()
	begun := time.Now()
	a := &arriving{pictures: map[int]bool{}, found: func(d [32]byte) {
		if time.Since(begun) > before {
			out[d] = time.Now()
		}
	}}
	a.demuxer = ts.NewDemuxer(a)
	for buf := make([]byte, 64<<10); ; {
		n, err := res.Body.Read(buf)
		a.demuxer.Write(buf[:n], time.Since(begun))
		if err != nil {
			return out
		}
	}
}

// arriving takes the pictures of a transport stream.
type arriving struct {
	demuxer  *ts.Demuxer
	pictures map[int]bool // by PID
	found    func(digest [32]byte)
}

func (a *arriving) Programmes(list []ts.Programme) {
	for _, p := range list {
		for i := range p.Tracks {
			if t := &p.Tracks[i]; t.Kind == media.Video && !a.pictures[t.PID] {
				a.pictures[t.PID] = true
				a.demuxer.Follow(t)
			}
		}
	}
}

func (a *arriving) PES(pid int, p ts.PES) { a.found(digestOf(p.Data)) }

func (a *arriving) Section(int, []byte) {}

func (a *arriving) Lost(int) {}
