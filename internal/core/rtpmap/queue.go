// Package rtpmap reads what RTP (RFC 3550) carries: it puts packets in order, and their payloads together to access
// units, each payload format as its RFC says. It knows no sockets.
package rtpmap

import (
	"time"

	"metaplasis/internal/core/media"
)

// Packet is one RTP packet.
type Packet struct {
	Sequence    uint16
	Timestamp   uint32
	Marker      bool
	PayloadType uint8
	SSRC        uint32
	Payload     []byte
}

// Queue puts packets in order. A packet that is missing is waited for, within bounds of time, of packets and of bytes.
// It is not safe for concurrent use.
type Queue struct {
	Wait time.Duration // for how long a missing packet is waited for

	Packets, Lost, Late, Reordered int64
	Twice                          int64 // packets that came before already
	// Jitter is the interarrival jitter (RFC 3550, 6.4.1, A.8), in sixteenths of a tick.
	Jitter int64

	slots   [queueSize]slot
	next    uint16 // sequence number that comes next
	begun   bool
	waiting int // packets that wait behind a missing one
	bytes   int
	transit int64
	clock   int64
	given   [1 << 16 / 64]uint64 // which of the sequence numbers up to the next one were handed over
}

type slot struct {
	p  *Packet
	at time.Duration
}

const (
	//limit:packets that wait for one that is missing | each stream | the missing one counts as lost
	queueSize = 1024
	// maxQueueBytes bounds what waits.
	//limit:bytes that wait for one that is missing | each stream | the missing one counts as lost
	maxQueueBytes = 2 << 20
	// again is how many packets a sequence number may lie back until it is taken for a new stream's.
	anew = 3000
)

// NewQueue makes a queue for a stream with a clock of so many ticks a second.
func NewQueue(clock int64, wait time.Duration) *Queue { return &Queue{Wait: wait, clock: clock} }

// Put takes a packet that came at a time, and hands over what is next; lost is how many packets are missing before
// it. The packet is the queue's from now on.
func (q *Queue) Put(p *Packet, now time.Duration, take func(p *Packet, lost int)) {
	q.Packets++
	q.arrived(p, now)
	if !q.begun {
		q.begun, q.next = true, p.Sequence
	}
	d := int(int16(p.Sequence - q.next))
	switch {
	case d == 0 && q.waiting == 0: // as it should be
		q.gave(p.Sequence, 0)
		q.next++
		take(p, 0)
		return
	case d < -anew || d >= queueSize:
		q.flush(take)
		lost := max(0, d-1)
		if d < 0 {
			lost = 0
		}
		q.Lost += int64(lost)
		clear(q.given[:])
		q.gave(p.Sequence, 0)
		q.next = p.Sequence + 1
		take(p, max(lost, 1)) // another stream, or one with a long gap
		return
	case d < 0 && q.was(p.Sequence):
		q.Twice++
		return
	case d < 0:
		q.Late++
		return
	}
	s := &q.slots[p.Sequence%queueSize]
	if s.p != nil {
		q.Twice++
		return
	}
	if d == 0 {
		q.Reordered++
	}
	*s = slot{p, now}
	q.waiting++
	q.bytes += len(p.Payload)
	q.drain(now, take)
}

// Look gives up packets that were waited for long enough.
func (q *Queue) Look(now time.Duration, take func(p *Packet, lost int)) {
	if q.waiting > 0 {
		q.drain(now, take)
	}
}

// Newest is the sequence number before the next one.
func (q *Queue) Newest() uint32 { return uint32(q.next - 1) }

// Missing lists up to n sequence numbers that are waited for.
func (q *Queue) Missing(n int) (out []uint16) {
	left := q.waiting
	for seq := q.next; left > 0 && len(out) < n; seq++ {
		if q.slots[seq%queueSize].p != nil {
			left--
		} else {
			out = append(out, seq)
		}
	}
	return out
}

func (q *Queue) drain(now time.Duration, take func(p *Packet, lost int)) {
	for q.waiting > 0 {
		lost := 0
		seq := q.next
		for q.slots[seq%queueSize].p == nil {
			seq++
			lost++
		}
		s := &q.slots[seq%queueSize]
		if lost > 0 && now-s.at < q.Wait && q.bytes <= maxQueueBytes && q.waiting < queueSize/2 {
			return
		}
		p := s.p
		*s = slot{}
		q.waiting--
		q.bytes -= len(p.Payload)
		q.gave(seq, lost)
		q.next = seq + 1
		q.Lost += int64(lost)
		take(p, lost)
	}
}

// gave notes that a number was handed over, and so many before it were not.
func (q *Queue) gave(seq uint16, lost int) {
	for n := seq - uint16(lost); n != seq; n++ {
		q.given[n/64] &^= 1 << (n % 64)
	}
	q.given[seq/64] |= 1 << (seq % 64)
}

// was reports whether a number was handed over.
func (q *Queue) was(seq uint16) bool { return q.given[seq/64]>>(seq%64)&1 == 1 }

// Restart says that the packets that come next count from anywhere: those that wait are handed over, and nothing is lost
// in between.
func (q *Queue) Restart(take func(p *Packet, lost int)) {
	q.flush(take)
	q.begun = false
}

func (q *Queue) flush(take func(p *Packet, lost int)) {
	wait := q.Wait
	q.Wait = 0
	q.drain(0, take)
	q.Wait = wait
}

// arrived follows the jitter.
func (q *Queue) arrived(p *Packet, now time.Duration) {
	if q.clock == 0 {
		return
	}
	transit := media.Ticks(now, q.clock) - int64(p.Timestamp)
	if q.begun {
		d := int64(int32(uint32(transit) - uint32(q.transit)))
		if d < 0 {
			d = -d
		}
		if d < 60*q.clock { // else the stamps jumped
			q.Jitter += d - (q.Jitter+8)>>4
		}
	}
	q.transit = transit
}

// JitterMicros is the jitter in microseconds.
func (q *Queue) JitterMicros() int64 {
	if q.clock == 0 {
		return 0
	}
	return media.RescaleDown(q.Jitter>>4, q.clock, 1_000_000)
}
