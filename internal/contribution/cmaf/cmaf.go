// Package cmaf turns CMAF track files (ISO/IEC 23000-19), as they come in pieces, into the tracks and access units of a
// feed.
package cmaf

import (
	"encoding/binary"
	"fmt"

	"metaplasis/internal/core/bmff"
	"metaplasis/internal/core/coding"
	"metaplasis/internal/core/media"
)

// Sink takes what is found.
type Sink interface {
	Track(media.Track)
	Unit(id media.TrackID, stamp, composition int64, key bool, data []byte)
}

// Bounds of a box that is waited for, in bytes.
const (
	//limit:bytes of a box with media | each request | the request is refused: what was found and what was expected
	maxBox = 48 << 20
	//limit:bytes of any other box | each request | the request is refused
	maxHeader = 1 << 20
)

// Reader reads one track file.
type Reader struct {
	id       media.TrackID
	language string
	sink     Sink
	header   *bmff.HeaderInfo
	stream   *coding.Stream
	told     bool
	buf      []byte
	moof     []byte // waits for its media data
	Ended    bool   // the file said that it is over

	Units int64
}

// NewReader reads the file of a track.
func NewReader(id media.TrackID, language string, sink Sink) *Reader {
	return &Reader{id: id, language: language, sink: sink}
}

// Known reports whether the file's header has come.
func (r *Reader) Known() bool { return r.header != nil }

func broken(found, want string) error {
	return &media.FormatError{Format: "CMAF track file", Found: found, Want: want}
}

// Reset drops a box that is not whole: what comes next begins a box.
func (r *Reader) Reset() { r.buf, r.moof = nil, nil }

// Write takes bytes of the file, in pieces of any size.
func (r *Reader) Write(b []byte) error {
	r.buf = append(r.buf, b...)
	for len(r.buf) >= 8 {
		size, head := int64(binary.BigEndian.Uint32(r.buf)), int64(8)
		if size == 1 {
			if len(r.buf) < 16 {
				return nil
			}
			size, head = int64(binary.BigEndian.Uint64(r.buf[8:])), 16
		}
		kind := string(r.buf[4:8])
		if size < head || size > maxBox || kind != "mdat" && kind != "moof" && size > maxHeader {
			return broken(fmt.Sprintf("a box %.4q of %d bytes", kind, size), fmt.Sprintf("boxes of up to %d", maxBox))
		}
		if int64(len(r.buf)) < size {
			return nil
		}
		box := r.buf[:size:size]
		r.buf = r.buf[size:]
		if err := r.box(kind, box); err != nil {
			return err
		}
	}
	if len(r.buf) == 0 {
		r.buf = nil
	}
	return nil
}

func (r *Reader) box(kind string, b []byte) error {
	switch kind {
	case "moov":
		return r.open(b)
	case "moof":
		r.moof = append([]byte(nil), b...)
	case "mdat":
		if r.moof == nil {
			return nil
		}
		whole := append(r.moof, b...)
		r.moof = nil
		return r.fragment(whole)
	case "mfra": // the live ingest is over (DASH-IF live ingest, 6.2)
		r.Ended = true
	}
	return nil
}

// open reads the header of the file.
func (r *Reader) open(moov []byte) error {
	h, err := bmff.ReadHeader(moov)
	if err != nil {
		return err
	}
	codec := coding.ByEntry(h.SampleEntry, h.ObjectType)
	switch {
	case h.Tracks != 1:
		return broken(fmt.Sprintf("%d tracks", h.Tracks), "one in each file")
	case h.Protected:
		return &media.UnsupportedError{Format: "CMAF track file", What: "encrypted media", Do: "send it in the clear"}
	case codec == nil || codec.Bare():
		return &media.UnsupportedError{Format: "CMAF track file", What: fmt.Sprintf("the sample entry %q", h.SampleEntry), Do: "set the sender to H.264 with AAC"}
	}
	config := h.Config
	if codec.SelfDescribing {
		config = nil
	}
	if r.stream, err = coding.Open(codec, config); err != nil {
		return err
	}
	r.header, r.told = h, false
	return nil
}

func (r *Reader) fragment(b []byte) error {
	if r.header == nil {
		return nil // the header comes later
	}
	fragments, err := r.header.ReadFragments(b)
	if err != nil {
		return err
	}
	for i := range fragments {
		for _, u := range fragments[i].Units {
			unit, err := r.stream.Unit(u.Data)
			if err != nil {
				return err
			}
			if !r.told {
				t, known := r.stream.Track()
				if !known {
					continue
				}
				t.ID, t.Language, t.Clock = r.id, r.language, media.Clock{Scale: r.header.Timescale}
				r.told = true
				r.sink.Track(t)
			}
			r.Units++
			r.sink.Unit(r.id, u.DTS, u.PTS-u.DTS, unit.Key, unit.Data)
		}
	}
	return nil
}
