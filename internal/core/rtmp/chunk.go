package rtmp

import (
	"encoding/binary"
	"fmt"

	"metaplasis/internal/core/media"
)

// Message type ids (sections 5.4 and 7.1).
const (
	TypeSetChunkSize  = 1
	TypeAbort         = 2
	TypeAck           = 3
	TypeUserControl   = 4
	TypeWindowAckSize = 5
	TypePeerBandwidth = 6
	TypeAudio         = 8
	TypeVideo         = 9
	TypeData3         = 15
	TypeCommand3      = 17
	TypeData          = 18
	TypeCommand       = 20
	TypeAggregate     = 22
)

// Bounds of what a peer may ask us to hold.
const (
	defaultChunkSize = 128
	//limit:bytes of a chunk | each connection | the connection is closed
	maxChunkSize = 1 << 24
	//limit:chunk streams | each connection | the connection is closed
	maxChunkStreams = 64
	//limit:bytes of messages that are not complete | each connection | the connection is closed
	maxPartial = 20 << 20 // bytes of unfinished messages on one connection: the longest message and some
	// strangersPartial is the same for who may not publish yet: room for the command that asks.
	strangersPartial = 32 << 10
	firstPayload     = 4 << 10 // bytes set aside for a message before more of it comes
)

// Message is one whole RTMP message. Timestamp is absolute, in milliseconds, and wraps.
type Message struct {
	Type      uint8
	Stream    uint32
	Timestamp uint32
	Payload   []byte
}

// ChunkReader puts messages together from the bytes of a connection.
//
//	basic header: fmt(2) csid(6), +1 byte for csid 0, +2 bytes for csid 1
//	fmt 0: timestamp(24) length(24) type(8) stream(32, little-endian)
//	fmt 1: delta(24) length(24) type(8)
//	fmt 2: delta(24)
//	fmt 3: nothing
//	then timestamp or delta (32) when the 24 bits are all ones
type ChunkReader struct {
	chunkSize int
	streams   map[uint32]*chunkStream
	header    []byte // a header of which some bytes are still to come
	current   *chunkStream
	chunkLeft int    // bytes of the current chunk still to come
	partial   int    // bytes held for unfinished messages
	limit     int    // of partial
	unread    []byte // bytes that were taken for a header and are not its own; they come before all others

	// Some senders leave the extended timestamp out of continuations. The first continuation whose
	// field does not repeat the message's time gives such a sender away.
	bareContinuation bool
}

type chunkStream struct {
	timestamp, delta uint32
	length           int
	kind             uint8
	stream           uint32
	extended         bool
	seen             bool
	payload          []byte
	started          bool
}

// newChunkReader starts with the chunk size of section 5.4.1.
func newChunkReader() *ChunkReader {
	return &ChunkReader{chunkSize: defaultChunkSize, streams: map[uint32]*chunkStream{}, limit: maxPartial}
}

// SetLimit bounds what is held for unfinished messages, in bytes.
func (r *ChunkReader) SetLimit(n int) { r.limit = n }

// SetChunkSize changes the peer's chunk size.
func (r *ChunkReader) SetChunkSize(n uint32) error {
	n &= 1<<31 - 1
	if n < 1 {
		return &media.FormatError{Format: "RTMP chunk size", Found: "0", Want: "at least 1"}
	}
	r.chunkSize = min(int(n), maxChunkSize)
	return nil
}

// Abort drops the unfinished message of a chunk stream (section 5.4.2).
func (r *ChunkReader) Abort(csid uint32) {
	if s := r.streams[csid]; s != nil && s.started {
		r.partial -= cap(s.payload)
		s.payload, s.started = nil, false
		if r.current == s {
			r.current, r.chunkLeft = nil, 0
		}
	}
}

// Read consumes bytes of p until a message is whole or p is used up, and returns how many it took.
// The payload is freshly made and belongs to the caller.
func (r *ChunkReader) Read(p []byte) (used int, msg *Message, err error) {
	// take returns up to n bytes of what is next.
	take := func(n int) (out []byte) {
		if len(r.unread) > 0 {
			n = min(n, len(r.unread))
			out, r.unread = r.unread[:n], r.unread[n:]
			return out
		}
		n = min(n, len(p)-used)
		out = p[used : used+n]
		used += n
		return out
	}
	for used < len(p) || len(r.unread) > 0 {
		if r.current == nil {
			r.header = append(r.header, take(1)...)
			if err := r.tryHeader(); err != nil {
				return used, nil, err
			}
			if r.current == nil || r.chunkLeft > 0 {
				continue
			}
		}
		s := r.current
		if err := r.grow(s, min(r.chunkLeft, len(p)-used+len(r.unread))); err != nil {
			return used, nil, err
		}
		piece := take(r.chunkLeft)
		s.payload = append(s.payload, piece...)
		if r.chunkLeft -= len(piece); r.chunkLeft > 0 {
			continue
		}
		r.current = nil
		if len(s.payload) == s.length {
			m := &Message{Type: s.kind, Stream: s.stream, Timestamp: s.timestamp, Payload: s.payload}
			r.partial -= cap(s.payload)
			s.payload, s.started = nil, false
			return used, m, nil
		}
	}
	return used, nil, nil
}

// grow makes room for n more bytes of a message, within the limit.
func (r *ChunkReader) grow(s *chunkStream, n int) error {
	before := cap(s.payload)
	need := len(s.payload) + n
	if need <= before && before > 0 {
		return nil
	}
	room := min(s.length, max(need, 2*before, firstPayload))
	if r.partial+room-before > r.limit {
		room = need // nothing beside what is there
	}
	if r.partial+room-before > r.limit {
		return &media.FormatError{Format: "RTMP chunk stream", Found: fmt.Sprintf("%d bytes of unfinished messages",
			r.partial+n), Want: fmt.Sprintf("%d at most", r.limit)}
	}
	grown := make([]byte, len(s.payload), room)
	copy(grown, s.payload)
	s.payload = grown
	r.partial += cap(grown) - before
	return nil
}

// tryHeader parses the collected header bytes; while too few are there it does nothing.
//
//large:follows the chunk header of the standard, field by field
func (r *ChunkReader) tryHeader() error {
	h := r.header
	format, csid, at := h[0]>>6, uint32(h[0]&63), 1
	switch csid {
	case 0:
		if len(h) < 2 {
			return nil
		}
		csid, at = 64+uint32(h[1]), 2
	case 1:
		if len(h) < 3 {
			return nil
		}
		csid, at = 64+uint32(h[1])+uint32(h[2])<<8, 3
	}
	need := at + [...]int{11, 7, 3, 0}[format]
	if len(h) < need {
		return nil
	}
	s := r.streams[csid]
	if s == nil || !s.seen && format == 3 {
		if format == 3 || format == 2 {
			return &media.FormatError{Format: "RTMP chunk",
				Found: fmt.Sprintf("a header of form %d on the unused chunk stream %d", format, csid), Want: "form 0 first"}
		}
		if len(r.streams) >= maxChunkStreams {
			return &media.FormatError{Format: "RTMP chunk", Found: "one chunk stream more",
				Want: fmt.Sprintf("%d at most", maxChunkStreams)}
		}
		s = &chunkStream{}
		r.streams[csid] = s
	}
	fields := h[at:]
	stamp := s.delta
	extended := s.extended
	if format < 3 {
		stamp = uint24(fields)
		extended = stamp == 0xffffff
	}
	var misread []byte
	if continued := format == 3 && s.started; extended && !(continued && r.bareContinuation) {
		if len(h) < need+4 {
			return nil
		}
		stamp = binary.BigEndian.Uint32(h[need:])
		if continued && stamp != s.delta {
			r.bareContinuation = true
			own := min(r.chunkSize, s.length-len(s.payload), 4)
			misread = h[need : need+own]
			r.unread = append(r.unread, h[need+own:need+4]...) // of the next chunk
		}
	}
	if s.started && format != 3 {
		return &media.FormatError{Format: "RTMP chunk", Found: fmt.Sprintf("a new message on chunk stream %d", csid),
			Want: fmt.Sprintf("the other %d bytes of the one before", s.length-len(s.payload))}
	}
	if format < 2 {
		s.length = int(uint24(fields[3:]))
		s.kind = fields[6]
	}
	if format == 0 {
		s.stream = binary.LittleEndian.Uint32(fields[7:])
	}
	if !s.started {
		if format == 0 {
			s.timestamp = stamp
		} else {
			s.timestamp += stamp
		}
		s.delta, s.extended = stamp, extended
	}
	s.seen, s.started = true, true
	r.current, r.header = s, r.header[:0]
	r.chunkLeft = min(r.chunkSize, s.length-len(s.payload)) - len(misread)
	if len(misread) > 0 {
		if err := r.grow(s, len(misread)); err != nil {
			return err
		}
		s.payload = append(s.payload, misread...)
	}
	return nil
}

func uint24(b []byte) uint32 { return uint32(b[0])<<16 | uint32(b[1])<<8 | uint32(b[2]) }

// ChunkWriter cuts messages into chunks. It compresses headers where the standard lets it:
// form 1 for a new length, form 2 for the same length, form 3 when the delta repeats too.
type ChunkWriter struct {
	chunkSize int
	last      map[uint32]*chunkStream
}

// newChunkWriter starts with the chunk size of section 5.4.1.
func newChunkWriter() *ChunkWriter {
	return &ChunkWriter{chunkSize: defaultChunkSize, last: map[uint32]*chunkStream{}}
}

// Append writes m on a chunk stream (2 to 63) behind dst.
func (w *ChunkWriter) Append(dst []byte, csid uint32, m *Message) []byte {
	prev := w.last[csid]
	format, stamp := byte(0), m.Timestamp
	if prev != nil && prev.stream == m.Stream && m.Timestamp-prev.timestamp < 1<<31 {
		format, stamp = 1, m.Timestamp-prev.timestamp
		if prev.length == len(m.Payload) && prev.kind == m.Type {
			format = 2
			if prev.delta == stamp {
				format = 3
			}
		}
	}
	extended := stamp >= 0xffffff
	short := min(stamp, 0xffffff)
	dst = append(dst, format<<6|byte(csid))
	if format < 3 {
		dst = append(dst, byte(short>>16), byte(short>>8), byte(short))
	}
	if n := len(m.Payload); format < 2 {
		dst = append(dst, byte(n>>16), byte(n>>8), byte(n), m.Type)
	}
	if format == 0 {
		dst = binary.LittleEndian.AppendUint32(dst, m.Stream)
	}
	w.last[csid] = &chunkStream{timestamp: m.Timestamp, delta: stamp, length: len(m.Payload), kind: m.Type,
		stream: m.Stream}
	for p := m.Payload; ; {
		if extended {
			dst = binary.BigEndian.AppendUint32(dst, stamp)
		}
		n := min(len(p), w.chunkSize)
		dst = append(dst, p[:n]...)
		if p = p[n:]; len(p) == 0 {
			return dst
		}
		dst = append(dst, 3<<6|byte(csid))
	}
}
