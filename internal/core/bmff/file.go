package bmff

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"slices"

	"metaplasis/internal/core/media"
)

// File is an MP4 or MOV file as it lies on a disk: its tracks with all of their samples (ISO/IEC 14496-12, 8.6 and 8.7; with movie
// fragments also 8.8). The samples' bytes are not read.
type File struct {
	Tracks     []FileTrack
	Fragmented bool
	Truncated  bool // the file ends before its last box does

	size   int64
	budget *budget
}

// FileTrack is a track of a file. Times are ticks of its timescale, from where the presentation begins.
type FileTrack struct {
	HeaderInfo
	Language string // three letters, "" when the file does not say
	Samples  []Sample
	// Cuts is how many stretches of the media an edit list puts one behind the other (8.6.6); more than one is not followed.
	Cuts int
	// Turned is by how many degrees the pictures are to be turned clockwise (8.3.2): 0, 90, 180 or 270.
	Turned int
	// Descriptions is how many descriptions the samples refer to (8.5.2).
	Descriptions int
}

// Sample is where an access unit lies, and when.
type Sample struct {
	Offset   int64
	Size     uint32
	Duration uint32
	DTS      int64
	PTS      int64
	Key      bool
}

// Bounds of what is read of a file.
const (
	//limit:bytes of a movie box | each file | the file is refused
	maxMoov = 256 << 20
	//limit:bytes of a fragment's header | each fragment | the file is refused
	maxMoof = 16 << 20
	//limit:samples of all tracks | each file | the file is refused
	maxFileSamples = 8_000_000 // of all tracks
	// A sample takes some bytes of the file, on average, so that what is held of a file follows its length.
	leastSample = 4 // bytes
	fewSamples  = 4096
	//limit:boxes within boxes | each file | the file is refused
	maxBoxDepth = 16 // boxes within boxes
	//limit:ticks of a time | each sample | the file is refused
	longestTimes = 1 << 56 // ticks: whatever lies behind is no time
)

// budget is how many samples a file may have.
type budget struct{ left int64 }

func newBudget(size int64) *budget {
	return &budget{min(maxFileSamples, size/leastSample+fewSamples)}
}

// spend books samples.
func (b *budget) spend(n int64) error {
	if n < 0 || n > b.left {
		return broken(fmt.Sprintf("%d further samples in a file that may have %d more", n, b.left), fmt.Sprintf("%d bytes each, on average, and %d samples at most", leastSample, maxFileSamples))
	}
	b.left -= n
	return nil
}

// ReadFile reads the tables of a file of so many bytes. A file that is cut off is read as far as it goes.
func ReadFile(r io.ReaderAt, size int64) (*File, error) {
	f := &File{size: size, budget: newBudget(size)}
	var edits []edit
	next := map[uint32]int64{} // by track: the decode time behind the fragments so far
	for at := int64(0); at < size; {
		var head [16]byte
		n, err := r.ReadAt(head[:min(16, size-at)], at)
		if err != nil && !errors.Is(err, io.EOF) {
			return nil, err
		}
		if n < 8 {
			f.Truncated = true
			break
		}
		length, skip := int64(binary.BigEndian.Uint32(head[:])), int64(8)
		switch {
		case length == 1 && n >= 16:
			length, skip = int64(binary.BigEndian.Uint64(head[8:])), 16
		case length == 0:
			length = size - at
		}
		kind := string(head[4:8])
		if length < skip {
			return nil, broken(fmt.Sprintf("box %q of %d bytes at byte %d", kind, length, at), "its own length at least")
		}
		cut := length > size-at
		f.Truncated = f.Truncated || cut
		switch {
		case kind == "moov" && cut:
			return nil, broken("a file that ends within its tables", "a whole file: the rest is missing")
		case kind == "moov":
			b, err := body(r, at+skip, length-skip, maxMoov)
			if err != nil {
				return nil, err
			}
			if edits, err = f.readMoov(b); err != nil {
				return nil, err
			}
		case kind == "moof" && !cut:
			f.Fragmented = true
			b, err := body(r, at+skip, length-skip, maxMoof)
			if err != nil {
				return nil, err
			}
			if err := f.fragment(b, at, size, next); err != nil {
				return nil, err
			}
		}
		at += length
	}
	if len(f.Tracks) == 0 {
		if f.Truncated {
			return nil, broken("a file that ends before its tables", "a whole file: the rest is missing")
		}
		return nil, broken("no track", "a moov with tracks")
	}
	any := false
	for i := range f.Tracks {
		t := &f.Tracks[i]
		if n := slices.IndexFunc(t.Samples, func(s Sample) bool { return s.Offset < 0 || s.Offset+int64(s.Size) > size }); n >= 0 {
			t.Samples, f.Truncated = t.Samples[:n], true
		}
		if i < len(edits) && !f.Fragmented {
			t.edit(&edits[i])
		}
		any = any || len(t.Samples) > 0
	}
	if !any {
		return nil, broken("tables without a sample", "media")
	}
	return f, nil
}

func body(r io.ReaderAt, at, size, most int64) ([]byte, error) {
	if size > most {
		return nil, broken(fmt.Sprintf("tables of %d MB", size>>20), fmt.Sprintf("%d MB at most", most>>20))
	}
	b := make([]byte, size)
	if _, err := r.ReadAt(b, at); err != nil {
		return nil, err
	}
	return b, nil
}

// edit is what an edit list says of a track's beginning (8.6.6).
type edit struct {
	movie  int64 // timescale of empty
	empty  int64 // nothing is shown for so long
	from   int64 // the media begins here, ticks of the track
	length int64 // for how long it is shown, ticks of the movie; 0: to its end
	cuts   int   // stretches of media
}

// edit moves the samples to where the presentation has them, and leaves out those that lie outside of it. Pictures before its begin are
// left out up to a keyframe.
func (t *FileTrack) edit(e *edit) {
	t.Cuts = e.cuts
	shift := e.shift(t.Timescale)
	for k := range t.Samples {
		t.Samples[k].DTS -= shift
		t.Samples[k].PTS -= shift
	}
	if e.cuts != 1 {
		return
	}
	begin := media.Rescale(e.empty, max(e.movie, 1), t.Timescale)
	first := 0
	for k := range t.Samples {
		s := &t.Samples[k]
		if t.Handler == "soun" {
			if s.PTS+int64(s.Duration) > begin {
				break
			}
			first = k + 1
		} else if s.Key && s.PTS <= begin {
			first = k
		}
	}
	if n := len(t.Samples); n > 0 && t.Samples[min(first, n-1)].PTS-t.Samples[0].PTS > t.Timescale/4 { // less is what a decoder begins with
		t.Samples = t.Samples[min(first, n-1):]
	}
	if e.length <= 0 || e.movie == 0 {
		return
	}
	end := begin + media.RescaleUp(e.length, e.movie, t.Timescale)
	for n := len(t.Samples); n > 1 && t.Samples[n-1].PTS >= end+int64(t.Samples[n-1].Duration); n-- { // a writer may round
		t.Samples = t.Samples[:n-1]
	}
}

// shift is what the track's times are to be lessened by.
func (e edit) shift(scale int64) int64 {
	if e.movie == 0 {
		return e.from
	}
	return e.from - media.Rescale(e.empty, e.movie, scale)
}

// tables are the sample tables of one track.
type tables struct {
	stts, ctts, stss, stsz, stsc, chunks []byte
	wide, small                          bool // co64; stz2
	syncs                                bool
	depth                                depth
	budget                               *budget
}

// depth bounds boxes within boxes.
type depth int

func (d *depth) into(do func() error) error {
	if *d++; *d > maxBoxDepth {
		return broken(fmt.Sprintf("boxes within boxes, %d deep", *d), fmt.Sprintf("%d at most", maxBoxDepth))
	}
	defer func() { *d-- }()
	return do()
}

// readMoov reads the tracks.
func (f *File) readMoov(b []byte) (edits []edit, err error) {
	movie := int64(0)
	usual := map[uint32]sample{}
	err = walk(b, func(kind string, body []byte) error {
		switch kind {
		case "mvhd":
			at := 12
			if len(body) > 0 && body[0] == 1 {
				at = 20
			}
			if len(body) >= at+4 {
				movie = int64(binary.BigEndian.Uint32(body[at:]))
			}
		case "mvex":
			f.Fragmented = true
			h := HeaderInfo{usual: usual}
			return walk(body, h.extends)
		case "trak":
			if len(f.Tracks) >= maxTracks {
				return broken(fmt.Sprintf("more than %d tracks", maxTracks), "fewer")
			}
			t := FileTrack{HeaderInfo: HeaderInfo{Tracks: 1, usual: usual}}
			if err := walk(body, t.visit); err != nil {
				return err
			}
			var own edit
			s := tables{budget: f.budget}
			if err := walk(body, func(kind string, body []byte) error { return s.visit(kind, body, &t, &own) }); err != nil {
				return err
			}
			own.movie = movie
			if t.Timescale <= 0 {
				return nil // a track that tells nothing
			}
			if err := s.samples(&t, f.size); err != nil {
				return err
			}
			t.Descriptions = s.descriptions()
			f.Tracks, edits = append(f.Tracks, t), append(edits, own)
		}
		return nil
	})
	return edits, err
}

// visit finds the tables of a track.
func (s *tables) visit(kind string, body []byte, t *FileTrack, e *edit) error {
	switch kind {
	case "mdia", "minf", "stbl", "edts":
		return s.depth.into(func() error {
			return walk(body, func(kind string, body []byte) error { return s.visit(kind, body, t, e) })
		})
	case "mdhd":
		at := 20
		if len(body) > 0 && body[0] == 1 {
			at = 32
		}
		if len(body) >= at+2 {
			t.Language = language(binary.BigEndian.Uint16(body[at:]))
		}
	case "tkhd":
		t.Turned = turned(body)
	case "elst":
		e.read(body)
	case "stts":
		s.stts = body
	case "ctts":
		s.ctts = body
	case "stss":
		s.stss, s.syncs = body, true
	case "stsz":
		s.stsz = body
	case "stz2":
		s.stsz, s.small = body, true
	case "stsc":
		s.stsc = body
	case "stco":
		s.chunks = body
	case "co64":
		s.chunks, s.wide = body, true
	}
	return nil
}

// turned reads the matrix of a track's header: how far pictures are turned, of those that are not also sheared.
func turned(b []byte) int {
	at := 40
	if len(b) > 0 && b[0] == 1 {
		at = 52
	}
	if len(b) < at+20 {
		return 0
	}
	const one = 1 << 16
	v := func(i int) int32 { return int32(binary.BigEndian.Uint32(b[at+4*i:])) }
	switch [4]int32{v(0), v(1), v(3), v(4)} {
	case [4]int32{0, one, -one, 0}:
		return 90
	case [4]int32{-one, 0, 0, -one}:
		return 180
	case [4]int32{0, -one, one, 0}:
		return 270
	}
	return 0
}

// descriptions is how many descriptions the samples refer to.
func (s *tables) descriptions() int {
	runs, n, err := list("stsc", s.stsc, 8, 12)
	if err != nil {
		return 1
	}
	used := map[uint32]bool{}
	for i := range n {
		if used[binary.BigEndian.Uint32(runs[12*i+8:])] = true; len(used) > maxTracks {
			break
		}
	}
	return len(used)
}

func language(v uint16) string {
	if v < 0x400 || v == 0x7fff {
		return ""
	}
	b := []byte{byte(v>>10&0x1f) + 0x60, byte(v>>5&0x1f) + 0x60, byte(v&0x1f) + 0x60}
	if string(b) == "und" {
		return ""
	}
	return string(b)
}

// read reads an edit list: what is empty at its begin, the first stretch of media, and how many there are.
func (e *edit) read(b []byte) {
	if len(b) < 8 {
		return
	}
	version, count := b[0], binary.BigEndian.Uint32(b[4:])
	b = b[8:]
	for range min(count, 16) {
		var length, from int64
		if version == 1 {
			if len(b) < 20 {
				return
			}
			length, from, b = int64(binary.BigEndian.Uint64(b)), int64(binary.BigEndian.Uint64(b[8:])), b[20:]
		} else {
			if len(b) < 12 {
				return
			}
			length, from, b = int64(binary.BigEndian.Uint32(b)), int64(int32(binary.BigEndian.Uint32(b[4:]))), b[12:]
		}
		switch {
		case from >= 0 && e.cuts == 0:
			e.from, e.length, e.cuts = from, length, 1
		case from >= 0:
			e.cuts++
		case e.cuts == 0:
			e.empty += length
		}
	}
}

// list returns the records of a table with so many bytes each, behind a head.
func list(name string, b []byte, head, each int) (rest []byte, count int, err error) {
	if len(b) < head {
		return nil, 0, broken("a short "+name, fmt.Sprintf("%d bytes", head))
	}
	count = int(binary.BigEndian.Uint32(b[head-4:]))
	if rest = b[head:]; count > len(rest)/each {
		return nil, 0, broken(fmt.Sprintf("%s of %d records in %d bytes", name, count, len(rest)), fmt.Sprintf("%d bytes each", each))
	}
	return rest, count, nil
}

// samples puts the tables of a track together.
func (s *tables) samples(t *FileTrack, size int64) error {
	if s.stsz == nil {
		return nil
	}
	sizes, count, each, err := s.sizes()
	if err != nil || count == 0 {
		return err
	}
	if t.Sampled != nil && each > 0 {
		return s.blocks(t, count, each)
	}
	if err := s.budget.spend(int64(count)); err != nil {
		return err
	}
	if int64(count)*int64(each) > size {
		return broken(fmt.Sprintf("%d samples of %d bytes in a file of %d", count, each, size), "samples that lie in the file")
	}
	t.Samples = make([]Sample, count)
	for i := range t.Samples {
		if t.Samples[i].Size = each; sizes != nil {
			t.Samples[i].Size = sizes(i)
		}
		t.Samples[i].Key = !s.syncs
	}
	if err := s.times(t.Samples); err != nil {
		return err
	}
	if s.syncs {
		b, n, err := list("stss", s.stss, 8, 4)
		if err != nil {
			return err
		}
		for i := range n {
			if k := int(binary.BigEndian.Uint32(b[4*i:])); k >= 1 && k <= count {
				t.Samples[k-1].Key = true
			}
		}
	}
	return s.places(t.Samples)
}

// blockFrames is how many frames of sound that is not compressed are taken for a sample.
const blockFrames = 1024

// blocks makes samples of sound that is not compressed, of which each frame has a row in the tables: frames that lie in a row are one.
func (s *tables) blocks(t *FileTrack, count int, each uint32) error {
	frame := max(int64(each), int64(t.Sampled.Channels)*int64(t.Sampled.Bits)/8) // files of old say 1
	b, n, err := list("stts", s.stts, 8, 8)
	if err != nil {
		return err
	}
	step := int64(1)
	if n > 0 {
		step = max(int64(binary.BigEndian.Uint32(b[4:])), 1)
	}
	at := int64(0)
	return s.runs(func(offset int64, samples uint32) (bool, error) {
		left := min(int64(samples), int64(count)-at)
		for left > 0 {
			if err := s.budget.spend(1); err != nil {
				return false, err
			}
			k := min(left, blockFrames)
			t.Samples = append(t.Samples, Sample{Offset: offset, Size: uint32(k * frame), Duration: uint32(k * step), DTS: at * step, PTS: at * step, Key: true})
			offset, at, left = offset+k*frame, at+k, left-k
		}
		return at < int64(count), nil
	})
}

func (s *tables) sizes() (of func(int) uint32, count int, each uint32, err error) {
	if s.small {
		if len(s.stsz) < 12 {
			return nil, 0, 0, broken("a short stz2", "12 bytes")
		}
		width, n := int(s.stsz[7]), int(binary.BigEndian.Uint32(s.stsz[8:]))
		b := s.stsz[12:]
		if width != 8 && width != 16 || n > len(b)*8/width {
			return nil, 0, 0, broken(fmt.Sprintf("stz2 of %d sizes of %d bits", n, width), "sizes of 8 or 16 bits, all of them")
		}
		return func(i int) uint32 {
			if width == 8 {
				return uint32(b[i])
			}
			return uint32(binary.BigEndian.Uint16(b[2*i:]))
		}, n, 0, nil
	}
	if len(s.stsz) < 12 {
		return nil, 0, 0, broken("a short stsz", "12 bytes")
	}
	each = binary.BigEndian.Uint32(s.stsz[4:])
	if each > 0 {
		return nil, int(binary.BigEndian.Uint32(s.stsz[8:])), each, nil
	}
	b, n, err := list("stsz", s.stsz, 12, 4)
	return func(i int) uint32 { return binary.BigEndian.Uint32(b[4*i:]) }, n, 0, err
}

func (s *tables) times(out []Sample) error {
	b, n, err := list("stts", s.stts, 8, 8)
	if err != nil {
		return err
	}
	at, dts := 0, int64(0)
	for i := range n {
		count, duration := binary.BigEndian.Uint32(b[8*i:]), binary.BigEndian.Uint32(b[8*i+4:])
		for ; count > 0 && at < len(out); count-- {
			out[at].DTS, out[at].PTS, out[at].Duration = dts, dts, duration
			dts += int64(duration)
			at++
		}
	}
	if at < len(out) {
		return broken(fmt.Sprintf("times of %d samples", at), fmt.Sprintf("those of all %d", len(out)))
	}
	if s.ctts == nil {
		return nil
	}
	if b, n, err = list("ctts", s.ctts, 8, 8); err != nil {
		return err
	}
	at = 0
	for i := range n {
		count, offset := binary.BigEndian.Uint32(b[8*i:]), int64(int32(binary.BigEndian.Uint32(b[8*i+4:])))
		for ; count > 0 && at < len(out); count-- {
			out[at].PTS += offset
			at++
		}
	}
	return nil
}

// places says where the samples lie.
func (s *tables) places(out []Sample) error {
	at := 0
	err := s.runs(func(offset int64, samples uint32) (bool, error) {
		for ; samples > 0 && at < len(out); samples-- {
			out[at].Offset = offset
			offset += int64(out[at].Size)
			at++
		}
		return at < len(out), nil
	})
	if err == nil && at < len(out) {
		err = broken(fmt.Sprintf("places of %d samples", at), fmt.Sprintf("those of all %d", len(out)))
	}
	return err
}

// runs hands out the chunks in order, with how many samples lie in each, until do says that it is enough.
func (s *tables) runs(do func(offset int64, samples uint32) (more bool, err error)) error {
	width := 4
	if s.wide {
		width = 8
	}
	chunks, n, err := list("stco", s.chunks, 8, width)
	if err != nil {
		return err
	}
	runs, m, err := list("stsc", s.stsc, 8, 12)
	if err != nil || m == 0 {
		return err
	}
	run := 0
	for c := 1; c <= n; c++ {
		for run+1 < m && int(binary.BigEndian.Uint32(runs[12*(run+1):])) <= c {
			run++
		}
		var offset int64
		if s.wide {
			offset = int64(binary.BigEndian.Uint64(chunks[8*(c-1):]))
		} else {
			offset = int64(binary.BigEndian.Uint32(chunks[4*(c-1):]))
		}
		if offset < 0 {
			return broken("a chunk before the file", "one within it")
		}
		if more, err := do(offset, binary.BigEndian.Uint32(runs[12*run+4:])); err != nil || !more {
			return err
		}
	}
	return nil
}

// fragment adds the samples of a movie fragment that begins at a byte of the file.
func (f *File) fragment(moof []byte, at, size int64, next map[uint32]int64) error {
	for i := range f.Tracks {
		t := &f.Tracks[i]
		var own Fragment
		own.DTS = -1
		if err := own.readMoof(moof, &t.HeaderInfo); err != nil {
			if len(f.Tracks) > 1 || own.Units == nil && own.DTS < 0 {
				continue // a fragment of other tracks
			}
			return err
		}
		if err := f.budget.spend(int64(len(own.Units))); err != nil {
			return err
		}
		for k, u := range own.Units {
			if u.DTS < -longestTimes || u.DTS > longestTimes {
				return broken(fmt.Sprintf("the time %d", u.DTS), "one below 2^56")
			}
			p := own.places[k]
			if p.at < 0 || at+p.at+int64(p.size) > size {
				f.Truncated = true
				break
			}
			if own.DTS < 0 { // it does not say when it is
				u.DTS += next[t.ID]
				u.PTS += next[t.ID]
			}
			t.Samples = append(t.Samples, Sample{Offset: at + p.at, Size: p.size, Duration: uint32(u.Duration), DTS: u.DTS, PTS: u.PTS, Key: u.Key})
		}
		if n := len(t.Samples); n > 0 {
			next[t.ID] = t.Samples[n-1].DTS + int64(t.Samples[n-1].Duration)
		}
	}
	return nil
}

// HeaderSize is how many bytes of a fragmented file lie before its first fragment.
func HeaderSize(b []byte) int {
	at := 0
	for at+8 <= len(b) {
		n := int(binary.BigEndian.Uint32(b[at:]))
		if kind := string(b[at+4 : at+8]); n < 8 || n > len(b)-at || kind != "ftyp" && kind != "moov" {
			break
		}
		at += n
	}
	return at
}
