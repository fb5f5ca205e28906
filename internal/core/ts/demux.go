package ts

import (
	"bytes"
	"encoding/binary"
	"slices"
	"time"

	"metaplasis/internal/core/media"
)

// Handler takes what a Demuxer finds.
type Handler interface {
	// Programmes tells what the stream holds, whenever that changes.
	Programmes(list []Programme)
	// PES takes a packet of a track that is followed. Its data is the handler's from now on.
	PES(pid int, p PES)
	// Section takes a section of a track that is followed, which is valid during the call.
	Section(pid int, section []byte)
	// Lost says that packets of a track that is followed are missing.
	Lost(pid int)
}

// Demuxer reads a transport stream as it comes, in pieces of any size: packets of 188 bytes, of 192 with a time
// stamp before each, or of 204 with a checksum behind. It is not safe for concurrent use.
type Demuxer struct {
	Health StreamHealth

	h          Handler
	stride     int // from packet to packet, 0 while out of step
	lead       int // bytes before the packet within the stride
	wrong      int // places in a row, by the stride, at which no packet begins
	buf        []byte
	pids       [maxPIDs]*pidState
	programmes []Programme
	pat        map[uint8][]programmeEntry // by section
	patVersion int
	names      map[int][2]string // provider and name by programme number
	followed   int               // bytes of the memory of open PES packets
}

const (
	//limit:packet identifiers (PIDs) | each stream | there are no more (13 bits)
	maxPIDs  = 1 << 13
	pidCAT   = 1
	pidSDT   = 0x11
	pidNull  = 0x1fff
	syncByte = 'G'
	// inStep is how many packets in a row show that a stream is in step (TR 101 290, 5.2.1 asks for 5).
	inStep = 5
	// maxPESBytes bounds a PES packet, and maxOpenBytes all that are open.
	//limit:bytes of a PES packet | each PID | it is dropped and counted
	maxPESBytes = 12 << 20
	headroom    = 1 << 10 // a PES packet may be by so much longer than those before without growing
	//limit:bytes of PES packets that are not complete | each stream | the packet is dropped and counted
	maxOpenBytes = 48 << 20
)

// use is what the demuxer does with the packets of a PID.
type use uint8

const (
	unused use = iota
	useTable
	usePES
	useSection
)

type programmeEntry struct{ number, pid int }

type pidState struct {
	use      use
	counter  int8   // the newest, -1 before one
	twice    bool   // the newest packet came twice
	body     []byte // of the newest packet
	sections sections
	open     []byte
	want     int // bytes of the open PES packet, 0 when it does not say
	usual    int // bytes of those before: a packet that does not say is likely to be about as long
	random   bool
	health   pidHealth
}

// NewDemuxer hands over what it finds to a handler.
func NewDemuxer(h Handler) *Demuxer {
	d := &Demuxer{h: h, pat: map[uint8][]programmeEntry{}, patVersion: -1, names: map[int][2]string{}}
	d.pid(pidPAT).use = useTable
	d.pid(pidCAT).use = useTable
	d.pid(pidSDT).use = useTable
	return d
}

func (d *Demuxer) pid(n int) *pidState {
	if d.pids[n] == nil {
		d.pids[n] = &pidState{counter: -1}
	}
	return d.pids[n]
}

// Programmes lists what was found.
func (d *Demuxer) Programmes() []Programme { return d.programmes }

// Follow hands over the packets of a track from now on, its sections where it holds sections.
func (d *Demuxer) Follow(t *StreamTrack) {
	const sectionTypes = 0x86 // splice information (ANSI/SCTE 35, 8.1)
	s := d.pid(t.PID)
	if s.use == useTable {
		return
	}
	if s.use = usePES; t.Type == sectionTypes {
		s.use = useSection
	}
}

// Forget hands over nothing more of a track.
func (d *Demuxer) Forget(pid int) {
	if s := d.pids[pid]; s != nil && s.use != useTable {
		d.drop(s)
		s.use = unused
	}
}

func (d *Demuxer) drop(s *pidState) {
	d.followed -= cap(s.open)
	s.open, s.want = nil, 0
}

// Write takes bytes that came at a time since the stream began.
func (d *Demuxer) Write(b []byte, now time.Duration) {
	d.Health.begin(now)
	d.Health.bytes += int64(len(b))
	if len(d.buf) > 0 {
		d.buf = append(d.buf, b...)
		b = d.buf
	}
	rest := d.packets(b, now)
	d.buf = append(d.buf[:0], rest...)
}

// Flush hands over what is open at the end of a stream.
func (d *Demuxer) Flush(now time.Duration) {
	for number, s := range d.pids {
		if s != nil && s.use == usePES && len(s.open) > 0 && s.want == 0 {
			d.emit(number, s, now)
		}
	}
}

// packets reads all whole packets and returns what is left.
func (d *Demuxer) packets(b []byte, now time.Duration) []byte {
	for {
		if d.stride == 0 && !d.step(&b) {
			return b
		}
		if len(b) < d.stride {
			return b
		}
		p := b[d.lead : d.lead+PacketSize]
		if p[0] != syncByte {
			if d.wrong++; d.wrong > 1 {
				d.Health.SyncLoss++
				d.stride, d.wrong = 0, 0
				continue
			}
			d.Health.SyncByte++
			b = b[d.stride:]
			continue
		}
		d.wrong = 0
		d.packet(p, now)
		b = b[d.stride:]
	}
}

// step finds where packets begin and how far they lie apart.
func (d *Demuxer) step(b *[]byte) bool {
	for start := 0; start < len(*b); start++ {
		i := bytes.IndexByte((*b)[start:], syncByte)
		if i < 0 {
			*b = nil
			return false
		}
		start += i
		short := false
		for _, form := range [...]struct{ stride, lead int }{{188, 0}, {204, 0}, {192, 4}} {
			n := 0
			for at := start; n < inStep && at < len(*b) && begins((*b)[at:]); at += form.stride {
				n++
			}
			if n == inStep {
				if form.lead > start { // the first packet lacks the begin of its time stamp
					start += form.stride
				}
				*b = (*b)[start-form.lead:]
				d.stride, d.lead = form.stride, form.lead
				return true
			}
			short = short || start+n*form.stride >= len(*b)
		}
		if short { // what comes next tells
			*b = (*b)[max(start-4, 0):]
			return false
		}
	}
	*b = nil
	return false
}

// begins reports whether bytes may be the begin of a packet: sync byte, no error, and something in it.
func begins(b []byte) bool {
	return b[0] == syncByte && (len(b) < 4 || b[1]&0x80 == 0 && b[3]&0x30 != 0)
}

// packet reads one packet (2.4.3.2).
func (d *Demuxer) packet(p []byte, now time.Duration) {
	number := int(p[1]&0x1f)<<8 | int(p[2])
	s := d.pid(number)
	s.health.packets++
	s.health.last = now
	d.Health.packets++
	start, scrambled := p[1]&0x40 != 0, p[3]&0xc0 != 0
	adaptation, counter := p[3]>>4&3, int8(p[3]&15)
	if p[1]&0x80 != 0 { // at least a bit of it is wrong, and nobody knows which: it counts as lost
		d.Health.Transport++
		return
	}
	if number == pidNull {
		return
	}
	body := p[4:]
	random, jump := false, false
	if adaptation&2 != 0 {
		length := int(body[0])
		if length > 183 {
			d.Health.SyncByte++
			return
		}
		if length > 0 {
			flags := body[1]
			random, jump = flags&0x40 != 0, flags&0x80 != 0
			if flags&0x10 != 0 && length >= 7 {
				base := int64(binary.BigEndian.Uint32(body[2:]))<<1 | int64(body[6]>>7)
				d.Health.clock(number, s, base*300+int64(body[6]&1)<<8+int64(body[7]), jump, now)
			}
		}
		body = body[1+length:]
	}
	payload := adaptation&1 != 0
	if !d.continues(number, s, counter, body, payload, jump) || !payload {
		return
	}
	s.health.scrambled = scrambled
	if scrambled {
		d.Health.scrambled = true
		return
	}
	switch s.use {
	case useTable:
		s.sections.add(body, start, func(b []byte) { d.table(number, b, now) }, func() { d.Health.CRC++ })
	case useSection:
		s.sections.add(body, start, func(b []byte) { d.h.Section(number, b) }, func() { d.Health.CRC++ })
	case usePES:
		d.pes(number, s, body, start, random, now)
	}
}

// continues judges the continuity counter (2.4.3.3), and reports whether the packet is a new one. What comes twice is the same
// byte by byte, but for its clock: another packet with the number of the one before comes behind fifteen that are lost.
func (d *Demuxer) continues(number int, s *pidState, counter int8, body []byte, payload, jump bool) bool {
	before := s.counter
	if !payload {
		return true
	}
	s.counter = counter
	same := counter == before && bytes.Equal(s.body, body)
	if s.use != unused {
		s.body = append(s.body[:0], body...)
	}
	switch {
	case before < 0 || jump || counter == (before+1)&15:
		s.twice = false
		return true
	case same && !s.twice: // a packet may be sent twice
		s.twice = true
		return false
	}
	s.twice = false
	d.Health.Continuity++
	s.health.continuity++
	s.sections.open = false
	if s.use == usePES || s.use == useSection {
		d.drop(s)
		d.h.Lost(number)
	}
	return true
}

// pes puts a PES packet together (2.4.3.6). One that says its length is handed over as soon as it is whole.
func (d *Demuxer) pes(number int, s *pidState, body []byte, start, random bool, now time.Duration) {
	const headSize = 6
	if start {
		if len(s.open) > 0 && s.want == 0 {
			d.emit(number, s, now)
		}
		d.drop(s)
		if len(body) < headSize || body[0] != 0 || body[1] != 0 || body[2] != 1 {
			d.h.Lost(number)
			return
		}
		s.random = random
		if n := int(body[4])<<8 | int(body[5]); n > 0 {
			s.want = headSize + n
		}
		if room := max(s.want, s.usual); d.followed+room <= maxOpenBytes/2 { // else it grows as it comes
			s.open = make([]byte, 0, room)
			d.followed += room
		}
	} else if len(s.open) == 0 {
		return
	}
	if n := len(s.open) + len(body); n > maxPESBytes || n > cap(s.open) && d.followed+max(2*len(body), cap(s.open)) > maxOpenBytes {
		d.drop(s)
		d.h.Lost(number)
		return
	}
	before := cap(s.open)
	s.open = append(s.open, body...)
	d.followed += cap(s.open) - before
	if s.want > 0 && len(s.open) >= s.want {
		s.open = s.open[:s.want]
		d.emit(number, s, now)
		d.drop(s)
	}
}

// emit hands over the open PES packet.
func (d *Demuxer) emit(number int, s *pidState, now time.Duration) {
	p, ok := parsePES(s.open)
	d.followed -= cap(s.open)
	if s.want == 0 {
		s.usual = max(len(s.open)+headroom, s.usual-s.usual/16)
	}
	s.open = nil
	if !ok {
		d.h.Lost(number)
		return
	}
	if p.PTS >= 0 {
		d.Health.stamp(s, now)
	}
	p.Random = s.random
	d.h.PES(number, p)
}

// parsePES reads a PES packet.
func parsePES(b []byte) (p PES, ok bool) {
	p = PES{PTS: -1, DTS: -1}
	if len(b) < 6 || b[0] != 0 || b[1] != 0 || b[2] != 1 {
		return p, false
	}
	switch b[3] { // streams without the optional header (table 2-21)
	case 0xbc, 0xbe, 0xbf, 0xf0, 0xf1, 0xff, 0xf2, 0xf8:
		return p, false
	}
	if len(b) < 9 || b[6]&0xc0 != 0x80 || len(b) < 9+int(b[8]) {
		return p, false
	}
	optional := int(b[8])
	p.Data = b[9+optional:]
	if b[7]&0x80 != 0 && optional >= 5 {
		p.PTS = readStamp(b[9:])
		p.DTS = p.PTS
	}
	if b[7]&0xc0 == 0xc0 && optional >= 10 {
		p.DTS = readStamp(b[14:])
	}
	return p, true
}

// Table identifiers (2.4.4.4 and ETSI EN 300 468, table 2).
const (
	tablePAT = 0x00
	tableCAT = 0x01
	tablePMT = 0x02
	tableSDT = 0x42
)

// table reads a section of the tables.
func (d *Demuxer) table(pid int, b []byte, now time.Duration) {
	if len(b) < 12 || b[1]&0x80 == 0 || b[5]&1 == 0 { // not in force yet
		return
	}
	b = b[:len(b)-4]
	number, version := int(b[3])<<8|int(b[4]), int(b[5]>>1&31)
	switch {
	case pid == pidPAT && b[0] == tablePAT:
		d.Health.table(&d.Health.pat, now)
		d.association(b, version)
	case pid == pidPAT:
		d.Health.PAT++ // 5.2.1: nothing else may come there
	case pid == pidCAT && b[0] == tableCAT:
		d.Health.cat = now
	case pid == pidSDT && b[0] == tableSDT:
		changed := false
		readSDT(b, func(number int, provider, name string) {
			if _, known := d.names[number]; (known || len(d.names) < maxProgrammes) && d.names[number] != [2]string{provider, name} {
				d.names[number], changed = [2]string{provider, name}, true
			}
		})
		if changed {
			d.name()
		}
	case b[0] == tablePMT:
		d.programme(pid, number, b, now)
	}
}

// association reads a section of the programme association (2.4.4.3).
func (d *Demuxer) association(b []byte, version int) {
	if version != d.patVersion {
		d.patVersion = version
		clear(d.pat)
	}
	var list []programmeEntry
	for e := b[8:]; len(e) >= 4; e = e[4:] {
		if n := int(e[0])<<8 | int(e[1]); n != 0 {
			list = append(list, programmeEntry{n, int(e[2]&0x1f)<<8 | int(e[3])})
		}
	}
	if slices.Equal(d.pat[b[6]], list) {
		return
	}
	d.pat[b[6]] = list
	var next []Programme
	for section := range int(b[7]) + 1 {
		for _, e := range d.pat[uint8(section)] {
			if e.pid < 0x10 || e.pid == pidNull || len(next) >= maxProgrammes {
				continue
			}
			p := Programme{Number: e.number, PMT: e.pid}
			if i := slices.IndexFunc(d.programmes, func(o Programme) bool { return o.Number == e.number && o.PMT == e.pid }); i >= 0 {
				p = d.programmes[i]
			}
			next = append(next, p)
		}
	}
	for _, p := range d.programmes {
		if !slices.ContainsFunc(next, func(o Programme) bool { return o.PMT == p.PMT }) {
			d.pid(p.PMT).use = unused
		}
	}
	d.programmes = next
	for _, p := range next {
		d.drop(d.pid(p.PMT))
		d.pid(p.PMT).use = useTable
	}
	d.Health.watch(d.programmes)
	d.name()
}

// name gives programmes the names of their services, and tells what there is.
func (d *Demuxer) name() {
	for i := range d.programmes {
		n := d.names[d.programmes[i].Number]
		d.programmes[i].Provider, d.programmes[i].Name = n[0], n[1]
	}
	d.tell()
}

func (d *Demuxer) tell() {
	out := slices.Clone(d.programmes)
	for i := range out {
		out[i].Tracks = slices.Clone(out[i].Tracks)
	}
	d.h.Programmes(out)
}

func (d *Demuxer) programme(pid, number int, b []byte, now time.Duration) {
	i := slices.IndexFunc(d.programmes, func(p Programme) bool { return p.PMT == pid && p.Number == number })
	if i < 0 {
		return
	}
	d.Health.pmt(number, now)
	p := &d.programmes[i]
	if bytes.Equal(p.section, b) { // an encoder that was restarted begins with the same version, and another map
		return
	}
	next := *p
	if next.readPMT(b) != nil {
		d.Health.CRC++
		return
	}
	next.section = bytes.Clone(b)
	*p = next
	d.Health.watch(d.programmes)
	d.tell()
}

// Scrambled reports whether packets of a track that came lately cannot be read.
func (d *Demuxer) Scrambled(pid int) bool { return d.pids[pid] != nil && d.pids[pid].health.scrambled }

// Stamps is the clock of the times in a transport stream.
var Stamps = media.Clock{Scale: media.VideoTimescale, Turn: 1 << 33}

// Restart starts over at another place of the stream, whose tables are those that were read.
func (d *Demuxer) Restart() {
	d.buf, d.stride, d.wrong = d.buf[:0], 0, 0
	for _, s := range d.pids {
		if s != nil {
			d.drop(s)
			s.counter, s.twice, s.sections.open = -1, false, false
		}
	}
}
