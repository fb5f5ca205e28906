package rtmp

import (
	"context"
	"errors"
	"net/url"
	"strings"
	"sync"

	"metaplasis/internal/core/amf"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/rtmp"
	"metaplasis/internal/onward"
	"metaplasis/internal/onward/tags"
)

// OutApplication is the first part of the address of a stream that is played.
const OutApplication = "out"

// outAddress takes channel, rung and ticket from what players ask for:
//
//	app "out",            name "start-line"            the source as it came
//	app "out",            name "start-line/720p"       a rung
//	app "out/start-line", name "720p?ticket=TICKET"    with a ticket
func outAddress(app, name string) (channel, rung, ticket string, err error) {
	app, _, _ = strings.Cut(strings.Trim(app, "/"), "?")
	name, query, _ := strings.Cut(strings.Trim(name, "/"), "?")
	values, _ := url.ParseQuery(query)
	path := strings.Split(strings.Trim(app+"/"+name, "/"), "/")
	if len(path) < 2 || len(path) > 3 || path[0] != OutApplication || path[1] == "" {
		return "", "", "", &media.FormatError{Format: "RTMP stream address", Found: "another one", Want: "application out with CHANNEL or CHANNEL/RUNG as stream name"}
	}
	if rung = values.Get("rung"); len(path) == 3 {
		rung = path[2]
	}
	return path[1], rung, values.Get("ticket"), nil
}

// playing is what a player is sent.
type playing struct {
	c      *connection
	tap    onward.Tap
	leave  func()
	once   sync.Once
	ctx    context.Context
	cancel context.CancelFunc
	over   sync.WaitGroup
}

// play answers a player. It is called with the connection's lock.
func (c *connection) play(app, name string) error {
	refuse := func(err error) error {
		code := rtmp.CodePlayFailed
		if errors.Is(err, onward.ErrNoChannel) || errors.Is(err, onward.ErrNoRung) || media.IsFormat(err) {
			code = rtmp.CodeNotFound
		}
		c.engine.RefusePlay(code, err.Error())
		return err
	}
	if c.s.Channels == nil {
		return refuse(errors.New("this port takes feeds; it does not play them"))
	}
	channel, rung, ticket, err := outAddress(app, name)
	if err != nil {
		return refuse(err)
	}
	c.channel = channel
	way := "rtmp"
	leave, err := c.s.Join(channel, way, c.conn.RemoteAddr().String(), ticket)
	if err != nil {
		return refuse(err)
	}
	tap, err := c.s.Channels.Tap(channel, onward.Choice{Rung: rung})
	if err == nil && !c.s.Channels.Has(channel, rung) {
		tap.Close()
		err = onward.ErrNoRung
	}
	if err != nil {
		leave()
		return refuse(err)
	}
	c.playing = &playing{c: c, tap: tap, leave: leave}
	c.playing.ctx, c.playing.cancel = context.WithCancel(context.Background())
	c.engine.AcceptPlay()
	return nil
}

// start begins to send, once.
func (p *playing) start() {
	p.once.Do(func() {
		p.over.Go(func() {
			c := onward.Carrier{To: &player{tags.New(p), p, make(chan error)}}
			if err := c.Run(p.ctx, p.tap, nil); err != nil && p.ctx.Err() == nil {
				p.refuse(err)
			}
			_ = p.c.conn.Close()
		})
		go func() { // a service that stops lets players go
			select {
			case <-p.c.s.conns.Leaving():
				p.cancel()
			case <-p.ctx.Done():
			}
		}()
	})
}

// refuse tells the player why nothing more comes.
func (p *playing) refuse(err error) {
	p.c.mu.Lock()
	defer p.c.mu.Unlock()
	p.c.engine.RefusePlay(rtmp.CodePlayFailed, err.Error())
	_ = p.c.flush()
}

// end stops sending.
func (p *playing) end() {
	p.cancel()
	_ = p.c.conn.Close()
	p.over.Wait()
	p.tap.Close()
	p.leave()
}

// Metadata implements tags.Line.
func (p *playing) Metadata(values amf.ECMAArray) {
	p.c.mu.Lock()
	defer p.c.mu.Unlock()
	p.c.engine.Metadata(values)
}

// Media implements tags.Line.
func (p *playing) Media(kind uint8, timestamp uint32, body []byte) {
	p.c.mu.Lock()
	defer p.c.mu.Unlock()
	p.c.engine.Media(kind, timestamp, body)
}

// player is an onward.Sender to one.
type player struct {
	*tags.Writer
	p      *playing
	failed chan error
}

// Cue implements onward.Sender.
func (*player) Cue(int64, []byte) {}

// Flush implements onward.Sender.
func (x *player) Flush() error {
	if err := x.Err(); err != nil {
		return err
	}
	x.p.c.mu.Lock()
	defer x.p.c.mu.Unlock()
	return x.p.c.flush()
}

// Failed implements onward.Sender.
func (x *player) Failed() <-chan error { return x.failed }

// Close implements onward.Sender.
func (*player) Close() error { return nil }
