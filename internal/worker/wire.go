// Package worker runs a channel's transcoding graph in a child process, so that C code that
// touches bytes from outside never shares memory with the origin. The origin's end is a
// Supervisor: it feeds the child, watches it, and replaces it, repeating what the dead child had
// not finished. The child's end is Run.
//
// Both speak framed messages over Unix socket pairs, one for pictures and one for sound, so that neither
// waits behind the other:
//
//	kind(8) length(32) body
//
// where a unit's body is
//
//	track(32) dts(64) pts(64) duration(64) flags(8) data
//
// Configurations and boundaries go over both; all that the worker makes comes over the first.
package worker

import (
	"bufio"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"io"

	"metaplasis/internal/core/media"
	"metaplasis/internal/core/segment"
)

// Kinds of message. Lower case goes to the worker, upper case comes from it.
const (
	kindConfig   = 'c'
	kindBoundary = 'b'
	kindAccess   = 'u' // an access unit
	kindDrain    = 'd'

	kindTrack   = 'T'
	kindUnit    = 'U'
	kindPicture = 'P'
	kindStats   = 'S'
	kindFailed  = 'F'
	kindDrained = 'D'
)

// maxMessage bounds a message: the largest access unit that RTMP can carry, and some.
//
//limit:bytes of a message between the service and a worker | each worker | the worker is restarted
const maxMessage = 20 << 20

func writeMessage(w io.Writer, kind byte, parts ...[]byte) error {
	n := 0
	for _, p := range parts {
		n += len(p)
	}
	head := [5]byte{kind}
	binary.BigEndian.PutUint32(head[1:], uint32(n))
	if _, err := w.Write(head[:]); err != nil {
		return err
	}
	for _, p := range parts {
		if _, err := w.Write(p); err != nil {
			return err
		}
	}
	return nil
}

func readMessage(r *bufio.Reader) (kind byte, body []byte, err error) {
	var head [5]byte
	if _, err := io.ReadFull(r, head[:]); err != nil {
		return 0, nil, err
	}
	n := binary.BigEndian.Uint32(head[1:])
	if n > maxMessage {
		return 0, nil, &media.FormatError{Format: "worker message", Found: fmt.Sprintf("%d bytes", n),
			Want: fmt.Sprintf("%d at most", maxMessage)}
	}
	body = make([]byte, n)
	_, err = io.ReadFull(r, body)
	return head[0], body, err
}

// unitHeadSize is the length of everything in a unit's body before its data.
const unitHeadSize = 4 + 3*8 + 1

// unitHead is everything of a unit's body before its data.
func unitHead(id media.TrackID, u *media.AccessUnit) []byte {
	b := binary.BigEndian.AppendUint32(make([]byte, 0, unitHeadSize), uint32(id))
	b = binary.BigEndian.AppendUint64(b, uint64(u.DTS))
	b = binary.BigEndian.AppendUint64(b, uint64(u.PTS))
	b = binary.BigEndian.AppendUint64(b, uint64(u.Duration))
	if u.Key {
		return append(b, 1)
	}
	return append(b, 0)
}

func parseUnit(b []byte) (media.TrackID, media.AccessUnit, error) {
	if len(b) < unitHeadSize {
		return 0, media.AccessUnit{}, &media.FormatError{Format: "worker unit", Found: fmt.Sprintf("%d bytes", len(b)),
			Want: "a whole head"}
	}
	return media.TrackID(binary.BigEndian.Uint32(b)), media.AccessUnit{
		DTS: int64(binary.BigEndian.Uint64(b[4:])), PTS: int64(binary.BigEndian.Uint64(b[12:])),
		Duration: int64(binary.BigEndian.Uint64(b[20:])), Key: b[28] == 1, Data: b[unitHeadSize:],
	}, nil
}

func boundaryBody(b segment.Boundary) []byte {
	out := binary.BigEndian.AppendUint64(nil, b.MSN)
	return binary.BigEndian.AppendUint64(out, uint64(b.Start))
}

func parseBoundary(b []byte) (segment.Boundary, error) {
	if len(b) != 16 {
		return segment.Boundary{}, &media.FormatError{Format: "worker boundary", Found: fmt.Sprintf("%d bytes", len(b)),
			Want: "16"}
	}
	return segment.Boundary{MSN: binary.BigEndian.Uint64(b), Start: int64(binary.BigEndian.Uint64(b[8:]))}, nil
}

func mustJSON(v any) []byte {
	b, err := json.Marshal(v)
	if err != nil {
		panic(err) // our own plain structures
	}
	return b
}

type trackMessage struct {
	ID    media.TrackID `json:"id"`
	Track media.Track   `json:"track"`
}

type failedMessage struct {
	ID   media.TrackID `json:"id"` // of the rendition, 0 for the whole graph
	Text string        `json:"text"`
}
