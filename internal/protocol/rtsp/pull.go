package rtsp

import (
	"metaplasis/internal/safely"

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
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"github.com/pion/sdp/v3"

	"metaplasis/internal/contribution"
	"metaplasis/internal/contribution/rtpmedia"
	"metaplasis/internal/contribution/source"
	"metaplasis/internal/core/rtsp"
	"metaplasis/internal/network"
)

// Timing.
const (
	dialTimeout   = 8 * time.Second
	answerTimeout = 10 * time.Second
	mediaSilence  = 2 * time.Second // without media, until others may take its place
	lookEach      = 100 * time.Millisecond
	// signWait is how long a server that sends nothing has to answer that it is there.
	signWait = 2 * time.Second
	//limit:redirections | each try | the try fails
	maxRedirects = 3
	// udpTrial is for how long nothing may come over UDP until it is tried over TCP.
	udpTrial = 3 * time.Second
	// reportEach is how often a receiver says that it is there (RFC 3550, 6.2).
	reportEach = 5 * time.Second
)

// Puller fetches feeds.
type Puller struct {
	Logger *slog.Logger
}

// Receive implements source.Protocol. The query of the address may say transport=udp, tcp or multicast; without it UDP
// is tried, then TCP.
func (p *Puller) Receive(ctx context.Context, l *source.Line) error {
	u := *l.URL
	q := u.Query()
	wanted := q.Get("transport")
	q.Del("transport")
	u.RawQuery = q.Encode()
	ways := []string{wanted}
	switch wanted {
	case "":
		ways = []string{"udp", "tcp"}
	case "udp", "tcp", "multicast":
	default:
		return fmt.Errorf("found transport=%s, expected udp, tcp or multicast", wanted)
	}
	var err error
	for _, way := range ways {
		err = p.fetch(ctx, l, &u, way, len(ways) > 1 && way == "udp")
		var status *rtsp.StatusError
		if !errors.Is(err, errNothing) && !(errors.As(err, &status) && status.Status == 461) {
			return err
		}
	}
	return err
}

// errNothing says that nothing came over UDP from the begin on.
var errNothing = errors.New("nothing came over UDP: a firewall may keep it away")

// pulled is one connection to a server.
type pulled struct {
	l       *source.Line
	conn    net.Conn
	client  *rtsp.Client
	session *rtpmedia.Session
	streams []*stream
	way     string
	limit   atomic.Int64 // for how long nothing may come on the connection
	heard   atomic.Int64 // when a packet came, nanoseconds since 1970
	base    string
}

type stream struct {
	m       *rtpmedia.Media
	track   *rtpmedia.Track
	control string
	channel [2]int
	ports   *rtpmedia.Ports
	server  [2]int // ports of the other side
	from    netip.Addr
}

// fetch fetches a stream in one way; trial says that another one is tried when nothing comes.
func (p *Puller) fetch(ctx context.Context, l *source.Line, u *url.URL, way string, trial bool) (err error) {
	key := rtsp.Credentials{User: u.User.Username(), Password: l.Secret}
	for range maxRedirects {
		err = p.fetchAt(ctx, l, u, key, way, trial)
		var moved *rtsp.StatusError
		if !errors.As(err, &moved) || moved.Location == "" || moved.Status < 300 || moved.Status > 399 {
			return err
		}
		to, wrong := url.Parse(moved.Location)
		if wrong != nil || to.Scheme != "rtsp" && to.Scheme != "rtsps" {
			return errors.New("the other side sends us to an address that is no RTSP")
		}
		if to.Hostname() != u.Hostname() || u.Scheme == "rtsps" && to.Scheme == "rtsp" {
			key = rtsp.Credentials{} // the password is for the host that it was given for
		}
		u = to
	}
	return fmt.Errorf("the other side sends us on and on: %w", err)
}

func (p *Puller) fetchAt(ctx context.Context, l *source.Line, u *url.URL, key rtsp.Credentials, way string, trial bool) error {
	conn, err := dial(ctx, u)
	if err != nil {
		return err
	}
	defer func() { _ = conn.Close() }()
	stop := context.AfterFunc(ctx, func() { _ = conn.Close() })
	c := &pulled{l: l, conn: conn, way: way}
	c.limit.Store(int64(answerTimeout))
	var nonce [8]byte
	_, _ = rand.Read(nonce[:])
	c.client = rtsp.NewClient(timed{conn, &c.limit}, key, hex.EncodeToString(nonce[:]))
	c.client.Frame = c.frame
	bare := *u
	bare.User, bare.RawQuery = nil, network.WithoutTrust(u)
	c.base = bare.String()
	c.session = rtpmedia.NewSession(func() (contribution.Feed, error) {
		return l.Open("RTSP", conn.RemoteAddr().String(), mediaSilence)
	})
	defer c.close()
	if err = c.setUp(); err == nil && stop() {
		err = c.play(ctx, trial)
	}
	if ctx.Err() != nil {
		err = ctx.Err()
	}
	var refused *rtsp.StatusError
	if errors.As(err, &refused) && refused.Refuses() {
		err = &source.Refused{Err: err}
	}
	if f := c.session.Feed(); f != nil {
		f.End(err.Error())
	}
	return err
}

func dial(ctx context.Context, u *url.URL) (net.Conn, error) {
	port := u.Port()
	if port == "" {
		if port = "554"; u.Scheme == "rtsps" {
			port = "322"
		}
	}
	host := net.JoinHostPort(u.Hostname(), port)
	d := network.Dialer(dialTimeout)
	if u.Scheme == "rtsps" {
		// Cameras have certificates of their own making: encrypted, and not more, unless the address says which one.
		trust, err := network.Trust(u, false)
		if err != nil {
			return nil, err
		}
		return (&tls.Dialer{NetDialer: d, Config: trust}).DialContext(ctx, "tcp", host)
	}
	return d.DialContext(ctx, "tcp", host)
}

// timed bounds how long an answer may take, and from limit on for how long nothing may come.
type timed struct {
	net.Conn
	limit *atomic.Int64 // nanoseconds
}

func (t timed) Write(b []byte) (int, error) {
	_ = t.SetWriteDeadline(time.Now().Add(answerTimeout))
	return t.Conn.Write(b)
}

func (t timed) Read(b []byte) (int, error) {
	_ = t.SetReadDeadline(time.Now().Add(time.Duration(t.limit.Load())))
	return t.Conn.Read(b)
}

// Describe asks a server what a stream holds, without playing it: a session description.
func Describe(ctx context.Context, address string) ([]byte, error) {
	u, err := url.Parse(address)
	if err != nil {
		return nil, err
	}
	conn, err := dial(ctx, u)
	if err != nil {
		return nil, err
	}
	defer func() { _ = conn.Close() }()
	defer context.AfterFunc(ctx, func() { _ = conn.Close() })()
	var limit atomic.Int64
	limit.Store(int64(answerTimeout))
	ask := rtsp.Request("DESCRIBE", address)
	ask.Header.Set("Accept", "application/sdp")
	answer, err := rtsp.NewClient(timed{conn, &limit}, rtsp.Credentials{}, "").Do(ask)
	if err != nil {
		return nil, err
	}
	return answer.Body, nil
}

// setUp asks what there is, and for each stream that is received here.
func (c *pulled) setUp() error {
	if _, err := c.client.Do(rtsp.Request("OPTIONS", c.base)); err != nil {
		var status *rtsp.StatusError
		if !errors.As(err, &status) || status.Refuses() { // some do not know it
			return err
		}
	}
	ask := rtsp.Request("DESCRIBE", c.base)
	ask.Header.Set("Accept", "application/sdp")
	answer, err := c.client.Do(ask)
	if err != nil {
		return err
	}
	var d sdp.SessionDescription
	if err := d.Unmarshal(answer.Body); err != nil {
		return fmt.Errorf("the description of the stream cannot be read: %w", err)
	}
	base := c.base
	for _, h := range []string{"Content-Base", "Content-Location"} {
		if v := answer.Header.Get(h); v != "" {
			base = v
			break
		}
	}
	for _, a := range d.Attributes {
		if a.Key == "control" && a.Value != "*" {
			base = rtsp.Resolve(base, a.Value)
		}
	}
	c.base = base
	var wrong error
	wait := rtpmedia.UDPWait
	if c.way == "tcp" {
		wait = rtpmedia.TCPWait
	}
	for _, md := range d.MediaDescriptions {
		m, err := rtpmedia.Describe(md)
		if err != nil {
			wrong = err
			continue
		}
		t, err := c.session.Add(m, wait)
		if err != nil {
			wrong = err
			continue
		}
		s := &stream{m: m, track: t, control: rtsp.Resolve(base, m.Control), channel: [2]int{-1, -1}}
		if err := c.setUpStream(s, len(c.streams)); err != nil {
			return err
		}
		c.streams = append(c.streams, s)
	}
	if len(c.streams) == 0 {
		if wrong == nil {
			wrong = errors.New("the stream's description has no media")
		}
		return wrong
	}
	return nil
}

func (c *pulled) setUpStream(s *stream, n int) error {
	t := rtsp.Transport{Interleaved: [2]int{-1, -1}}
	switch c.way {
	case "tcp":
		t.TCP, t.Interleaved = true, [2]int{2 * n, 2*n + 1}
		s.channel = t.Interleaved
	case "multicast":
		t.Multicast = true
	default:
		p, err := rtpmedia.OpenPorts(anyHost(c.remote()))
		if err != nil {
			return err
		}
		s.ports, t.Client = p, p.Numbers()
	}
	ask := rtsp.Request("SETUP", s.control)
	ask.Header.Set("Transport", t.String())
	answer, err := c.client.Do(ask)
	if err != nil {
		if s.ports != nil {
			s.ports.Close()
		}
		return err
	}
	got := rtsp.ParseTransports(answer.Header.Get("Transport"))[0]
	switch c.way {
	case "tcp":
		if got.Interleaved[0] >= 0 {
			s.channel = got.Interleaved
		}
	case "multicast":
		if s.ports, err = joinGroup(&got, c.l.URL); err != nil {
			return err
		}
		go s.ports.Read(s.track, netip.Addr{}, c.hear)
	default:
		from := c.remote()
		if a, err := netip.ParseAddr(got.Source); err == nil {
			from = a
		}
		s.from, s.server = from, got.Server
		s.ports.Punch(from, got.Server)
		go s.ports.Read(s.track, from, c.hear)
	}
	return nil
}

func (c *pulled) remote() netip.Addr {
	return c.conn.RemoteAddr().(*net.TCPAddr).AddrPort().Addr().Unmap()
}

// anyHost is where packets of a host come in, of its family of addresses.
func anyHost(of netip.Addr) string {
	if of.Is6() {
		return "::"
	}
	return "0.0.0.0"
}

// joinGroup becomes a member of the group that a server names.
func joinGroup(t *rtsp.Transport, u *url.URL) (*rtpmedia.Ports, error) {
	if t.Destination == "" || t.Port[0] == 0 {
		return nil, errors.New("the other side names no multicast group")
	}
	return rtpmedia.ListenPorts(t.Destination, t.Port, u.Query(), false)
}

func (c *pulled) hear() { c.heard.Store(time.Now().UnixNano()) }

// frame takes a packet that came on the connection.
func (c *pulled) frame(f rtsp.Frame) {
	for _, s := range c.streams {
		switch int(f.Channel) {
		case s.channel[0]:
			c.hear()
			s.track.Take(f.Data, time.Now())
		case s.channel[1]:
			c.session.RTCP(f.Data)
		}
	}
}

// play starts the stream and keeps it up.
//
//large:one dialogue, request by request
func (c *pulled) play(ctx context.Context, trial bool) error {
	ask := rtsp.Request("PLAY", c.base)
	ask.Header.Set("Range", "npt=0.000-")
	answer, err := c.client.Do(ask)
	if err != nil {
		return err
	}
	c.align(answer.Header.Get("Rtp-Info"))
	c.hear()
	begun := time.Now()
	first := c.heard.Load()
	failed := make(chan error, 1)
	var answered, asked time.Time
	signs := make(chan struct{}, 1)
	go safely.Do(nil, func() { // what comes on the connection: answers to signs of life, packets
		c.limit.Store(int64(c.client.Timeout + answerTimeout))
		for {
			m, err := c.client.Next()
			if err != nil {
				failed <- err
				return
			}
			if m != nil {
				select {
				case signs <- struct{}{}:
				default:
				}
			}
		}
	}, func(err error) { failed <- err })
	var feed contribution.Feed
	var kicked <-chan string
	look, alive := time.NewTicker(lookEach), time.NewTicker(max(c.client.Timeout/2, 5*time.Second))
	report := time.NewTicker(reportEach)
	defer report.Stop()
	defer look.Stop()
	defer alive.Stop()
	for {
		select {
		case <-ctx.Done():
			return errors.New("its input was removed, or nobody watches")
		case err := <-failed:
			if errors.Is(err, io.EOF) {
				return errors.New("the other side closed the connection")
			}
			return err
		case why := <-kicked:
			return &contribution.SentAway{Why: why}
		case <-report.C:
			c.report()
		case <-signs:
			answered = time.Now()
		case <-alive.C:
			// Its answer is read with everything else.
			if err := c.client.Send(rtsp.Request("OPTIONS", c.base)); err != nil {
				return err
			}
		case now := <-look.C:
			c.session.Look(now)
			if feed == nil {
				if feed = c.session.Feed(); feed != nil {
					kicked = feed.Kicked()
				} else if err := c.session.Err(); err != nil {
					return err
				}
			}
			heard := c.heard.Load()
			quiet := now.Sub(time.Unix(0, heard))
			if quiet > mediaSilence && asked.Before(time.Unix(0, heard)) { // is it there at all?
				asked = now
				if err := c.client.Send(rtsp.Request("OPTIONS", c.base)); err != nil {
					return err
				}
			}
			switch {
			case quiet > mediaSilence+signWait && answered.Before(asked) && now.Sub(asked) > signWait:
				return errors.New("the other side sends nothing and does not answer")
			case trial && heard == first && now.Sub(begun) > udpTrial:
				return errNothing
			case quiet > rtpmedia.SilenceLimit:
				return rtpmedia.ErrSilent
			}
		}
	}
}

// report says that we are there, for each stream.
func (c *pulled) report() {
	for _, s := range c.streams {
		b, err := s.track.ReceiverReport()
		switch {
		case err != nil:
		case s.ports != nil && s.server[1] > 0:
			s.ports.Answer(b, netip.AddrPortFrom(s.from, uint16(s.server[1])))
		case s.channel[1] >= 0:
			_ = c.conn.SetWriteDeadline(time.Now().Add(answerTimeout))
			_, _ = c.conn.Write((&rtsp.Frame{Channel: byte(s.channel[1]), Data: b}).Marshal())
		}
	}
}

// align takes the times at which the streams begin together (RFC 2326, 12.33).
func (c *pulled) align(info string) {
	now := time.Now()
	var stamps []uint32
	for one := range strings.SplitSeq(info, ",") {
		for field := range strings.SplitSeq(one, ";") {
			if text, ok := strings.CutPrefix(strings.TrimSpace(field), "rtptime="); ok {
				if v, err := strconv.ParseUint(text, 10, 32); err == nil {
					stamps = append(stamps, uint32(v))
				}
			}
		}
	}
	if len(stamps) != len(c.streams) || len(stamps) < 2 {
		return
	}
	for i, s := range c.streams {
		s.track.Align(stamps[i], now)
	}
}

func (c *pulled) close() {
	_ = c.conn.SetDeadline(time.Now().Add(time.Second))
	if len(c.streams) > 0 {
		_ = c.client.Send(rtsp.Request("TEARDOWN", c.base))
	}
	for _, s := range c.streams {
		if s.ports != nil {
			s.ports.Close()
		}
	}
}
