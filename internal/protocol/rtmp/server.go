package rtmp

import (
	"metaplasis/internal/safely"

	"context"
	"crypto/rand"
	"crypto/tls"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/url"
	"strings"
	"sync"
	"time"

	"metaplasis/internal/contribution"
	"metaplasis/internal/contribution/tracks"
	"metaplasis/internal/core/amf"
	"metaplasis/internal/core/flv"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/rtmp"
	"metaplasis/internal/network"
	"metaplasis/internal/onward"
)

// Application is the first part of a stream's address, before the channel.
const Application = "in"

// Timeouts and bounds.
const (
	helloTimeout = 10 * time.Second // from connecting to publishing
	silence      = 10 * time.Second // without a byte from a sender that publishes
	mediaSilence = 2 * time.Second  // without media, until others may take its place: TCP sends again what was lost
	writeTimeout = 5 * time.Second
	readBuffer   = 64 << 10
	helloBuffer  = 4 << 10 // of who does not publish yet
	lingerTime   = 500 * time.Millisecond
	//limit:bytes that are read of who was refused, so that it gets to read why | each connection | it is closed
	maxLinger = 4 << 20 // bytes
)

// Limits are those of an RTMP port. Who has not published waits; 256 of them hold 10 kB in buffers
// and up to 32 kB in unfinished messages each, and the frames of TLS.
//
//limit:connections over RTMP | all; each network | who waited longest without doing anything is closed; then new ones are
var Limits = network.Limits{Total: 4096, EachNetwork: 2048, Idle: 256, IdleNetwork: 64}

// Server accepts senders on one port.
type Server struct {
	Receiver contribution.Receiver
	Logger   *slog.Logger
	TLS      *tls.Config // for RTMPS; nil is plain RTMP
	// Channels are those that players may have; nil: this port takes feeds alone.
	Channels onward.Channels
	// Join lets a player in and counts it, or says why not; leave is called when it goes.
	Join func(channel, way, remote, ticket string) (leave func(), err error)

	conns network.Acceptor
}

// Serve accepts connections until the listener is closed. Within which limits, and what happens
// without descriptors, is the listener's business (network.Listener).
func (s *Server) Serve(l net.Listener) error {
	if err := s.conns.Serve(l, s.TLS, s.handle); err != nil {
		return fmt.Errorf("RTMP port: %w", err)
	}
	return nil
}

// farewell is how long senders have to read that they are to connect again.
const farewell = 300 * time.Millisecond

// Shutdown asks senders that understand it to connect again, closes every connection and waits for their
// handlers.
func (s *Server) Shutdown(ctx context.Context) error { return s.conns.Shutdown(ctx, farewell) }

// errEnd ends a connection in good order.
var errEnd = errors.New("the sender ended its stream")

// connection is one sender.
type connection struct {
	s       *Server
	conn    net.Conn
	engine  *rtmp.Server
	feed    contribution.Feed
	channel string
	tracks  *tracks.Set // of a sender that publishes

	mu      sync.Mutex // guards engine and writing, of a player
	playing *playing   // nil of who plays nothing
}

func (s *Server) handle(conn net.Conn) {
	c := &connection{s: s, conn: conn, engine: rtmp.NewServer(rand.Reader)}
	err := safely.Run(s.Logger.With("remote", c.conn.RemoteAddr()), c.run)
	reason := "the connection was lost"
	switch {
	case errors.Is(err, errEnd):
		reason = "it ended its stream"
	case errors.Is(err, io.EOF):
		reason = "it closed the connection"
	default:
		var timeout net.Error
		var away *sentAway
		if errors.As(err, &away) {
			reason = away.why
		} else if errors.As(err, &timeout) && timeout.Timeout() {
			reason = fmt.Sprintf("nothing came for %d s", int(silence.Seconds()))
		} else if media.IsFormat(err) {
			reason = err.Error()
		}
	}
	if c.feed != nil {
		c.feed.End(reason)
	}
	if c.playing != nil {
		c.playing.end()
	}
	remote := conn.RemoteAddr().String()
	if media.IsFormat(err) && !c.engine.Refused() {
		c.engine.Refuse(rtmp.CodeFailed, err.Error()) // whatever was wrong, the sender hears it in its own protocol
	}
	if c.flush() == nil {
		c.linger()
	}
	if media.IsFormat(err) && c.playing == nil {
		s.Receiver.Report(c.channel, network.Of(remote), "feed-broken",
			fmt.Sprintf("The connection from %s was closed: %v.", remote, err),
			"Check that the sender is an RTMP encoder with a codec that is passed through here, and that nothing between alters its bytes.")
	}
	s.Logger.Debug("RTMP connection over", "remote", remote, "reason", reason, "error", err)
}

// stopping is what senders hear of a service that ends.
const stopping = "the service stops; it may be back at once"

// sentAway ends the connection of a sender that has to go.
type sentAway struct{ why string }

func (e *sentAway) Error() string { return "sent away: " + e.why }

// linger lets the sender read why it was refused: closing at once, with its bytes unread, would
// reset the connection and could destroy our last words.
func (c *connection) linger() {
	if half, ok := c.conn.(interface{ CloseWrite() error }); ok && half.CloseWrite() == nil {
		_ = c.conn.SetReadDeadline(time.Now().Add(lingerTime))
		_, _ = io.Copy(io.Discard, io.LimitReader(c.conn, maxLinger))
	}
}

// run reads until the connection is over, and says why: it never returns nil.
func (c *connection) run() error {
	buf := make([]byte, helloBuffer)
	_ = c.conn.SetReadDeadline(time.Now().Add(helloTimeout))
	over := make(chan struct{})
	defer close(over)
	var kicked chan string // from the goroutine that waits for the feed's end
	place := network.Under(c.conn)
	for {
		n, err := c.conn.Read(buf)
		if n > 0 {
			if c.feed != nil {
				_ = c.conn.SetReadDeadline(time.Now().Add(silence))
			}
			if err := c.handle(buf[:n]); err != nil {
				return err
			}
		}
		switch {
		case c.playing != nil:
			if place != nil {
				place.Use()
			}
			_ = c.conn.SetReadDeadline(time.Time{}) // it may have nothing to say
			c.playing.start()
		case c.feed != nil && kicked == nil:
			buf = make([]byte, readBuffer)
			if place != nil {
				place.Use()
			}
			kicked = make(chan string, 1)
			go c.watch(kicked, over)
		case c.feed == nil && place != nil:
			place.Advance(c.engine.Progress())
		}
		if kicked != nil {
			if err := c.goesOn(kicked); err != nil {
				return err
			}
		}
		if err != nil {
			return err
		}
	}
}

// handle takes bytes and sends what is to be said to them. The lock is given back whatever becomes of them.
func (c *connection) handle(b []byte) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	handled := c.engine.Feed(b, c.event)
	if err := c.flush(); err != nil {
		return err
	}
	return handled
}

// errPlays ends a connection that plays and sends media all the same.
var errPlays = &media.FormatError{Format: "RTMP", Found: "media of a connection that does not publish", Want: "a publish command first"}

// watch ends the reading of a sender that has to go, at once.
func (c *connection) watch(kicked chan<- string, over <-chan struct{}) {
	select {
	case why := <-c.feed.Kicked():
		kicked <- why
		_ = c.conn.SetReadDeadline(time.Now())
	case <-c.s.conns.Leaving():
		kicked <- stopping
		_ = c.conn.SetReadDeadline(time.Now())
	case <-over:
	}
}

// goesOn waits while the sender's media runs ahead, and tells a sender that has to go.
func (c *connection) goesOn(kicked <-chan string) error {
	for {
		wait := c.feed.Pace()
		t := time.NewTimer(wait)
		why, away := "", false
		if wait <= 0 {
			select {
			case why = <-kicked:
				away = true
			default:
			}
		} else {
			select {
			case why = <-kicked:
				away = true
			case <-t.C:
			}
		}
		t.Stop()
		switch {
		case away:
			if why == stopping && c.engine.Reconnects() {
				c.engine.RequestReconnect(why)
			} else {
				c.engine.Refuse(rtmp.CodeFailed, why)
			}
			_ = c.flush()
			return &sentAway{why}
		case wait <= 0:
			return nil
		}
		_ = c.conn.SetReadDeadline(time.Now().Add(silence))
	}
}

func (c *connection) flush() error { return flush(c.conn, c.engine.TakeOutput()) }

// flush sends what an engine has to say.
func flush(conn net.Conn, out []byte) error {
	if len(out) == 0 {
		return nil
	}
	_ = conn.SetWriteDeadline(time.Now().Add(writeTimeout))
	_, err := conn.Write(out)
	return err
}

func (c *connection) event(e rtmp.Event) error {
	switch e.Kind {
	case rtmp.EventVideo, rtmp.EventAudio, rtmp.EventMetadata, rtmp.EventData:
		if c.tracks == nil {
			return errPlays
		}
	}
	switch e.Kind {
	case rtmp.EventPublish:
		return c.publish(e.App, e.Name)
	case rtmp.EventPlay:
		return c.play(e.App, e.Name)
	case rtmp.EventVideo:
		return flv.Bodies(flv.TagVideo, e.Payload, func(b *flv.Body) error { return c.tracks.Body(media.Video, e.Timestamp, b) })
	case rtmp.EventAudio:
		return flv.Bodies(flv.TagAudio, e.Payload, func(b *flv.Body) error { return c.tracks.Body(media.Audio, e.Timestamp, b) })
	case rtmp.EventMetadata:
		c.metadata(e.Metadata)
	case rtmp.EventData:
		c.data(&e)
	case rtmp.EventEnd:
		return errEnd
	}
	return nil
}

// senderAddress takes a channel and a key from what encoders send as application and stream name:
//
//	app "in/start-line", name "KEY"
//	app "in",            name "start-line/KEY"
//	app "in",            name "start-line?key=KEY"
//	app "in/start-line", name "start-line?key=KEY"
//	app "in/start-line", name "KEY?anything"
func senderAddress(app, name string) (channel, key string, err error) {
	app = strings.Trim(app, "/")
	app, _, _ = strings.Cut(app, "?")
	name, query, ok := strings.Cut(strings.TrimPrefix(name, "/"), "?") // what follows is never part of the key
	if ok {
		values, _ := url.ParseQuery(query)
		if k := values.Get("key"); k != "" {
			parts := append(strings.Split(app, "/"), strings.Split(name, "/")...)
			if len(parts) >= 2 && parts[0] == Application {
				return parts[1], k, nil
			}
		}
	}
	path := strings.Split(strings.Trim(app+"/"+name, "/"), "/")
	if len(path) != 3 || path[0] != Application || path[1] == "" || path[2] == "" {
		// Only the first part is repeated: any other may be somebody's key.
		return "", "", &media.FormatError{Format: "RTMP stream address", Found: fmt.Sprintf("%d parts that begin with %q",
			len(path), path[0]), Want: "application in/CHANNEL with the key as stream name, or application in with CHANNEL/KEY"}
	}
	return path[1], path[2], nil
}

func (c *connection) publish(app, name string) error {
	channel, key, err := senderAddress(app, name)
	if err != nil {
		c.engine.Refuse(rtmp.CodeBadName, err.Error())
		return err
	}
	c.channel = channel
	protocol := "RTMP"
	if c.s.TLS != nil {
		protocol = "RTMPS"
	}
	feed, err := c.s.Receiver.Open(contribution.Sender{Channel: channel, Key: key, Protocol: protocol,
		Remote: c.conn.RemoteAddr().String(), Silence: mediaSilence})
	if err != nil {
		code := rtmp.CodeDenied
		if c.s.Receiver.IsTaken(err) {
			code = rtmp.CodeBadName
		}
		c.engine.Refuse(code, err.Error())
		return err
	}
	c.feed, c.tracks = feed, tracks.New(feed)
	c.engine.Accept()
	return nil
}

// data takes splice messages: called "scte35", or a cue point of that name, with the section as
// base64 in "data".
func (c *connection) data(e *rtmp.Event) {
	if e.Name != "scte35" && !(e.Name == "onCuePoint" && e.Metadata.String("name") == "scte35") {
		return
	}
	b, err := base64.StdEncoding.DecodeString(strings.TrimSpace(e.Metadata.String("data")))
	if err != nil {
		b = nil // told as a cue message that cannot be read
	}
	c.feed.Splice(media.Milliseconds, int64(e.Timestamp), b)
}

func (c *connection) metadata(m amf.Object) {
	if list := contribution.ExtrasOf(m); len(list) > 0 {
		c.feed.Extras(list)
	}
	c.tracks.Metadata(m)
}
