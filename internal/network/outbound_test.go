package network

import (
	"context"
	"net"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestWhereConnectionsMayLead(t *testing.T) {
	plain, err := NewOutbound(nil)
	require.NoError(t, err)
	for text, allowed := range map[string]bool{
		"192.0.2.7": true, "192.168.1.20": true, "10.0.0.8": true, "239.1.1.1": true, "2001:db8::7": true, "fd12::7": true,
		"127.0.0.1": false, "127.9.9.9": false, "::1": false, "0.0.0.0": false, "::": false, "169.254.169.254": false, "fe80::1": false, "fd00:ec2::254": false,
		"100.100.100.200": false, "255.255.255.255": false, "::ffff:127.0.0.1": false, "::127.0.0.1": false,
		"64:ff9b::7f00:1": false, "64:ff9b:1::a9fe:a9fe": false, "2002:7f00:1::": false, "2002:a9fe:a9fe::1": false, "2002:c000:207::1": true,
	} {
		assert.Equal(t, allowed, plain.Allows(netip.MustParseAddr(text)), text)
	}
	opened, err := NewOutbound([]string{"127.0.0.0/8", "::1"})
	require.NoError(t, err)
	assert.True(t, opened.Allows(netip.MustParseAddr("127.0.0.1")))
	assert.True(t, opened.Allows(netip.MustParseAddr("::1")))
	assert.False(t, opened.Allows(netip.MustParseAddr("169.254.169.254")))
	_, err = NewOutbound([]string{"everything"})
	require.ErrorContains(t, err, "such as 127.0.0.0/8")
}

func TestDialersLookAtTheAddress(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer func() { _ = l.Close() }()
	_, port, _ := net.SplitHostPort(l.Addr().String())
	for _, host := range []string{"127.0.0.1", "localhost", "::ffff:127.0.0.1"} {
		plain, _ := NewOutbound(nil)
		SetOutbound(plain)
		_, err = Dialer(time.Second).DialContext(context.Background(), "tcp", net.JoinHostPort(host, port))
		require.ErrorIs(t, err, errClosed, host)
		_, err = Resolve(context.Background(), net.JoinHostPort(host, port))
		require.ErrorIs(t, err, errClosed, host)
		SetOutbound(nil)
		c, err := Dialer(time.Second).DialContext(context.Background(), "tcp", net.JoinHostPort(host, port))
		require.NoError(t, err, host)
		_ = c.Close()
	}
}
