package ts

import (
	"encoding/binary"
	"fmt"

	"metaplasis/internal/core/bits"
	"metaplasis/internal/core/media"
)

// PES is one PES packet that was read. Times are ticks of 90 kHz, 33 bits; -1 when it has none.
type PES struct {
	PTS, DTS int64
	Random   bool // random_access_indicator stood before it
	Data     []byte
}

// Elementary is one elementary stream that was read.
type Elementary struct {
	PID  int
	Type byte
	PES  []PES
}

// Stream is what a stretch of transport stream holds.
type Stream struct {
	Streams  []*Elementary // by the order of the programme map
	ClockPID int
	Clocks   []int64         // PCRs in ticks of 27 MHz, in their order
	Counters map[int][2]byte // first and last continuity counter of each PID
	Faults   []string        // what the standard forbids but a reader survives
	pids     map[int]*reading
	pmt      int
}

type reading struct {
	out     *Elementary
	open    []byte
	random  bool
	started bool
}

// maxFaults bounds the list of faults.
//
//limit:faults that are listed | each reading | further ones are counted
const maxFaults = 64

func broken(found, want string) error {
	return &media.FormatError{Format: "transport stream", Found: found, Want: want}
}

func (s *Stream) fault(format string, args ...any) {
	if len(s.Faults) < maxFaults {
		s.Faults = append(s.Faults, fmt.Sprintf(format, args...))
	}
}

// Read takes a whole number of packets apart.
func Read(b []byte) (*Stream, error) {
	if len(b) == 0 || len(b)%PacketSize != 0 {
		return nil, broken(fmt.Sprintf("%d bytes", len(b)), "a multiple of 188")
	}
	s := &Stream{pmt: -1, ClockPID: -1, Counters: map[int][2]byte{}, pids: map[int]*reading{}}
	for n := 0; n < len(b); n += PacketSize {
		if err := s.packet(b[n:n+PacketSize], n/PacketSize); err != nil {
			return nil, err
		}
	}
	for _, e := range s.Streams {
		s.pids[e.PID].flush(s)
	}
	if s.pmt < 0 {
		return nil, broken("no programme association", "one at the begin")
	}
	if len(s.Streams) == 0 {
		return nil, broken("no programme map", "one at the begin")
	}
	return s, nil
}

func (s *Stream) packet(p []byte, n int) error {
	if p[0] != 'G' {
		return broken(fmt.Sprintf("%#02x at packet %d", p[0], n), "the sync byte 0x47")
	}
	pid := int(p[1]&0x1f)<<8 | int(p[2])
	start := p[1]&0x40 != 0
	adaptation, counter := p[3]>>4&3, p[3]&15
	random, jump := false, false
	body := p[4:]
	if adaptation&2 != 0 {
		length := int(body[0])
		if length > 183 {
			return broken(fmt.Sprintf("an adaptation field of %d bytes in packet %d", length, n), "183 at most")
		}
		if length > 0 {
			flags := body[1]
			random, jump = flags&0x40 != 0, flags&0x80 != 0
			if flags&0x10 != 0 && length >= 7 {
				base := int64(binary.BigEndian.Uint32(body[2:]))<<1 | int64(body[6]>>7)
				s.Clocks = append(s.Clocks, base*300+int64(body[6]&1)<<8+int64(body[7]))
			}
		}
		body = body[1+length:]
	}
	if pid == 0x1fff {
		return nil
	}
	s.counter(pid, counter, adaptation&1 != 0, jump, n)
	if adaptation&1 == 0 {
		return nil
	}
	switch {
	case pid == pidPAT:
		return s.section(body, start, s.association)
	case pid == s.pmt:
		return s.section(body, start, s.programme)
	}
	if r := s.pids[pid]; r != nil {
		r.handle(s, body, start, random)
	}
	return nil
}

func (s *Stream) counter(pid int, counter byte, payload, jump bool, n int) {
	seen, known := s.Counters[pid]
	if !known {
		s.Counters[pid] = [2]byte{counter, counter}
		return
	}
	want := seen[1]
	if payload {
		want = (want + 1) & 15
	}
	if counter != want && !jump {
		s.fault("PID %d: continuity counter %d in packet %d, expected %d", pid, counter, n, want)
	}
	s.Counters[pid] = [2]byte{seen[0], counter}
}

// section reads a section that lies in one packet.
func (s *Stream) section(body []byte, start bool, read func([]byte)) error {
	if !start || len(body) < 1 || len(body) < 4+int(body[0]) {
		return nil
	}
	b := body[1+int(body[0]):]
	n := 3 + (int(b[1]&0x0f)<<8 | int(b[2]))
	if n > len(b) || n < 12 {
		s.fault("a table of %d bytes, expected one that fits its packet", n)
		return nil
	}
	if bits.CRC32(b[:n]) != 0 {
		s.fault("a table whose checksum is wrong")
		return nil
	}
	read(b[8 : n-4])
	return nil
}

func (s *Stream) association(b []byte) {
	for ; len(b) >= 4; b = b[4:] {
		if b[0] != 0 || b[1] != 0 {
			s.pmt = int(b[2]&0x1f)<<8 | int(b[3])
			return
		}
	}
}

func (s *Stream) programme(b []byte) {
	if len(b) < 4 || len(s.Streams) > 0 {
		return
	}
	s.ClockPID = int(b[0]&0x1f)<<8 | int(b[1])
	info := int(b[2]&0x0f)<<8 | int(b[3])
	if info > len(b)-4 {
		s.fault("a programme map whose descriptors do not fit")
		return
	}
	for b = b[4+info:]; len(b) >= 5; {
		n := int(b[3]&0x0f)<<8 | int(b[4])
		e := &Elementary{PID: int(b[1]&0x1f)<<8 | int(b[2]), Type: b[0]}
		if n > len(b)-5 || len(s.Streams) > 32 {
			return
		}
		if s.pids[e.PID] == nil {
			s.Streams = append(s.Streams, e)
			s.pids[e.PID] = &reading{out: e}
		}
		b = b[5+n:]
	}
}

func (r *reading) handle(s *Stream, body []byte, start, random bool) {
	if start {
		r.flush(s)
		r.open, r.random, r.started = append([]byte(nil), body...), random, true
		return
	}
	if r.started {
		r.open = append(r.open, body...)
	}
}

// flush ends the open PES packet (2.4.3.6).
func (r *reading) flush(s *Stream) {
	b := r.open
	r.open = nil
	if len(b) == 0 {
		return
	}
	if len(b) < 9 || b[0] != 0 || b[1] != 0 || b[2] != 1 {
		s.fault("PID %d: a PES packet without its start code", r.out.PID)
		return
	}
	n, optional := int(b[4])<<8|int(b[5]), int(b[8])
	if n > 0 && n+6 != len(b) {
		s.fault("PID %d: a PES packet of %d bytes that says %d", r.out.PID, len(b), n+6)
	}
	if len(b) < 9+optional {
		s.fault("PID %d: a PES header that does not fit", r.out.PID)
		return
	}
	p := PES{PTS: -1, DTS: -1, Random: r.random, Data: b[9+optional:]}
	if b[7]&0x80 != 0 && optional >= 5 {
		p.PTS = readStamp(b[9:])
		p.DTS = p.PTS
	}
	if b[7]&0xc0 == 0xc0 && optional >= 10 {
		p.DTS = readStamp(b[14:])
	}
	r.out.PES = append(r.out.PES, p)
}

func readStamp(b []byte) int64 {
	return int64(b[0]>>1&7)<<30 | int64(b[1])<<22 | int64(b[2]>>1)<<15 | int64(b[3])<<7 | int64(b[4]>>1)
}

// First returns the first stream of a type, nil without one.
func (s *Stream) First(kind byte) *Elementary {
	for _, e := range s.Streams {
		if e.Type == kind {
			return e
		}
	}
	return nil
}

// Wrap33 brings a 33-bit time to the turn nearest to another time.
func Wrap33(v, near int64) int64 {
	const turn = 1 << 33
	d := (v - near) & (turn - 1)
	if d >= turn/2 {
		d -= turn
	}
	return near + d
}

// ClockFaults checks the bounds of 2.7.2 and 2.4.2.6: a clock every 100 ms, and no decode time more
// than a second ahead of it or behind it.
func (s *Stream) ClockFaults() (out []string) {
	for i := 1; i < len(s.Clocks); i++ {
		if d := (s.Clocks[i] - s.Clocks[i-1]) / 27000; d > 100 || d < 0 {
			out = append(out, fmt.Sprintf("%d ms between two clock references, expected 0 to 100", d))
			break
		}
	}
	if len(s.Clocks) == 0 {
		return append(out, "no clock reference, expected one every 100 ms")
	}
	first := s.Clocks[0] / 300
	for _, e := range s.Streams {
		if len(e.PES) == 0 || e.PES[0].DTS < 0 {
			continue
		}
		if d := Wrap33(e.PES[0].DTS, first) - first; d < 0 || d > 90_000 {
			out = append(out, fmt.Sprintf("PID %d is decoded %d ms behind the clock, expected 0 to 1000", e.PID, d/90))
		}
	}
	return out
}
