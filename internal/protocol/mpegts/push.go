package mpegts

import (
	"context"
	"errors"
	"math/rand/v2"
	"net/netip"
	"net/url"
	"syscall"
	"time"

	"github.com/pion/rtp"

	"metaplasis/internal/core/media"
	"metaplasis/internal/core/ts"
	"metaplasis/internal/network/udp"
	"metaplasis/internal/onward/mux"
)

// Dial sends to udp://host:port, rtp://host:port or tcp://host:port: of a multicast group by the interface and with the lifetime that the
// query names, as in udp://239.1.1.1:5000?interface=eth0&ttl=4; and at a constant rate, if it names one: see SetRate.
func Dial(ctx context.Context, u *url.URL) (*mux.Conn, error) {
	if u.Scheme == "tcp" {
		return dialTCP(ctx, u)
	}
	c, err := udp.Dial(ctx, u)
	if err != nil {
		return nil, err
	}
	burst, size := udp.NewBurst(c), mux.DatagramPackets*ts.PacketSize
	send := func(b []byte) error {
		err := burst.Send(b, size, netip.AddrPort{})
		if errors.Is(err, syscall.ECONNREFUSED) {
			return nil // nobody listens yet, or for a moment: who sends datagrams goes on
		}
		return err
	}
	if u.Scheme == "rtp" {
		send, size = overRTP(send), size+rtpHeader
	}
	conn := mux.NewConn(send, c.Close, nil)
	return conn, conn.SetRate(u)
}

// rtpHeader is how long a header of RTP is without extensions, in bytes.
const rtpHeader = 12

// overRTP puts the header of RTP before the packets of each datagram (RFC 2250, 2).
func overRTP(send func([]byte) error) func([]byte) error {
	h := rtp.Header{Version: 2, PayloadType: 33, SSRC: rand.Uint32(), SequenceNumber: uint16(rand.Uint32())}
	begin := time.Now()
	var out []byte
	return func(b []byte) error {
		h.Timestamp = uint32(media.Rescale(int64(time.Since(begin)), int64(time.Second), 90000))
		out = out[:0]
		for len(b) > 0 {
			n := min(mux.DatagramPackets*ts.PacketSize, len(b))
			h.SequenceNumber++
			at := len(out)
			out = append(out, make([]byte, rtpHeader)...)
			if _, err := h.MarshalTo(out[at:]); err != nil {
				return err
			}
			out = append(out, b[:n]...)
			b = b[n:]
		}
		return send(out)
	}
}
