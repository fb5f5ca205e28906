package mpegts

import (
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

// Datagrams from outside of the channel's sender networks are not read, as soon as the settings say so.
func TestDatagramsOfNetworks(t *testing.T) {
	let := map[string]bool{"192.0.2.7:0": true}
	asked := 0
	r := &datagrams{lets: func(remote string) bool { asked++; return let[remote] }}
	now := time.Now()
	good, bad := netip.MustParseAddr("192.0.2.7"), netip.MustParseAddr("198.51.100.9")
	for range 1000 {
		assert.True(t, r.may(good, now))
	}
	assert.Equal(t, 1, asked, "a datagram costs no lookup of its own")
	assert.False(t, r.may(bad, now))
	assert.True(t, r.may(good, now))
	assert.EqualValues(t, 1, r.kept)
	let["192.0.2.7:0"] = false
	assert.False(t, r.may(good, now.Add(askEach+time.Millisecond)))
	assert.True(t, (&datagrams{}).may(bad, now), "of who has no networks")
}
