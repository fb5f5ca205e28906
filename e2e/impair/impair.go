// Package impair is a relay for UDP that does to packets what bad networks do: it loses, delays, reorders and doubles
// them, and lets only so many through a second; the same way for the same seed.
package impair

import (
	"context"
	"errors"
	"math/rand/v2"
	"net"
	"sync"
	"sync/atomic"
	"time"
)

// Line is how bad a line is, each way.
type Line struct {
	Loss      float64       // share of packets that are lost
	Delay     time.Duration // each way
	Jitter    time.Duration // up to so much more, which also changes the order
	Duplicate float64       // share that comes twice
	Rate      int64         // bits per second, 0 for any; what waits longer than 200 ms is lost
	Seed      uint64
}

// Relay carries packets between who sends to it and a target.
type Relay struct {
	Addr          *net.UDPAddr
	Carried, Lost atomic.Int64
	line          atomic.Pointer[Line]
	in            *net.UDPConn
	target        *net.UDPAddr
	mu            sync.Mutex
	rand          *rand.Rand
	backs         map[string]*net.UDPConn
	free          [2]time.Time // when the line is free again, there and back
	ctx           context.Context
	stop          context.CancelFunc
}

// maxQueue is how long a packet may wait for a line of a limited rate.
const maxQueue = 200 * time.Millisecond

// Start relays what comes to an address to a target.
func Start(listen, target string, l Line) (*Relay, error) {
	at, err := net.ResolveUDPAddr("udp", listen)
	if err != nil {
		return nil, err
	}
	to, err := net.ResolveUDPAddr("udp", target)
	if err != nil {
		return nil, err
	}
	in, err := net.ListenUDP("udp", at)
	if err != nil {
		return nil, err
	}
	_ = in.SetReadBuffer(4 << 20)
	r := &Relay{Addr: in.LocalAddr().(*net.UDPAddr), in: in, target: to, rand: rand.New(rand.NewPCG(l.Seed, 1)), backs: map[string]*net.UDPConn{}}
	r.ctx, r.stop = context.WithCancel(context.Background())
	r.line.Store(&l)
	go r.there()
	return r, nil
}

// Set makes the line another one.
func (r *Relay) Set(l Line) { r.line.Store(&l) }

// Close ends the relay.
func (r *Relay) Close() {
	r.stop()
	_ = r.in.Close()
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, c := range r.backs {
		_ = c.Close()
	}
}

func (r *Relay) there() {
	buf := make([]byte, 64<<10)
	for {
		n, from, err := r.in.ReadFromUDP(buf)
		if err != nil {
			return
		}
		out, err := r.back(from)
		if err != nil {
			return
		}
		b := append([]byte(nil), buf[:n]...)
		r.carry(0, n, func() { _, _ = out.Write(b) })
	}
}

// back is the socket to the target of one who sends.
func (r *Relay) back(from *net.UDPAddr) (*net.UDPConn, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if c := r.backs[from.String()]; c != nil {
		return c, nil
	}
	if r.ctx.Err() != nil {
		return nil, errors.New("closed")
	}
	c, err := net.DialUDP("udp", nil, r.target)
	if err != nil {
		return nil, err
	}
	_ = c.SetReadBuffer(4 << 20)
	r.backs[from.String()] = c
	go func() {
		buf := make([]byte, 64<<10)
		for {
			n, err := c.Read(buf)
			if err != nil {
				if r.ctx.Err() != nil {
					return
				}
				time.Sleep(time.Millisecond) // the target is not there yet
				continue
			}
			b := append([]byte(nil), buf[:n]...)
			r.carry(1, n, func() { _, _ = r.in.WriteToUDP(b, from) })
		}
	}()
	return c, nil
}

// carry delivers a packet, or not.
func (r *Relay) carry(way, size int, deliver func()) {
	l := r.line.Load()
	r.mu.Lock()
	lost, twice := r.rand.Float64() < l.Loss, r.rand.Float64() < l.Duplicate
	wait := l.Delay
	if l.Jitter > 0 {
		wait += time.Duration(r.rand.Int64N(int64(l.Jitter)))
	}
	if l.Rate > 0 {
		now := time.Now()
		if r.free[way].Before(now) {
			r.free[way] = now
		}
		queued := r.free[way].Sub(now)
		if queued > maxQueue {
			lost = true
		} else {
			r.free[way] = r.free[way].Add(time.Duration(int64(size) * 8 * int64(time.Second) / l.Rate))
			wait += queued
		}
	}
	r.mu.Unlock()
	r.Carried.Add(1)
	if lost {
		r.Lost.Add(1)
		return
	}
	if wait == 0 {
		deliver()
	} else {
		time.AfterFunc(wait, deliver)
	}
	if twice {
		time.AfterFunc(wait+time.Millisecond, deliver)
	}
}
