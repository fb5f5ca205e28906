package rtmp

import (
	"bytes"
	"encoding/binary"
	"errors"
	"math/rand"
	"testing"

	"metaplasis/internal/core/bits"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/internal/core/amf"
)

func random() *rand.Rand { return rand.New(rand.NewSource(1)) }

// readAll feeds bytes in pieces of a size and collects the messages.
func readAll(t testing.TB, r *ChunkReader, b []byte, piece int) []Message {
	var out []Message
	for len(b) > 0 {
		p := b[:min(piece, len(b))]
		b = b[len(p):]
		for len(p) > 0 {
			n, m, err := r.Read(p)
			require.NoError(t, err)
			p = p[n:]
			if m != nil {
				out = append(out, *m)
			}
		}
	}
	return out
}

func TestChunksOfEveryFormReadBack(t *testing.T) {
	payload := make([]byte, 1000)
	random().Read(payload)
	in := []Message{
		{Type: TypeVideo, Stream: 1, Timestamp: 100, Payload: payload},              // form 0, eight chunks
		{Type: TypeVideo, Stream: 1, Timestamp: 133, Payload: payload[:300]},        // form 1: another length
		{Type: TypeVideo, Stream: 1, Timestamp: 167, Payload: payload[:300]},        // form 2: another delta
		{Type: TypeVideo, Stream: 1, Timestamp: 201, Payload: payload[300:600]},     // form 3: the same delta
		{Type: TypeVideo, Stream: 1, Timestamp: 0x2000000, Payload: payload[:700]},  // extended delta
		{Type: TypeVideo, Stream: 2, Timestamp: 0xfffffff0, Payload: payload[:500]}, // form 0, extended time
		{Type: TypeVideo, Stream: 2, Timestamp: 16, Payload: payload[:200]},         // wrapped
	}
	w := newChunkWriter()
	var b []byte
	for i := range in {
		b = w.Append(b, 6, &in[i])
	}
	for _, piece := range []int{1, 7, 128, len(b)} {
		assert.Equal(t, in, readAll(t, newChunkReader(), b, piece), "in pieces of %d", piece)
	}
}

func TestChunkStreamsInterleave(t *testing.T) {
	// A video message of two chunks with an audio message between them, on streams of two and three
	// header bytes.
	video, audio := bytes.Repeat([]byte{1}, 200), []byte{2, 2}
	var b []byte
	b = append(b, 0, 10, 0, 0, 50, 0, 0, 200, TypeVideo, 1, 0, 0, 0) // csid 74
	b = append(b, video[:128]...)
	b = append(b, 1, 1, 1, 0, 0, 60, 0, 0, 2, TypeAudio, 1, 0, 0, 0) // csid 321
	b = append(b, audio...)
	b = append(b, 3<<6, 10)
	b = append(b, video[128:]...)
	got := readAll(t, newChunkReader(), b, 5)
	assert.Equal(t, []Message{
		{Type: TypeAudio, Stream: 1, Timestamp: 60, Payload: audio},
		{Type: TypeVideo, Stream: 1, Timestamp: 50, Payload: video},
	}, got)
}

func TestSenderThatOmitsExtendedTimestampsInContinuations(t *testing.T) {
	payload := bytes.Repeat([]byte{7}, 300)
	b := []byte{6, 0xff, 0xff, 0xff, 0, 1, 44, TypeVideo, 1, 0, 0, 0, 1, 0, 0, 0}
	b = append(b, payload[:128]...)
	b = append(append(b, 3<<6|6), payload[128:256]...)
	b = append(append(b, 3<<6|6), payload[256:]...)
	got := readAll(t, newChunkReader(), b, 64)
	require.Len(t, got, 1)
	assert.Equal(t, payload, got[0].Payload)
	assert.EqualValues(t, 0x01000000, got[0].Timestamp)
}

func TestChunkErrors(t *testing.T) {
	for name, b := range map[string][]byte{
		"a header of form 3 on the unused chunk stream 5": {3<<6 | 5},
		"a new message on chunk stream 6":                 append(append([]byte{6, 0, 0, 0, 0, 0, 200, 9, 1, 0, 0, 0}, make([]byte, 128)...), 6, 0, 0, 0, 0, 0, 1, 9, 1, 0, 0, 0),
	} {
		r := newChunkReader()
		var err error
		for p := b; len(p) > 0 && err == nil; {
			var n int
			n, _, err = r.Read(p)
			p = p[n:]
		}
		assert.ErrorContains(t, err, name)
	}
}

// pair runs a client against a server in memory until neither has anything to say.
func pair(t *testing.T, s *Server, c *Client, serve, hear func(Event) error) error {
	t.Helper()
	for {
		toServer, toClient := c.TakeOutput(), s.TakeOutput()
		if len(toServer)+len(toClient) == 0 {
			return nil
		}
		if err := s.Feed(toServer, serve); err != nil {
			return err
		}
		if err := c.Feed(toClient, hear); err != nil {
			return err
		}
	}
}

func TestPublishingSession(t *testing.T) {
	for _, digest := range []bool{false, true} {
		s := NewServer(random())
		c, err := NewClient(random(), "rtmp://host/in/start-line", "in/start-line", "secret", digest)
		require.NoError(t, err)
		var events []Event
		started := false
		serve := func(e Event) error {
			events = append(events, e)
			if e.Kind == EventPublish {
				s.Accept()
			}
			return nil
		}
		hear := func(e Event) error { started = started || e.Kind == EventStarted; return nil }
		require.NoError(t, pair(t, s, c, serve, hear))
		require.True(t, started, "digest %v", digest)
		c.Metadata(amf.ECMAArray{{Name: "framerate", Value: 30.0}})
		c.Media(TypeVideo, 0, []byte{0x17, 0, 0, 0, 0})
		c.Media(TypeVideo, 33, bytes.Repeat([]byte{0x27}, 100_000))
		c.Media(TypeAudio, 21, []byte{0xaf, 1})
		c.Close()
		require.NoError(t, pair(t, s, c, serve, hear))
		var kinds []EventKind
		for _, e := range events {
			kinds = append(kinds, e.Kind)
		}
		assert.Equal(t, []EventKind{EventPublish, EventMetadata, EventVideo, EventVideo, EventAudio, EventEnd}, kinds)
		assert.Equal(t, "in/start-line", events[0].App)
		assert.Equal(t, "secret", events[0].Name)
		assert.Len(t, events[3].Payload, 100_000)
		assert.EqualValues(t, 33, events[3].Timestamp)
	}
}

func TestRefusalReachesTheSender(t *testing.T) {
	s := NewServer(random())
	c, err := NewClient(random(), "rtmp://host/in", "in", "x", false)
	require.NoError(t, err)
	var got Event
	stop := errors.New("stop")
	err = pair(t, s, c,
		func(Event) error { s.Refuse(CodeDenied, "the key is wrong"); return nil },
		func(e Event) error { got = e; return stop })
	require.ErrorIs(t, err, stop)
	assert.Equal(t, EventRefused, got.Kind)
	assert.Equal(t, CodeDenied, got.Name)
	assert.Equal(t, "the key is wrong", got.Text)
}

func TestMediaBeforePublishIsAnError(t *testing.T) {
	s := NewServer(random())
	hello, err := makeC1(random(), false)
	require.NoError(t, err)
	nothing := func(Event) error { return nil }
	require.NoError(t, s.Feed(append(hello, make([]byte, handshakeSize)...), nothing))
	b := newChunkWriter().Append(nil, 6, &Message{Type: TypeVideo, Payload: []byte{1}})
	assert.ErrorContains(t, s.Feed(b, nothing), "expected publish first")
	assert.ErrorContains(t, NewServer(random()).Feed([]byte("GET / HTTP/1.1"), nothing), "version byte 71")
}

func TestAMF3CommandsAndAggregates(t *testing.T) {
	s := NewServer(random())
	hello, _ := makeC1(random(), false)
	var events []Event
	handle := func(e Event) error {
		events = append(events, e)
		if e.Kind == EventPublish {
			s.Accept()
		}
		return nil
	}
	require.NoError(t, s.Feed(append(hello, make([]byte, handshakeSize)...), handle))
	w := newChunkWriter()
	send := func(m Message) { require.NoError(t, s.Feed(w.Append(nil, 3, &m), handle)) }
	send(Message{Type: TypeCommand3, Payload: append([]byte{0}, amf.Append(nil, "connect", 1.0, amf.Object{{Name: "app", Value: "in"}})...)})
	send(Message{Type: TypeCommand3, Stream: 1, Payload: append([]byte{0}, amf.Append(nil, "publish", 2.0, nil, "start-line/k", "live")...)})
	tag := func(kind byte, stamp uint32, body ...byte) []byte {
		b := []byte{kind, 0, 0, byte(len(body)), byte(stamp >> 16), byte(stamp >> 8), byte(stamp), 0, 0, 0, 0}
		return binary.BigEndian.AppendUint32(append(b, body...), uint32(11+len(body)))
	}
	send(Message{Type: TypeAggregate, Stream: 1, Timestamp: 1000, Payload: append(tag(TypeVideo, 50, 1), tag(TypeAudio, 70, 2)...)})
	require.Len(t, events, 3)
	assert.EqualValues(t, 1000, events[1].Timestamp)
	assert.EqualValues(t, 1020, events[2].Timestamp)
}

func TestWindowIsAcknowledged(t *testing.T) {
	l := newLink()
	l.window = 1000
	l.count(499)
	assert.Empty(t, l.TakeOutput())
	l.count(1)
	got := readAll(t, newChunkReader(), l.TakeOutput(), 100)
	require.Len(t, got, 1)
	assert.EqualValues(t, TypeAck, got[0].Type)
	assert.EqualValues(t, 500, binary.BigEndian.Uint32(got[0].Payload))
}

func FuzzChunks(f *testing.F) {
	bits.CatchRunaways()
	w := newChunkWriter()
	b := w.Append(nil, 6, &Message{Type: TypeVideo, Timestamp: 5, Payload: make([]byte, 300)})
	f.Add(w.Append(b, 6, &Message{Type: TypeVideo, Timestamp: 0x1000005, Payload: make([]byte, 30)}))
	f.Fuzz(func(t *testing.T, b []byte) {
		r := newChunkReader()
		for len(b) > 0 {
			n, _, err := r.Read(b)
			if err != nil {
				return
			}
			if n == 0 {
				t.Fatal("no progress")
			}
			b = b[n:]
		}
	})
}

func FuzzServer(f *testing.F) {
	bits.CatchRunaways()
	c, _ := NewClient(random(), "rtmp://h/in", "in", "a/b", true)
	f.Add(append(c.TakeOutput(), make([]byte, handshakeSize)...))
	hello, _ := makeC1(random(), false)
	publish := newChunkWriter()
	b := append(hello, make([]byte, handshakeSize)...)
	b = publish.Append(b, 3, &Message{Type: TypeCommand, Payload: amf.Append(nil, "connect", 1.0, amf.Object{{Name: "app", Value: "in"}})})
	f.Add(publish.Append(b, 3, &Message{Type: TypeCommand, Stream: 1, Payload: amf.Append(nil, "publish", 2.0, nil, "a/b")}))
	f.Fuzz(func(_ *testing.T, b []byte) {
		s := NewServer(random())
		_ = s.Feed(b, func(e Event) error {
			if e.Kind == EventPublish {
				s.Accept()
			}
			return nil
		})
	})
}

func BenchmarkReadChunks(b *testing.B) {
	w := newChunkWriter()
	w.chunkSize = 4096
	m := &Message{Type: TypeVideo, Payload: make([]byte, 20_000)}
	wire := w.Append(nil, 6, m)
	b.SetBytes(int64(len(wire)))
	b.ReportAllocs()
	for b.Loop() {
		r := newChunkReader()
		_ = r.SetChunkSize(4096)
		for p := wire; len(p) > 0; {
			n, _, _ := r.Read(p)
			p = p[n:]
		}
	}
}

// Some senders leave the extended timestamp out of continuations, also when the first of them has
// fewer than the four bytes of that field.
func TestContinuationsWithoutExtendedTimestamps(t *testing.T) {
	for _, rest := range []int{1, 2, 3, 4, 5, 200} {
		var wire []byte
		var want []Message
		for i := range 4 {
			payload := bytes.Repeat([]byte{byte('a' + i)}, defaultChunkSize+rest)
			stamp := uint32(0x1000000 + 40*i)
			n := len(payload)
			wire = append(wire, 6, 0xff, 0xff, 0xff, byte(n>>16), byte(n>>8), byte(n), TypeVideo, 1, 0, 0, 0)
			wire = binary.BigEndian.AppendUint32(wire, stamp)
			wire = append(wire, payload[:defaultChunkSize]...)
			for p := payload[defaultChunkSize:]; len(p) > 0; {
				wire = append(wire, 0xc6)
				k := min(len(p), defaultChunkSize)
				wire, p = append(wire, p[:k]...), p[k:]
			}
			want = append(want, Message{Type: TypeVideo, Stream: 1, Timestamp: stamp, Payload: payload})
		}
		for _, size := range []int{1, 3, len(wire)} {
			r := newChunkReader()
			var got []Message
			for at := 0; at < len(wire); at += size {
				for p := wire[at:min(at+size, len(wire))]; len(p) > 0 || len(r.unread) > 0; {
					used, m, err := r.Read(p)
					require.NoError(t, err, "%d bytes in the continuation", rest)
					p = p[used:]
					if m == nil {
						break
					}
					got = append(got, *m)
				}
			}
			assert.Equal(t, want, got, "%d bytes in the continuation, read %d at a time", rest, size)
			assert.Zero(t, r.partial)
		}
	}
}

func TestUnfinishedMessagesAreBounded(t *testing.T) {
	r := newChunkReader()
	r.SetLimit(strangersPartial)
	var err error
	for csid := byte(3); csid < 60 && err == nil; csid++ { // a chunk each, of messages that never end
		wire := append([]byte{csid, 0, 0, 0, 0xff, 0xff, 0xff, TypeCommand, 0, 0, 0, 0}, make([]byte, defaultChunkSize)...)
		_, _, err = r.Read(wire)
		held := 0
		for _, s := range r.streams {
			held += cap(s.payload)
		}
		require.Equal(t, held, r.partial, "what is set aside counts, not what has come")
		require.LessOrEqual(t, held, strangersPartial)
	}
	assert.ErrorContains(t, err, "32768 at most")
}
