// Package worker runs a channel's transcoding graph in a child process, so that C code that
// touches bytes from outside never shares memory with the origin. The origin's end is a
// Supervisor: it feeds the child, watches it, and replaces it, repeating what the dead child had
// not finished. The child's end is Run.
//
// Both speak framed messages over a Unix socket pair:
//
//	kind(8) length(32) body
//
// where a unit's body is
//
//	name length(8) name dts(64) pts(64) duration(64) flags(8) data
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
	kindVideo    = 'v'
	kindAudio    = 'a'
	kindDrain    = 'd'

	kindTrack   = 'T'
	kindUnit    = 'U'
	kindPicture = 'P'
	kindStats   = 'S'
	kindFailed  = 'F'
	kindDrained = 'D'
)

// maxMessage bounds a message: the largest access unit that RTMP can carry, and some.
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

// unitHead is everything of a unit's body before its data.
func unitHead(name string, u *media.AccessUnit) []byte {
	b := append([]byte{byte(len(name))}, name...)
	b = binary.BigEndian.AppendUint64(b, uint64(u.DTS))
	b = binary.BigEndian.AppendUint64(b, uint64(u.PTS))
	b = binary.BigEndian.AppendUint64(b, uint64(u.Duration))
	if u.Key {
		return append(b, 1)
	}
	return append(b, 0)
}

func parseUnit(b []byte) (string, media.AccessUnit, error) {
	if len(b) < 1 || len(b) < 1+int(b[0])+25 {
		return "", media.AccessUnit{}, &media.FormatError{Format: "worker unit", Found: fmt.Sprintf("%d bytes", len(b)),
			Want: "a whole head"}
	}
	n := 1 + int(b[0])
	name, b := string(b[1:n]), b[n:]
	return name, media.AccessUnit{
		DTS: int64(binary.BigEndian.Uint64(b)), PTS: int64(binary.BigEndian.Uint64(b[8:])),
		Duration: int64(binary.BigEndian.Uint64(b[16:])), Key: b[24] == 1, Data: b[25:],
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
	Name  string      `json:"name"`
	Track media.Track `json:"track"`
}

type failedMessage struct {
	Name string `json:"name"` // of the rendition, "" for the whole graph
	Text string `json:"text"`
}
