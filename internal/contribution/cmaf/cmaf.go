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
	tracks   []*fileTrack // none before the header
	buf      []byte
	moof     []byte // waits for its media data
	Ended    bool   // the file said that it is over

	Units int64
}

// fileTrack is one of the file's: CMAF has one, other fragmented files may have more.
type fileTrack struct {
	id     media.TrackID
	header *bmff.HeaderInfo
	stream *coding.Stream
	told   bool
}

// Further tracks of a file have the id of the first with their place above these bits.
const trackBits = 28

// maxFileTracks is how many tracks of a file are used.
//
//limit:tracks of one file that are used | each fragmented file | further ones are left out
const maxFileTracks = 8

// NewReader reads a file whose first track gets an id; that of further ones has higher bits.
func NewReader(id media.TrackID, language string, sink Sink) *Reader {
	return &Reader{id: id, language: language, sink: sink}
}

// Known reports whether the file's header has come.
func (r *Reader) Known() bool { return r.tracks != nil }

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

// open reads the header of the file. A file of several tracks needs one that can be used.
func (r *Reader) open(moov []byte) error {
	headers, err := bmff.ReadHeaders(moov)
	if err != nil {
		return err
	}
	var tracks []*fileTrack
	var wrong error
	for _, h := range headers {
		t, err := open(h)
		if err != nil {
			wrong = err
			continue
		}
		if len(tracks) < maxFileTracks {
			t.id = r.id | media.TrackID(len(tracks))<<trackBits
			tracks = append(tracks, t)
		}
	}
	if len(tracks) == 0 {
		return wrong
	}
	r.tracks = tracks
	return nil
}

func open(h *bmff.HeaderInfo) (*fileTrack, error) {
	codec := coding.ByEntry(h.SampleEntry, h.ObjectType)
	switch {
	case h.Timescale == 0 || h.SampleEntry == "":
		return nil, broken("a track without a timescale or a sample entry", "both")
	case h.Protected:
		return nil, &media.UnsupportedError{Format: "CMAF track file", What: "encrypted media", Do: "send it in the clear"}
	case codec == nil || codec.Bare():
		return nil, &media.UnsupportedError{Format: "CMAF track file", What: fmt.Sprintf("the sample entry %q", h.SampleEntry), Do: "set the sender to H.264 with AAC"}
	}
	config := h.Config
	if codec.SelfDescribing {
		config = nil
	}
	stream, err := coding.Open(codec, config)
	if err != nil {
		return nil, err
	}
	return &fileTrack{header: h, stream: stream}, nil
}

func (r *Reader) fragment(b []byte) error {
	for _, t := range r.tracks { // none: the header comes later
		if err := r.fragmentOf(t, b); err != nil {
			return err
		}
	}
	return nil
}

func (r *Reader) fragmentOf(t *fileTrack, b []byte) error {
	fragments, err := t.header.ReadFragments(b)
	if err != nil {
		return err
	}
	for i := range fragments {
		for _, u := range fragments[i].Units {
			unit, err := t.stream.Unit(u.Data)
			if err != nil {
				return err
			}
			if !t.told {
				m, known := t.stream.Track()
				if !known {
					continue
				}
				m.ID, m.Language, m.Clock = t.id, r.language, media.Clock{Scale: t.header.Timescale}
				t.told = true
				r.sink.Track(m)
			}
			r.Units++
			r.sink.Unit(t.id, u.DTS, u.PTS-u.DTS, unit.Key, unit.Data)
		}
	}
	return nil
}
