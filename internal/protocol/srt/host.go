package srt

import (
	"bufio"
	"bytes"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"os"
	"runtime/debug"
	"sync"
	"sync/atomic"
	"time"

	"metaplasis/internal/libsrt"
)

// Bounds of the host.
const (
	//limit:connections over SRT | all | the caller is refused
	maxConnections = 512 // of all together
	//limit:connections over SRT | each address | the caller is refused
	maxEachPeer = 128 // of one address
	// quietTime is for how long a sender may say nothing.
	quietTime    = 10 * time.Second
	peerIdle     = 5 * time.Second
	receiveBytes = 16 << 20 // buffer of a connection, for latencies of seconds
	refusedEach  = time.Second
	sendQueue    = 512 // messages that wait for a receiver, 7 packets each
)

// host is the process in which libsrt runs.
type host struct {
	policy atomic.Pointer[Policy]

	wmu sync.Mutex
	w   *bufio.Writer

	mu       sync.Mutex
	port     *libsrt.Listener
	address  string
	last     uint32
	conns    map[uint32]*connection
	requests map[uint32]*libsrt.Listener // ports that the service asked for
	dialling map[uint32]bool             // calls that have no answer yet; false: taken back
	peers    map[string]int

	refused  sync.Mutex
	refusals map[string]*refusedMessage // since the last time that they were told
}

type connection struct {
	s     *libsrt.Socket
	queue chan []byte
	lost  atomic.Int64 // messages that found the queue full
	quiet bool         // it only receives
}

// firstSocket is the descriptor of the socket to the service.
const firstSocket = 3

// hostIDs are the numbers of connections that come to the host; those that the service asks for are lower.
const hostIDs = 1 << 24

// Run is the host process. It ends when the service closes its end.
func Run() error {
	f := os.NewFile(firstSocket, "socket")
	conn, err := net.FileConn(f)
	if err != nil {
		return fmt.Errorf("SRT host: descriptor %d is no socket: %w", firstSocket, err)
	}
	_ = f.Close()
	debug.SetGCPercent(200)
	h := &host{w: bufio.NewWriterSize(conn, 64<<10), last: hostIDs, conns: map[uint32]*connection{}, requests: map[uint32]*libsrt.Listener{},
		dialling: map[uint32]bool{}, peers: map[string]int{}, refusals: map[string]*refusedMessage{}}
	h.policy.Store(&Policy{})
	go h.tick()
	r := bufio.NewReaderSize(conn, 64<<10)
	var buf []byte
	for {
		var m message
		if m, buf, err = readMessage(r, buf); err != nil {
			return nil // the service is gone
		}
		h.handle(m)
	}
}

func (h *host) send(kind byte, id uint32, body any) {
	b, raw := body.([]byte)
	if !raw {
		b, _ = json.Marshal(body)
	}
	h.wmu.Lock()
	defer h.wmu.Unlock()
	if writeMessage(h.w, kind, id, b) != nil || h.w.Flush() != nil {
		os.Exit(0) // the service is gone
	}
}

func (h *host) handle(m message) {
	switch m.kind {
	case kindPolicy:
		var p Policy
		if json.Unmarshal(m.body, &p) == nil {
			h.policy.Store(&p)
			h.send(kindTaken, m.id, []byte{})
			go h.listen(p.Address)
		}
	case kindDial, kindListen:
		var d dialMessage
		if json.Unmarshal(m.body, &d) == nil {
			go h.open(m.id, &d)
		}
	case kindClose:
		h.mu.Lock()
		c, l := h.conns[m.id], h.requests[m.id]
		delete(h.requests, m.id)
		if h.dialling[m.id] {
			h.dialling[m.id] = false
		}
		h.mu.Unlock()
		if c != nil {
			c.s.Close()
		}
		if l != nil {
			l.Close()
		}
	case kindSend:
		h.mu.Lock()
		c := h.conns[m.id]
		h.mu.Unlock()
		if c != nil && c.queue != nil {
			select {
			case c.queue <- bytes.Clone(m.body):
			default:
				c.lost.Add(1)
			}
		}
	}
}

// listen opens the shared port.
func (h *host) listen(address string) {
	h.mu.Lock()
	before := h.address
	h.address = address
	h.mu.Unlock()
	if address == "" || address == before {
		return
	}
	l, err := libsrt.Listen(address, libsrt.Options{Idle: peerIdle, Buffer: receiveBytes}, h.check)
	if err != nil {
		h.send(kindFailed, 0, closedMessage{err.Error()})
		return
	}
	h.port = l
	h.send(kindBound, 0, l.Port())
	go h.accept(0, l, h.expectedOf)
}

// check decides on who calls the shared port, by the policy that lies here: it must not wait.
func (h *host) check(id, peer string) libsrt.Decision {
	refuse := func(reason int, channel, text, do string) libsrt.Decision {
		h.refuse(refusedMessage{Channel: channel, Peer: peer, Text: text, Do: do})
		return libsrt.Decision{Refuse: reason}
	}
	a, err := parseStreamID(id)
	if err != nil {
		return refuse(libsrt.BadRequest, "", err.Error(), "Copy the stream id from the channel's sender settings.")
	}
	c, known := h.policy.Load().Channels[a.Channel]
	if !known {
		return refuse(libsrt.NotFound, "", fmt.Sprintf("there is no channel %.80q.", a.Channel), "Create the channel, or correct its name in the encoder's stream id.")
	}
	digest := sha256.Sum256([]byte(a.Key))
	in := func(list [][]byte) (found int) {
		for _, d := range list {
			found |= subtle.ConstantTimeCompare(d, digest[:])
		}
		return found
	}
	sends, receives := in(c.Digests), in(c.Receiving)
	switch {
	case receives == 1 && !a.Request:
		return refuse(libsrt.Forbidden, a.Channel, "the key lets receive, and not send.", "Make a key for senders, or call with request/ before the channel.")
	case sends|receives == 0:
		return refuse(libsrt.Unauthorized, a.Channel, "the contribution key is wrong.", "Copy the stream id from the channel's sender settings again, or make a new key.")
	case a.Request && !c.Receivers:
		return refuse(libsrt.Forbidden, a.Channel, "the channel hands its stream to no receivers.", "Turn receivers over SRT on in the channel's settings.")
	case h.full(peer):
		return refuse(libsrt.Overload, a.Channel, "there are too many connections.", "Close some of them.")
	}
	return libsrt.Decision{Passphrase: c.Passphrase}
}

func (h *host) full(peer string) bool {
	host, _, _ := net.SplitHostPort(peer)
	h.mu.Lock()
	defer h.mu.Unlock()
	return len(h.conns) >= maxConnections || h.peers[host] >= maxEachPeer
}

// refuse books a refusal. They are told together, once in a while.
func (h *host) refuse(r refusedMessage) {
	const most = 64
	h.refused.Lock()
	defer h.refused.Unlock()
	key := r.Channel + "\x00" + r.Text
	if old := h.refusals[key]; old != nil {
		old.Count++
	} else if len(h.refusals) < most {
		r.Count = 1
		h.refusals[key] = &r
	}
}

// tick tells what gathers, once a second.
func (h *host) tick() {
	for range time.Tick(time.Second) {
		h.refused.Lock()
		list := h.refusals
		h.refusals = map[string]*refusedMessage{}
		h.refused.Unlock()
		for _, r := range list {
			h.send(kindRefused, 0, r)
		}
		h.mu.Lock()
		all := make(map[uint32]*connection, len(h.conns))
		for id, c := range h.conns {
			all[id] = c
		}
		h.mu.Unlock()
		for id, c := range all {
			if st, ok := c.s.Stats(); ok {
				st.SentDropped += c.lost.Load()
				h.send(kindStats, id, st)
			}
		}
	}
}

// expected is what a port wants of who calls it.
type expected struct {
	channel    string
	passphrase string
	sends      bool // the service sends to it
}

// expectedOf tells it of the shared port, by the stream id.
func (h *host) expectedOf(id string) expected {
	a, err := parseStreamID(id)
	if err != nil {
		return expected{}
	}
	return expected{channel: a.Channel, passphrase: h.policy.Load().Channels[a.Channel].Passphrase}
}

// keyWait is how long both sides have to agree on a key.
const keyWait = time.Second

// encrypted reports whether a caller has the passphrase that is expected; one that has not is told of and refused.
func (h *host) encrypted(s *libsrt.Socket, want expected) bool {
	key := s.Key()
	for until := time.Now().Add(keyWait); key == libsrt.KeyPending && time.Now().Before(until); key = s.Key() {
		time.Sleep(keyWait / 50)
	}
	refuse := func(text, do string) bool {
		h.refuse(refusedMessage{Channel: want.channel, Peer: s.Peer, Text: text, Do: do})
		s.Close()
		return false
	}
	switch {
	case want.passphrase == "" && key == libsrt.KeyNone, want.passphrase != "" && key == libsrt.KeyGood:
		return true
	case want.passphrase == "":
		return refuse("it encrypts, and there is no passphrase here.", "Set the passphrase of both sides, or of none.")
	case key == libsrt.KeyNone:
		return refuse("it does not encrypt, and a passphrase is set here.", "Set the same passphrase in the sender.")
	}
	return refuse("its passphrase is wrong.", "Copy the passphrase into the sender again.")
}

func (h *host) accept(request uint32, l *libsrt.Listener, wants func(id string) expected) {
	for {
		s, err := l.Accept()
		if err != nil {
			return
		}
		h.mu.Lock()
		h.last++
		id := h.last
		h.mu.Unlock()
		go func() {
			if want := wants(s.ID); h.encrypted(s, want) {
				h.run(id, request, s, want.sends)
			}
		}()
	}
}

// open makes a connection that the service asks for.
func (h *host) open(id uint32, d *dialMessage) {
	o := libsrt.Options{Latency: d.Latency, Passphrase: d.Passphrase, KeyLength: d.KeyLength, StreamID: d.StreamID, Overhead: d.Overhead, KeepLate: d.KeepLate,
		Idle: peerIdle, Buffer: receiveBytes}
	var s *libsrt.Socket
	var err error
	switch d.Mode {
	case modeListener:
		l, err := libsrt.Listen(d.Local, o, func(string, string) libsrt.Decision {
			return libsrt.Decision{Passphrase: d.Passphrase, KeyLength: d.KeyLength}
		})
		if err != nil {
			h.send(kindFailed, id, closedMessage{err.Error()})
			return
		}
		h.mu.Lock()
		h.requests[id] = l
		h.mu.Unlock()
		h.send(kindBound, id, l.Port())
		h.accept(id, l, func(string) expected { return expected{d.Channel, d.Passphrase, d.Sends} })
		return
	}
	h.mu.Lock()
	h.dialling[id] = true
	h.mu.Unlock()
	switch d.Mode {
	case modeRendezvous:
		s, err = libsrt.Rendezvous(d.Local, d.Remote, o)
	default:
		s, err = libsrt.Dial(d.Remote, o)
	}
	h.mu.Lock()
	wanted := h.dialling[id]
	delete(h.dialling, id)
	h.mu.Unlock()
	switch {
	case err != nil:
		h.send(kindFailed, id, closedMessage{err.Error()})
	case !wanted: // it was taken back meanwhile
		s.Close()
		h.send(kindFailed, id, closedMessage{"the call was taken back"})
	default:
		h.run(id, id, s, d.Sends)
	}
}

// run reads a connection until it is over; sends says that it carries what the service sends.
func (h *host) run(id, request uint32, s *libsrt.Socket, sends bool) {
	c := &connection{s: s}
	if a, err := parseStreamID(s.ID); sends || request == 0 && err == nil && a.Request {
		c.quiet, c.queue = true, make(chan []byte, sendQueue)
	}
	peer, _, _ := net.SplitHostPort(s.Peer)
	h.mu.Lock()
	h.conns[id] = c
	h.peers[peer]++
	h.mu.Unlock()
	h.send(kindOpened, id, openedMessage{Request: request, Peer: s.Peer, ID: s.ID})
	err := h.read(id, c)
	h.mu.Lock()
	delete(h.conns, id)
	if h.peers[peer]--; h.peers[peer] <= 0 {
		delete(h.peers, peer)
	}
	h.mu.Unlock()
	s.Close()
	h.send(kindClosed, id, closedMessage{err.Error()})
}

func (h *host) read(id uint32, c *connection) error {
	if c.queue != nil {
		done := make(chan struct{})
		defer close(done)
		go h.write(c, done)
	}
	buf := make([]byte, libsrt.MessageSize+64)
	heard := time.Now()
	for {
		n, err := c.s.Read(buf)
		switch {
		case errors.Is(err, libsrt.ErrTimeout):
			if !c.quiet && time.Since(heard) > quietTime {
				return fmt.Errorf("nothing came for %d s", int(quietTime.Seconds()))
			}
		case err != nil:
			return err
		default:
			heard = time.Now()
			h.send(kindData, id, buf[:n])
		}
	}
}

func (h *host) write(c *connection, done <-chan struct{}) {
	for {
		select {
		case <-done:
			return
		case b := <-c.queue:
			for len(b) > 0 {
				n := min(len(b), livePayload)
				if c.s.Write(b[:n]) != nil {
					c.s.Close()
					return
				}
				b = b[n:]
			}
		}
	}
}

// livePayload is what one message of a live stream carries: seven transport packets.
const livePayload = 7 * 188
