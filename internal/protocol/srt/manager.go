package srt

import (
	"metaplasis/internal/address"
	"metaplasis/internal/retry"

	"metaplasis/internal/safely"

	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/url"
	"os"
	"os/exec"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"metaplasis/internal/contribution"
	"metaplasis/internal/contribution/demux"
	"metaplasis/internal/contribution/source"
	"metaplasis/internal/core/media"
	"metaplasis/internal/libsrt"
	"metaplasis/internal/network"
	"metaplasis/internal/onward"
	"metaplasis/internal/onward/mux"
)

// Manager is the service's end of SRT: it keeps the host up, lets senders and receivers in, and calls for inputs.
type Manager struct {
	Receiver contribution.Receiver
	Streams  *demux.Streams   // where the streams of channels are found
	Process  func() *exec.Cmd // the command line of the host
	Channels onward.Channels  // that receivers may have
	// Join counts a receiver in, or says why not; leave is called when it goes.
	Join   func(channel, way, remote, ticket string) (leave func(), err error)
	Logger *slog.Logger

	out struct { // what goes to the host; its lock is the last that is taken
		sync.Mutex
		w *bufio.Writer // nil while there is no host
	}

	mu       sync.Mutex
	policy   Policy
	requests map[uint32]*request
	conns    map[uint32]*conn
	last     uint32
	policies uint32                   // that the host was told
	taken    map[uint32]chan struct{} // closed when it has taken one
	port     int
	failed   string // what keeps the port closed
	closed   bool
	cmd      *exec.Cmd
	changed  chan struct{} // closed and replaced when port or failed change
	done     chan struct{}
}

// request is a connection, or a port, that an input asked for.
type request struct {
	opened chan event // connections, of a port one after the other
	over   chan event // why it came to an end: closed, or failed
	busy   bool       // a connection is in use: no other is taken
}

func newRequest() *request {
	return &request{opened: make(chan event, 1), over: make(chan event, 1)}
}

// open hands over a connection, and reports whether it is wanted. It does not wait.
func (r *request) open(e event) bool {
	if r.busy {
		return false
	}
	select {
	case r.opened <- e:
		return true
	default:
		return false
	}
}

// end says why the request came to an end. It does not wait: the first reason counts.
func (r *request) end(e event) {
	select {
	case r.over <- e:
	default:
	}
}

type event struct {
	kind byte
	id   uint32 // of the connection
	text string
	peer string
}

// conn is one connection as the service sees it.
type conn struct {
	id    uint32
	peer  string
	queue *queue
	sums  contribution.SRT // what was counted, of what is told for a second at a time
	stats func(libsrt.Stats)
	over  chan struct{} // closed when it is gone
	why   string
}

// queue holds what came of a connection until its stream takes it, within bounds: one that is slow holds no other up.
type queue struct {
	mu    sync.Mutex
	parts [][]byte
	bytes int
	lost  atomic.Int64
	wake  chan struct{}
}

const (
	//limit:bytes that came and were not taken yet | each sender | the newest are dropped and counted
	maxQueue = 8 << 20 // bytes
	// silence is for how long nothing may come of a sender until others may take its place: losses are sent again
	// within the latency.
	silence    = 2 * time.Second
	restartMin = time.Second
	restartMax = 20 * time.Second
)

func (q *queue) put(b []byte) {
	q.mu.Lock()
	defer q.mu.Unlock()
	if q.bytes+len(b) > maxQueue {
		q.lost.Add(1)
		return
	}
	q.parts = append(q.parts, bytes.Clone(b))
	q.bytes += len(b)
	select {
	case q.wake <- struct{}{}:
	default:
	}
}

func (q *queue) drain() [][]byte {
	q.mu.Lock()
	defer q.mu.Unlock()
	out := q.parts
	q.parts, q.bytes = nil, 0
	return out
}

// Start runs the host. Its port is open once Port tells it.
func (m *Manager) Start(address string) {
	m.policy.Address = address
	m.requests, m.conns, m.changed, m.done = map[uint32]*request{}, map[uint32]*conn{}, make(chan struct{}), make(chan struct{})
	go m.supervise()
}

// Port waits until the shared port is open, and returns it.
func (m *Manager) Port(ctx context.Context) (int, error) {
	for {
		m.mu.Lock()
		port, failed, changed := m.port, m.failed, m.changed
		m.mu.Unlock()
		switch {
		case port > 0:
			return port, nil
		case failed != "":
			return 0, errors.New(failed)
		}
		select {
		case <-ctx.Done():
			return 0, ctx.Err()
		case <-changed:
		}
	}
}

// takeWithin is for how long SetPolicy waits for the host.
const takeWithin = time.Second

// SetPolicy says who may connect from now on; the host knows it when this returns, unless it is just being started. The
// address stays.
func (m *Manager) SetPolicy(channels map[string]ChannelPolicy) {
	m.mu.Lock()
	m.policy.Channels = channels
	m.policies++
	taken := make(chan struct{})
	if m.taken == nil {
		m.taken = map[uint32]chan struct{}{}
	}
	m.taken[m.policies] = taken
	id, policy := m.policies, m.policy
	m.mu.Unlock()
	if m.tell(kindPolicy, id, policy) {
		select {
		case <-taken:
		case <-time.After(takeWithin):
		}
	}
	m.mu.Lock()
	delete(m.taken, id)
	m.mu.Unlock()
}

// Close ends the host and all connections.
func (m *Manager) Close() {
	m.mu.Lock()
	m.closed = true
	cmd := m.cmd
	m.mu.Unlock()
	if cmd != nil && cmd.Process != nil {
		_ = cmd.Process.Kill()
	}
	<-m.done
}

// tell sends a message to the host, if there is one. It may wait for the host, and is called without a lock.
func (m *Manager) tell(kind byte, id uint32, body any) bool {
	b, raw := body.([]byte)
	if !raw {
		b, _ = json.Marshal(body)
	}
	m.out.Lock()
	defer m.out.Unlock()
	return m.out.w != nil && writeMessage(m.out.w, kind, id, b) == nil && m.out.w.Flush() == nil
}

// connect says where the host is reached, nil while there is none.
func (m *Manager) connect(w *bufio.Writer) {
	m.out.Lock()
	defer m.out.Unlock()
	m.out.w = w
}

// supervise starts the host again whenever it ends.
func (m *Manager) supervise() {
	defer close(m.done)
	pause := retry.New(restartMin, restartMax)
	for {
		begun := time.Now()
		err := m.host()
		m.connect(nil)
		m.mu.Lock()
		why := "the process that runs SRT was replaced"
		if m.closed {
			why = "the service stopped"
		}
		for id, c := range m.conns {
			delete(m.conns, id)
			c.why = why
			close(c.over)
		}
		for id, r := range m.requests {
			delete(m.requests, id)
			r.end(event{kind: kindClosed, text: why})
		}
		closed := m.closed
		m.mu.Unlock()
		if closed {
			return
		}
		m.Logger.Error("the process that runs SRT ended; it is started again", "error", err)
		m.Receiver.Report("", "", "srt-replaced", fmt.Sprintf("The process that runs SRT ended: %v. It is started again; senders call again.", err), "If it happens again, look at the machine's memory.")
		if time.Since(begun) > restartMax {
			pause.Reset()
		}
		time.Sleep(pause.Take())
	}
}

// host runs one host process until it ends.
func (m *Manager) host() error {
	pair, err := syscall.Socketpair(syscall.AF_UNIX, syscall.SOCK_STREAM|syscall.SOCK_CLOEXEC, 0)
	if err != nil {
		return err
	}
	ours, theirs := os.NewFile(uintptr(pair[0]), "srt"), os.NewFile(uintptr(pair[1]), "srt host")
	c, err := net.FileConn(ours)
	_ = ours.Close()
	if err != nil {
		_ = theirs.Close()
		return err
	}
	defer func() { _ = c.Close() }()
	cmd := m.Process()
	cmd.ExtraFiles = []*os.File{theirs}
	cmd.Stderr = os.Stderr
	err = cmd.Start()
	_ = theirs.Close()
	if err != nil {
		return err
	}
	m.mu.Lock()
	m.cmd = cmd
	if m.closed {
		_ = cmd.Process.Kill()
	}
	policy := m.policy
	m.mu.Unlock()
	m.connect(bufio.NewWriterSize(deadlined{c}, 64<<10))
	m.tell(kindPolicy, 0, policy)
	r := bufio.NewReaderSize(c, 256<<10)
	var buf []byte
	for {
		var in message
		if in, buf, err = readMessage(r, buf); err != nil {
			break
		}
		m.handle(in)
	}
	_ = cmd.Process.Kill()
	return cmd.Wait()
}

// deadlined bounds what a write may take: a host that does not read for so long is replaced.
type deadlined struct{ net.Conn }

func (d deadlined) Write(b []byte) (int, error) {
	_ = d.SetWriteDeadline(time.Now().Add(time.Second))
	n, err := d.Conn.Write(b)
	if err != nil {
		_ = d.Close()
	}
	return n, err
}

// handle takes a message of the host. What it has to tell others it tells without the lock.
func (m *Manager) handle(in message) {
	if then := m.took(in); then != nil {
		then()
	}
}

func (m *Manager) took(in message) (then func()) {
	m.mu.Lock()
	defer m.mu.Unlock()
	c := m.conns[in.id]
	switch in.kind {
	case kindTaken:
		if done := m.taken[in.id]; done != nil {
			close(done)
			delete(m.taken, in.id)
		}
	case kindData:
		if c != nil {
			c.queue.put(in.body)
		}
	case kindStats:
		var st libsrt.Stats
		if c != nil && c.stats != nil && json.Unmarshal(in.body, &st) == nil {
			stats := c.stats
			return func() { stats(st) }
		}
	case kindOpened:
		var o openedMessage
		if json.Unmarshal(in.body, &o) != nil {
			return nil
		}
		c := &conn{id: in.id, peer: o.Peer, queue: &queue{wake: make(chan struct{}, 1)}, over: make(chan struct{})}
		m.conns[in.id] = c
		if o.Request == 0 {
			go m.admit(c, o.ID)
			return nil
		}
		if r := m.requests[o.Request]; r == nil || !r.open(event{kind: kindOpened, id: in.id, peer: o.Peer}) {
			return func() { m.hangUp(in.id) } // one that is in use has its place
		}
	case kindClosed:
		var t closedMessage
		_ = json.Unmarshal(in.body, &t)
		if c != nil {
			delete(m.conns, in.id)
			c.why = t.Text
			close(c.over)
		}
	case kindFailed, kindBound:
		var t closedMessage
		_ = json.Unmarshal(in.body, &t)
		if in.id != 0 {
			if r := m.requests[in.id]; r != nil && in.kind == kindFailed { // a port that is bound waits for its callers
				r.end(event{kind: in.kind, text: t.Text})
			}
			return nil
		}
		m.port, m.failed = 0, t.Text
		if in.kind == kindBound {
			m.failed = ""
			_ = json.Unmarshal(in.body, &m.port)
		}
		close(m.changed)
		m.changed = make(chan struct{})
	case kindRefused:
		var r refusedMessage
		if json.Unmarshal(in.body, &r) == nil {
			text := fmt.Sprintf("SRT from %s: %s", r.Peer, r.Text)
			if r.Count > 1 {
				text += fmt.Sprintf(" So were %d others in this second.", r.Count-1)
			}
			return func() { m.Receiver.Report(r.Channel, network.Of(r.Peer)+r.Text, "feed-refused", text, r.Do) }
		}
	}
	return nil
}

// admit takes who came to the shared port.
func (m *Manager) admit(c *conn, id string) {
	a, err := parseStreamID(id)
	if err != nil { // the host let it in, so this does not happen
		m.hangUp(c.id)
		return
	}
	if a.Request {
		m.hand(c, a)
		return
	}
	feed, err := m.Receiver.Open(contribution.Sender{Channel: a.Channel, Key: a.Key, Protocol: "SRT", Remote: c.peer, Silence: silence})
	if err != nil {
		m.hangUp(c.id)
		return
	}
	stream := demux.NewStream(time.Now)
	defer m.Streams.Publish(a.Channel, stream)()
	over, stop := stream.Take("", func() (contribution.Feed, error) { return feed, nil })
	stream.Expect(feed)
	err = safely.Run(m.Logger, func() error { return m.pump(context.Background(), c, stream, over, nil) })
	stop(err.Error())
	stream.Close(err)
	feed.End(err.Error())
	m.hangUp(c.id)
}

// pump moves what comes of a connection into a stream until one of them is over.
func (m *Manager) pump(ctx context.Context, c *conn, s *demux.Stream, over <-chan error, problem func(string)) error {
	m.measure(c, s)
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	for {
		for _, b := range c.queue.drain() {
			s.Write(b)
		}
		for wait := s.Pace(); wait > 0; wait = 0 { // the host's buffers and the sender's wait
			time.Sleep(min(wait, 100*time.Millisecond))
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-c.over:
			return errors.New(c.why)
		case err := <-over:
			return err
		case <-c.queue.wake:
		case <-tick.C:
			s.Look()
			if err := s.Problem(); err != nil && problem != nil {
				problem(err.Error())
			}
		}
	}
}

// measure hands the library's figures to the feeds of a stream.
func (m *Manager) measure(c *conn, s *demux.Stream) {
	m.mu.Lock()
	defer m.mu.Unlock()
	var recent []loss
	c.stats = func(st libsrt.Stats) {
		c.sums.Retransmitted += st.Retransmitted
		out := c.sums
		out.RTT, out.Latency, out.Received, out.Lost = st.RTT.Microseconds(), st.Latency.Milliseconds(), st.Received, st.Lost
		out.Dropped, out.Undecrypted, out.Buffer = st.Dropped+c.queue.lost.Load(), st.Undecrypted, st.ReceiveBuffer.Milliseconds()
		out.Bandwidth, out.Bitrate, out.Encrypted, out.Version = st.Bandwidth, st.ReceiveRate, st.Encrypted, st.Version
		recent = append(recent, loss{st.Received, st.Lost, out.Dropped, st.RTT})
		if len(recent) > adviceSpan {
			recent = recent[1:]
		}
		out.Advice = advise(recent, st.Latency)
		s.Measured(func(l *contribution.Line) { l.SRT = &out })
	}
}

// hangUp ends a connection.
func (m *Manager) hangUp(id uint32) { m.tell(kindClose, id, []byte{}) }

// write sends packets over a connection.
func (m *Manager) write(c *conn, b []byte) error {
	m.out.Lock()
	defer m.out.Unlock()
	w := m.out.w
	if w == nil {
		return errRestarting
	}
	for len(b) > 0 {
		n := min(len(b), livePayload)
		if writeMessage(w, kindSend, c.id, b[:n]) != nil {
			return errRestarting
		}
		b = b[n:]
	}
	if w.Flush() != nil {
		return errRestarting
	}
	return nil
}

var errRestarting = errors.New("the process that runs SRT is being started again")

// hand gives a channel to a receiver: the stream that feeds it untouched, whenever there is one, or a stream of a rung.
func (m *Manager) hand(c *conn, a Access) {
	defer m.hangUp(c.id)
	leave, err := m.Join(a.Channel, "srt", c.peer, "")
	if err != nil {
		return
	}
	defer leave()
	for {
		if _, video, sound := m.Channels.Runs(a.Channel); a.Rung != "" || (video || sound) && !m.Streams.Feeds(a.Channel) {
			m.serve(c, a)
			return
		}
		if !m.copy(c, a.Channel) {
			return
		}
	}
}

// lookAgain is after what time a receiver looks again for a stream that was not there.
const lookAgain = 200 * time.Millisecond

// copy sends the stream that feeds a channel untouched until it ends, and reports whether the connection is still
// there. What the connection does not take waits within bounds, and holds nobody up.
func (m *Manager) copy(c *conn, channel string) bool {
	waiting := &queue{wake: make(chan struct{}, 1)}
	end, ok := m.Streams.Copy(channel, waiting.put)
	if !ok {
		select {
		case <-c.over:
			return false
		case <-time.After(lookAgain):
			return true
		}
	}
	defer end.Stop()
	for {
		select {
		case <-c.over:
			return false
		case <-end.Done():
			return true
		case <-waiting.wake:
			for _, b := range waiting.drain() {
				if m.write(c, b) != nil {
					return false
				}
			}
		}
	}
}

// serve sends a rung.
func (m *Manager) serve(c *conn, a Access) {
	tap, err := m.Channels.Tap(a.Channel, onward.Choice{Rung: a.Rung})
	if err != nil {
		return
	}
	defer tap.Close()
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	go func() {
		select {
		case <-c.over:
			cancel()
		case <-ctx.Done():
		}
	}()
	err = mux.Serve(ctx, tap, a.Channel, func(b []byte) error { return m.write(c, b) })
	if refused := (*media.UnsupportedError)(nil); errors.As(err, &refused) {
		m.Receiver.Report(a.Channel, network.Of(c.peer), "receiver-refused",
			fmt.Sprintf("A receiver over SRT from %s cannot be sent the channel: %v.", c.peer, err), "Let it fetch a rung that is H.264 or HEVC.")
	}
	m.Logger.Debug("a receiver over SRT is gone", "channel", a.Channel, "remote", c.peer, "error", err)
}

// Receive implements source.Protocol: it calls, meets, or opens a port of its own, as the address says.
func (m *Manager) Receive(ctx context.Context, l *source.Line) error {
	d, err := dialOf(l.URL, l.Secret)
	if err != nil {
		return err
	}
	d.Channel = l.Channel
	kind := byte(kindDial)
	if d.Mode == modeListener {
		kind = kindListen
	} else if d.Remote, err = network.Resolve(ctx, d.Remote); err != nil {
		return err
	}
	r, id, sent := m.ask(kind, d)
	defer m.forget(id)
	if !sent {
		return errors.New("the process that runs SRT is being started")
	}
	if d.Mode == modeListener {
		l.Problem("nobody has called the port yet")
	}
	for {
		select {
		case <-ctx.Done():
			return ctx.Err()
		case e := <-r.over:
			return errors.New(e.text)
		case e := <-r.opened:
			if d.Mode == modeListener && !l.Lets(e.peer) {
				m.hangUp(e.id)
				m.Receiver.Report(l.Channel, network.Of(e.peer), "feed-refused", fmt.Sprintf("SRT from %s: its address is not among those from which senders are let in.", e.peer),
					"Add its network to the channel's sender networks, or send from one of them.")
				continue
			}
			m.use(r, true)
			err := m.receive(ctx, l, e, d.Mode)
			m.use(r, false)
			if ctx.Err() != nil || d.Mode != modeListener {
				return err
			} else if err != nil {
				l.Problem(err.Error() + "; the port waits for the next call")
			}
		}
	}
}

// use says whether a connection of a request is in use.
func (m *Manager) use(r *request, busy bool) {
	m.mu.Lock()
	defer m.mu.Unlock()
	r.busy = busy
}

// receive lets one connection feed the channel.
func (m *Manager) receive(ctx context.Context, l *source.Line, e event, mode string) error {
	m.mu.Lock()
	c := m.conns[e.id]
	m.mu.Unlock()
	if c == nil {
		return errors.New("the other side left at once")
	}
	defer m.hangUp(c.id)
	stream := demux.NewStream(time.Now)
	defer m.Streams.Publish(l.Channel, stream)()
	over, stop := stream.Take(l.Programme, func() (contribution.Feed, error) { return l.Open("SRT "+mode, e.peer, silence) })
	err := m.pump(ctx, c, stream, over, l.Problem)
	stop(err.Error())
	stream.Close(err)
	return err
}

// dialOf reads an address such as srt://host:port?mode=caller&latency=120&streamid=…; mode listener opens the port on
// this machine, rendezvous calls from the same port as it calls.
func dialOf(u *url.URL, secret string) (*dialMessage, error) {
	q := u.Query()
	if s, _ := address.Find("srt"); s != nil {
		if wrong := s.CheckQuery(u, address.Input|address.Relay); wrong != "" {
			return nil, errors.New(wrong)
		}
	}
	d := &dialMessage{Mode: modeCaller, Remote: u.Host, Passphrase: secret, StreamID: q.Get("streamid")}
	if mode := q.Get("mode"); mode != "" {
		d.Mode = mode
	}
	switch d.Mode {
	case modeCaller:
	case modeListener:
		d.Local = u.Host
	case modeRendezvous:
		d.Local = net.JoinHostPort("0.0.0.0", u.Port())
		if local := q.Get("local"); local != "" {
			d.Local = local
		}
	default:
		return nil, fmt.Errorf("found the mode %q, expected caller, listener or rendezvous", d.Mode)
	}
	d.Latency = time.Duration(address.Number(u, "latency")) * time.Millisecond
	d.KeyLength, d.Overhead, d.KeepLate = address.Number(u, "pbkeylen"), address.Number(u, "overhead"), q.Get("tlpktdrop") == "0"
	return d, nil
}
