package item

import (
	"errors"
	"fmt"
	"io"
	"slices"

	"metaplasis/internal/core/bmff"
	"metaplasis/internal/core/coding"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/ts"
)

// A transport stream has no tables, and its units lie in packets among those of others: it is read once from begin to end, to find
// where units begin. To read some of them, the packets from there on are taken apart again.

const transportChunk = 64 * ts.PacketSize

// isTransport reports whether packets begin within a head.
func isTransport(b []byte) bool {
	for _, form := range [...]struct{ stride, lead int }{{188, 0}, {192, 4}, {204, 0}} {
		for start := range min(form.stride, len(b)) {
			n := 0
			for at := start; at < len(b) && b[at] == 'G'; at += form.stride {
				n++
			}
			if n >= 5 || n >= 2 && start == form.lead && start+n*form.stride >= len(b) {
				return true
			}
		}
	}
	return false
}

// transport reads a stream.
type transport struct {
	demux  *ts.Demuxer
	wanted int // the programme, 0 for the first with something in it
	only   int // the PID that is followed alone, 0 for all
	lines  map[int]*clockLine
	order  []*clockLine
	at     int64 // of the chunk that is being read
	total  int
	jumps  []int64 // by how much times were moved where the stream jumps
}

// clockLine is one elementary stream.
type clockLine struct {
	*coding.Elementary
	of     *transport
	info   ts.StreamTrack
	source *source
	stamps []uint32 // of units as the stream has them
	begin  int64    // where the packet begins that comes next, at the earliest
	before int64    // and the one before that
	last   int64    // the newest decode time, moved
	moved  int      // jumps that were taken
	broken error

	take func(stamp int64, data []byte) // of a stream that is read again
}

func newTransport() *transport {
	t := &transport{lines: map[int]*clockLine{}}
	t.demux = ts.NewDemuxer(t)
	return t
}

// Programmes implements ts.Handler.
func (t *transport) Programmes(list []ts.Programme) {
	for i := range list {
		p := &list[i]
		if len(p.Tracks) == 0 || t.wanted != 0 && t.wanted != p.Number {
			continue
		}
		t.wanted = p.Number
		for k := range p.Tracks {
			e := &p.Tracks[k]
			codec := coding.Find(e.Codec)
			if t.lines[e.PID] != nil || codec == nil || codec.Kind == media.Data || !codec.HasElementary() || len(t.lines) >= maxTracks || t.only != 0 && t.only != e.PID {
				continue
			}
			l := &clockLine{of: t, info: *e, before: t.at, begin: t.at}
			l.source = &source{kind: codec.Kind, codec: codec, called: e.Label, scale: media.VideoTimescale, language: e.Language, coarse: codec.Kind == media.Audio}
			elementary, err := coding.OpenElementary(codec, nil, l)
			if err != nil {
				continue
			}
			l.Elementary = elementary
			t.lines[e.PID] = l
			t.order = append(t.order, l)
			t.demux.Follow(e)
		}
		return
	}
}

// PES implements ts.Handler.
func (t *transport) PES(pid int, p ts.PES) {
	l := t.lines[pid]
	if l == nil {
		return
	}
	composition := int64(0)
	if p.DTS >= 0 {
		composition = ts.Wrap33(p.PTS-p.DTS, 0)
	}
	if err := l.Feed(p.DTS, composition, p.Data); err != nil {
		l.broken = err
	}
	l.before, l.begin = l.begin, t.at
}

// Section implements ts.Handler.
func (t *transport) Section(int, []byte) {}

// Lost implements ts.Handler.
func (t *transport) Lost(pid int) {
	if l := t.lines[pid]; l != nil {
		l.Elementary.Lost()
	}
}

// Track implements coding.ElementarySink.
func (l *clockLine) Track(t media.Track) {
	if l.source.track == nil {
		l.source.track = &t
	}
}

// jumpLimit is how far times may lie apart before that is a jump.
const jumpLimit = 10 * media.VideoTimescale

// Unit implements coding.ElementarySink.
func (l *clockLine) Unit(stamp, composition int64, key bool, data []byte) {
	if l.take != nil {
		l.take(stamp, data)
		return
	}
	s := l.source
	if l.of.total++; l.of.total > maxSamples {
		return
	}
	at := stamp
	if n := len(s.samples); n > 0 || l.moved < len(l.of.jumps) {
		at = l.unwrap(stamp, n == 0)
	} else if first := l.of.newest(l); first >= 0 {
		at = first + ts.Wrap33(stamp-first, 0)
	}
	offset := l.begin
	if s.kind == media.Audio { // a frame may have begun in the packet before
		offset = l.before
	}
	s.samples = append(s.samples, bmff.Sample{Offset: offset, Size: uint32(len(data)), DTS: at, PTS: at + composition, Key: key || s.kind == media.Audio})
	l.stamps = append(l.stamps, uint32(stamp))
	l.last = at
}

// newest is the newest time of another line, -1 when there is none.
func (t *transport) newest(but *clockLine) int64 {
	at := int64(-1)
	for _, l := range t.order {
		if l != but && len(l.source.samples) > 0 {
			at = max(at, l.last)
		}
	}
	return at
}

// unwrap makes a time of a stamp that goes on from the newest, also where the stream jumps: all lines are moved by as much there.
func (l *clockLine) unwrap(stamp int64, first bool) int64 {
	near := func() int64 {
		at := stamp
		for _, j := range l.of.jumps[:min(l.moved, len(l.of.jumps))] {
			at += j
		}
		return l.last + ts.Wrap33(at-l.last, 0)
	}
	if first { // it comes late: where the others are
		l.last, l.moved = max(l.of.newest(l), 0), len(l.of.jumps)
	}
	at := near()
	if d := at - l.last; d <= jumpLimit && d > -jumpLimit {
		return at
	}
	if l.moved < len(l.of.jumps) {
		l.moved++
		if at := near(); at-l.last <= jumpLimit && at-l.last > -jumpLimit {
			return at
		}
		l.moved--
	}
	const usual = media.VideoTimescale / 25
	// From here on the lines jump as this one does.
	l.of.jumps = append(l.of.jumps[:min(l.moved, len(l.of.jumps))], l.last+usual-at)
	l.moved = len(l.of.jumps)
	return l.last + usual
}

// feed reads a stretch of the file. It ends early when stop says so.
func (t *transport) feed(src Source, from int64, stop func() bool, progress func(int64)) error {
	buf := make([]byte, transportChunk)
	for at := from; at < src.Size(); {
		n, err := src.ReadAt(buf, at)
		if err != nil && !errors.Is(err, io.EOF) {
			return err
		}
		if n == 0 {
			break
		}
		t.at = max(at-2*1024, 0) // a packet may have begun in the chunk before
		t.demux.Write(buf[:n], 0)
		at += int64(n)
		progress(at)
		if stop() {
			return nil
		}
	}
	t.demux.Flush(0)
	return nil
}

// readTransport reads transport streams: the first programme with something in it.
func readTransport(src Source, progress func(int64)) (*contents, error) {
	t := newTransport()
	if err := t.feed(src, 0, func() bool { return false }, progress); err != nil {
		return nil, err
	}
	c := &contents{container: "MPEG-TS"}
	for _, l := range t.order {
		s := l.source
		if len(s.samples) == 0 || s.track == nil {
			continue
		}
		if t.demux.Scrambled(l.info.PID) {
			s.trouble = "it is scrambled"
		}
		if s.kind == media.Video {
			s.monotone()
			s.durations()
		}
		pid, programme, stamps := l.info.PID, t.wanted, l.stamps
		s.units = func(lo, hi int) ([][]byte, error) { return again(src, programme, pid, s, stamps, lo, hi) }
		c.tracks = append(c.tracks, s)
	}
	if len(c.tracks) == 0 {
		return nil, &media.FormatError{Format: "transport stream", Found: fmt.Sprintf("%d programmes without pictures or sound that are known here", len(t.demux.Programmes())), Want: "one at least"}
	}
	return c, nil
}

// monotone lets decode times not go back.
func (s *source) monotone() {
	for i := 1; i < len(s.samples); i++ {
		if p := &s.samples[i]; p.DTS < s.samples[i-1].DTS {
			p.DTS = s.samples[i-1].DTS
			p.PTS = max(p.PTS, p.DTS)
		}
	}
}

// again reads units of a line once more.
func again(src Source, programme, pid int, s *source, stamps []uint32, lo, hi int) ([][]byte, error) {
	t := newTransport()
	t.wanted, t.only = programme, pid
	nothing := func(int64) {}
	if err := t.feed(src, 0, func() bool { return t.lines[pid] != nil }, nothing); err != nil {
		return nil, err
	}
	l := t.lines[pid]
	if l == nil {
		return nil, errors.New("the stream is not what it was")
	}
	var out [][]byte
	l.take = func(stamp int64, data []byte) {
		// It begins before the first that is wanted: what comes before that is passed over.
		if k := lo + len(out); k < hi && uint32(stamp) == stamps[k] && len(data) == int(s.samples[k].Size) {
			out = append(out, slices.Clone(data))
		}
	}
	t.demux.Restart()
	l.Elementary.Lost()
	if err := t.feed(src, s.samples[lo].Offset, func() bool { return len(out) == hi-lo }, nothing); err != nil {
		return nil, err
	}
	if len(out) < hi-lo {
		return nil, fmt.Errorf("found %d of %d access units from byte %d on: the stream is not what it was", len(out), hi-lo, s.samples[lo].Offset)
	}
	return out, nil
}
