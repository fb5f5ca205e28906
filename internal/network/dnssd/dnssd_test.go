package dnssd

import (
	"context"
	"fmt"
	"net/netip"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestServicesAreFound: one that announces itself is found with all that it says, whatever its name, and its good-bye
// is heard.
func TestServicesAreFound(t *testing.T) {
	ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
	defer cancel()
	kind := fmt.Sprintf("_t%d._tcp", time.Now().UnixNano()%1e9)
	want := Instance{Name: `Mark 2.0 (north) \ "left"`, Host: netip.MustParseAddr("127.0.0.1"), Port: 8554, Text: map[string]string{"path": "/stream 1"}}
	own, leave := context.WithCancel(ctx)
	go func() { _ = Announce(own, "lo", kind, want) }()
	found := make(chan Instance, 16)
	go func() { _ = Browse(ctx, "lo", kind, func(i Instance) { found <- i }) }()
	select {
	case got := <-found:
		assert.Equal(t, want, got)
	case <-ctx.Done():
		t.Fatal("it was not found")
	}
	leave()
	for {
		select {
		case got := <-found:
			if got.Gone {
				return
			}
		case <-ctx.Done():
			t.Fatal("nobody heard that it left")
		}
	}
}

// TestPiecesOfWhatIsKnown: records come in messages of their own, those of strangers are left alone, and of a flood of
// names no more is kept than a bound.
func TestPiecesOfWhatIsKnown(t *testing.T) {
	b := &browser{kind: "_rtsp._tcp.local.", instances: map[string]*Instance{}, targets: map[string]string{}, hosts: map[string]netip.Addr{}}
	var got []Instance
	take := func(text string) {
		rr, err := dns.NewRR(text)
		require.NoError(t, err)
		m := &dns.Msg{Answer: []dns.RR{rr}}
		m.Response = true
		b.handle(m, func(i Instance) { got = append(got, i) })
	}
	take(`_http._tcp.local. 120 IN PTR page._http._tcp.local.`)
	assert.Empty(t, b.instances)
	take(`_rtsp._tcp.local. 120 IN PTR deck._rtsp._tcp.local.`)
	assert.Len(t, b.question().Question, 2, "what is missing of it is asked for")
	take(`deck._rtsp._tcp.local. 120 IN SRV 0 0 554 cam.local.`)
	take(`deck._rtsp._tcp.local. 120 IN TXT "path=/a"`)
	assert.Equal(t, "cam.local.", b.question().Question[1].Name)
	assert.Empty(t, got)
	take(`CAM.local. 120 IN A 192.0.2.9`)
	require.Len(t, got, 1)
	assert.Equal(t, Instance{Name: "deck", Host: netip.MustParseAddr("192.0.2.9"), Port: 554, Text: map[string]string{"path": "/a"}}, got[0])
	for n := range 5 * maxInstances {
		take(fmt.Sprintf(`_rtsp._tcp.local. 120 IN PTR n%d._rtsp._tcp.local.`, n))
		take(fmt.Sprintf(`h%d.local. 120 IN A 192.0.2.9`, n))
	}
	assert.Len(t, b.instances, maxInstances)
	assert.Len(t, b.hosts, maxInstances)
}

func FuzzLabels(f *testing.F) {
	f.Add(`a\.b\032c\`)
	f.Fuzz(func(t *testing.T, s string) {
		unescape(s)
		assert.Equal(t, s, unescape(escape(s)), "%q", s)
	})
}
