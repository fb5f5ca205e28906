package camera

import (
	"time"

	"metaplasis/internal/core/scte35"
)

// splicer sends cue messages: out of the programme, and back a third of the time later.
type splicer struct {
	every uint32 // milliseconds
	next  uint32
	event uint32
	out   bool
}

func newSplicer(every time.Duration) *splicer {
	ms := uint32(every.Milliseconds())
	return &splicer{every: ms, next: ms, event: uint32(time.Now().Unix())}
}

func (s *splicer) send(conn connection, base, at uint32) error {
	if s.every == 0 || at < s.next {
		return nil
	}
	section := scte35.Section{Command: scte35.SpliceInsert, Immediate: true, PTS: -1, Duration: -1}
	if s.out = !s.out; s.out {
		s.event++
		section.Out, section.AutoReturn, section.Duration = true, true, int64(s.every)/3*90
		s.next += s.every / 3
	} else {
		section.In = true
		s.next += s.every - s.every/3
	}
	section.EventID = s.event
	return conn.cue(base+at, section.Marshal())
}
