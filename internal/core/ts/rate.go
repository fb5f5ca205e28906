package ts

import (
	"encoding/binary"

	"metaplasis/internal/core/media"
)

// A Mux with a constant rate writes packets in slots of equal length, each at its time: the clock in a packet is the time
// of its slot, to the tick of 27 MHz. What has nothing to carry is a null packet. Packets are laid into slots so that the
// buffers of a decoder hold (T-STD, ISO/IEC 13818-1, 2.4.2): the transport buffer of each stream takes 512 bytes and is
// emptied at a rate, and what waits behind it is no more than it may be, and arrives before it is decoded.

// systemClock is the rate of a programme's clock, ticks a second.
const systemClock = 27_000_000

// ticksEach is how many ticks of the system clock one of 90 kHz has.
const ticksEach = 300

// Timing at a constant rate, in ticks of the system clock.
const (
	ratedClockEvery  = 30 * systemClock / 1000 // ETSI TR 101 154 asks for 40 ms
	ratedTablesEvery = 90 * systemClock / 1000 // ETSI TR 101 290 asks for 100 ms as the most of others; receivers join sooner
	// ratedDelay is from clock to decode time: what a keyframe may take to be sent. A second is the most (2.4.2.6).
	ratedDelay = 700 * systemClock / 1000
	// ratedReset is how late a unit may be before the clock is set again.
	ratedReset = systemClock
)

// Buffers of the T-STD (2.4.2.3, 2.14.3.1 of H.264 in it).
const (
	transportBuffer = 512     // bytes of each stream
	soundLeak       = 2000000 // bits per second from the transport buffer of sound
	soundBuffer     = 3584    // bytes of AAC with two channels
	tablesLeak      = 1000000
	leastVideoLeak  = 4000000
)

// rated is the state of a Mux of constant rate.
type rated struct {
	rate     int64 // bits per second
	zero     int64 // time of slot 0, ticks of the system clock
	slot     int64
	begun    bool
	jumped   bool // the next clocks say that time has jumped
	clockAt  map[*MuxProgramme]int64
	tablesAt int64
	pending  []byte // packets of tables that have no slot yet
	tables   leak
	queues   []*ratedTrack
	Nulls    int64
	Late     int64 // units that were not whole before they are decoded
}

// ratedTrack is a stream with the units that have no slot yet.
type ratedTrack struct {
	t      *MuxTrack
	units  []ratedUnit
	buffer leak
	most   int         // bytes that wait for the decoder at most; 0: as many as come within the delay
	held   []ratedHeld // what waits for the decoder
	bytes  int
}

type ratedUnit struct {
	dts   int64 // ticks of the system clock
	data  []byte
	key   bool
	first bool // nothing of it was sent
	size  int
}

type ratedHeld struct {
	dts  int64
	size int
}

// leak is a transport buffer.
type leak struct {
	rate  int64 // bits per second
	bytes int64 // in thousandths
	at    int64
}

// room reports whether a packet fits at a time, and puts it in.
func (l *leak) room(at int64) bool {
	out := media.RescaleDown(at-l.at, 8*systemClock, l.rate*1000)
	l.bytes, l.at = max(l.bytes-out, 0), at
	return l.bytes+PacketSize*1000 <= transportBuffer*1000
}

func (l *leak) put() { l.bytes += PacketSize * 1000 }

// SetRate makes the rate constant, in bits per second. It is called before the first unit.
func (m *Mux) SetRate(bits int64) {
	m.rated = &rated{rate: bits, clockAt: map[*MuxProgramme]int64{}, tables: leak{rate: tablesLeak}}
	m.Delay = ratedDelay / ticksEach
}

// Rated tells how many null packets were written, and how many units were late; false of a Mux without a rate.
func (m *Mux) Rated() (nulls, late int64, ok bool) {
	if m.rated == nil {
		return 0, 0, false
	}
	return m.rated.Nulls, m.rated.Late, true
}

// time is that of the next slot.
func (r *rated) time() int64 {
	return r.zero + media.RescaleDown(r.slot, r.rate, PacketSize*8*systemClock)
}

// unit takes a unit that is to be sent.
func (r *rated) unit(t *MuxTrack, dts int64, key bool, pes []byte) {
	dts *= ticksEach
	if !r.begun {
		r.begun, r.zero, r.slot = true, dts-ratedDelay, 0
		r.tablesAt = r.zero - ratedTablesEvery
	} else if late := r.time() - dts; late > ratedReset || late < -10*ratedDelay { // time has jumped
		r.zero, r.slot, r.jumped = dts-ratedDelay, 0, true
		r.tablesAt = r.zero - ratedTablesEvery
		clear(r.clockAt)
		for _, q := range r.queues {
			q.held, q.bytes, q.buffer.at, q.buffer.bytes = nil, 0, r.zero, 0
		}
	}
	for _, q := range r.queues {
		if q.t == t {
			q.units = append(q.units, ratedUnit{dts, pes, key, true, len(pes)})
			return
		}
	}
	q := &ratedTrack{t: t, buffer: leak{rate: soundLeak, at: r.zero}, most: soundBuffer}
	if t.video {
		q.buffer.rate, q.most = max(r.rate*6/5, leastVideoLeak), 0
	}
	q.units = append(q.units, ratedUnit{dts, pes, key, true, len(pes)})
	r.queues = append(r.queues, q)
}

// Waiting is how much of what was given has no slot yet, in bytes.
func (m *Mux) Waiting() (n int) {
	if m.rated == nil {
		return 0
	}
	for _, q := range m.rated.queues {
		for i := range q.units {
			n += len(q.units[i].data)
		}
	}
	return n
}

// Clock is the time of the next slot at a constant rate, ticks of 27 MHz; false before the first unit.
func (m *Mux) Clock() (at int64, ok bool) {
	if m.rated == nil || !m.rated.begun {
		return 0, false
	}
	return m.rated.time(), true
}

// Fill writes all slots before a time of the system clock, and returns their packets.
func (m *Mux) Fill(until int64) (out []byte) {
	for m.rated.begun && m.rated.time() < until {
		out = m.fillSlot(out)
	}
	return out
}

// FillSlots writes so many slots, and returns their packets; none before the first unit.
func (m *Mux) FillSlots(n int64) []byte {
	if !m.rated.begun || n <= 0 {
		return nil
	}
	out := make([]byte, 0, n*PacketSize)
	for range n {
		out = m.fillSlot(out)
	}
	return out
}

func (m *Mux) fillSlot(out []byte) []byte {
	r := m.rated
	at := r.time()
	r.slot++
	if at-r.tablesAt >= ratedTablesEvery && len(r.pending) == 0 {
		r.tablesAt = at
		m.at = at / ticksEach
		m.tables()
		r.pending = m.Take()
	}
	if len(r.pending) > 0 && r.tables.room(at) {
		out = append(out, r.pending[:PacketSize]...)
		r.pending = r.pending[PacketSize:]
		r.tables.put()
		return out
	}
	if p := m.clockDue(at); p != nil {
		return m.clockPacket(out, p, at)
	}
	if q := r.next(at); q != nil {
		return q.packet(out, at, r)
	}
	r.Nulls++
	return append(append(out, syncByte, 0x1f, 0xff, 0x10), stuffing[:PacketSize-4]...)
}

// clockDue returns the programme whose clock is due.
func (m *Mux) clockDue(at int64) *MuxProgramme {
	for _, p := range m.programmes {
		if last, ok := m.rated.clockAt[p]; p.clock() != nil && (!ok || at-last >= ratedClockEvery) {
			return p
		}
	}
	return nil
}

// clockPacket writes a programme's clock in a packet of its own (2.4.3.4).
func (m *Mux) clockPacket(out []byte, p *MuxProgramme, at int64) []byte {
	r := m.rated
	flags := byte(0x10)
	if _, known := r.clockAt[p]; !known && r.jumped {
		flags |= 0x80 // discontinuity_indicator
	}
	r.clockAt[p] = at
	base, extension := uint64(at/ticksEach)&(1<<33-1), uint16(at%ticksEach)
	b := m.packet(p.clock().pid, 0x20, false)
	b = append(b, 183, flags, byte(base>>25), byte(base>>17), byte(base>>9), byte(base>>1))
	b = binary.BigEndian.AppendUint16(b, uint16(base&1)<<15|0x7e00|extension)
	for len(b) < PacketSize {
		b = append(b, 0xff)
	}
	return append(out, b...)
}

// next chooses the stream whose packet goes into a slot: the one that is decoded first of those whose buffers have room.
func (r *rated) next(at int64) (best *ratedTrack) {
	for _, q := range r.queues {
		if len(q.units) == 0 {
			continue
		}
		u := &q.units[0]
		if best != nil && u.dts >= best.units[0].dts || u.dts-at > ratedDelay {
			continue
		}
		for len(q.held) > 0 && q.held[0].dts <= at {
			q.bytes -= q.held[0].size
			q.held = q.held[1:]
		}
		if q.most > 0 && q.bytes > 0 && q.bytes+PacketSize > q.most || !q.buffer.room(at) {
			continue
		}
		best = q
	}
	return best
}

// packet writes the next packet of a stream.
func (q *ratedTrack) packet(out []byte, at int64, r *rated) []byte {
	u := &q.units[0]
	b, rest := q.t.p.m.cut(nil, q.t.pid, u.data, u.first, u.key)
	sent := len(u.data) - len(rest)
	u.data, u.first = rest, false
	q.bytes += sent
	q.buffer.put()
	if n := len(q.held); n > 0 && q.held[n-1].dts == u.dts {
		q.held[n-1].size += sent
	} else {
		q.held = append(q.held, ratedHeld{u.dts, sent})
	}
	if len(rest) == 0 {
		if at > u.dts {
			r.Late++
		}
		q.units[0] = ratedUnit{}
		q.units = q.units[1:]
	}
	return append(out, b...)
}
