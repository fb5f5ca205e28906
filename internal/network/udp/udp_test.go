package udp

import (
	"fmt"
	"net"
	"net/netip"
	"net/url"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func listen(t *testing.T, address string) *net.UDPConn {
	u, err := url.Parse(address)
	require.NoError(t, err)
	c, err := Listen(u)
	require.NoError(t, err)
	t.Cleanup(func() { _ = c.Close() })
	return c
}

func send(t *testing.T, address, text string) {
	u, err := url.Parse(address)
	require.NoError(t, err)
	c, err := Dial(t.Context(), u)
	require.NoError(t, err)
	defer func() { _ = c.Close() }()
	_, err = c.Write([]byte(text))
	require.NoError(t, err)
}

// heard is what a socket has, up to an end mark.
func heard(t *testing.T, r *Reader) (out []string) {
	for range 100 {
		require.NoError(t, r.Read(100*time.Millisecond, func(b []byte, _ netip.Addr) { out = append(out, string(b)) }))
		if len(out) > 0 && out[len(out)-1] == "end" {
			return out[:len(out)-1]
		}
	}
	t.Fatal("the end did not come")
	return nil
}

// TestGroupsOfOnePort: who listens to a group gets nothing of what is sent to another one on the same port, nor what is
// sent to the machine alone.
func TestGroupsOfOnePort(t *testing.T) {
	probe := listen(t, "udp://127.0.0.1:0")
	port := probe.LocalAddr().(*net.UDPAddr).Port
	require.NoError(t, probe.Close())
	at := func(host string) string { return fmt.Sprintf("udp://%s:%d?interface=lo", host, port) }
	one, other := NewReader(listen(t, at("239.255.61.1")), 4), NewReader(listen(t, at("239.255.61.2")), 4)
	again := NewReader(listen(t, at("239.255.61.1")), 4)
	stranger := NewReader(listen(t, at("239.255.61.1")+"&source=192.0.2.99"), 4)
	send(t, at("239.255.61.1"), "to one")
	send(t, at("239.255.61.2"), "to the other")
	c, err := net.Dial("udp", fmt.Sprintf("127.0.0.1:%d", port))
	require.NoError(t, err)
	_, _ = c.Write([]byte("to nobody")) // which may be refused
	require.NoError(t, c.Close())
	for _, host := range []string{"239.255.61.1", "239.255.61.2"} {
		send(t, at(host), "end")
	}
	assert.Equal(t, []string{"to one"}, heard(t, one))
	assert.Equal(t, []string{"to one"}, heard(t, again), "both who listen to a group get all of it")
	assert.Equal(t, []string{"to the other"}, heard(t, other))
	require.NoError(t, stranger.Read(50*time.Millisecond, func(b []byte, _ netip.Addr) { t.Errorf("%q of another source came", b) }))
}

func TestAddressesThatCannotBe(t *testing.T) {
	taken := listen(t, "udp://127.0.0.1:0")
	for address, want := range map[string]string{
		"udp://192.0.2.250:5000":                             "is no address of this machine",
		fmt.Sprintf("udp://%v", taken.LocalAddr()):           "is taken",
		"udp://239.1.1.1:5000?interface=none7":               `no network interface "none7"`,
		"udp://239.1.1.1:5000?interface=lo&source=elsewhere": `found the source "elsewhere"`,
		"udp://no-such-host.invalid:5000":                    "expected an address of this machine",
		"udp://239.1.1.1:99999":                              "expected 0 to 65535",
	} {
		u, err := url.Parse(address)
		require.NoError(t, err)
		_, err = Listen(u)
		assert.ErrorContains(t, err, want, address)
	}
	u, _ := url.Parse("udp://239.1.1.1:5000?ttl=400")
	_, err := Dial(t.Context(), u)
	assert.ErrorContains(t, err, "expected 1 to 255")
}

// BenchmarkRead is what a datagram of 1300 bytes costs through loopback, sent and received.
func BenchmarkRead(b *testing.B) {
	u, _ := url.Parse("udp://127.0.0.1:0")
	conn, err := Listen(u)
	require.NoError(b, err)
	defer func() { _ = conn.Close() }()
	to, err := net.Dial("udp", conn.LocalAddr().String())
	require.NoError(b, err)
	defer func() { _ = to.Close() }()
	r, data, got := NewReader(conn, 64), make([]byte, 1300), 0
	b.SetBytes(int64(len(data)))
	for n := 0; b.Loop(); n++ {
		_, _ = to.Write(data)
		for n-got > 500 {
			_ = r.Read(time.Second, func([]byte, netip.Addr) { got++ })
		}
	}
}
