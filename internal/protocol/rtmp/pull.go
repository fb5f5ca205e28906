package rtmp

import (
	"context"
	"crypto/rand"
	"crypto/tls"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"strings"
	"time"

	"metaplasis/internal/contribution"
	"metaplasis/internal/contribution/source"
	"metaplasis/internal/contribution/tracks"
	"metaplasis/internal/core/flv"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/rtmp"
	"metaplasis/internal/network"
)

// Puller fetches what another server plays over RTMP: rtmp://host/APPLICATION/NAME. It implements source.Protocol.
type Puller struct{ Logger *slog.Logger }

const dialTimeout = 10 * time.Second

// Receive implements source.Protocol.
func (p *Puller) Receive(ctx context.Context, l *source.Line) error {
	path := strings.Trim(l.URL.Path, "/")
	cut := strings.LastIndexByte(path, '/')
	if cut < 1 {
		return fmt.Errorf("found the path %q, expected APPLICATION/NAME", path)
	}
	app, name := path[:cut], path[cut+1:]
	if l.URL.RawQuery != "" {
		name += "?" + l.URL.RawQuery
	}
	conn, err := p.dial(ctx, l)
	if err != nil {
		return err
	}
	defer func() { _ = conn.Close() }()
	defer context.AfterFunc(ctx, func() { _ = conn.Close() })()
	engine, err := rtmp.NewPlayer(rand.Reader, l.URL.Scheme+"://"+l.URL.Host+"/"+app, app, name)
	if err != nil {
		return err
	}
	c := &pulled{l: l, conn: conn, engine: engine}
	err = c.run()
	if ctx.Err() != nil {
		err = ctx.Err()
	}
	if c.feed != nil {
		c.feed.End(err.Error())
	}
	return err
}

func (p *Puller) dial(ctx context.Context, l *source.Line) (net.Conn, error) {
	port := l.URL.Port()
	if port == "" {
		port = map[string]string{"rtmp": "1935", "rtmps": "443"}[l.URL.Scheme]
	}
	d := network.Dialer(dialTimeout)
	host := net.JoinHostPort(l.URL.Hostname(), port)
	if l.URL.Scheme == "rtmps" {
		trust, err := network.Trust(l.URL, true)
		if err != nil {
			return nil, err
		}
		return (&tls.Dialer{NetDialer: d, Config: trust}).DialContext(ctx, "tcp", host)
	}
	return d.DialContext(ctx, "tcp", host)
}

// pulled is a connection that plays.
type pulled struct {
	l      *source.Line
	conn   net.Conn
	engine *rtmp.Client
	feed   contribution.Feed
	tracks *tracks.Set
}

// run reads until the connection is over, and says why.
func (c *pulled) run() error {
	buf := make([]byte, readBuffer)
	limit := helloTimeout
	for {
		if err := c.flush(); err != nil {
			return err
		}
		_ = c.conn.SetReadDeadline(time.Now().Add(limit))
		n, err := c.conn.Read(buf)
		if handled := c.engine.Feed(buf[:n], c.event); handled != nil {
			return handled
		}
		if c.feed != nil {
			limit = silence
			for wait := c.feed.Pace(); wait > 0; wait = c.feed.Pace() { // the server's buffers fill
				time.Sleep(wait)
			}
			select {
			case why := <-c.feed.Kicked():
				return errors.New(why)
			default:
			}
		}
		if err != nil {
			return fmt.Errorf("the server closed the connection, or sent nothing: %w", err)
		}
	}
}

func (c *pulled) flush() error { return flush(c.conn, c.engine.TakeOutput()) }

func (c *pulled) event(e rtmp.Event) error {
	switch e.Kind {
	case rtmp.EventRefused:
		return fmt.Errorf("refused (%s): %s", e.Name, e.Text)
	case rtmp.EventEnd:
		return errors.New("the server ended the stream")
	case rtmp.EventStarted:
		return nil
	case rtmp.EventMetadata, rtmp.EventVideo, rtmp.EventAudio:
	default:
		return nil
	}
	if c.feed == nil {
		feed, err := c.l.Open(strings.ToUpper(c.l.URL.Scheme), c.conn.RemoteAddr().String(), mediaSilence)
		if err != nil {
			return err
		}
		c.feed, c.tracks = feed, tracks.New(feed)
	}
	switch e.Kind {
	case rtmp.EventVideo:
		return flv.Bodies(flv.TagVideo, e.Payload, func(b *flv.Body) error { return c.tracks.Body(media.Video, e.Timestamp, b) })
	case rtmp.EventAudio:
		return flv.Bodies(flv.TagAudio, e.Payload, func(b *flv.Body) error { return c.tracks.Body(media.Audio, e.Timestamp, b) })
	}
	c.tracks.Metadata(e.Metadata)
	return nil
}
