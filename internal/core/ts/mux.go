package ts

import (
	"encoding/binary"
	"fmt"
	"slices"

	"metaplasis/internal/core/bits"
	"metaplasis/internal/core/coding"
	"metaplasis/internal/core/media"
)

// Mux writes a transport stream for a line: programmes that begin when they will and go on. Packets come out in the order
// of the access units; a clock stands in front of them at least every 40 ms of media, the tables every 100 ms.
type Mux struct {
	Delay int64 // from clock to decode time, in ticks of 90 kHz

	programmes []*MuxProgramme
	counters   map[int]byte
	version    byte
	out        []byte
	scratch    []byte // in which PES packets are made
	at         int64  // the newest clock, ticks of 90 kHz
	begun      bool
	tablesAt   int64
	rated      *rated // nil of a stream whose rate is what comes
}

// MuxProgramme is one programme of a Mux.
type MuxProgramme struct {
	Number         int
	Name, Provider string

	m       *Mux
	tracks  []*MuxTrack
	clockAt int64
	clocked bool
}

// MuxTrack is an elementary stream of a programme.
type MuxTrack struct {
	p     *MuxProgramme
	pid   int
	line  coding.Line
	video bool
	cues  bool
}

// Timing of a Mux, in ticks of 90 kHz.
const (
	// Clocks and tables stand in front of access units, so that they come as much later as those are apart: no later than 40 ms and
	// 100 ms with video and audio at their usual rates (ETSI TS 101 154, 4.1.5.3, and TR 101 290, 5.2).
	muxClockEvery  = 1_350
	muxTablesEvery = 5_900
	usualDelay     = 27_000
	firstPMT       = 0x100 // of programme n: 0x100 + 0x10 n
)

// NewMux begins a stream.
func NewMux() *Mux { return &Mux{Delay: usualDelay, counters: map[int]byte{}} }

// Programme adds a programme.
func (m *Mux) Programme(number int, name string) *MuxProgramme {
	p := &MuxProgramme{Number: number, Name: name, Provider: "Metaplasis", m: m}
	m.programmes = append(m.programmes, p)
	m.version++
	return p
}

// Track adds a track, or returns why a transport stream does not carry it.
func (p *MuxProgramme) Track(t *media.Track) (*MuxTrack, error) {
	l, ok := coding.ForLine(t)
	if !ok {
		return nil, &media.UnsupportedError{Format: "transport stream", What: coding.Label(t.Codec), Do: "send it over another protocol"}
	}
	return p.add(&MuxTrack{line: l, video: t.Kind == media.Video}), nil
}

// Cues adds a track of splice information (ANSI/SCTE 35, 8.1).
func (p *MuxProgramme) Cues() *MuxTrack {
	return p.add(&MuxTrack{line: coding.Line{StreamType: 0x86, Info: []byte{0x05, 4, 'C', 'U', 'E', 'I'}}, cues: true})
}

func (p *MuxProgramme) add(t *MuxTrack) *MuxTrack {
	t.p, t.pid = p, p.pmt()+1+len(p.tracks)
	p.tracks = append(p.tracks, t)
	p.m.version++
	p.m.begun = false // the tables are due at once
	return t
}

// Update replaces what a track carries, such as other parameter sets.
func (t *MuxTrack) Update(track *media.Track) {
	if l, ok := coding.ForLine(track); ok {
		if l.StreamType != t.line.StreamType {
			t.p.m.version++
		}
		t.line = l
	}
}

func (p *MuxProgramme) pmt() int { return firstPMT + 0x10*slices.Index(p.m.programmes, p) }

// clock is the track whose packets carry the programme's clock.
func (p *MuxProgramme) clock() *MuxTrack {
	for _, t := range p.tracks {
		if t.video {
			return t
		}
	}
	for _, t := range p.tracks {
		if !t.cues {
			return t
		}
	}
	return nil
}

// Unit writes an access unit; times are ticks of 90 kHz.
func (t *MuxTrack) Unit(dts, pts int64, key bool, data []byte) {
	m := t.p.m
	if m.rated != nil {
		m.rated.unit(t, dts, key, slices.Clone(t.pes(dts, pts, key, data)))
		return
	}
	at := dts - m.Delay
	m.at = max(m.at, at)
	if !m.begun || m.at-m.tablesAt >= muxTablesEvery || key && t.video {
		m.tables()
	}
	t.p.tick(at)
	m.packetize(t.pid, t.pes(dts, pts, key, data), key)
}

// longestHeader is that of a PES packet with both times.
const longestHeader = 19

// pes makes a PES packet, which is valid until the next one is made.
func (t *MuxTrack) pes(dts, pts int64, key bool, data []byte) []byte {
	m := t.p.m
	m.scratch = t.line.Write(append(m.scratch[:0], stuffing[:longestHeader]...), data, key)
	head := t.header(dts, pts, len(m.scratch)-longestHeader)
	b := m.scratch[longestHeader-len(head):]
	copy(b, head)
	return b
}

// Section writes a section of splice information, which is whole.
func (t *MuxTrack) Section(b []byte) {
	t.p.m.sections(t.pid, b)
}

// tick writes the clock when it is due.
func (p *MuxProgramme) tick(at int64) {
	t := p.clock()
	if t == nil || p.clocked && at-p.clockAt < muxClockEvery {
		return
	}
	p.clocked, p.clockAt = true, at
	m := p.m
	b := m.packet(t.pid, 0x20, false)
	base := uint64(at) & (1<<33 - 1)
	m.close(append(b, 183, 0x10, byte(base>>25), byte(base>>17), byte(base>>9), byte(base>>1), byte(base<<7)|0x7e, 0))
}

// header writes a PES header (2.4.3.6).
func (t *MuxTrack) header(dts, pts int64, size int) []byte {
	flags, optional := byte(0x80), byte(5)
	if dts != pts {
		flags, optional = 0xc0, 10
	}
	n := 3 + int(optional) + size
	if n > 0xffff {
		n = 0 // only of video: sound and the rest are short
	}
	b := []byte{0, 0, 1, t.line.StreamID, byte(n >> 8), byte(n), 0x84, flags, optional}
	if flags == 0xc0 {
		return stamp(stamp(b, 3, pts&(1<<33-1)), 1, dts&(1<<33-1))
	}
	return stamp(b, 2, pts&(1<<33-1))
}

// packet begins a packet of its own.
func (m *Mux) packet(pid int, form byte, start bool) []byte {
	return m.begin(make([]byte, 0, PacketSize), pid, form, start)
}

// begin appends the begin of a packet; form is its adaptation_field_control.
func (m *Mux) begin(b []byte, pid int, form byte, start bool) []byte {
	high := byte(pid >> 8)
	if start {
		high |= 0x40
	}
	if form&0x10 != 0 {
		m.counters[pid] = (m.counters[pid] + 1) & 15
	}
	return append(b, syncByte, high, byte(pid), form|m.counters[pid])
}

// close fills a packet up with stuffing and puts it out.
func (m *Mux) close(b []byte) {
	for len(b) < PacketSize {
		b = append(b, 0xff)
	}
	m.out = append(m.out, b...)
}

// packetize cuts a PES packet.
func (m *Mux) packetize(pid int, data []byte, key bool) {
	m.out = slices.Grow(m.out, (len(data)/(PacketSize-4)+2)*PacketSize)
	for first := true; len(data) > 0; first = false {
		m.out, data = m.cut(m.out, pid, data, first, key)
	}
}

// cut appends the next packet of a PES packet, and returns what is left.
func (m *Mux) cut(to []byte, pid int, data []byte, first, key bool) (out, rest []byte) {
	room := PacketSize - 4
	var adaptation []byte
	if first && key {
		adaptation = []byte{1, 0x40} // random_access_indicator
	}
	if n := room - len(adaptation) - len(data); n > 0 { // stuffing
		switch {
		case len(adaptation) > 0:
			adaptation[0] += byte(n)
			adaptation = append(adaptation, stuffing[:n]...)
		case n == 1:
			adaptation = []byte{0}
		default:
			adaptation = append([]byte{byte(n - 1), 0}, stuffing[:n-2]...)
		}
	}
	form := byte(0x10)
	if len(adaptation) > 0 {
		form = 0x30
	}
	to = append(m.begin(to, pid, form, first), adaptation...)
	take := min(room-len(adaptation), len(data))
	return append(to, data[:take]...), data[take:]
}

var stuffing = slices.Repeat([]byte{0xff}, PacketSize)

// tables writes PAT, SDT and the programme maps.
func (m *Mux) tables() {
	m.begun, m.tablesAt = true, m.at
	var pat, sdt []byte
	for _, p := range m.programmes {
		pat = append(binary.BigEndian.AppendUint16(pat, uint16(p.Number)), 0xe0|byte(p.pmt()>>8), byte(p.pmt()))
		name := append([]byte{0x15}, p.Name...)
		provider := append([]byte{0x15}, p.Provider...)
		d := append([]byte{0x48, byte(3 + len(provider) + len(name)), 1, byte(len(provider))}, provider...)
		d = append(append(d, byte(len(name))), name...)
		sdt = append(binary.BigEndian.AppendUint16(sdt, uint16(p.Number)), 0xfc, 0x80|byte(len(d)>>8), byte(len(d)))
		sdt = append(sdt, d...)
	}
	m.table(pidPAT, tablePAT, 1, pat)
	m.table(pidSDT, tableSDT, 1, append([]byte{0, 1, 0xff}, sdt...))
	for _, p := range m.programmes {
		clock := pidNull
		if t := p.clock(); t != nil {
			clock = t.pid
		}
		body := []byte{0xe0 | byte(clock>>8), byte(clock), 0xf0, 0}
		for _, t := range p.tracks {
			n := len(t.line.Info)
			body = append(body, t.line.StreamType, 0xe0|byte(t.pid>>8), byte(t.pid), 0xf0|byte(n>>8), byte(n))
			body = append(body, t.line.Info...)
		}
		m.table(p.pmt(), tablePMT, uint16(p.Number), body)
	}
}

func (m *Mux) table(pid int, id byte, number uint16, body []byte) {
	n := len(body) + 9
	private := byte(0xb0)
	if id == tableSDT {
		private = 0xf0
	}
	b := append([]byte{id, private | byte(n>>8), byte(n), byte(number >> 8), byte(number), 0xc1 | m.version&31<<1, 0, 0}, body...)
	m.sections(pid, binary.BigEndian.AppendUint32(b, bits.CRC32(b)))
}

// sections cuts a section into packets.
func (m *Mux) sections(pid int, section []byte) {
	data := append([]byte{0}, section...) // pointer_field
	for first := true; len(data) > 0; first = false {
		b := m.packet(pid, 0x10, first)
		take := min(PacketSize-len(b), len(data))
		m.close(append(b, data[:take]...))
		data = data[take:]
	}
}

// Take returns the packets that were written since the last call.
func (m *Mux) Take() []byte {
	out := m.out
	m.out = nil
	return out
}

// Reuse gives packets back that Take returned and nobody needs any more: the next ones are written there.
func (m *Mux) Reuse(b []byte) {
	if m.out == nil {
		m.out = b[:0]
	}
}

// stuffPackets appends null packets up to a multiple of so many packets, as lines carry them together.
func stuffPackets(b []byte, packets int) []byte {
	for len(b)/PacketSize%packets != 0 {
		b = append(append(b, syncByte, 0x1f, 0xff, 0x10), stuffing[:PacketSize-4]...)
	}
	return b
}

// String names a programme.
func (p *MuxProgramme) String() string { return fmt.Sprintf("programme %d %s", p.Number, p.Name) }
