// Package rtc is what senders and viewers over WebRTC have in common: the port, and the signalling over HTTP in which the
// other side offers and this one answers (RFC 9725 for senders, draft-ietf-wish-whep for viewers). WebRTC itself is pion's.
package rtc

import (
	"fmt"
	"io"
	"log/slog"
	"net"
	"slices"
	"strings"
	"time"

	"metaplasis/internal/network"

	"github.com/pion/ice/v4"
	"github.com/pion/logging"
	"github.com/pion/transport/v5/stdnet"
	"github.com/pion/webrtc/v4"
)

// Config of a Port.
type Config struct {
	Address   string   // host:port for ICE over UDP and TCP; "" is off
	Announced []string // addresses to announce instead of this machine's
	// ICE are servers that the other side is told of: stun:host:3478, or turn:host:3478,USER,PASSWORD.
	ICE []string
}

// links are the Link headers of the servers (RFC 9725, 4.6).
func (c *Config) links() (out []string, err error) {
	for _, text := range c.ICE {
		f := strings.Split(text, ",")
		scheme, host, _ := strings.Cut(f[0], ":")
		known := scheme == "stun" || scheme == "stuns" || scheme == "turn" || scheme == "turns"
		if !known || host == "" || len(f) != 1 && len(f) != 3 || strings.ContainsAny(text, "\"<>;\r\n ") {
			return nil, fmt.Errorf("found the ICE server %.60q, expected stun:HOST:PORT or turn:HOST:PORT,USER,PASSWORD", text)
		}
		link := "<" + f[0] + `>; rel="ice-server"`
		if len(f) == 3 {
			link += fmt.Sprintf(`; username="%s"; credential="%s"; credential-type="password"`, f[1], f[2])
		}
		out = append(out, link)
	}
	return out, nil
}

// Port is one port, of UDP and TCP, for all peers.
type Port struct {
	Number int      // in use
	Links  []string // of ICE servers, for the other side

	engine    webrtc.SettingEngine
	closers   []io.Closer
	gathering gathering
}

// Open opens the port.
func Open(c Config, logger *slog.Logger) (*Port, error) {
	p := &Port{}
	var err error
	if p.Links, err = c.links(); err != nil {
		return nil, err
	}
	e := &p.engine
	inner := logging.NewDefaultLoggerFactory()
	inner.Writer = slog.NewLogLogger(logger.Handler(), slog.LevelDebug).Writer()
	e.LoggerFactory = inner
	e.SetICETimeouts(4*time.Second, 12*time.Second, time.Second)
	e.SetIncludeLoopbackCandidate(true)
	e.SetNetworkTypes([]webrtc.NetworkType{webrtc.NetworkTypeUDP4, webrtc.NetworkTypeUDP6, webrtc.NetworkTypeTCP4, webrtc.NetworkTypeTCP6})
	if err := p.listen(c.Address); err != nil {
		p.Close()
		return nil, err
	}
	if len(c.Announced) > 0 {
		if err := e.SetICEAddressRewriteRules(webrtc.ICEAddressRewriteRule{External: c.Announced, AsCandidateType: webrtc.ICECandidateTypeHost}); err != nil {
			p.Close()
			return nil, fmt.Errorf("announced addresses of WebRTC: %w", err)
		}
	}
	return p, nil
}

// Engine is how a peer connection uses the port.
func (p *Port) Engine() webrtc.SettingEngine { return p.engine }

func (p *Port) listen(address string) error {
	e := &p.engine
	l, err := net.Listen("tcp", address)
	if err != nil {
		return fmt.Errorf("WebRTC port %s over TCP: %w", address, err)
	}
	p.closers = append(p.closers, l)
	p.Number = l.Addr().(*net.TCPAddr).Port
	host, _, _ := net.SplitHostPort(address)
	tcp := webrtc.NewICETCPMux(e.LoggerFactory.NewLogger("ice"), &provenListener{network.Listen(l, tcpLimits, slog.Default())}, 64)
	e.SetICETCPMux(tcp)
	p.closers = append(p.closers, tcp)
	if ip := net.ParseIP(host); ip == nil || ip.IsUnspecified() {
		std, err := stdnet.NewNet()
		if err != nil {
			return fmt.Errorf("the network's interfaces: %w", err)
		}
		mux, err := ice.NewMultiUDPMuxFromPort(p.Number, ice.UDPMuxFromPortWithLoopback(), ice.UDPMuxFromPortWithLogger(e.LoggerFactory.NewLogger("ice")),
			ice.UDPMuxFromPortWithNet(&gatheringNet{std, &p.gathering}))
		if err != nil {
			return fmt.Errorf("WebRTC port %d over UDP: %w", p.Number, err)
		}
		e.SetICEUDPMux(mux)
		p.closers = append(p.closers, mux)
		return nil
	}
	c, err := net.ListenPacket("udp", net.JoinHostPort(host, fmt.Sprint(p.Number)))
	if err != nil {
		return fmt.Errorf("WebRTC port %d over UDP: %w", p.Number, err)
	}
	mux := webrtc.NewICEUDPMux(e.LoggerFactory.NewLogger("ice"), newGatherer(c.(*net.UDPConn), &p.gathering))
	e.SetICEUDPMux(mux)
	p.closers = append(p.closers, mux, c)
	return nil
}

// tcpLimits are those of ICE over TCP.
//
//limit:connections of WebRTC over TCP | all; each network | who waited longest without doing anything is closed; then new ones are
var tcpLimits = network.Limits{Total: 4096, EachNetwork: 512, Idle: 256, IdleNetwork: 32}

// provenAfter is how many bytes a connection over TCP brings until it counts as one in use.
const provenAfter = 2048

// provenListener tells connections that carry something from those that only wait.
type provenListener struct{ *network.Listener }

func (l *provenListener) Accept() (net.Conn, error) {
	c, err := l.Listener.Accept()
	if err != nil {
		return nil, err
	}
	return &provenConn{Conn: c}, nil
}

type provenConn struct {
	net.Conn
	came int
}

func (c *provenConn) Read(b []byte) (int, error) {
	n, err := c.Conn.Read(b)
	if before := c.came; before < provenAfter {
		if c.came += n; c.came >= provenAfter {
			if place := network.Under(c.Conn); place != nil {
				place.Use()
			}
		}
	}
	return n, err
}

// Close closes the port.
func (p *Port) Close() {
	for _, c := range slices.Backward(p.closers) {
		_ = c.Close()
	}
}
