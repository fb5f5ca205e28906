// Package ts writes and reads MPEG-2 transport streams (ISO/IEC 13818-1), as HLS uses them for
// segments (draft-pantos-hls-rfc8216bis, 3.2): one programme with H.264, AAC and ID3.
//
// A packet is 188 bytes:
//
//	'G' error(1) start(1) priority(1) PID(13) scrambling(2) adaptation(2) counter(4)
//	[ length(8) flags(8) [PCR] stuffing ] payload
package ts

import (
	"encoding/binary"
	"sort"

	"metaplasis/internal/core/bits"
	"metaplasis/internal/core/coding"
	"metaplasis/internal/core/media"
)

// PacketSize is the length of a transport packet.
const PacketSize = 188

// The PIDs of every stream that we write.
const (
	pidPAT   = 0
	pidPMT   = 0x100
	pidVideo = 0x101
	pidAudio = 0x102
	pidID3   = 0x103
)

// Stream types (table 2-34; for ID3 the HLS draft, 3.2).
const (
	TypeAAC  = 0x0f
	TypeH264 = 0x1b
	TypeID3  = 0x15
)

// Timing, in ticks of 90 kHz.
const (
	lead     = 63_000 // from PCR to decode time: 0.7 s, below the second that 2.4.2.6 allows
	pcrEvery = 3_600  // 40 ms (ETSI TS 101 154, 4.1.5.3)
	psiEvery = 9_000  // 100 ms: who joins waits no longer; ETSI TR 101 290, 5.2, allows 500
	audioPES = 6_300  // sound in one PES packet
)

// maxMeta is how much of a tag one PES packet takes.
//
//limit:bytes of timed metadata in a PES packet | each tag | the tag is left out
const maxMeta = 60_000

// Meta is an ID3 tag at a presentation time in ticks of 90 kHz.
type Meta struct {
	PTS int64
	Tag []byte
}

// Input is the media of one segment. Units have times in their track's timescale.
type Input struct {
	Video       *media.Track
	VideoUnits  []media.AccessUnit // lengths of four bytes before the NAL units
	Audio       *media.Track
	AudioUnits  []media.AccessUnit    // raw frames
	FrameHeader func(size int) []byte // header for a frame of so many bytes; nil for none
	Meta        []Meta
}

// pes is one PES packet on its way.
type pes struct {
	pid      int
	at       int64 // when it is due: decode time, 90 kHz
	pts, dts int64
	key      bool
	goesOn   bool // it carries more of what the packet before it began
	head     []byte
	data     []byte
}

// Segment writes a segment. It begins with the tables and, where there is video, with a keyframe.
// The continuity counters of all PIDs begin at 0 and end at 15, so that segments made one without
// the other still join without a jump (2.4.3.3).
func Segment(in *Input) []byte {
	list := collect(in)
	w := &writer{in: in, last: map[int]int{}}
	size := 0
	for i := range list {
		w.last[list[i].pid] = i
		size += len(list[i].data) + len(list[i].head)
	}
	w.out = make([]byte, 0, size*11/10+64*PacketSize)
	clockPID := pidVideo
	if in.Video == nil {
		clockPID = pidAudio
	}
	for i := range list {
		p := &list[i]
		if i == 0 {
			w.tables(p.at)
			w.pcrAt = p.at
		}
		clock := p.pid == clockPID
		for p.at-w.pcrAt > pcrEvery || p.at-w.psiAt > psiEvery { // in the order in which they are due
			if w.psiAt+psiEvery <= w.pcrAt+pcrEvery {
				w.tables(w.psiAt + psiEvery)
			} else {
				w.pcrOnly(clockPID, w.pcrAt+pcrEvery)
			}
		}
		w.packetize(p, clock, w.last[p.pid] == i)
	}
	for w.count[slot(pidPAT)]%16 != 0 {
		w.tables(w.psiAt)
	}
	return w.out
}

// collect turns units into PES packets by decode time.
func collect(in *Input) []pes {
	var list []pes
	if in.Video != nil {
		write := coding.Transport(in.Video)
		for i := range in.VideoUnits {
			u := &in.VideoUnits[i]
			data := u.Data
			if write != nil {
				data = write(nil, u.Data, u.Key)
			}
			p := pes{pid: pidVideo, pts: in.ticks(in.Video, u.PTS), dts: in.ticks(in.Video, u.DTS), key: u.Key, data: data}
			p.at = p.dts
			list = append(list, p)
		}
	}
	list = append(list, collectAudio(in)...)
	for _, m := range in.Meta {
		// A packet of metadata tells its length in 16 bits; a longer tag goes on in further ones, of which
		// only the first is aligned.
		for tag, first := m.Tag, true; len(tag) > 0; first = false {
			n := min(len(tag), maxMeta)
			list = append(list, pes{pid: pidID3, at: m.PTS, pts: m.PTS, dts: m.PTS, data: tag[:n], goesOn: !first})
			tag = tag[n:]
		}
	}
	sort.SliceStable(list, func(i, j int) bool { return list[i].at < list[j].at })
	for i := range list {
		list[i].head = list[i].header()
	}
	return list
}

func collectAudio(in *Input) []pes {
	var list []pes
	for i := 0; i < len(in.AudioUnits); {
		first := in.ticks(in.Audio, in.AudioUnits[i].PTS)
		p := pes{pid: pidAudio, at: first, pts: first, dts: first, key: true}
		for ; i < len(in.AudioUnits); i++ {
			u := &in.AudioUnits[i]
			if len(p.data) > 0 && (in.ticks(in.Audio, u.PTS)-first >= audioPES || len(p.data)+len(u.Data) > 60_000) {
				break
			}
			if in.FrameHeader != nil {
				p.data = append(p.data, in.FrameHeader(len(u.Data))...)
			}
			p.data = append(p.data, u.Data...)
		}
		list = append(list, p)
	}
	return list
}

func (in *Input) ticks(t *media.Track, v int64) int64 {
	return media.Rescale(v, t.Timescale, media.VideoTimescale)
}

// header writes the PES header (2.4.3.6).
func (p *pes) header() []byte {
	id := byte(0xe0)
	switch p.pid {
	case pidAudio:
		id = 0xc0
	case pidID3:
		id = 0xbd
	}
	optional := byte(5)
	flags := byte(0x80)
	if p.pts != p.dts {
		optional, flags = 10, 0xc0
	}
	n := 3 + int(optional) + len(p.data)
	if p.pid == pidVideo && n > 0xffff {
		n = 0 // video may leave it open
	}
	aligned := byte(0x84)
	if p.goesOn {
		aligned = 0x80
	}
	b := []byte{0, 0, 1, id, byte(n >> 8), byte(n), aligned, flags, optional}
	if flags == 0xc0 {
		b = stamp(b, 3, p.pts)
		return stamp(b, 1, p.dts)
	}
	return stamp(b, 2, p.pts)
}

// stamp writes a 33-bit time with its marker bits.
func stamp(b []byte, mark byte, v int64) []byte {
	u := uint64(v)
	return append(b, mark<<4|byte(u>>29)&0x0e|1, byte(u>>22), byte(u>>14)|1, byte(u>>7), byte(u<<1)|1)
}

type writer struct {
	in    *Input
	out   []byte
	count [5]int // packets with payload, by slot
	last  map[int]int
	psiAt int64
	pcrAt int64
}

func slot(pid int) int {
	if pid == pidPAT {
		return 0
	}
	return pid - pidPMT + 1
}

// head writes a packet's first four bytes. adaptation is its control field.
func (w *writer) head(pid int, start bool, adaptation byte) {
	first := byte(pid >> 8)
	if start {
		first |= 0x40
	}
	s := slot(pid)
	counter := byte(w.count[s]-1) & 15 // without payload the counter stays
	if adaptation&1 != 0 {
		counter = byte(w.count[s]) & 15
		w.count[s]++
	}
	w.out = append(w.out, 'G', first, byte(pid), adaptation<<4|counter)
}

func pcrField(b []byte, at int64) []byte {
	base := uint64(at-lead) & (1<<33 - 1)
	return append(b, byte(base>>25), byte(base>>17), byte(base>>9), byte(base>>1), byte(base<<7)|0x7e, 0)
}

// pcrOnly writes a packet that holds nothing but the clock.
func (w *writer) pcrOnly(pid int, at int64) {
	w.pcrAt = at
	w.head(pid, false, 2)
	w.out = append(w.out, 183, 0x10)
	w.out = pcrField(w.out, at)
	w.stuff(176)
}

func (w *writer) stuff(n int) {
	for range n {
		w.out = append(w.out, 0xff)
	}
}

// packetize writes one PES packet. The last one of a PID is spread so that the counter ends at 15.
func (w *writer) packetize(p *pes, clock, last bool) {
	total := len(p.head) + len(p.data)
	adaptation := 0 // of the first packet: length and flags, and the clock
	flags := byte(0)
	if p.key {
		flags |= 0x40 // random_access_indicator
		adaptation = 2
	}
	if clock {
		flags |= 0x10
		adaptation = 8
		w.pcrAt = p.at
	}
	packets := (total + adaptation + 183) / 184
	spread := 0
	if last {
		if over := (w.count[slot(p.pid)] + packets) % 16; over != 0 {
			spread = 16 - over
		}
	}
	packets += spread
	at := func(i int) byte {
		if i < len(p.head) {
			return p.head[i]
		}
		return p.data[i-len(p.head)]
	}
	sent := 0
	for n := range packets {
		room := 184
		if n == 0 {
			room -= adaptation
		}
		take := min(room, total-sent)
		if spread > 0 {
			left := packets - n
			take = min(room, (total-sent+left-1)/left)
			if n == 0 {
				take = max(take, min(len(p.head), total-left+1)) // the header in one piece
			}
		}
		w.packet(p, n == 0, flags, adaptation, take, room)
		from := len(w.out)
		w.out = w.out[:from+take]
		if sent >= len(p.head) {
			copy(w.out[from:], p.data[sent-len(p.head):])
		} else {
			for i := range take {
				w.out[from+i] = at(sent + i)
			}
		}
		sent += take
	}
}

// packet writes the head of a packet and its adaptation field, stuffed so that take bytes remain.
func (w *writer) packet(p *pes, first bool, flags byte, adaptation, take, room int) {
	if cap(w.out)-len(w.out) < PacketSize {
		grown := make([]byte, len(w.out), 2*cap(w.out)+PacketSize)
		copy(grown, w.out)
		w.out = grown
	}
	stuffing := room - take
	if !first {
		adaptation = 0
	}
	if adaptation == 0 && stuffing == 0 {
		w.head(p.pid, first, 1)
		return
	}
	w.head(p.pid, first, 3)
	w.out = append(w.out, byte(adaptation+stuffing-1))
	if adaptation == 0 {
		if stuffing > 1 {
			w.out = append(w.out, 0)
			w.stuff(stuffing - 2)
		}
		return
	}
	w.out = append(w.out, flags)
	if flags&0x10 != 0 {
		w.out = pcrField(w.out, p.at)
	}
	w.stuff(stuffing)
}

// tables writes the programme association and the programme map (2.4.4).
func (w *writer) tables(at int64) {
	w.psiAt = at
	w.table(pidPAT, 0, 1, []byte{0, 1, 0xe0 | pidPMT>>8, pidPMT & 0xff})
	clock := pidVideo
	if w.in.Video == nil {
		clock = pidAudio
	}
	// metadata_pointer_descriptor (2.6.58) for ID3, as HLS asks for it.
	info := []byte{0x25, 15, 0xff, 0xff, 'I', 'D', '3', ' ', 0xff, 'I', 'D', '3', ' ', 0, 0x1f, 0, 1}
	body := []byte{0xe0 | byte(clock>>8), byte(clock), 0xf0, byte(len(info))}
	body = append(body, info...)
	if w.in.Video != nil {
		body = append(body, TypeH264, 0xe0|pidVideo>>8, pidVideo&0xff, 0xf0, 0)
	}
	if w.in.Audio != nil {
		body = append(body, TypeAAC, 0xe0|pidAudio>>8, pidAudio&0xff, 0xf0, 0)
	}
	meta := []byte{0x26, 13, 0xff, 0xff, 'I', 'D', '3', ' ', 0xff, 'I', 'D', '3', ' ', 0,
		0x0f} // metadata_descriptor (2.6.60)
	body = append(body, TypeID3, 0xe0|pidID3>>8, pidID3&0xff, 0xf0, byte(len(meta)))
	body = append(body, meta...)
	w.table(pidPMT, 2, 1, body)
}

// table writes one section in one packet.
func (w *writer) table(pid int, id byte, number uint16, body []byte) {
	w.head(pid, true, 1)
	w.out = append(w.out, 0) // pointer_field
	from := len(w.out)
	n := len(body) + 9
	w.out = append(w.out, id, 0xb0|byte(n>>8), byte(n), byte(number>>8), byte(number), 0xc1, 0, 0)
	w.out = append(w.out, body...)
	w.out = binary.BigEndian.AppendUint32(w.out, bits.CRC32(w.out[from:]))
	w.stuff(PacketSize - 5 - (len(w.out) - from))
}
