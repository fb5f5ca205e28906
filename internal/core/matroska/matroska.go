// Package matroska reads Matroska and WebM files (RFC 9559, on EBML, RFC 8794): their tracks, and where each frame lies and when.
// The frames' bytes are not read.
//
//	file:    EBML Segment { Info Tracks { Cluster { Timestamp { SimpleBlock | BlockGroup } } } … }
//	element: id(1 to 4 bytes) size(1 to 8 bytes, all ones: not known) body
package matroska

import (
	"bufio"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"math"
	"math/bits"

	"metaplasis/internal/core/media"
)

// File is what a file holds.
type File struct {
	DocType   string // "matroska" or "webm"
	Title     string
	Tracks    []Track
	Truncated bool // the file ends before its last element does
}

// Types of tracks (5.1.4.1.3).
const (
	TypeVideo    = 1
	TypeAudio    = 2
	TypeSubtitle = 17
)

// Track is a track with its frames in the order in which they are decoded.
type Track struct {
	Number    uint64
	Type      uint8
	CodecID   string
	Private   []byte
	Language  string // ISO 639-2, or a tag of RFC 5646 where the file has one
	Name      string
	FrameTime int64 // nanoseconds from frame to frame, 0 when the file does not say
	Rate      float64
	Channels  int
	Bits      int // of a sample of sound
	// Prefix stands before the data of each frame and is left out in the file; Encoding says why frames cannot be read, "" when
	// they can (5.1.4.1.31).
	Prefix   []byte
	Encoding string
	Frames   []Frame
}

// Frame is where a frame lies, and when it is presented.
type Frame struct {
	Offset   int64
	Size     uint32
	Key      bool
	Nanos    int64 // from where the file begins
	Duration int64 // nanoseconds, 0 when the file does not say
}

// Identifiers of elements (section 5).
const (
	idEBML        = 0x1a45dfa3
	idDocType     = 0x4282
	idSegment     = 0x18538067
	idInfo        = 0x1549a966
	idScale       = 0x2ad7b1
	idTitle       = 0x7ba9
	idTracks      = 0x1654ae6b
	idEntry       = 0xae
	idNumber      = 0xd7
	idType        = 0x83
	idCodec       = 0x86
	idPrivate     = 0x63a2
	idLanguage    = 0x22b59c
	idTag         = 0x22b59d
	idName        = 0x536e
	idFrameTime   = 0x23e383
	idAudio       = 0xe1
	idRate        = 0xb5
	idChannels    = 0x9f
	idBits        = 0x6264
	idEncodings   = 0x6d80
	idEncoding    = 0x6240
	idEncType     = 0x5033
	idCompression = 0x5034
	idAlgorithm   = 0x4254
	idSettings    = 0x4255
	idCluster     = 0x1f43b675
	idTimestamp   = 0xe7
	idSimple      = 0xa3
	idGroup       = 0xa0
	idBlock       = 0xa1
	idDuration    = 0x9b
	idReference   = 0xfb
)

// Bounds of what is read.
const (
	//limit:bytes of an element that is read whole | each element | the file is refused
	maxHead = 4 << 20 // bytes of an element that is read whole
	//limit:tracks | each file | the file is refused
	maxTracks = 64
	//limit:frames | each file | the file is refused
	maxFrames = 8_000_000
	//limit:elements of a block group | each group | the file is refused
	maxGroups = 1 << 12 // elements of a block group
	//limit:ticks of a time | each block | the block is passed over
	maxTime = 1 << 32 // ticks, of a second at most
)

const unknown = math.MaxInt64

func broken(found, want string) error {
	return &media.FormatError{Format: "Matroska file", Found: found, Want: want}
}

// cursor reads elements of a file one after the other.
type cursor struct {
	src  io.ReaderAt
	size int64
	at   int64
	buf  *bufio.Reader
	pos  int64 // of buf
}

const readAhead = 64 << 10

// read fills b from where the cursor stands.
func (c *cursor) read(b []byte) error {
	if d := c.at - c.pos; c.buf == nil || d < 0 || d > readAhead {
		c.buf, c.pos = bufio.NewReaderSize(io.NewSectionReader(c.src, c.at, c.size-c.at), readAhead), c.at
	} else if d > 0 {
		n, err := c.buf.Discard(int(d))
		c.pos += int64(n)
		if err != nil {
			return err
		}
	}
	n, err := io.ReadFull(c.buf, b)
	c.pos += int64(n)
	c.at += int64(n)
	return err
}

// vint reads a number of variable length; with marker, the bit that tells the length stays in (RFC 8794, section 4).
func (c *cursor) vint(marker bool) (v int64, length int, err error) {
	var b [8]byte
	if err := c.read(b[:1]); err != nil {
		return 0, 0, err
	}
	length = bits.LeadingZeros8(b[0]) + 1
	if length > 8 {
		return 0, 0, broken(fmt.Sprintf("the byte 0 at byte %d, where an element begins", c.at-1), "an element")
	}
	if err := c.read(b[1:length]); err != nil {
		return 0, 0, err
	}
	first := b[0]
	if !marker {
		first &= 1<<(8-length) - 1
	}
	u, ones := uint64(first), first == 1<<(8-length)-1
	for _, x := range b[1:length] {
		u, ones = u<<8|uint64(x), ones && x == 0xff
	}
	if !marker && ones {
		return unknown, length, nil
	}
	if u > math.MaxInt64 {
		return 0, 0, broken("an identifier of 8 bytes", "4 at most")
	}
	return int64(u), length, nil
}

// element is the head of an element.
type element struct {
	id   int64
	body int64 // where its body begins
	end  int64 // unknown when nobody says
}

func (c *cursor) next() (e element, err error) {
	id, n, err := c.vint(true)
	if err != nil {
		return e, err
	}
	if n > 4 {
		return e, broken(fmt.Sprintf("an identifier of %d bytes at byte %d", n, c.at-int64(n)), "4 at most")
	}
	size, _, err := c.vint(false)
	if err != nil {
		return e, err
	}
	e = element{id: id, body: c.at, end: unknown}
	if size != unknown {
		if size > c.size { // it goes beyond the file in any case
			size = c.size
		}
		e.end = c.at + size
	}
	return e, nil
}

// bytes reads the body of an element.
func (c *cursor) bytes(e element) ([]byte, error) {
	n := e.end - e.body
	if e.end == unknown || n > maxHead {
		return nil, broken(fmt.Sprintf("an element %x of more than %d MB", e.id, maxHead>>20), "less")
	}
	if e.end > c.size {
		return nil, io.ErrUnexpectedEOF
	}
	c.at = e.body
	b := make([]byte, n)
	return b, c.read(b)
}

// ReadFile reads a file of so many bytes. A file that is cut off is read as far as it goes.
func ReadFile(src io.ReaderAt, size int64) (*File, error) {
	c := &cursor{src: src, size: size}
	f := &reading{File: &File{}, c: c, scale: 1_000_000, byNumber: map[uint64]int{}}
	err := f.top()
	if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
		f.Truncated, err = true, nil
	}
	if err != nil {
		return nil, err
	}
	if len(f.Tracks) == 0 {
		if f.Truncated {
			return nil, broken("a file that ends before its tracks", "a whole file: the rest is missing")
		}
		return nil, broken("no track", "one at least")
	}
	return f.File, nil
}

// reading is a file that is being read.
type reading struct {
	*File
	c        *cursor
	scale    int64 // nanoseconds of a tick
	byNumber map[uint64]int
	frames   int
	cluster  int64 // timestamp of the open cluster, ticks
}

func (f *reading) top() error {
	head, err := f.c.next()
	if err != nil {
		return err
	}
	if head.id != idEBML {
		return broken(fmt.Sprintf("the identifier %x", head.id), "1a45dfa3 of EBML")
	}
	b, err := f.c.bytes(head)
	if err != nil {
		return err
	}
	f.DocType = "matroska"
	if err := children(b, func(id int64, body []byte) error {
		if id == idDocType {
			f.DocType = text(body)
		}
		return nil
	}); err != nil {
		return err
	}
	for f.c.at = head.end; f.c.at < f.c.size; {
		e, err := f.c.next()
		if err != nil {
			return err
		}
		if e.id == idSegment {
			f.Truncated = e.end != unknown && e.end > f.c.size
			return f.segment(min(e.end, f.c.size))
		}
		if e.end == unknown {
			return broken(fmt.Sprintf("an element %x of unknown size", e.id), "a segment")
		}
		f.c.at = e.end
	}
	return broken("no segment", "one")
}

// segment reads what lies in the segment and in its clusters, which lie in one row here: so clusters of unknown size end by themselves.
func (f *reading) segment(end int64) error {
	for f.c.at < end {
		e, err := f.c.next()
		if err != nil {
			return err
		}
		switch e.id {
		case idCluster:
			continue // its children come next
		case idInfo:
			b, err := f.c.bytes(e)
			if err != nil {
				return err
			}
			if err := children(b, f.info); err != nil {
				return err
			}
		case idTracks:
			if len(f.Tracks) > 0 {
				break
			}
			b, err := f.c.bytes(e)
			if err != nil {
				return err
			}
			if err := children(b, f.entry); err != nil {
				return err
			}
		case idTimestamp:
			b, err := f.c.bytes(e)
			if err != nil {
				return err
			}
			if f.cluster, err = number(b); err != nil {
				return err
			}
		case idSimple:
			if err := f.block(e, nil); err != nil {
				return err
			}
		case idGroup:
			if err := f.group(e); err != nil {
				return err
			}
		}
		if e.end == unknown {
			return broken(fmt.Sprintf("an element %x of unknown size at byte %d", e.id, e.body), "its size")
		}
		if e.end > f.c.size {
			return io.ErrUnexpectedEOF
		}
		f.c.at = e.end
	}
	return nil
}

func (f *reading) info(id int64, b []byte) (err error) {
	switch id {
	case idScale:
		f.scale, err = number(b)
		if err == nil && (f.scale <= 0 || f.scale > 1e9) {
			return broken(fmt.Sprintf("ticks of %d ns", f.scale), "1 s at most")
		}
	case idTitle:
		f.Title = text(b)
	}
	return err
}

// entry reads a track (5.1.4.1).
func (f *reading) entry(id int64, b []byte) error {
	if id != idEntry {
		return nil
	}
	if len(f.Tracks) >= maxTracks {
		return broken("more tracks", fmt.Sprintf("%d at most", maxTracks))
	}
	t := Track{Language: "eng", Rate: 8000, Channels: 1}
	tagged := false
	err := children(b, func(id int64, b []byte) (err error) {
		var v int64
		switch id {
		case idNumber:
			v, err = number(b)
			t.Number = uint64(v)
		case idType:
			v, err = number(b)
			t.Type = uint8(v)
		case idCodec:
			t.CodecID = text(b)
		case idPrivate:
			t.Private = b
		case idLanguage:
			if !tagged {
				t.Language = text(b)
			}
		case idTag:
			t.Language, tagged = text(b), true
		case idName:
			t.Name = text(b)
		case idFrameTime:
			t.FrameTime, err = number(b)
		case idAudio:
			err = children(b, t.audio)
		case idEncodings:
			err = children(b, t.encoding)
		}
		return err
	})
	if err != nil {
		return err
	}
	if t.FrameTime < 0 || t.FrameTime > 1e12 {
		t.FrameTime = 0
	}
	f.byNumber[t.Number] = len(f.Tracks)
	f.Tracks = append(f.Tracks, t)
	return nil
}

func (t *Track) audio(id int64, b []byte) (err error) {
	var v int64
	switch id {
	case idRate:
		if t.Rate, err = float(b); err == nil && !(t.Rate >= 1 && t.Rate < 1e7) {
			return broken(fmt.Sprintf("%g samples of sound a second", t.Rate), "8000 to 192000")
		}
	case idChannels:
		v, err = number(b)
		t.Channels = int(min(v, 255))
	case idBits:
		v, err = number(b)
		t.Bits = int(min(v, 255))
	}
	return err
}

// encoding reads what was done to the frames (5.1.4.1.31).
func (t *Track) encoding(id int64, b []byte) error {
	if id != idEncoding {
		return nil
	}
	const stripped = 3
	kind, algorithm := int64(0), int64(-1)
	var settings []byte
	if err := children(b, func(id int64, b []byte) (err error) {
		switch id {
		case idEncType:
			kind, err = number(b)
		case idCompression:
			algorithm = 0
			err = children(b, func(id int64, b []byte) (err error) {
				switch id {
				case idAlgorithm:
					algorithm, err = number(b)
				case idSettings:
					settings = b
				}
				return err
			})
		}
		return err
	}); err != nil {
		return err
	}
	switch {
	case kind == 1:
		t.Encoding = "its media is encrypted"
	case algorithm == stripped && t.Prefix == nil:
		t.Prefix = settings
	default:
		t.Encoding = "its frames are compressed once more"
	}
	return nil
}

// group reads a block with what belongs to it (5.1.3.5).
func (f *reading) group(e element) error {
	if e.end == unknown || e.end > f.c.size {
		return io.ErrUnexpectedEOF
	}
	var block *element
	g := &blockGroup{key: true}
	for n := 0; f.c.at < e.end; n++ {
		if n > maxGroups {
			return broken(fmt.Sprintf("more than %d elements in a block group", maxGroups), "less")
		}
		in, err := f.c.next()
		if err != nil {
			return err
		}
		if in.end == unknown || in.end > e.end {
			return broken(fmt.Sprintf("an element %x that is longer than its block group", in.id), "one that fits")
		}
		switch in.id {
		case idBlock:
			block = &in
		case idReference:
			g.key = false
		case idDuration:
			b, err := f.c.bytes(in)
			if err != nil {
				return err
			}
			if g.duration, err = number(b); err != nil {
				return err
			}
		}
		f.c.at = in.end
	}
	if block == nil {
		return nil
	}
	f.c.at = block.body
	return f.block(*block, g)
}

type blockGroup struct {
	key      bool
	duration int64 // ticks
}

// block reads the head of a block, and the sizes of the frames in it (section 10):
//
//	track(vint) time(16) flags(8) [frames-1(8) sizes] frames
func (f *reading) block(e element, g *blockGroup) error {
	if e.end == unknown {
		return broken("a block of unknown size", "its size")
	}
	track, n, err := f.c.vint(false)
	if err != nil {
		return err
	}
	var head [3]byte
	if err := f.c.read(head[:]); err != nil {
		return err
	}
	at := e.body + int64(n) + int64(len(head))
	if at > e.end {
		return broken("a block that ends within its head", "a whole block")
	}
	i, known := f.byNumber[uint64(track)]
	if !known {
		return nil
	}
	t := &f.Tracks[i]
	flags := head[2]
	key, duration := flags&0x80 != 0, int64(0)
	if g != nil {
		key, duration = g.key, g.duration
	}
	sizes, err := f.sizes(flags>>1&3, e.end)
	if err != nil {
		return err
	}
	if e.end > f.c.size { // the last one, cut off
		return io.ErrUnexpectedEOF
	}
	at = f.c.at
	time := f.cluster + int64(int16(binary.BigEndian.Uint16(head[:])))
	if time < -maxTime || time > maxTime {
		return broken(fmt.Sprintf("the time %d", time), "a time of less than a century")
	}
	nanos := time * f.scale
	if duration > 0 && duration < 1e9 {
		duration = media.RescaleDown(duration, int64(len(sizes)), f.scale)
	} else {
		duration = 0
	}
	for k, size := range sizes {
		if f.frames++; f.frames > maxFrames {
			return broken(fmt.Sprintf("more than %d frames", maxFrames), "a shorter file")
		}
		fr := Frame{Offset: at, Size: uint32(size), Key: key && (k == 0 || t.Type == TypeAudio), Nanos: nanos, Duration: duration}
		if k > 0 { // the time is that of the first
			each := max(t.FrameTime, duration)
			if each == 0 {
				fr.Nanos = -1 // whoever knows the codec tells
			} else {
				fr.Nanos += int64(k) * each
			}
		}
		t.Frames = append(t.Frames, fr)
		at += size
	}
	return nil
}

// sizes reads how long the frames of a block are, whose head ends here (10.3).
func (f *reading) sizes(lacing uint8, end int64) ([]int64, error) {
	if lacing == 0 {
		return []int64{end - f.c.at}, nil
	}
	var b [1]byte
	if err := f.c.read(b[:]); err != nil {
		return nil, err
	}
	count := int(b[0]) + 1
	sizes := make([]int64, count)
	total := int64(0)
	for i := range count - 1 {
		switch lacing {
		case 1: // as Xiph has it: bytes are added up to the first that is not 255
			for {
				if err := f.c.read(b[:]); err != nil {
					return nil, err
				}
				sizes[i] += int64(b[0])
				if b[0] != 255 {
					break
				}
			}
		case 2: // all are as long
		case 3: // EBML: the first, then how much each differs from the one before
			v, n, err := f.c.vint(false)
			if err != nil {
				return nil, err
			}
			if sizes[i] = v; i > 0 {
				sizes[i] = sizes[i-1] + v - (1<<(7*n-1) - 1)
			}
		}
		if sizes[i] < 0 || sizes[i] > end {
			return nil, broken(fmt.Sprintf("a frame of %d bytes in a block", sizes[i]), "one that fits")
		}
		total += sizes[i]
	}
	left := end - f.c.at - total
	if lacing == 2 {
		if left%int64(count) != 0 {
			return nil, broken(fmt.Sprintf("%d bytes for %d frames of one size", left, count), "a multiple")
		}
		for i := range sizes {
			sizes[i] = left / int64(count)
		}
		return sizes, nil
	}
	if left < 0 {
		return nil, broken("frames that are longer than their block", "ones that fit")
	}
	sizes[count-1] = left
	return sizes, nil
}

// children hands out the elements within b.
func children(b []byte, each func(id int64, body []byte) error) error {
	for len(b) > 0 {
		idLength := bits.LeadingZeros8(b[0]) + 1
		if idLength > 4 || len(b) <= idLength {
			return broken(fmt.Sprintf("% x within an element", b[:min(len(b), 4)]), "an element")
		}
		id := int64(0)
		for _, x := range b[:idLength] {
			id = id<<8 | int64(x)
		}
		b = b[idLength:]
		n := bits.LeadingZeros8(b[0]) + 1
		if n > 8 || len(b) < n {
			return broken(fmt.Sprintf("the size % x of an element", b[:min(len(b), 4)]), "1 to 8 bytes")
		}
		size := uint64(b[0] & (1<<(8-n) - 1))
		for _, x := range b[1:n] {
			size = size<<8 | uint64(x)
		}
		b = b[n:]
		if size > uint64(len(b)) {
			return broken(fmt.Sprintf("an element %x of %d bytes in %d", id, size, len(b)), "one that fits")
		}
		if err := each(id, b[:size:size]); err != nil {
			return err
		}
		b = b[size:]
	}
	return nil
}

func number(b []byte) (int64, error) {
	if len(b) > 8 || len(b) == 8 && b[0] > 127 {
		return 0, broken(fmt.Sprintf("a number of %d bytes", len(b)), "8 at most")
	}
	v := int64(0)
	for _, x := range b {
		v = v<<8 | int64(x)
	}
	return v, nil
}

func float(b []byte) (float64, error) {
	switch len(b) {
	case 0:
		return 0, nil
	case 4:
		return float64(math.Float32frombits(binary.BigEndian.Uint32(b))), nil
	case 8:
		return math.Float64frombits(binary.BigEndian.Uint64(b)), nil
	}
	return 0, broken(fmt.Sprintf("a number of %d bytes", len(b)), "4 or 8")
}

// text is a string, which may be filled up with zeros.
func text(b []byte) string {
	for i, x := range b {
		if x == 0 {
			return string(b[:i])
		}
	}
	return string(b)
}
