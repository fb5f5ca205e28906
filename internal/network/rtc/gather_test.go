package rtc

import (
	"bytes"
	"encoding/binary"
	"net"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func packetOf(ssrc uint32, sequence, size int) []byte {
	b := bytes.Repeat([]byte{byte(sequence)}, size)
	b[0], b[1] = 0x80, 96
	binary.BigEndian.PutUint16(b[2:], uint16(sequence))
	binary.BigEndian.PutUint32(b[8:], ssrc)
	return b
}

// TestGather: packets of a stream that is held leave together and arrive as they were, in their order; all others at once.
func TestGather(t *testing.T) {
	open := func() *net.UDPConn {
		c, err := net.ListenUDP("udp", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1)})
		require.NoError(t, err)
		t.Cleanup(func() { _ = c.Close() })
		require.NoError(t, c.SetReadBuffer(1<<20))
		return c
	}
	far, other := open(), open()
	received := func(c *net.UDPConn, n int) (out [][]byte) {
		require.NoError(t, c.SetReadDeadline(time.Now().Add(10*time.Second)))
		for range n {
			b := make([]byte, 2000)
			n, err := c.Read(b)
			require.NoError(t, err)
			out = append(out, b[:n])
		}
		return out
	}
	quiet := func(c *net.UDPConn) {
		require.NoError(t, c.SetReadDeadline(time.Now().Add(20*time.Millisecond)))
		_, err := c.Read(make([]byte, 2000))
		assert.Error(t, err, "nothing comes while it is held")
	}
	p := &Port{}
	s := newGatherer(open(), &p.gathering)
	put := func(b []byte, to *net.UDPConn) []byte {
		n, err := s.WriteTo(b, to.LocalAddr())
		require.NoError(t, err)
		require.Len(t, b, n)
		return bytes.Clone(b)
	}
	g, forget := p.Gather(7)

	g.Hold()
	var sent [][]byte
	for i, size := range []int{1180, 1180, 1180, 400, 30, 1180, 60, 60, 1180} {
		b := packetOf(7, i, size)
		sent = append(sent, put(b, far))
		clear(b) // it is the caller's again
	}
	quiet(far)
	alone := put(packetOf(8, 1, 100), far)
	report := packetOf(7, 2, 100)
	report[1] = 200 // RTCP
	put(report, far)
	assert.Equal(t, [][]byte{alone, report}, received(far, 2), "other streams and reports do not wait")
	g.Release()
	assert.Equal(t, sent, received(far, len(sent)))

	g.Hold()
	sent = [][]byte{put(packetOf(7, 1, 500), far)}
	elsewhere := put(packetOf(7, 2, 500), other)
	assert.Equal(t, sent, received(far, 1), "another address: what was held leaves")
	sent = nil
	for i := range 3 * mostGathered {
		sent = append(sent, put(packetOf(7, i, 1180), far))
	}
	assert.Equal(t, sent[:2*mostGathered], received(far, 2*mostGathered), "no more is held than leaves at once")
	assert.Equal(t, elsewhere, received(other, 1)[0])
	forget()
	assert.Equal(t, sent[2*mostGathered:], received(far, mostGathered))
	assert.Equal(t, put(packetOf(7, 1, 100), far), received(far, 1)[0], "and is forgotten")
}
