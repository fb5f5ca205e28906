// Package rtsp is the Real Time Streaming Protocol without sockets: messages, the headers that matter, sign-in, and the
// dialogue of a client (RFC 2326; of RFC 7826 what is in use).
//
//	METHOD address RTSP/1.0        RTSP/1.0 200 OK           '$' channel(8) length(16) packet
//	Name: value                    Name: value
//
//	body                           body
package rtsp

import (
	"bufio"
	"fmt"
	"io"
	"net/textproto"
	"slices"
	"strconv"
	"strings"

	"metaplasis/internal/core/media"
)

// Version is what messages begin or end their first line with.
const Version = "RTSP/1.0"

// Bounds of a message.
const (
	//limit:bytes of a line | each message | the connection is closed
	maxLine = 4 << 10
	//limit:header lines | each message | the connection is closed
	maxHeader = 64 // lines
	//limit:bytes of a body | each message | the connection is closed
	maxBody = 64 << 10
)

// Message is a request, with a method, or a response, with a status.
type Message struct {
	Method  string
	Address string
	Version string // of a request
	Status  int
	Reason  string
	Header  textproto.MIMEHeader
	Body    []byte
}

// Frame is a packet among messages (RFC 2326, 10.12).
type Frame struct {
	Channel byte
	Data    []byte
}

func broken(found, want string) error {
	return &media.FormatError{Format: "RTSP", Found: found, Want: want}
}

// Read reads the next message or frame. The frame's data is the caller's.
func Read(r *bufio.Reader) (*Message, *Frame, error) {
	for {
		first, err := r.Peek(1)
		if err != nil {
			return nil, nil, err
		}
		switch first[0] {
		case '$':
			var head [4]byte
			if _, err := io.ReadFull(r, head[:]); err != nil {
				return nil, nil, err
			}
			f := &Frame{Channel: head[1], Data: make([]byte, int(head[2])<<8|int(head[3]))}
			_, err := io.ReadFull(r, f.Data)
			return nil, f, err
		case '\r', '\n': // some send them between messages
			_, _ = r.Discard(1)
		default:
			m, err := readMessage(r)
			return m, nil, err
		}
	}
}

func readLine(r *bufio.Reader) (string, error) {
	var line []byte
	for {
		part, err := r.ReadSlice('\n')
		line = append(line, part...)
		if len(line) > maxLine {
			return "", broken(fmt.Sprintf("a line of more than %d bytes", maxLine), "a shorter one")
		}
		if err == nil {
			return strings.TrimRight(string(line), "\r\n"), nil
		}
		if err != bufio.ErrBufferFull {
			return "", err
		}
	}
}

func readMessage(r *bufio.Reader) (*Message, error) {
	line, err := readLine(r)
	if err != nil {
		return nil, err
	}
	m := &Message{Header: textproto.MIMEHeader{}}
	one, rest, _ := strings.Cut(line, " ")
	two, three, _ := strings.Cut(rest, " ")
	switch {
	case strings.HasPrefix(one, "RTSP/"):
		if m.Status, err = strconv.Atoi(two); err != nil || m.Status < 100 || m.Status > 999 {
			return nil, broken(fmt.Sprintf("the status %.10q", two), "three digits")
		}
		m.Reason = three
	case strings.HasPrefix(three, "RTSP/") && one != "":
		m.Method, m.Address, m.Version = one, two, three
	default:
		return nil, broken(fmt.Sprintf("a line of %d bytes that is no request and no response", len(line)), "METHOD address "+Version)
	}
	for n := 0; ; n++ {
		line, err := readLine(r)
		if err != nil {
			return nil, err
		}
		if line == "" {
			break
		}
		name, value, ok := strings.Cut(line, ":")
		if n >= maxHeader || !ok {
			return nil, broken("a header that is too long or has no colon", fmt.Sprintf("up to %d lines NAME: value", maxHeader))
		}
		m.Header.Add(strings.TrimSpace(name), strings.TrimSpace(value))
	}
	if text := m.Header.Get("Content-Length"); text != "" {
		n, err := strconv.Atoi(text)
		if err != nil || n < 0 || n > maxBody {
			return nil, broken(fmt.Sprintf("a body of %.20s bytes", text), fmt.Sprintf("%d at most", maxBody))
		}
		m.Body = make([]byte, n)
		if _, err := io.ReadFull(r, m.Body); err != nil {
			return nil, err
		}
	}
	return m, nil
}

// Marshal writes a message.
func (m *Message) Marshal() []byte {
	var b strings.Builder
	if m.Method != "" {
		fmt.Fprintf(&b, "%s %s %s\r\n", m.Method, m.Address, Version)
	} else {
		fmt.Fprintf(&b, "%s %d %s\r\n", Version, m.Status, m.Reason)
	}
	names := make([]string, 0, len(m.Header))
	for n := range m.Header {
		names = append(names, n)
	}
	slices.Sort(names)
	for _, n := range names {
		for _, v := range m.Header[n] {
			name := n
			if n == "Cseq" {
				name = "CSeq" // as every example writes it
			}
			fmt.Fprintf(&b, "%s: %s\r\n", name, strings.Map(oneLine, v))
		}
	}
	if len(m.Body) > 0 {
		fmt.Fprintf(&b, "Content-Length: %d\r\n", len(m.Body))
	}
	return append([]byte(b.String()+"\r\n"), m.Body...)
}

// oneLine keeps a value from ending its header.
func oneLine(r rune) rune {
	if r == '\r' || r == '\n' {
		return -1
	}
	return r
}

// Marshal writes a frame.
func (f *Frame) Marshal() []byte {
	n := len(f.Data)
	return append([]byte{'$', f.Channel, byte(n >> 8), byte(n)}, f.Data...)
}

// Response begins an answer to a request.
func (m *Message) Response(status int, reason string) *Message {
	out := &Message{Status: status, Reason: reason, Header: textproto.MIMEHeader{}}
	if seq := m.Header.Get("Cseq"); seq != "" {
		out.Header.Set("Cseq", seq)
	}
	return out
}

// Transport is how a stream is carried (RFC 2326, 12.39).
type Transport struct {
	TCP         bool
	Multicast   bool
	Record      bool
	Interleaved [2]int // channels of RTP and RTCP, -1 when not given
	Client      [2]int // ports
	Server      [2]int
	Port        [2]int // of a multicast group
	Destination string
	Source      string
	TTL         int
	SSRC        string
	Secure      bool // RTP/SAVP, which is not carried
}

// ParseTransports reads the ways that a header offers, in their order.
func ParseTransports(header string) (out []Transport) {
	for one := range strings.SplitSeq(header, ",") {
		t := Transport{Interleaved: [2]int{-1, -1}}
		for i, field := range strings.Split(one, ";") {
			name, value, _ := strings.Cut(strings.TrimSpace(field), "=")
			switch name = strings.ToLower(name); {
			case i == 0:
				t.TCP = strings.HasSuffix(name, "/tcp")
				t.Secure = strings.Contains(name, "savp")
			case name == "multicast":
				t.Multicast = true
			case name == "interleaved":
				t.Interleaved = portPair(value, -1)
			case name == "client_port":
				t.Client = portPair(value, 0)
			case name == "server_port":
				t.Server = portPair(value, 0)
			case name == "port":
				t.Port = portPair(value, 0)
			case name == "destination":
				t.Destination = value
			case name == "source":
				t.Source = value
			case name == "ttl":
				t.TTL, _ = strconv.Atoi(value)
			case name == "ssrc":
				t.SSRC = value
			case name == "mode":
				t.Record = strings.EqualFold(strings.Trim(value, `"`), "record")
			}
		}
		out = append(out, t)
		if len(out) >= 8 {
			break
		}
	}
	return out
}

// portPair reads 4588-4589, or one number and the one behind it.
func portPair(text string, none int) [2]int {
	a, b, ok := strings.Cut(text, "-")
	first, err := strconv.Atoi(a)
	if err != nil || first < 0 || first > 65535 {
		return [2]int{none, none}
	}
	second, err := strconv.Atoi(b)
	if !ok || err != nil {
		second = first + 1
	}
	return [2]int{first, second}
}

// String writes one way.
func (t Transport) String() string {
	s := "RTP/AVP"
	if t.TCP {
		s += "/TCP"
	}
	if t.Multicast {
		s += ";multicast"
	} else {
		s += ";unicast"
	}
	ports := func(name string, p [2]int, from int) {
		if p[0] >= from && p[0] != p[1] {
			s += fmt.Sprintf(";%s=%d-%d", name, p[0], p[1])
		}
	}
	if t.Destination != "" {
		s += ";destination=" + t.Destination
	}
	if t.TCP {
		ports("interleaved", t.Interleaved, 0)
	}
	ports("client_port", t.Client, 1)
	ports("server_port", t.Server, 1)
	ports("port", t.Port, 1)
	if t.SSRC != "" {
		s += ";ssrc=" + t.SSRC
	}
	if t.Record {
		s += ";mode=record"
	}
	return s
}
