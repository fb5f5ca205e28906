package rtsp

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"net/url"
	"strings"
	"sync"
	"time"

	"metaplasis/internal/core/hub"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/rtsp"
	"metaplasis/internal/onward"
	"metaplasis/internal/onward/rtpmedia"
)

// describeWithin is how long a player waits for a channel's tracks.
const describeWithin = 5 * time.Second

// player is who plays a channel (RFC 2326, 10.2 and 10.5): rtsp://host/out/CHANNEL or rtsp://host/out/CHANNEL/RUNG.
type player struct {
	p      *publisher // the connection
	tap    onward.Tap
	leave  func()
	ctx    context.Context
	cancel context.CancelFunc
	over   sync.WaitGroup
	once   sync.Once
	failed chan error

	first   []hub.Unit // that came until the tracks were known
	tracks  []*playedTrack
	byID    map[media.TrackID]*playedTrack
	close   map[int][]func() // sockets, by stream
	waiting []playedUnit
	group   *group // that it receives from, nil of who is sent packets of its own
	channel string
	rung    string
}

// Errors of a description.
var (
	errOffAir      = errors.New("nothing of it is on air")
	errCarriesNone = errors.New("RTP carries none of its codecs")
)

// playedTrack is one stream of a player.
type playedTrack struct {
	media.Track
	stream *rtpmedia.Stream
	out    [2]func([]byte) error // RTP and RTCP; nil of one that is not set up
}

type playedUnit struct {
	t    *playedTrack
	pts  int64
	key  bool
	data []byte
}

// outAddress reads channel, rung and ticket of an address.
func outAddress(address string) (channel, rung, ticket string) {
	u, err := url.Parse(address)
	if err != nil {
		return "", "", ""
	}
	parts := strings.Split(strings.Trim(u.Path, "/"), "/")
	if len(parts) < 2 || len(parts) > 3 || parts[0] != "out" {
		return "", "", ""
	}
	if rung = u.Query().Get("rung"); len(parts) == 3 {
		rung = parts[2]
	}
	return parts[1], rung, u.Query().Get("ticket")
}

// describe tells what a channel has.
func (p *publisher) describe(m *rtsp.Message) *rtsp.Message {
	if p.s.Channels == nil {
		return m.Response(405, "Method Not Allowed: this port takes who publishes")
	}
	if p.player != nil || p.feed != nil {
		return m.Response(455, "Method Not Valid in This State")
	}
	channel, rung, ticket := outAddress(m.Address)
	if channel == "" {
		return m.Response(404, "Not Found: play /out/CHANNEL or /out/CHANNEL/RUNG")
	}
	p.channel = channel
	leave, err := p.s.Join(channel, "rtsp", p.conn.RemoteAddr().String(), ticket)
	if err != nil {
		return m.Response(404, "Not Found: "+err.Error())
	}
	tap, err := p.s.Channels.Tap(channel, onward.Choice{Rung: rung})
	if err == nil && !p.s.Channels.Has(channel, rung) {
		tap.Close()
		err = onward.ErrNoRung
	}
	if err != nil {
		leave()
		return m.Response(404, "Not Found: "+err.Error())
	}
	ctx, cancel := context.WithCancel(context.Background())
	x, err := newPlayer(ctx, tap)
	x.p, x.leave, x.channel, x.rung, x.ctx, x.cancel = p, leave, channel, rung, ctx, cancel
	switch {
	case errors.Is(err, errCarriesNone):
		x.end()
		return m.Response(415, "Unsupported Media Type: "+err.Error())
	case err != nil:
		x.end()
		return m.Response(503, "Service Unavailable: "+err.Error())
	}
	p.player = x
	ok := m.Response(200, "OK")
	ok.Header.Set("Content-Type", "application/sdp")
	base, _, _ := strings.Cut(m.Address, "?")
	ok.Header.Set("Content-Base", strings.TrimRight(base, "/")+"/")
	text := "v=0\r\no=- 0 0 IN IP4 127.0.0.1\r\ns=" + channel + "\r\nc=IN IP4 0.0.0.0\r\nt=0 0\r\na=control:*\r\na=range:npt=now-\r\n"
	for i, t := range x.tracks {
		text += t.stream.Description(fmt.Sprintf("track%d", i))
	}
	ok.Body = []byte(text)
	return ok
}

// setUp opens the way of a stream.
func (x *player) setUp(m *rtsp.Message) *rtsp.Message {
	number := -1
	path, _, _ := strings.Cut(m.Address, "?")
	if at := strings.LastIndex(path, "/track"); at >= 0 {
		_, _ = fmt.Sscanf(path[at:], "/track%d", &number)
	} else if len(x.tracks) == 1 {
		number = 0
	}
	if number < 0 || number >= len(x.tracks) {
		return m.Response(404, "Not Found: the description has no such stream")
	}
	for _, t := range rtsp.ParseTransports(m.Header.Get("Transport")) {
		var out [2]func([]byte) error
		switch {
		case t.Secure || t.Multicast && x.p.s.Groups == nil:
			continue
		case t.Multicast:
			if x.group == nil {
				g, err := x.p.s.Groups.join(x.p.s.Channels, x.channel, x.rung)
				if err != nil {
					return m.Response(503, "Service Unavailable: "+err.Error())
				}
				x.group = g
			}
			if number >= len(x.group.cast.tracks) {
				return m.Response(404, "Not Found: the group has no such stream")
			}
			groups := x.p.s.Groups
			t.Destination, t.Port, t.TTL = groups.base.Hostname(), groups.ports(x.group, number), groups.ttl
			out[0] = func([]byte) error { return nil }
		case t.TCP:
			if t.Interleaved[0] < 0 {
				t.Interleaved = [2]int{2 * number, 2*number + 1}
			}
			for i := range out {
				channel := byte(t.Interleaved[i])
				out[i] = func(b []byte) error { return x.p.write((&rtsp.Frame{Channel: channel, Data: b}).Marshal()) }
			}
		case t.Client[0] > 0:
			host := netip.MustParseAddrPort(x.p.conn.RemoteAddr().String()).Addr().Unmap() // to nobody else
			var err error
			if out, t.Server, err = x.sockets(number, host, t.Client); err != nil {
				return m.Response(500, "Internal Server Error")
			}
		default:
			continue
		}
		x.tracks[number].out = out
		ok := m.Response(200, "OK")
		ok.Header.Set("Transport", t.String()+fmt.Sprintf(";ssrc=%08X", x.tracks[number].stream.SSRC))
		return ok
	}
	return m.Response(461, "Unsupported Transport")
}

// sockets sends a stream to two ports of a host; own are those that it is sent from. They take the place of those that the
// stream had, so that a session holds no more than two for each.
func (x *player) sockets(number int, host netip.Addr, to [2]int) (out [2]func([]byte) error, own [2]int, err error) {
	x.closeOf(number)
	for i := range out {
		c, err := net.Dial("udp", netip.AddrPortFrom(host, uint16(to[i])).String())
		if err != nil {
			return out, own, err
		}
		own[i] = c.LocalAddr().(*net.UDPAddr).Port
		x.closeLater(number, func() { _ = c.Close() })
		out[i] = func(b []byte) error {
			_, _ = c.Write(b) // who is gone for a moment is sent the next one
			return nil
		}
	}
	return out, own, nil
}

// closeLater notes a socket of a stream.
func (x *player) closeLater(number int, socket func()) {
	if x.close == nil {
		x.close = map[int][]func(){}
	}
	x.close[number] = append(x.close[number], socket)
}

// closeOf closes the sockets of a stream.
func (x *player) closeOf(number int) {
	for _, c := range x.close[number] {
		c()
	}
	delete(x.close, number)
}

func (x *player) closeAll() {
	for number := range x.close {
		x.closeOf(number)
	}
}

func (x *player) ready() bool {
	for _, t := range x.tracks {
		if t.out[0] != nil {
			return true
		}
	}
	return false
}

func (x *player) answerPlay(m *rtsp.Message) *rtsp.Message {
	ok := m.Response(200, "OK")
	ok.Header.Set("Range", "npt=now-")
	var info []string
	for n, t := range x.tracks {
		if t.out[0] == nil || x.group != nil {
			continue
		}
		info = append(info, fmt.Sprintf("url=%s;seq=%d;rtptime=%d", rtsp.Resolve(m.Address, fmt.Sprintf("track%d", n)), t.stream.Next(), t.stream.Stamp(onward.HeadStart)))
	}
	if len(info) > 0 { // RFC 2326, 12.33: one moment, on the clock of each stream
		ok.Header.Set("Rtp-Info", strings.Join(info, ","))
	}
	return ok
}

// start begins to send, once.
func (x *player) start() {
	x.once.Do(func() {
		x.over.Go(func() {
			if x.group != nil { // it is sent what all are sent
				<-x.ctx.Done()
				return
			}
			if len(x.close) > 0 { // datagrams that come all at once overrun what receives them: it begins with what comes
				if tap, err := x.p.s.Channels.Tap(x.channel, onward.Choice{Rung: x.rung, Coming: true}); err == nil {
					x.tap.Close()
					x.tap, x.first = tap, nil
				}
			}
			c := onward.Carrier{To: x, Fixed: true}
			err := c.Run(x.ctx, x.tap, x.first)
			if x.ctx.Err() == nil {
				x.p.s.Logger.Debug("a player over RTSP is let go", "channel", x.p.channel, "error", err)
			}
			_ = x.p.conn.Close()
		})
		go func() { // a service that stops lets players go
			select {
			case <-x.p.s.conns.Leaving():
				_ = x.p.conn.Close()
			case <-x.ctx.Done():
			}
		}()
	})
}

func (x *player) end() {
	x.cancel()
	_ = x.p.conn.SetWriteDeadline(time.Now())
	x.over.Wait()
	x.closeAll()
	if x.group != nil {
		x.p.s.Groups.leave(x.group)
	}
	x.tap.Close()
	x.leave()
}

// FrameRate implements onward.Sender.
func (x *player) FrameRate(int64) {}

// Track implements onward.Sender: what the description told stays.
func (x *player) Track(media.Track) {}

// Unit implements onward.Sender.
func (x *player) Unit(id media.TrackID, stamp, composition int64, key bool, data []byte) {
	if t := x.byID[id]; t != nil && t.out[0] != nil {
		x.waiting = append(x.waiting, playedUnit{t, t.Clock.Ticks(stamp + composition), key, data})
	}
}

// Cue implements onward.Sender.
func (x *player) Cue(int64, []byte) {}

// Flush implements onward.Sender.
func (x *player) Flush() (err error) {
	for _, u := range x.waiting {
		if report := u.t.stream.Report(u.pts, time.Now()); report != nil && u.t.out[1] != nil {
			err = errors.Join(err, u.t.out[1](report))
		}
		for _, p := range u.t.stream.Packets(u.pts, u.key, u.data) {
			b, wrong := p.Marshal()
			if wrong != nil {
				return wrong
			}
			if wrong = u.t.out[0](b); wrong != nil {
				return wrong
			}
		}
	}
	x.waiting = x.waiting[:0]
	return err
}

// Failed implements onward.Sender.
func (x *player) Failed() <-chan error { return x.failed }

// Close implements onward.Sender.
func (x *player) Close() error { return nil }
