package rtsp

import (
	"context"
	"fmt"
	"net"
	"net/url"
	"strconv"
	"sync"
	"time"

	"metaplasis/internal/core/hub"
	"metaplasis/internal/core/media"
	"metaplasis/internal/network/udp"
	"metaplasis/internal/onward"
	"metaplasis/internal/onward/rtpmedia"
)

// Groups sends channels to a multicast group while somebody plays them there: all who play a rung receive the same packets.
type Groups struct {
	base  *url.URL
	port  int
	ttl   int
	mu    sync.Mutex
	slots [maxGroups]*group
}

// group is one rung of a channel on its way.
type group struct {
	name   string
	slot   int
	uses   int
	cast   *player
	cancel context.CancelFunc
	over   sync.WaitGroup
}

const (
	//limit:multicast groups | all | SETUP is refused
	maxGroups = 64
	// portsEach are those of a rung: RTP and RTCP of pictures and of sound, and room.
	portsEach = 8
)

// NewGroups reads an address such as 239.192.7.1:30000?interface=eth0&ttl=4: the group, the first of its ports, the interface
// and how far packets go.
func NewGroups(address string) (*Groups, error) {
	u, err := url.Parse("udp://" + address)
	if err != nil {
		return nil, fmt.Errorf("multicast group of RTSP: %w", err)
	}
	ip := net.ParseIP(u.Hostname())
	port, err := strconv.Atoi(u.Port())
	if err != nil || ip == nil || !ip.IsMulticast() || port < 1024 || port > 65535-maxGroups*portsEach {
		return nil, fmt.Errorf("found the multicast group %.60q for RTSP, expected one such as 239.192.7.1:30000?interface=eth0&ttl=4", address)
	}
	ttl, _ := strconv.Atoi(u.Query().Get("ttl"))
	return &Groups{base: u, port: port + port%2, ttl: max(ttl, 1)}, nil
}

// join begins to send a rung, or joins those who receive it.
func (g *Groups) join(channels onward.Channels, channel, rung string) (*group, error) {
	g.mu.Lock()
	defer g.mu.Unlock()
	name := channel + "/" + rung
	free := -1
	for i, x := range g.slots {
		switch {
		case x == nil && free < 0:
			free = i
		case x != nil && x.name == name:
			x.uses++
			return x, nil
		}
	}
	if free < 0 {
		return nil, fmt.Errorf("there are %d groups already", maxGroups)
	}
	x := &group{name: name, slot: free, uses: 1}
	tap, err := channels.Tap(channel, onward.Choice{Rung: rung, Coming: true})
	if err != nil {
		return nil, err
	}
	ctx, cancel := context.WithCancel(context.Background())
	x.cancel = cancel
	x.cast, err = newPlayer(ctx, tap)
	for i := 0; err == nil && i < len(x.cast.tracks); i++ {
		err = g.open(x, i)
	}
	if err != nil {
		x.end()
		return nil, err
	}
	g.slots[free] = x
	x.over.Go(func() {
		for ctx.Err() == nil {
			c := onward.Carrier{To: x.cast, Fixed: true}
			_ = c.Run(ctx, tap, x.cast.first)
			x.cast.first = nil
			select {
			case <-ctx.Done():
			case <-time.After(time.Second):
			}
		}
	})
	return x, nil
}

// open opens the sockets of a track.
func (g *Groups) open(x *group, track int) error {
	ports := g.ports(x, track)
	for i, port := range ports {
		u := *g.base
		u.Host = net.JoinHostPort(g.base.Hostname(), strconv.Itoa(port))
		c, err := udp.Dial(context.Background(), &u)
		if err != nil {
			return err
		}
		x.cast.closeLater(track, func() { _ = c.Close() })
		x.cast.tracks[track].out[i] = func(b []byte) error {
			_, _ = c.Write(b) // nobody there is no reason to stop
			return nil
		}
	}
	return nil
}

func (g *Groups) ports(x *group, track int) [2]int {
	first := g.port + x.slot*portsEach + 2*track
	return [2]int{first, first + 1}
}

// leave ends a group when the last has left it.
func (g *Groups) leave(x *group) {
	g.mu.Lock()
	last := false
	if x.uses--; x.uses == 0 {
		g.slots[x.slot] = nil
		last = true
	}
	g.mu.Unlock()
	if last {
		x.end()
	}
}

func (x *group) end() {
	x.cancel()
	x.over.Wait()
	if x.cast != nil {
		x.cast.closeAll()
		x.cast.tap.Close()
	}
}

// newPlayer learns what a tap has.
func newPlayer(ctx context.Context, tap onward.Tap) (*player, error) {
	x := &player{tap: tap, failed: make(chan error, 1), byID: map[media.TrackID]*playedTrack{}}
	wait, stop := context.WithTimeout(ctx, describeWithin)
	defer stop()
	var units [32]hub.Unit
	n, _, err := tap.Next(wait, units[:])
	if err != nil {
		return x, errOffAir
	}
	x.first = units[:n]
	video, sound := tap.Tracks()
	begun := time.Now().Add(-time.Second) // one clock for all tracks
	for _, t := range []*media.Track{video, sound} {
		if t == nil {
			continue
		}
		out := *t
		out.Clock = media.Clock{Scale: t.Timescale}
		st, err := rtpmedia.New(out, uint8(96+len(x.tracks)), begun)
		if err != nil {
			continue // it goes without
		}
		pt := &playedTrack{Track: out, stream: st}
		x.tracks = append(x.tracks, pt)
		x.byID[t.ID] = pt
	}
	if len(x.tracks) == 0 {
		return x, errCarriesNone
	}
	return x, nil
}
