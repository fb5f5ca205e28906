// Package scte35 reads and writes splice_info_section (ANSI/SCTE 35, 9.6): the cue messages that
// say where a programme may be left and where it returns.
//
//	table(8)=0xfc flags(4) length(12) version(8) encryption(7) ptsAdjustment(33) cw(8) tier(12)
//	commandLength(12) commandType(8) command descriptorsLength(16) { descriptor } CRC(32)
package scte35

import (
	"encoding/binary"
	"fmt"

	"metaplasis/internal/core/bits"
	"metaplasis/internal/core/media"
)

// Command types (table 7).
const (
	Null         = 0x00
	SpliceInsert = 0x05
	TimeSignal   = 0x06
)

// Section is one splice_info_section. Times are ticks of 90 kHz, -1 when they are not given.
type Section struct {
	Command      uint8
	EventID      uint32 // splice_event_id, or the first segmentation_event_id
	Cancel       bool
	Out          bool // the programme is left here
	In           bool // the programme is returned to here
	Immediate    bool
	PTS          int64
	Duration     int64
	AutoReturn   bool
	Segmentation []Segmentation
}

// Segmentation is a segmentation_descriptor (10.3.3).
type Segmentation struct {
	EventID  uint32
	Cancel   bool
	Duration int64
	TypeID   uint8
	UPID     []byte
}

func broken(found, want string) error {
	return &media.FormatError{Format: "SCTE 35 section", Found: found, Want: want}
}

const head = 14 // bytes before the command

// Unmarshal reads a section and checks its CRC.
func (s *Section) Unmarshal(b []byte) error {
	*s = Section{PTS: -1, Duration: -1}
	if len(b) < head+6 || b[0] != 0xfc {
		return broken(fmt.Sprintf("%d bytes", len(b)), "a section that begins 0xfc")
	}
	n := 3 + (int(b[1]&0x0f)<<8 | int(b[2]))
	if n > len(b) || n < head+6 {
		return broken(fmt.Sprintf("a length of %d", n), fmt.Sprintf("%d at most", len(b)))
	}
	b = b[:n]
	if bits.CRC32(b) != 0 {
		return broken("a wrong CRC", "that of the section")
	}
	if b[4]&0x80 != 0 {
		return &media.UnsupportedError{Format: "SCTE 35 section", What: "encryption", Do: "send it in the clear"}
	}
	adjust := int64(b[4]&1)<<32 | int64(binary.BigEndian.Uint32(b[5:]))
	length := int(b[11]&0x0f)<<8 | int(b[12])
	s.Command = b[13]
	rest := b[head : n-4]
	if length == 0xfff { // an old writer did not tell
		length = s.guess(rest)
	}
	if length+2 > len(rest) {
		return broken(fmt.Sprintf("a command of %d bytes", length), fmt.Sprintf("%d at most", len(rest)-2))
	}
	r := bits.NewReader(rest[:length])
	switch s.Command {
	case SpliceInsert:
		s.insert(r)
	case TimeSignal:
		s.PTS = spliceTime(r)
	}
	if r.Err() != nil {
		return broken("a command that ends early", "all of its fields")
	}
	if s.PTS >= 0 {
		s.PTS = (s.PTS + adjust) & (1<<33 - 1)
	}
	loop := rest[length:]
	if size := int(binary.BigEndian.Uint16(loop)); size <= len(loop)-2 {
		s.descriptors(loop[2 : 2+size])
	}
	return nil
}

// guess finds a command's length by its content.
func (s *Section) guess(b []byte) int {
	if s.Command == TimeSignal && len(b) > 0 {
		if b[0]&0x80 != 0 {
			return 5
		}
		return 1
	}
	return 0
}

func spliceTime(r *bits.Reader) int64 {
	if !r.Flag() {
		r.U(7)
		return -1
	}
	r.U(6)
	return int64(r.U(1))<<32 | int64(r.U(32))
}

// insert reads splice_insert (9.7.3).
func (s *Section) insert(r *bits.Reader) {
	s.EventID = r.U(32)
	s.Cancel = r.Flag()
	r.U(7)
	if s.Cancel {
		return
	}
	s.Out = r.Flag()
	s.In = !s.Out
	program, lasts := r.Flag(), r.Flag()
	s.Immediate = r.Flag()
	r.U(4)
	if program && !s.Immediate {
		s.PTS = spliceTime(r)
	}
	if !program {
		for range r.U(8) {
			r.U(8)
			if !s.Immediate {
				spliceTime(r)
			}
		}
	}
	if lasts {
		s.AutoReturn = r.Flag()
		r.U(6)
		s.Duration = int64(r.U(1))<<32 | int64(r.U(32))
	}
	r.U(32) // unique_program_id, avail_num, avails_expected
}

// starts are the segmentation types that leave the programme; the odd number behind each returns
// to it (table 23): break, advertisements, placement opportunities.
var starts = map[uint8]bool{0x22: true, 0x30: true, 0x32: true, 0x34: true, 0x36: true, 0x38: true, 0x3a: true, 0x44: true,
	0x46: true}

const segmentationTag = 2

func (s *Section) descriptors(b []byte) {
	for len(b) >= 2 {
		tag, n := b[0], int(b[1])
		if n > len(b)-2 {
			return
		}
		if body := b[2 : 2+n]; tag == segmentationTag && n >= 9 && string(body[:4]) == "CUEI" {
			s.segmentation(body[4:])
		}
		b = b[2+n:]
	}
}

func (s *Section) segmentation(b []byte) {
	r := bits.NewReader(b)
	d := Segmentation{EventID: r.U(32), Duration: -1}
	d.Cancel = r.Flag()
	r.U(7)
	if !d.Cancel {
		program, lasts := r.Flag(), r.Flag()
		r.U(6)
		if !program {
			for range r.U(8) {
				r.U(32)
				r.U(16)
			}
		}
		if lasts {
			d.Duration = int64(r.U(8))<<32 | int64(r.U(32))
		}
		r.U(8)
		n := int(r.U(8))
		for range min(n, r.Left()/8) {
			d.UPID = append(d.UPID, byte(r.U(8)))
		}
		d.TypeID = uint8(r.U(8))
	}
	if r.Err() != nil {
		return
	}
	s.Segmentation = append(s.Segmentation, d)
	if s.Command == TimeSignal && len(s.Segmentation) == 1 {
		s.EventID, s.Cancel, s.Duration = d.EventID, d.Cancel, d.Duration
		s.Out, s.In = starts[d.TypeID], d.TypeID&1 == 1 && starts[d.TypeID-1]
	}
}

// Marshal writes a splice_insert or time_signal without descriptors.
func (s *Section) Marshal() []byte {
	var c bits.Writer
	time33 := func(v int64) {
		if v < 0 {
			c.U(8, 0x7f)
			return
		}
		c.U(7, 0x7f)
		c.U(1, uint32(v>>32))
		c.U(32, uint32(v))
	}
	flag := func(v bool) {
		n := uint32(0)
		if v {
			n = 1
		}
		c.U(1, n)
	}
	switch s.Command {
	case SpliceInsert:
		c.U(32, s.EventID)
		flag(s.Cancel)
		c.U(7, 0x7f)
		if s.Cancel {
			break
		}
		flag(s.Out)
		c.U(1, 1) // program_splice_flag
		flag(s.Duration >= 0)
		flag(s.Immediate)
		c.U(4, 0xf)
		if !s.Immediate {
			time33(s.PTS)
		}
		if s.Duration >= 0 {
			flag(s.AutoReturn)
			c.U(6, 0x3f)
			c.U(1, uint32(s.Duration>>32))
			c.U(32, uint32(s.Duration))
		}
		c.U(32, 1<<16)
	case TimeSignal:
		time33(s.PTS)
	}
	command := c.Bytes()
	n := head - 3 + len(command) + 2 + 4
	b := []byte{0xfc, 0x30 | byte(n>>8), byte(n), 0, 0, 0, 0, 0, 0, 0, 0xff, 0xf0 | byte(len(command)>>8),
		byte(len(command)), s.Command}
	b = append(b, command...)
	b = append(b, 0, 0)
	return binary.BigEndian.AppendUint32(b, bits.CRC32(b))
}
