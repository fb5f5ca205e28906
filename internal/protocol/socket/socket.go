// Package socket plays channels to browsers over one connection, with little delay and where there is no UDP: over
// WebSocket (RFC 6455) and over WebTransport. The framing is our own; docs/low-delay.md describes it.
//
// Texts are JSON, for control. Media is in binary messages, of
//
//	kind(8) track(8) flags(8) 0(8) number(32) CMAF
//
// whose kind is 1 of a CMAF header and 2 of a chunk of one picture or frame of sound (ISO/IEC 23000-19, 7.3.2.3), whose track
// is 1 of pictures and 2 of sound, and in whose flags bit 0 says that a decoder can start there. They are made once for all
// viewers.
package socket

import (
	"context"
	"encoding/binary"
	"net/http"

	"metaplasis/internal/core/bmff"
	"metaplasis/internal/core/hub"
	"metaplasis/internal/core/media"
	"metaplasis/internal/onward"
	"metaplasis/internal/onward/fan"
)

// Kinds of binary messages, and flags.
const (
	kindHeader = 1
	kindChunk  = 2
	flagRandom = 1
	headSize   = 8
)

// Tracks of a viewer.
const (
	trackVideo = 1
	trackSound = 2
)

// Line carries messages to one viewer, and what it says.
type Line interface {
	// Text sends a message, and Binary several. They fail when the viewer takes nothing for sendWithin.
	Text(ctx context.Context, b []byte) error
	Binary(ctx context.Context, list []message) error
	// Read returns the next text of the viewer.
	Read(ctx context.Context) ([]byte, error)
	// Close ends it, with a reason for people.
	Close(reason string)
	// Fail ends it since what the viewer sent is wrong.
	Fail(err error)
}

// ProtocolError says that what a viewer sent breaks the rules of its line.
type ProtocolError struct{ Err error }

func (e *ProtocolError) Error() string { return e.Err.Error() }

// Server plays channels.
type Server struct {
	Channels onward.Channels
	// Join lets a viewer in and counts it, or says why not.
	Join func(r *http.Request, channel, way string) (leave func(), err error)

	// Transport is the port of WebTransport, nil when it is off.
	Transport *WebTransport

	pool fan.Pool
}

// New makes a server.
func New(channels onward.Channels, join func(r *http.Request, channel, way string) (func(), error)) *Server {
	s := &Server{Channels: channels, Join: join}
	s.pool = fan.Pool{Channels: channels, Pack: pack}
	return s
}

func trackNumber(k media.Kind) byte {
	if k == media.Video {
		return trackVideo
	}
	return trackSound
}

// pack makes messages of a track's units.
func pack(t *media.Track) (*fan.Packer, error) {
	header := bmff.Header(t)
	p := &packer{t: t, number: trackNumber(t.Kind)}
	m := p.begin(kindHeader, 0, len(header))
	return &fan.Packer{Clock: media.VideoTimescale, Head: finish(append(m, header...)), Unit: p.unit}, nil
}

type packer struct {
	t        *media.Track
	number   byte
	sequence uint32
	last     int64 // decode time of the unit before
	lasts    int64 // how long a unit lasts as a rule, ticks of the track
}

// begin makes the begin of a message, with room for so many bytes behind.
func (p *packer) begin(kind, flags byte, n int) []byte {
	b := make([]byte, frameRoom+headSize, frameRoom+headSize+n)
	m := b[frameRoom:]
	m[0], m[1], m[2] = kind, p.number, flags
	binary.BigEndian.PutUint32(m[4:], p.sequence)
	return b
}

// unit makes a chunk of one unit. How long a picture lasts is known when the next one comes, which is too late: it is taken
// for as long as the one before.
func (p *packer) unit(u *hub.Unit) [][]byte {
	a := u.AccessUnit
	switch {
	case p.t.Kind == media.Audio:
		a.Duration = p.t.FrameSamples
	case p.t.FrameRate.Valid():
		a.Duration = p.t.FrameRate.Period(p.t.Timescale)
	default:
		if d := a.DTS - p.last; p.last > 0 && d > 0 && d < p.t.Timescale {
			p.lasts = d
		}
		a.Duration = max(p.lasts, p.t.Timescale/60)
	}
	p.last = a.DTS
	p.sequence++
	flags := byte(0)
	if u.Random {
		flags = flagRandom
	}
	units := []media.AccessUnit{a}
	o := bmff.ChunkOptions{Sequence: p.sequence}
	return [][]byte{finish(bmff.AppendChunk(p.begin(kindChunk, flags, bmff.ChunkSize(o, units)), p.t, o, units))}
}

// message is a binary message behind the head of a frame of WebSocket (RFC 6455, 5.2), which is the same for all viewers: it
// is written once too, and goes out with the message.
type message []byte

// frameRoom is what the longest head takes.
const frameRoom = 10

// finish writes the head of the frame before the message that it holds.
func finish(b []byte) message {
	const final, binaryFrame = 0x80, 2
	n := len(b) - frameRoom
	m := message(b)
	head := b[frameRoom-m.headSize():]
	head[0] = final | binaryFrame
	switch m.headSize() {
	case 2:
		head[1] = byte(n)
	case 4:
		head[1] = 126
		binary.BigEndian.PutUint16(head[2:], uint16(n))
	default:
		head[1] = 127
		binary.BigEndian.PutUint64(head[2:], uint64(n))
	}
	return m
}

func (m message) headSize() int {
	switch n := len(m) - frameRoom; {
	case n < 126:
		return 2
	case n < 1<<16:
		return 4
	}
	return frameRoom
}

// frame is the message as WebSocket carries it.
func (m message) frame() []byte { return m[frameRoom-m.headSize():] }

// content is the message alone.
func (m message) content() []byte { return m[frameRoom:] }

// Wait waits until all that was made for viewers is over.
func (s *Server) Wait() { s.pool.Wait() }
