package mpegts

import (
	"context"
	"fmt"
	"net"
	"net/netip"
	"net/url"
	"time"

	"github.com/pion/rtp"

	"metaplasis/internal/contribution"
	"metaplasis/internal/contribution/demux"
	"metaplasis/internal/core/rtpmap"
	"metaplasis/internal/network/udp"
)

// Bounds of a socket.
const (
	// reorderWait is for how long a missing RTP packet is waited for.
	reorderWait = 80 * time.Millisecond
	lookUDP     = 50 * time.Millisecond
	// udpSilence is for how long nothing may come until a source is taken for gone.
	udpSilence = 10 * time.Second
	askEach    = time.Second
	batchSize  = 64 // datagrams that are read at once
	// otherStream is how many packets in a row of another SSRC make it the one that is read.
	otherStream = 64
	tsType      = 33 // payload type of transport streams (RFC 3551, 6)
)

// receiveUDP reads datagrams of a transport stream, bare or in RTP, until nothing comes for long.
func receiveUDP(ctx context.Context, u *url.URL, _ string, s *reception) error {
	conn, err := udp.Listen(u)
	if err != nil {
		return err
	}
	defer func() { _ = conn.Close() }()
	stop := context.AfterFunc(ctx, func() { _ = conn.SetReadDeadline(time.Now()) })
	defer stop()
	var source netip.Addr
	if text := u.Query().Get("source"); text != "" {
		source, _ = netip.ParseAddr(text)
	}
	lets := func(remote string) bool { return s.r.may(s, remote) }
	r := &datagrams{s: s.stream, socket: contribution.Socket{Buffer: udp.BufferOf(conn)}, source: source, lets: lets, begun: time.Now()}
	return r.read(ctx, conn)
}

// datagrams reads the datagrams of one source.
type datagrams struct {
	s       *demux.Stream
	socket  contribution.Socket
	source  netip.Addr // the only one; invalid for any
	lets    func(remote string) bool
	asked   netip.Addr // of whom it was asked last, when, and what the answer was
	askedAt time.Time
	let     bool
	kept    int64 // datagrams from where nobody may send
	begun   time.Time
	heard   time.Time
	queue   *rtpmap.Queue // of a stream in RTP
	ssrc    uint32
	other   int64 // packets of RTP that are not of the stream
	alien   int64 // packets of the stream since another SSRC came
}

func (r *datagrams) read(ctx context.Context, conn *net.UDPConn) error {
	reader := udp.NewReader(conn, batchSize)
	r.heard = time.Now()
	for {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		var now time.Time
		err := reader.Read(lookUDP, func(b []byte, from netip.Addr) {
			if now.IsZero() {
				now = time.Now()
			}
			if (!r.source.IsValid() || from == r.source) && r.may(from, now) {
				r.handle(b, now)
			}
		})
		if err != nil {
			return err
		}
		if now.IsZero() {
			if now = time.Now(); now.Sub(r.heard) > udpSilence {
				if r.kept > 0 {
					return fmt.Errorf("%d datagrams came from %s, which is not among the channel's sender networks, and none from others", r.kept, r.asked)
				}
				return fmt.Errorf("nothing came for %d s", int(udpSilence.Seconds()))
			}
		}
		r.socket.Overruns = reader.Overruns
		if r.queue != nil {
			r.queue.Look(now.Sub(r.begun), r.deliver)
		}
		r.measured()
		r.s.Look()
	}
}

// may reports whether datagrams of an address are read. Settings may change: it is asked again now and then.
func (r *datagrams) may(from netip.Addr, now time.Time) bool {
	if from != r.asked || now.Sub(r.askedAt) > askEach {
		r.asked, r.askedAt, r.let = from, now, r.lets == nil || r.lets(netip.AddrPortFrom(from, 0).String())
	}
	if !r.let {
		r.kept++
	}
	return r.let
}

// handle reads one datagram. Transport packets begin with their sync byte, RTP with its version.
func (r *datagrams) handle(b []byte, now time.Time) {
	if len(b) == 0 {
		return
	}
	r.socket.Packets++
	if b[0] == 'G' || b[0]>>6 != 2 {
		r.heard = now
		r.s.Write(b)
		return
	}
	var p rtp.Packet
	if p.Unmarshal(b) != nil || p.PayloadType != tsType && p.PayloadType < 96 {
		r.other++
		return
	}
	if r.queue == nil || p.SSRC != r.ssrc {
		// Streams of forward error correction have an SSRC of their own (or 0) and no transport packets.
		if len(p.Payload) == 0 || p.Payload[0] != 'G' {
			r.other++
			return
		}
		if r.alien++; r.queue != nil && r.alien < otherStream {
			r.other++ // the sender started over, if the old one is not heard any more
			return
		}
		r.queue, r.ssrc, r.alien = rtpmap.NewQueue(90000, reorderWait), p.SSRC, 0
	} else if r.alien > 0 {
		r.alien = 0
	}
	r.heard = now
	payload := append([]byte(nil), p.Payload...)
	r.queue.Put(&rtpmap.Packet{Sequence: p.SequenceNumber, Timestamp: p.Timestamp, Payload: payload}, now.Sub(r.begun), r.deliver)
}

func (r *datagrams) deliver(p *rtpmap.Packet, _ int) { r.s.Write(p.Payload) }

// measured hands the figures over.
func (r *datagrams) measured() {
	r.s.Measured(func(l *contribution.Line) {
		if l.Socket != nil && *l.Socket == r.socket {
			return
		}
		socket := r.socket
		l.Socket = &socket
		if q := r.queue; q != nil {
			l.RTP = &contribution.RTP{Packets: q.Packets, Lost: q.Lost, Late: q.Late, Reordered: q.Reordered, Jitter: q.JitterMicros(), Other: r.other}
		}
	})
}
