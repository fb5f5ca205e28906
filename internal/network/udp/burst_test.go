package udp

import (
	"net"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestBurst: what leaves together arrives as it would by itself, to an address of the call or of the socket, over IPv4 and
// IPv6, and where the system does not cut it apart.
func TestBurst(t *testing.T) {
	for _, host := range []string{"127.0.0.1", "::1"} {
		far, err := net.ListenUDP("udp", &net.UDPAddr{IP: net.ParseIP(host)})
		if err != nil && host == "::1" {
			t.Log("no IPv6 on this machine:", err)
			continue
		}
		require.NoError(t, err)
		defer func() { _ = far.Close() }()
		require.NoError(t, far.SetReadBuffer(1<<20))
		for _, connected := range []bool{true, false} {
			var near *net.UDPConn
			var to netip.AddrPort
			if connected {
				near, err = net.DialUDP("udp", nil, far.LocalAddr().(*net.UDPAddr))
			} else {
				near, err = net.ListenUDP("udp", &net.UDPAddr{IP: net.ParseIP(host)})
				to = far.LocalAddr().(*net.UDPAddr).AddrPort()
			}
			require.NoError(t, err)
			defer func() { _ = near.Close() }()
			s := NewBurst(near)
			for _, whole := range []bool{false, true} {
				s.whole.Store(whole)
				for _, n := range []int{1, 1316, 1317, 3*1316 + 188, (MaxBurst + 3) * 1316} {
					b := make([]byte, n)
					for i := range b {
						b[i] = byte(i / 188)
					}
					require.NoError(t, s.Send(b, 1316, to))
					require.NoError(t, far.SetReadDeadline(time.Now().Add(10*time.Second)))
					var got []byte
					for len(got) < n {
						p := make([]byte, 2000)
						k, err := far.Read(p)
						require.NoError(t, err)
						assert.Equal(t, min(1316, n-len(got)), k)
						got = append(got, p[:k]...)
					}
					assert.Equal(t, b, got)
				}
				assert.Equal(t, whole, s.whole.Load())
			}
		}
	}
}

// TestNobodyListens: that datagrams are refused is told, and does not end the bursts.
func TestNobodyListens(t *testing.T) {
	far, err := net.ListenUDP("udp", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1)})
	require.NoError(t, err)
	near, err := net.DialUDP("udp", nil, far.LocalAddr().(*net.UDPAddr))
	require.NoError(t, err)
	defer func() { _ = near.Close() }()
	require.NoError(t, far.Close())
	s := NewBurst(near)
	for range 5 {
		_ = s.Send(make([]byte, 5000), 1316, netip.AddrPort{})
	}
	assert.False(t, s.whole.Load())
}
