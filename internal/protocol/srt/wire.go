// Package srt carries transport streams over SRT. libsrt runs in a process of its own, the host, since it is C code
// that reads what strangers send: when it dies, it is started again, and senders call again. The service's end is a
// Manager, the other one is Run.
//
// Both speak framed messages over a Unix socket pair:
//
//	kind(8) connection(32) length(32) body
//
// whose bodies are JSON but for data, which is one or several messages of SRT, each a whole number of transport
// packets as a rule.
package srt

import (
	"bufio"
	"encoding/binary"
	"fmt"
	"io"
	"time"

	"metaplasis/internal/core/media"
)

// Kinds of message. Lower case goes to the host, upper case comes from it.
const (
	kindPolicy = 'p' // who may connect: Policy
	kindDial   = 'd' // dialMessage
	kindListen = 'l' // dialMessage
	kindClose  = 'c'
	kindSend   = 's' // data

	kindTaken   = 'T' // a policy, by its number
	kindOpened  = 'O' // openedMessage
	kindClosed  = 'C' // closedMessage
	kindData    = 'D'
	kindStats   = 'S' // libsrt.Stats
	kindRefused = 'R' // refusedMessage
	kindFailed  = 'F' // closedMessage: a dial or a listen did not come about
	kindBound   = 'B' // a listen came about
)

//limit:bytes of a message between the service and its SRT host | each message | the host is restarted
const maxMessage = 1 << 20

// headSize is the length of a message's head.
const headSize = 9

func writeMessage(w io.Writer, kind byte, id uint32, body []byte) error {
	var head [headSize]byte
	head[0] = kind
	binary.BigEndian.PutUint32(head[1:], id)
	binary.BigEndian.PutUint32(head[5:], uint32(len(body)))
	if _, err := w.Write(head[:]); err != nil {
		return err
	}
	_, err := w.Write(body)
	return err
}

// message is one that was read. Its body is valid until the next one.
type message struct {
	kind byte
	id   uint32
	body []byte
}

func readMessage(r *bufio.Reader, buf []byte) (m message, out []byte, err error) {
	var head [headSize]byte
	if _, err := io.ReadFull(r, head[:]); err != nil {
		return m, buf, err
	}
	n := int(binary.BigEndian.Uint32(head[5:]))
	if n > maxMessage {
		return m, buf, &media.FormatError{Format: "SRT host message", Found: fmt.Sprintf("%d bytes", n), Want: fmt.Sprintf("%d at most", maxMessage)}
	}
	if cap(buf) < n {
		buf = make([]byte, n)
	}
	m = message{head[0], binary.BigEndian.Uint32(head[1:]), buf[:n]}
	_, err = io.ReadFull(r, m.body)
	return m, buf, err
}

// Policy says who may connect to the shared port.
type Policy struct {
	Address  string                   `json:"address"` // of the port; "" for none
	Channels map[string]ChannelPolicy `json:"channels"`
}

// ChannelPolicy is that of a channel.
type ChannelPolicy struct {
	Digests    [][]byte      `json:"digests"`             // SHA-256 of its contribution keys
	Receiving  [][]byte      `json:"receiving,omitempty"` // of keys that let receive, and not send
	Passphrase string        `json:"passphrase,omitempty"`
	Receivers  bool          `json:"receivers,omitempty"` // may fetch its stream
	Latency    time.Duration `json:"latency,omitempty"`
}

// Modes of a connection that the service makes itself.
const (
	modeCaller     = "caller"
	modeListener   = "listener"
	modeRendezvous = "rendezvous"
)

type dialMessage struct {
	Mode       string        `json:"mode"`
	Local      string        `json:"local,omitempty"`
	Remote     string        `json:"remote,omitempty"`
	Latency    time.Duration `json:"latency,omitempty"`
	Passphrase string        `json:"passphrase,omitempty"`
	KeyLength  int           `json:"keyLength,omitempty"`
	StreamID   string        `json:"streamID,omitempty"`
	Overhead   int           `json:"overhead,omitempty"`
	KeepLate   bool          `json:"keepLate,omitempty"`
	Sends      bool          `json:"sends,omitempty"`   // the service sends over it
	Channel    string        `json:"channel,omitempty"` // that hears of who is refused
}

// openedMessage tells of a connection. Of one that came to the shared port, Listener is 0.
type openedMessage struct {
	Request uint32 `json:"request,omitempty"` // the dial or listen that it belongs to
	Peer    string `json:"peer"`
	ID      string `json:"id,omitempty"`
}

type closedMessage struct {
	Text string `json:"text"`
}

type refusedMessage struct {
	Channel string `json:"channel,omitempty"`
	Peer    string `json:"peer"`
	Text    string `json:"text"`
	Do      string `json:"do"`
	Count   int    `json:"count"` // that this one stands for
}
