package rtmp

import (
	"encoding/binary"
	"fmt"
	"io"

	"metaplasis/internal/core/amf"
	"metaplasis/internal/core/coding"
	"metaplasis/internal/core/media"
)

const (
	ourChunkSize = 64 << 10
	ourWindow    = 5_000_000

	csidControl = 2
	csidCommand = 3
	csidAudio   = 4
	csidVideo   = 6
)

// link is what both ends of a connection share: chunk streams, acknowledgement, output.
type link struct {
	reader   *ChunkReader
	writer   *ChunkWriter
	out      []byte
	hello    []byte // handshake bytes collected so far
	received uint32 // bytes, wraps
	acked    uint32
	window   uint32 // the peer wants an acknowledgement after this many bytes
}

func newLink() link {
	return link{reader: newChunkReader(), writer: newChunkWriter(), window: ourWindow}
}

// TakeOutput returns the bytes to send and forgets them.
func (l *link) TakeOutput() []byte {
	out := l.out
	l.out = nil
	return out
}

func (l *link) send(csid uint32, m *Message) { l.out = l.writer.Append(l.out, csid, m) }

func (l *link) control(kind uint8, payload ...byte) {
	l.send(csidControl, &Message{Type: kind, Payload: payload})
}

func (l *link) control32(kind uint8, v uint32, more ...byte) {
	l.control(kind, append(binary.BigEndian.AppendUint32(nil, v), more...)...)
}

func (l *link) command(stream uint32, values ...any) {
	l.send(csidCommand, &Message{Type: TypeCommand, Stream: stream, Payload: amf.Append(nil, values...)})
}

func (l *link) setChunkSize() {
	l.control32(TypeSetChunkSize, ourChunkSize)
	l.writer.chunkSize = ourChunkSize
}

// count accounts for n received bytes and acknowledges when the window is full (section 5.4.3).
func (l *link) count(n int) {
	l.received += uint32(n)
	if l.received-l.acked >= l.window/2 {
		l.acked = l.received
		l.control32(TypeAck, l.received)
	}
}

// protocolControl handles the messages of section 5.4 and the pings of 7.1.7.
func (l *link) protocolControl(m *Message) (handled bool, err error) {
	switch m.Type {
	case TypeSetChunkSize, TypeAbort, TypeAck, TypeWindowAckSize, TypePeerBandwidth:
		if len(m.Payload) < 4 {
			return true, &media.FormatError{Format: "RTMP control message",
				Found: fmt.Sprintf("%d bytes in type %d", len(m.Payload), m.Type), Want: "4 or more"}
		}
	case TypeUserControl:
		if len(m.Payload) >= 6 && binary.BigEndian.Uint16(m.Payload) == 6 { // ping
			l.control(TypeUserControl, append([]byte{0, 7}, m.Payload[2:6]...)...)
		}
		return true, nil
	default:
		return false, nil
	}
	v := binary.BigEndian.Uint32(m.Payload)
	switch m.Type {
	case TypeSetChunkSize:
		err = l.reader.SetChunkSize(v)
	case TypeAbort:
		l.reader.Abort(v)
	case TypeWindowAckSize:
		l.window = max(v, 4096)
	case TypePeerBandwidth: // answered by telling our window (section 5.4.5)
		l.control32(TypeWindowAckSize, ourWindow)
	}
	return true, err
}

// EventKind says what an Event reports.
type EventKind uint8

// The events of a publishing session.
const (
	EventPublish   EventKind = iota + 1 // a sender asks to publish: answer with Accept or Refuse
	EventVideo                          // Payload is the body of an FLV video tag
	EventAudio                          // Payload is the body of an FLV audio tag
	EventMetadata                       // Metadata is the sender's onMetaData
	EventData                           // Metadata is that of another data message, called Name
	EventPlay                           // a player asks for a stream: answer with AcceptPlay or RefusePlay
	EventEnd                            // the sender has ended its stream
	EventStarted                        // client only: the server lets us publish
	EventRefused                        // client only: Text says why not
	EventReconnect                      // client only: the server asks to connect again, to Name where that is not empty; Text says why
)

// Event is one thing that a peer said.
type Event struct {
	Kind      EventKind
	App, Name string // EventPublish and EventPlay: the application and the stream name, unparsed
	Timestamp uint32 // milliseconds, wraps
	Payload   []byte
	Metadata  amf.Object
	Text      string
}

// Server is the receiving end of one connection.
type Server struct {
	link
	random    io.Reader
	stage     int // 0: C0 and C1, 1: C2, 2: chunks
	app       string
	publishOn uint32
	playOn    uint32
	streams   bool // a stream was made
	accepted  bool
	refused   bool
	abilities int // capsEx of the sender
}

// NewServer makes a receiving end. It takes its handshake's random bytes from random.
func NewServer(random io.Reader) *Server {
	s := &Server{link: newLink(), random: random}
	s.reader.SetLimit(strangersPartial)
	return s
}

// Progress says how far a connection has come: 0 nothing, 1 the handshake, 2 a connect command,
// 3 a stream, 4 it may publish.
func (s *Server) Progress() int {
	switch {
	case s.accepted:
		return 4
	case s.streams:
		return 3
	case s.app != "":
		return 2
	case s.stage == 2:
		return 1
	}
	return 0
}

// Feed takes bytes from the peer and calls handle for each event. An error ends the connection.
// Answers collect until TakeOutput.
func (s *Server) Feed(p []byte, handle func(Event) error) error {
	s.count0(len(p))
	for s.stage < 2 && len(p) > 0 {
		want := handshakeSize
		if s.stage == 0 {
			want++
		}
		n := min(want-len(s.hello), len(p))
		s.hello = append(s.hello, p[:n]...)
		p = p[n:]
		if s.stage == 0 && s.hello[0] != version {
			return &media.FormatError{Format: "RTMP handshake", Found: fmt.Sprintf("version byte %d", s.hello[0]),
				Want: "3"}
		}
		if len(s.hello) < want {
			return nil
		}
		if s.stage == 0 {
			answer, err := answerC1(s.hello[1:], s.random)
			if err != nil {
				return err
			}
			s.out = append(s.out, answer...)
		}
		s.stage++
		s.hello = s.hello[:0]
	}
	if s.stage < 2 {
		return nil
	}
	for len(p) > 0 || len(s.reader.unread) > 0 {
		used, m, err := s.reader.Read(p)
		if err != nil {
			return err
		}
		p = p[used:]
		if m == nil {
			continue
		}
		if err := s.message(m, handle); err != nil {
			return err
		}
	}
	return nil
}

// count0 counts bytes, but acknowledges only once chunks flow.
func (s *Server) count0(n int) {
	if s.stage < 2 {
		s.received += uint32(n)
		return
	}
	s.count(n)
}

func (s *Server) message(m *Message, handle func(Event) error) error {
	if handled, err := s.protocolControl(m); handled {
		return err
	}
	switch m.Type {
	case TypeVideo, TypeAudio, TypeData, TypeData3:
		if !s.accepted {
			return &media.FormatError{Format: "RTMP session", Found: fmt.Sprintf("a media message of type %d", m.Type),
				Want: "publish first"}
		}
		return media2event(m, handle)
	case TypeAggregate:
		if !s.accepted {
			return &media.FormatError{Format: "RTMP session", Found: "an aggregate message", Want: "publish first"}
		}
		return aggregate(m, handle)
	case TypeCommand, TypeCommand3:
		return s.commandMessage(m, handle)
	}
	return nil // shared objects and what we do not know are none of our business
}

func media2event(m *Message, handle func(Event) error) error {
	switch m.Type {
	case TypeVideo:
		return handle(Event{Kind: EventVideo, Timestamp: m.Timestamp, Payload: m.Payload})
	case TypeAudio:
		return handle(Event{Kind: EventAudio, Timestamp: m.Timestamp, Payload: m.Payload})
	}
	values, err := amf.DecodeAll(trimAMF3(m))
	if err != nil {
		return fmt.Errorf("data message: %w", err)
	}
	// Either "@setDataFrame", "onMetaData", {…} or without the first.
	for i, v := range values {
		if v == "onMetaData" && i+1 < len(values) {
			if obj, ok := values[i+1].(amf.Object); ok {
				return handle(Event{Kind: EventMetadata, Timestamp: m.Timestamp, Metadata: obj})
			}
		}
	}
	if len(values) >= 2 {
		name, named := values[0].(string)
		if obj, ok := values[1].(amf.Object); named && ok {
			return handle(Event{Kind: EventData, Name: name, Timestamp: m.Timestamp, Metadata: obj})
		}
	}
	return nil
}

// trimAMF3 drops the format byte that stands before the AMF 0 values of the AMF 3 message types.
func trimAMF3(m *Message) []byte {
	if (m.Type == TypeCommand3 || m.Type == TypeData3) && len(m.Payload) > 0 && m.Payload[0] == 0 {
		return m.Payload[1:]
	}
	return m.Payload
}

// aggregate takes apart section 7.1.6: FLV tags in a row, their times shifted to the message's.
func aggregate(m *Message, handle func(Event) error) error {
	p := m.Payload
	var shift uint32
	for first := true; len(p) >= 11; first = false {
		n := int(uint24(p[1:]))
		stamp := uint24(p[4:]) | uint32(p[7])<<24
		if first {
			shift = m.Timestamp - stamp
		}
		if len(p) < 11+n+4 {
			return &media.FormatError{Format: "RTMP aggregate", Found: fmt.Sprintf("%d bytes", len(p)),
				Want: fmt.Sprintf("%d", 11+n+4)}
		}
		sub := &Message{Type: p[0], Timestamp: stamp + shift, Payload: p[11 : 11+n]}
		if sub.Type == TypeAudio || sub.Type == TypeVideo || sub.Type == TypeData {
			if err := media2event(sub, handle); err != nil {
				return err
			}
		}
		p = p[11+n+4:]
	}
	return nil
}

// commandMessage answers a command of the other side.
//
//large:one case for each command
func (s *Server) commandMessage(m *Message, handle func(Event) error) error {
	values, err := amf.DecodeAll(trimAMF3(m))
	if err != nil {
		return fmt.Errorf("command message: %w", err)
	}
	if len(values) < 2 {
		return &media.FormatError{Format: "RTMP command", Found: fmt.Sprintf("%d values", len(values)),
			Want: "a name and a transaction"}
	}
	name, _ := values[0].(string)
	tx, _ := values[1].(float64)
	text := func(i int) string {
		if i < len(values) {
			t, _ := values[i].(string)
			return t
		}
		return ""
	}
	switch name {
	case "connect":
		var obj amf.Object
		if len(values) > 2 {
			obj, _ = values[2].(amf.Object)
		}
		s.app = obj.String("app")
		if caps, ok := obj.Number("capsEx"); ok && caps >= 0 && caps < 1<<16 {
			s.abilities = int(caps)
		}
		s.control32(TypeWindowAckSize, ourWindow)
		s.control32(TypePeerBandwidth, ourWindow, 2)
		s.setChunkSize()
		encoding, _ := obj.Number("objectEncoding")
		s.command(0, "_result", tx,
			append(amf.Object{{Name: "fmsVer", Value: "Metaplasis/1,0"}, {Name: "capabilities", Value: 31.0}},
				capabilities()...),
			status("status", "NetConnection.Connect.Success", "Connection accepted.",
				append(capabilities(), amf.Property{Name: "objectEncoding", Value: encoding})...))
	case "createStream":
		s.streams = true
		s.command(0, "_result", tx, nil, 1.0)
	case "releaseStream", "FCPublish":
		if name == "FCPublish" {
			s.command(0, "onFCPublish", 0.0, nil, status("status", "NetStream.Publish.Start", "FCPublish to "+text(3)+"."))
		}
		s.command(0, "_result", tx, nil, nil)
	case "publish":
		if s.publishOn != 0 || s.playOn != 0 {
			return &media.FormatError{Format: "RTMP session", Found: "a second publish", Want: "one a connection"}
		}
		s.publishOn = max(m.Stream, 1)
		return handle(Event{Kind: EventPublish, App: s.app, Name: text(3)})
	case "FCUnpublish", "deleteStream", "closeStream":
		if s.playOn != 0 && name != "FCUnpublish" {
			return handle(Event{Kind: EventEnd})
		}
		if name == "FCUnpublish" {
			s.command(0, "_result", tx, nil, nil)
		}
		if s.accepted {
			s.accepted = false
			return handle(Event{Kind: EventEnd})
		}
	case "play", "play2":
		if s.publishOn != 0 || s.playOn != 0 {
			return &media.FormatError{Format: "RTMP session", Found: "a second stream", Want: "one a connection"}
		}
		s.playOn = max(m.Stream, 1)
		return handle(Event{Kind: EventPlay, App: s.app, Name: text(3)})
	case "_result", "_error", "onStatus", "_checkbw":
	default:
		if tx != 0 {
			s.command(0, "_error", tx, nil, status("error", "NetConnection.Call.Failed", "No such call."))
		}
	}
	return nil
}

func status(level, code, text string, more ...amf.Property) amf.Object {
	return append(amf.Object{{Name: "level", Value: level}, {Name: "code", Value: code},
		{Name: "description", Value: text}}, more...)
}

// Accept lets the sender go on (section 7.2.2.6).
func (s *Server) Accept() {
	s.accepted = true
	s.reader.SetLimit(maxPartial)
	s.control(TypeUserControl, append([]byte{0, 0}, binary.BigEndian.AppendUint32(nil, s.publishOn)...)...) // stream begin
	s.command(s.publishOn, "onStatus", 0.0, nil, status("status", "NetStream.Publish.Start", "Publishing."))
}

// AcceptPlay lets a player go on: media follows (section 7.2.2.1).
func (s *Server) AcceptPlay() {
	s.accepted = true
	s.control(TypeUserControl, append([]byte{0, 0}, binary.BigEndian.AppendUint32(nil, s.playOn)...)...) // stream begin
	s.command(s.playOn, "onStatus", 0.0, nil, status("status", "NetStream.Play.Reset", "The stream is set up."))
	s.command(s.playOn, "onStatus", 0.0, nil, status("status", "NetStream.Play.Start", "The stream begins."))
	s.send(csidCommand, &Message{Type: TypeData, Stream: s.playOn, Payload: amf.Append(nil, "|RtmpSampleAccess", true, true)})
}

// RefusePlay tells a player why it is sent nothing, or nothing more.
func (s *Server) RefusePlay(code, text string) {
	s.accepted, s.refused = false, true
	s.command(max(s.playOn, 1), "onStatus", 0.0, nil, status("error", code, text))
}

// Metadata queues onMetaData for a player.
func (s *Server) Metadata(values amf.ECMAArray) {
	s.send(csidCommand, &Message{Type: TypeData, Stream: s.playOn, Payload: amf.Append(nil, "onMetaData", values)})
}

// Media queues the body of an FLV video or audio tag (TypeVideo, TypeAudio) for a player.
func (s *Server) Media(kind uint8, timestamp uint32, body []byte) {
	csid := uint32(csidAudio)
	if kind == TypeVideo {
		csid = csidVideo
	}
	s.send(csid, &Message{Type: kind, Stream: s.playOn, Timestamp: timestamp, Payload: body})
}

// The codes with which a publish is refused, or ended later.
const (
	CodeBadName = "NetStream.Publish.BadName"
	CodeDenied  = "NetStream.Publish.Denied"
	CodeFailed  = "NetStream.Publish.Failed"
)

// The codes with which a player is refused, or sent away later.
const (
	CodeNotFound   = "NetStream.Play.StreamNotFound"
	CodePlayFailed = "NetStream.Play.Failed"
)

// Refuse tells the sender why it may not publish, or may not go on.
func (s *Server) Refuse(code, text string) {
	s.accepted, s.refused = false, true
	s.command(max(s.publishOn, 1), "onStatus", 0.0, nil, status("error", code, text))
}

// Reconnects reports whether the sender understands a request to connect again.
func (s *Server) Reconnects() bool { return s.accepted && s.abilities&canReconnect != 0 }

// RequestReconnect asks the sender to end this connection and make another one (Enhanced RTMP, version 2,
// "Reconnect Request").
func (s *Server) RequestReconnect(text string) {
	s.refused = true
	s.command(0, "onStatus", 0.0, nil, status("status", codeReconnect, text))
}

const codeReconnect = "NetConnection.Connect.ReconnectRequest"

// Refused reports whether the sender was told why it may not go on. Before chunks flow nothing can be told.
func (s *Server) Refused() bool { return s.refused || s.stage < 2 }

// What we can do beyond the first form (Enhanced RTMP, version 2, "Enhancing NetConnection connect Command").
const (
	canForward    = 4.0 // of a codec: it is passed on
	canReconnect  = 1
	canMultitrack = 2
	canModify     = 4
	canNanos      = 8 // offsets of nanoseconds beside stamps
)

// capabilities tells a sender which codecs it may choose, and that it may send several tracks.
func capabilities() amf.Object {
	codecs := func(k media.Kind) (out amf.Object) {
		for _, code := range coding.FourCCs(k) {
			out = append(out, amf.Property{Name: code, Value: canForward})
		}
		return out
	}
	return amf.Object{
		{Name: "videoFourCcInfoMap", Value: codecs(media.Video)},
		{Name: "audioFourCcInfoMap", Value: codecs(media.Audio)},
		{Name: "capsEx", Value: float64(canReconnect | canMultitrack | canModify | canNanos)},
	}
}
