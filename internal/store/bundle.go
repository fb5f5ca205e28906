package store

import (
	"bufio"
	"bytes"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"hash/crc32"
	"io"
	"time"

	"metaplasis/internal/core/media"
	"metaplasis/internal/core/segment"
)

// indexFormat names the format of an index.
const indexFormat = "metaplasis-bundle-1"

// maxHead bounds the first line of an index, in bytes.
//
//limit:bytes of the first line of an index | each bundle | the bundle is damaged
const maxHead = 1 << 20

// Head is the first line of a bundle's index: what is the same for all of its segments.
type Head struct {
	Format    string      `json:"format"`
	Channel   string      `json:"channel"`
	Rendition string      `json:"rendition"`
	Sound     string      `json:"sound,omitempty"` // the rendition of sound that goes with pictures
	Epoch     time.Time   `json:"epoch"`           // wall clock at media time 0
	Prefix    string      `json:"prefix"`          // of the segments' names
	MSN       uint64      `json:"msn"`             // number of the first segment
	Ordinal   uint64      `json:"ordinal"`         // where that stands among all that the channel ever kept
	Header    string      `json:"header"`          // name of the CMAF header
	Bytes     []byte      `json:"headerBytes"`
	Track     media.Track `json:"track"`
}

// Record tells of one segment. Times are ticks of media.VideoTimescale, or where said so of the track.
type Record struct {
	MSN           uint64
	Start         int64
	Duration      int64
	FirstPTS      int64 // track ticks
	TrackDuration int64 // track ticks
	Offset        int64 // in the file
	Size          uint32
	KeySize       uint32
	Units         uint32
	Breaks        uint32 // discontinuities among all that the channel ever kept, up to this one's beginning
	Sum           uint32 // CRC-32C of the bytes
	Discontinuity bool
}

// recordSize is the length of a record, in bytes.
const recordSize = 80

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

// append writes the record.
func (r *Record) append(b []byte) []byte {
	at := len(b)
	e := binary.BigEndian
	for _, v := range []uint64{r.MSN, uint64(r.Start), uint64(r.Duration), uint64(r.FirstPTS), uint64(r.TrackDuration), uint64(r.Offset)} {
		b = e.AppendUint64(b, v)
	}
	flags := uint32(0)
	if r.Discontinuity {
		flags = 1
	}
	for _, v := range []uint32{r.Size, r.KeySize, r.Units, r.Breaks, r.Sum, flags, 0} {
		b = e.AppendUint32(b, v)
	}
	return e.AppendUint32(b, crc32.Checksum(b[at:], castagnoli))
}

// readRecord reads a record of recordSize bytes, and reports whether it is whole.
func readRecord(b []byte) (r Record, ok bool) {
	e := binary.BigEndian
	if e.Uint32(b[recordSize-4:]) != crc32.Checksum(b[:recordSize-4], castagnoli) {
		return r, false
	}
	r = Record{
		MSN: e.Uint64(b), Start: int64(e.Uint64(b[8:])), Duration: int64(e.Uint64(b[16:])), FirstPTS: int64(e.Uint64(b[24:])),
		TrackDuration: int64(e.Uint64(b[32:])), Offset: int64(e.Uint64(b[40:])), Size: e.Uint32(b[48:]), KeySize: e.Uint32(b[52:]),
		Units: e.Uint32(b[56:]), Breaks: e.Uint32(b[60:]), Sum: e.Uint32(b[64:]), Discontinuity: e.Uint32(b[68:])&1 != 0,
	}
	return r, r.Offset >= 0 && r.Duration >= 0
}

func malformed(found, want string) error {
	return &media.FormatError{Format: "index of a bundle", Found: found, Want: want}
}

// readIndex reads an index. Records behind the first that is not whole, or that does not follow the one before it,
// are left out; whole is the length of what was read. A head that cannot be read is an error.
func readIndex(in io.Reader) (h Head, list []Record, whole int64, err error) {
	r := bufio.NewReaderSize(in, 64<<10)
	var line []byte
	for {
		piece, err := r.ReadSlice('\n')
		line = append(line, piece...)
		if err == nil {
			break
		}
		if err != bufio.ErrBufferFull || len(line) > maxHead {
			return h, nil, 0, malformed("no line to begin with", fmt.Sprintf("one of %d bytes at most", maxHead))
		}
	}
	if err := json.Unmarshal(line, &h); err != nil {
		return h, nil, 0, malformed(err.Error(), "a line of JSON")
	}
	if h.Format != indexFormat {
		return h, nil, 0, malformed(fmt.Sprintf("the format %.40q", h.Format), indexFormat)
	}
	whole = int64(len(line))
	var b [recordSize]byte
	end := int64(len(h.Bytes))
	for {
		if _, err := io.ReadFull(r, b[:]); err != nil {
			return h, list, whole, nil
		}
		rec, ok := readRecord(b[:])
		if !ok || rec.Offset < end || rec.MSN < h.MSN || len(list) > 0 && rec.MSN <= list[len(list)-1].MSN {
			return h, list, whole, nil
		}
		end = rec.Offset + int64(rec.Size)
		list = append(list, rec)
		whole += recordSize
	}
}

// marshal writes the head's line.
func (h *Head) marshal() ([]byte, error) {
	h.Format = indexFormat
	b, err := json.Marshal(h)
	if err != nil {
		return nil, err
	}
	return append(b, '\n'), nil
}

// Bundle is what is remembered of a bundle without its records.
type Bundle struct {
	Channel   string
	Rendition string
	Path      string // without its ending
	Sound     string // the rendition of sound that goes with pictures
	Prefix    string
	Header    string    // name of the CMAF header
	Begin     time.Time // of the first segment
	End       time.Time // behind the last one
	FirstMSN  uint64
	LastMSN   uint64
	Ordinal   uint64 // of the first segment
	Breaks    uint32 // up to the last segment's beginning
	Bytes     int64  // of the media and the index
	Removing  bool   // its files are to go

	from provenance
	lost bool // its files are not in the place, or not whole
}

// Endings of a bundle's two files.
const (
	mediaEnding = ".mp4"
	indexEnding = ".index"
)

// of fills in what the records tell.
func (b *Bundle) of(h *Head, list []Record, indexSize int64) {
	b.Channel, b.Rendition, b.Sound, b.Prefix, b.Header = h.Channel, h.Rendition, h.Sound, h.Prefix, h.Header
	first, last := &list[0], &list[len(list)-1]
	b.FirstMSN, b.LastMSN, b.Breaks = first.MSN, last.MSN, last.Breaks
	b.Ordinal = h.Ordinal + first.MSN - h.MSN
	b.Begin, b.End = media.WallClock(h.Epoch, first.Start).UTC(), media.WallClock(h.Epoch, last.Start+last.Duration).UTC()
	b.Bytes = last.Offset + int64(last.Size) + indexSize
}

// kept is a segment that lies in a bundle, as a blob.
type kept struct {
	place  Place
	name   string
	offset int64
	size   int64
}

// Size implements segment.Blob.
func (k kept) Size() int64 { return k.size }

// Pieces implements segment.Blob.
func (k kept) Pieces() [][]byte { return nil }

// Open implements segment.Blob.
func (k kept) Open() (io.ReadSeekCloser, error) { return k.place.Open(k.name, k.offset, k.size) }

// segmentOf makes the segment of a record.
func segmentOf(place Place, path string, h *Head, header *segment.Header, r *Record) *segment.Segment {
	arrived := media.WallClock(h.Epoch, r.Start+r.Duration)
	return &segment.Segment{
		MSN: r.MSN, Prefix: h.Prefix, Discontinuity: r.Discontinuity, Start: r.Start, Duration: r.Duration, Header: header,
		ETag: segment.Tag(r.MSN, header), Size: int64(r.Size), Blob: kept{place, path + mediaEnding, r.Offset, int64(r.Size)},
		Units: int(r.Units), Begun: arrived, Arrived: arrived, Made: &segment.Made{}, FirstPTS: r.FirstPTS,
		TrackDuration: r.TrackDuration, KeySize: int(r.KeySize),
	}
}

// contents are the records of a bundle as they lie in memory.
type contents struct {
	path   string
	head   Head
	header *segment.Header
	list   []Record
}

// size is about how many bytes they take in memory.
func (c *contents) size() int64 {
	return int64(len(c.list))*recordSize + int64(len(c.head.Bytes)) + 1024
}

// read reads a bundle's index.
func read(place Place, path string) (*contents, int64, error) {
	size, err := place.Size(path + indexEnding)
	if err != nil {
		return nil, 0, err
	}
	in, err := place.Open(path+indexEnding, 0, size)
	if err != nil {
		return nil, 0, err
	}
	defer func() { _ = in.Close() }()
	h, list, whole, err := readIndex(in)
	if err != nil {
		return nil, 0, err
	}
	return &contents{path: path, head: h, header: &segment.Header{Name: h.Header, Bytes: h.Bytes, Track: h.Track}, list: list}, whole, nil
}

// check reads the media behind records and returns how many of the segments are whole.
func check(place Place, path string, c *contents) (int, error) {
	size, err := place.Size(path + mediaEnding)
	if err != nil {
		return 0, err
	}
	in, err := place.Open(path+mediaEnding, 0, size)
	if err != nil {
		return 0, err
	}
	defer func() { _ = in.Close() }()
	header := make([]byte, len(c.head.Bytes))
	if _, err := io.ReadFull(in, header); err != nil || !bytes.Equal(header, c.head.Bytes) {
		return 0, nil
	}
	at, sum := int64(len(header)), crc32.New(castagnoli)
	for i := range c.list {
		r := &c.list[i]
		if r.Offset != at {
			if _, err := in.Seek(r.Offset, io.SeekStart); err != nil {
				return i, nil
			}
		}
		sum.Reset()
		if n, err := io.CopyN(sum, in, int64(r.Size)); err != nil || n < int64(r.Size) || sum.Sum32() != r.Sum {
			return i, nil
		}
		at = r.Offset + int64(r.Size)
	}
	return len(c.list), nil
}
