// Package mux makes a transport stream of one or several programmes, for whatever protocol carries its bytes: tracks and access
// units go into a Programme, whole packets go to the write function of its Conn.
package mux

import (
	"fmt"
	"net/url"
	"strconv"
	"sync"
	"time"

	"metaplasis/internal/core/media"
	"metaplasis/internal/core/ts"
)

// DatagramPackets is how many packets a datagram carries, the most that fit an Ethernet frame.
const DatagramPackets = 7

// Conn sends one transport stream, of one or several programmes.
type Conn struct {
	mu     sync.Mutex
	mux    *ts.Mux
	write  func([]byte) error // a whole number of packets, which are not its own
	close  func() error
	failed chan error
	rate   int64 // bits per second, 0 when it is what comes
	stop   chan struct{}
	once   sync.Once
	err    error // of writing at a constant rate
}

// NewConn sends over a line that takes a whole number of packets a call. failed may be nil.
func NewConn(write func([]byte) error, closing func() error, failed chan error) *Conn {
	if failed == nil {
		failed = make(chan error, 1)
	}
	return &Conn{mux: ts.NewMux(), write: write, close: closing, failed: failed}
}

// Bounds of a constant rate, in kbit/s.
const (
	leastRate = 100
	//limit:kilobits per second of a constant rate | each relay | 422
	mostRate = 200_000
	// slotsEach is how often slots are filled.
	slotsEach = 4 * time.Millisecond
	// mostWaiting is for how many seconds of the rate units may wait before it is told to be too low.
	//limit:seconds for which units may wait for the constant rate | each relay | a problem is told: the rate is too low
	mostWaiting = 3
)

// SetRate makes the rate constant, if the query of an address names one in kbit/s, as in ?rate=6000. It is called before
// the first unit.
func (c *Conn) SetRate(u *url.URL) error {
	text := u.Query().Get("rate")
	if text == "" {
		return nil
	}
	n, err := strconv.ParseInt(text, 10, 64)
	if err != nil || n < leastRate || n > mostRate {
		return fmt.Errorf("found the rate %.20q, expected %d to %d kbit/s", text, leastRate, mostRate)
	}
	c.rate, c.stop = n*1000, make(chan struct{})
	c.mux.SetRate(c.rate)
	go c.fill()
	return nil
}

// fill writes slots as time goes on.
func (c *Conn) fill() {
	tick := time.NewTicker(slotsEach)
	defer tick.Stop()
	var since time.Time
	var done int64
	for {
		select {
		case <-c.stop:
			return
		case <-tick.C: // whose time may lie before that of the tick before
			c.mu.Lock()
			var b []byte
			if _, begun := c.mux.Clock(); begun {
				now := time.Now()
				if since.IsZero() {
					since = now
				}
				due := media.RescaleDown(int64(now.Sub(since)), ts.PacketSize*8*int64(time.Second), c.rate)
				due -= due % DatagramPackets
				if most := c.rate / (ts.PacketSize * 8); due-done > most { // the machine stood still for more than a second
					since, due, done = now, 0, 0
				}
				if due > done {
					b = c.mux.FillSlots(due - done)
					done = due
				}
			}
			if c.err == nil && len(b) > 0 {
				c.err = c.write(b)
			}
			c.mu.Unlock()
		}
	}
}

// Programme is one programme of a Conn.
type Programme struct {
	c      *Conn
	p      *ts.MuxProgramme
	tracks map[media.TrackID]*track
	cues   *ts.MuxTrack
	err    error
}

type track struct {
	m     *ts.MuxTrack
	clock media.Clock
}

// Programme adds a programme.
func (c *Conn) Programme(number int, name string) *Programme {
	c.mu.Lock()
	defer c.mu.Unlock()
	return &Programme{c: c, p: c.mux.Programme(number, name), tracks: map[media.TrackID]*track{}}
}

// FrameRate implements onward.Sender.
func (p *Programme) FrameRate(int64) {}

// Track implements onward.Sender.
func (p *Programme) Track(t media.Track) {
	p.c.mu.Lock()
	defer p.c.mu.Unlock()
	if old := p.tracks[t.ID]; old != nil {
		old.m.Update(&t)
		old.clock = t.Stamps()
		return
	}
	m, err := p.p.Track(&t)
	if err != nil {
		p.err = err
		return
	}
	p.tracks[t.ID] = &track{m: m, clock: t.Stamps()}
}

// Unit implements onward.Sender.
func (p *Programme) Unit(id media.TrackID, stamp, composition int64, key bool, data []byte) {
	p.c.mu.Lock()
	defer p.c.mu.Unlock()
	if t := p.tracks[id]; t != nil {
		dts := t.clock.Ticks(stamp) + first
		t.m.Unit(dts, dts+t.clock.Ticks(composition), key, data)
	}
}

// first is where the clock begins, so that nothing lies before 0.
const first = 10 * 90000

// Cue implements onward.Sender.
func (p *Programme) Cue(at int64, section []byte) {
	p.c.mu.Lock()
	defer p.c.mu.Unlock()
	if p.cues == nil {
		p.cues = p.p.Cues()
	}
	p.cues.Section(section)
}

// Flush implements onward.Sender.
func (p *Programme) Flush() error {
	p.c.mu.Lock()
	defer p.c.mu.Unlock()
	if p.err != nil {
		return p.err
	}
	if p.c.rate > 0 {
		if waiting := p.c.mux.Waiting(); int64(waiting) > p.c.rate/8*mostWaiting {
			return fmt.Errorf("the rate of %d kbit/s is too low for what is sent: %d kB wait; give more, or send a smaller rung", p.c.rate/1000, waiting>>10)
		}
		return p.c.err
	}
	b := p.c.mux.Take()
	if len(b) == 0 {
		return nil
	}
	defer p.c.mux.Reuse(b)
	return p.c.write(b)
}

// Raw sends packets of another stream as they are.
func (p *Programme) Raw(b []byte) error { return p.c.write(b) }

// Failed implements onward.Sender.
func (p *Programme) Failed() <-chan error { return p.c.failed }

// Close implements onward.Sender: it closes the whole stream.
func (p *Programme) Close() error {
	if p.c.stop != nil {
		p.c.once.Do(func() { close(p.c.stop) })
	}
	return p.c.close()
}
