package rtsp

import (
	"metaplasis/internal/safely"

	"bufio"
	"context"
	"crypto/rand"
	"crypto/tls"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/netip"
	"net/url"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/pion/sdp/v3"

	"metaplasis/internal/contribution"
	"metaplasis/internal/contribution/rtpmedia"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/rtsp"
	"metaplasis/internal/network"
	"metaplasis/internal/onward"
)

// Limits are those of an RTSP port: who publishes nothing yet waits, with a few kilobytes each.
//
//limit:connections over RTSP | all; each network | who waited longest without doing anything is closed; then new ones are
var Limits = network.Limits{Total: 2048, EachNetwork: 1024, Idle: 256, IdleNetwork: 64}

const (
	helloTimeout = 10 * time.Second // from connecting to recording
	recordSilent = 10 * time.Second // without a packet or a request of who publishes
	//limit:streams that are described | each sender | further ones are left out
	maxStreams = 8
)

// Server takes who publishes (RFC 2326, 10.3 and 10.11).
type Server struct {
	Receiver contribution.Receiver
	Logger   *slog.Logger
	TLS      *tls.Config // for RTSPS; nil is plain
	// Channels are those that players may have; nil: this port takes feeds alone.
	Channels onward.Channels
	// Groups sends to who plays by multicast; nil: nobody does.
	Groups *Groups
	// Join lets a player in and counts it, or says why not; leave is called when it goes.
	Join func(channel, way, remote, ticket string) (leave func(), err error)

	conns network.Acceptor
}

// Serve accepts connections until the listener is closed.
func (s *Server) Serve(l net.Listener) error {
	if err := s.conns.Serve(l, s.TLS, s.handle); err != nil {
		return fmt.Errorf("RTSP port: %w", err)
	}
	return nil
}

// Shutdown closes all connections and waits for their handlers.
func (s *Server) Shutdown(ctx context.Context) error { return s.conns.Shutdown(ctx, 0) }

// publisher is one connection that publishes.
type publisher struct {
	s        *Server
	conn     net.Conn
	wmu      sync.Mutex
	channel  string
	session  *rtpmedia.Session
	id       string // of the session
	streams  []*stream
	feed     contribution.Feed
	recorded bool
	heard    atomic.Int64 // nanoseconds since 1970
	done     chan struct{}
	player   *player // nil of who plays nothing
}

var errTeardown = errors.New("it ended its stream")

func (s *Server) handle(conn net.Conn) {
	var id [8]byte
	_, _ = rand.Read(id[:])
	p := &publisher{s: s, conn: conn, id: hex.EncodeToString(id[:]), done: make(chan struct{})}
	err := safely.Run(s.Logger, p.run)
	close(p.done)
	reason := "the connection was lost"
	var timeout net.Error
	var away *contribution.SentAway
	switch {
	case errors.Is(err, io.EOF):
		reason = "it closed the connection"
	case errors.As(err, &timeout) && timeout.Timeout():
		reason = fmt.Sprintf("nothing came for %d s", int(recordSilent.Seconds()))
	case errors.As(err, &away):
		reason = away.Why
	case err != nil:
		reason = err.Error()
	}
	if p.feed != nil {
		p.feed.End(reason)
	}
	if p.player != nil {
		p.player.end()
	}
	for _, st := range p.streams {
		if st.ports != nil {
			st.ports.Close()
		}
	}
	if media.IsFormat(err) && p.player == nil {
		s.Receiver.Report(p.channel, network.Of(conn.RemoteAddr().String()), "feed-broken",
			fmt.Sprintf("The RTSP connection from %s was closed: %v.", conn.RemoteAddr(), err), "Check that the sender publishes over RTSP with a codec that is taken here.")
	}
	s.Logger.Debug("RTSP connection over", "remote", conn.RemoteAddr(), "reason", reason, "error", err)
}

func (p *publisher) write(b []byte) error {
	p.wmu.Lock()
	defer p.wmu.Unlock()
	_ = p.conn.SetWriteDeadline(time.Now().Add(answerTimeout))
	_, err := p.conn.Write(b)
	return err
}

func (p *publisher) run() error {
	place := network.Under(p.conn)
	r := bufio.NewReaderSize(p.conn, 4<<10)
	_ = p.conn.SetReadDeadline(time.Now().Add(helloTimeout))
	for {
		m, f, err := rtsp.Read(r)
		if err != nil {
			return err
		}
		if p.recorded || p.player != nil {
			_ = p.conn.SetReadDeadline(p.deadline())
		}
		if f != nil {
			if p.player == nil { // else it is the player's RTCP
				p.frame(f)
			}
			continue
		}
		if m.Method == "" {
			continue
		}
		was := p.recorded
		answer, err := p.answer(m)
		if answer != nil {
			if m.Header.Get("Session") != "" || len(p.streams) > 0 || p.player != nil && m.Method != "DESCRIBE" {
				answer.Header.Set("Session", p.id+";timeout=60")
			}
			if err := p.write(answer.Marshal()); err != nil {
				return err
			}
		}
		if err != nil {
			return err
		}
		if p.player != nil && m.Method == "PLAY" {
			if place != nil {
				place.Use()
			}
			p.player.start() // behind the answer
		}
		if p.recorded && !was {
			if place != nil {
				place.Use()
			}
			_ = p.conn.SetReadDeadline(p.deadline())
			r = p.wider(r)
			go safely.Do(p.s.Logger, p.watch, p.fault)
		}
	}
}

// wider gives who publishes a larger buffer.
func (p *publisher) wider(r *bufio.Reader) *bufio.Reader {
	rest, _ := r.Peek(r.Buffered())
	return bufio.NewReaderSize(io.MultiReader(strings.NewReader(string(rest)), p.conn), 128<<10)
}

// deadline is until when something must come on the connection: over UDP only signs of life do.
func (p *publisher) deadline() time.Time {
	if p.player != nil || len(p.streams) > 0 && p.streams[0].ports != nil {
		return time.Now().Add(2 * time.Minute)
	}
	return time.Now().Add(recordSilent)
}

// fault ends the connection after a fault of ours beside its reading.
func (p *publisher) fault(err error) {
	p.feed.End(err.Error())
	_ = p.conn.Close()
}

// watch ends a feed that has to go, and one of which nothing comes over UDP.
func (p *publisher) watch() {
	look := time.NewTicker(lookEach)
	defer look.Stop()
	for {
		select {
		case <-p.done:
			return
		case why := <-p.feed.Kicked():
			p.feed.End(why)
			_ = p.conn.Close()
			return
		case now := <-look.C:
			p.session.Look(now)
			if now.Sub(time.Unix(0, p.heard.Load())) > recordSilent {
				p.feed.End(rtpmedia.ErrSilent.Error())
				_ = p.conn.Close()
				return
			}
		}
	}
}

func (p *publisher) frame(f *rtsp.Frame) {
	for _, s := range p.streams {
		switch int(f.Channel) {
		case s.channel[0]:
			p.hear()
			s.track.Take(f.Data, time.Now())
		case s.channel[1]:
			p.session.RTCP(f.Data)
		}
	}
	for wait := p.pace(); wait > 0; wait = p.pace() { // the sender's buffers fill
		time.Sleep(wait)
		_ = p.conn.SetReadDeadline(p.deadline())
		select {
		case <-p.done:
			return
		default:
		}
	}
}

func (p *publisher) pace() time.Duration {
	if p.feed == nil {
		return 0
	}
	return p.feed.Pace()
}

func (p *publisher) hear() { p.heard.Store(time.Now().UnixNano()) }

// methods are those that are understood.
const methods = "OPTIONS, ANNOUNCE, DESCRIBE, SETUP, PLAY, RECORD, TEARDOWN, GET_PARAMETER, SET_PARAMETER"

// answer does what a request asks for. An error ends the connection, behind the answer.
func (p *publisher) answer(m *rtsp.Message) (*rtsp.Message, error) {
	if out := p.wrong(m); out != nil {
		return out, nil
	}
	switch m.Method {
	case "OPTIONS":
		out := m.Response(200, "OK")
		out.Header.Set("Public", methods)
		return out, nil
	case "GET_PARAMETER", "SET_PARAMETER":
		return m.Response(200, "OK"), nil
	case "ANNOUNCE":
		return p.announce(m)
	case "SETUP":
		if p.player != nil {
			return p.player.setUp(m), nil
		}
		return p.setUp(m)
	case "RECORD":
		if len(p.streams) == 0 || p.feed == nil {
			return m.Response(455, "Method Not Valid in This State"), nil
		}
		p.recorded = true
		p.hear()
		return m.Response(200, "OK"), nil
	case "TEARDOWN":
		return m.Response(200, "OK"), errTeardown
	case "DESCRIBE":
		return p.describe(m), nil
	case "PLAY":
		if p.player == nil || !p.player.ready() {
			return m.Response(455, "Method Not Valid in This State"), nil
		}
		return p.player.answerPlay(m), nil
	}
	out := m.Response(501, "Not Implemented")
	out.Header.Set("Public", methods)
	return out, nil
}

// wrong answers a request that is not understood, or is for another session; nil: it is for this one.
func (p *publisher) wrong(m *rtsp.Message) *rtsp.Message {
	session, _, _ := strings.Cut(m.Header.Get("Session"), ";")
	needs := append(m.Header.Values("Require"), m.Header.Values("Proxy-Require")...)
	switch {
	case m.Version != rtsp.Version:
		return m.Response(505, "RTSP Version not supported: expected "+rtsp.Version)
	case len(needs) > 0: // no option is known here (RFC 2326, 12.32)
		out := m.Response(551, "Option not supported")
		out.Header.Set("Unsupported", strings.Join(needs, ", "))
		return out
	case strings.TrimSpace(session) != "" && strings.TrimSpace(session) != p.id:
		return m.Response(454, "Session Not Found")
	case m.Method == "DESCRIBE" && !takesDescription(m.Header.Values("Accept")):
		return m.Response(406, "Not Acceptable: streams are described as application/sdp")
	}
	return nil
}

// takesDescription reports whether a player takes session descriptions; one that says nothing does.
func takesDescription(accept []string) bool {
	if len(accept) == 0 {
		return true
	}
	for one := range strings.SplitSeq(strings.Join(accept, ","), ",") {
		kind, _, _ := strings.Cut(one, ";")
		switch strings.ToLower(strings.TrimSpace(kind)) {
		case "application/sdp", "application/*", "*/*":
			return true
		}
	}
	return false
}

// senderAddress reads the channel and the key of an address: rtsp://host/in/CHANNEL/KEY or rtsp://host/in/CHANNEL?key=KEY; the
// key may also be the password of any user.
func senderAddress(m *rtsp.Message) (channel, key string) {
	u, err := url.Parse(m.Address)
	if err != nil {
		return "", ""
	}
	path, query := u.Path, u.Query()
	if before, after, ok := strings.Cut(path, "?"); ok { // some encode the question mark
		path = before
		query, _ = url.ParseQuery(after)
	}
	parts := strings.Split(strings.Trim(path, "/"), "/")
	if len(parts) < 2 || parts[0] != "in" {
		return "", ""
	}
	channel, key = parts[1], query.Get("key")
	if key == "" && len(parts) > 2 {
		key = parts[2]
	}
	if key == "" {
		key = m.BasicPassword()
	}
	if password, ok := u.User.Password(); ok && key == "" {
		key = password
	}
	return channel, key
}

func (p *publisher) announce(m *rtsp.Message) (*rtsp.Message, error) {
	if p.feed != nil || p.recorded {
		return m.Response(455, "Method Not Valid in This State"), nil
	}
	channel, key := senderAddress(m)
	if channel == "" {
		return m.Response(404, "Not Found: publish to /in/CHANNEL"), errors.New("its address names no channel")
	}
	if key == "" {
		out := m.Response(401, "Unauthorized")
		out.Header.Set("Www-Authenticate", `Basic realm="contribution key as password"`)
		return out, nil
	}
	p.channel = channel
	var d sdp.SessionDescription
	if err := d.Unmarshal(m.Body); err != nil {
		return m.Response(400, "Bad Request: the description cannot be read"), err
	}
	session := rtpmedia.NewSession(nil)
	var streams []*stream
	var wrong error
	for i, md := range d.MediaDescriptions {
		described, err := rtpmedia.Describe(md)
		if err != nil {
			wrong = err
			continue
		}
		control := described.Control
		if control == "" {
			control = fmt.Sprintf("streamid=%d", i)
		}
		t, err := session.Add(described, rtpmedia.UDPWait)
		if err != nil {
			wrong = err
			continue
		}
		if streams = append(streams, &stream{m: described, track: t, control: control, channel: [2]int{-1, -1}}); len(streams) >= maxStreams {
			break
		}
	}
	if len(streams) == 0 {
		if wrong == nil {
			wrong = errors.New("the description has no media")
		}
		return m.Response(415, "Unsupported Media Type: "+wrong.Error()), wrong
	}
	protocol := "RTSP"
	if p.s.TLS != nil {
		protocol = "RTSPS"
	}
	feed, err := p.s.Receiver.Open(contribution.Sender{Channel: channel, Key: key, Protocol: protocol,
		Remote: p.conn.RemoteAddr().String(), Silence: mediaSilence})
	if err != nil {
		status := 403
		if p.s.Receiver.IsTaken(err) {
			status = 409
		}
		return m.Response(status, "Refused: "+err.Error()), err
	}
	p.feed, p.session = feed, session
	session.Use(feed)
	p.streams = streams
	return m.Response(200, "OK"), nil
}

func (p *publisher) setUp(m *rtsp.Message) (*rtsp.Message, error) {
	if p.feed == nil || p.recorded {
		return m.Response(455, "Method Not Valid in This State"), nil
	}
	i := -1
	for n, s := range p.streams {
		if strings.HasSuffix(m.Address, s.control) && s.channel[0] < 0 && s.ports == nil {
			i = n
			break
		}
	}
	if i < 0 && len(p.streams) == 1 {
		i = 0
	}
	if i < 0 {
		return m.Response(404, "Not Found: the description has no such stream"), nil
	}
	s := p.streams[i]
	for _, t := range rtsp.ParseTransports(m.Header.Get("Transport")) {
		switch {
		case t.Multicast || t.Secure:
			continue
		case t.TCP:
			if t.Interleaved[0] < 0 {
				t.Interleaved = [2]int{2 * i, 2*i + 1}
			}
			s.channel = t.Interleaved
		case t.Client[0] > 0:
			if s.ports == nil {
				host, _, _ := net.SplitHostPort(p.conn.LocalAddr().String())
				ports, err := rtpmedia.OpenPorts(host)
				if err != nil {
					return m.Response(500, "Internal Server Error"), err
				}
				s.ports = ports
				from := netip.MustParseAddrPort(p.conn.RemoteAddr().String()).Addr().Unmap()
				go ports.Read(s.track, from, p.hear)
			}
			t.Server = s.ports.Numbers()
		default:
			continue
		}
		t.Record = true
		out := m.Response(200, "OK")
		out.Header.Set("Transport", t.String())
		return out, nil
	}
	return m.Response(461, "Unsupported Transport"), nil
}
