package studio

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"net/url"
	"sync/atomic"
	"time"

	"metaplasis/internal/contribution"
	"metaplasis/internal/contribution/rtpmedia"
	"metaplasis/internal/contribution/source"
)

// Scheme is that of the addresses of sources: studio:NAME, or studio:ID.
const Scheme = "studio"

const (
	// silence is for how long nothing may come of a source until others may take its place.
	silence = 1500 * time.Millisecond
	// large is from how many bits per second on much comes of a stream.
	large = 50_000_000
)

// Receiver receives sources by their names.
type Receiver struct {
	Directory *Directory
	RTSP      source.Protocol // of sources that are asked for over it
}

// Receive implements source.Protocol.
func (r *Receiver) Receive(ctx context.Context, l *source.Line) error {
	name, err := url.PathUnescape(l.URL.Opaque)
	if err != nil {
		return err
	}
	tick := time.NewTicker(lookEach)
	defer tick.Stop()
	for waited := 0; ; waited++ {
		e, err := r.Directory.find(name)
		switch {
		case err == nil && e.Problem != "":
			return errors.New(e.Problem)
		case err == nil && e.address != "":
			return r.fetch(ctx, l, e)
		case err == nil:
			return r.receive(ctx, l, e)
		case waited == 5:
			l.Problem(err.Error())
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-tick.C:
		}
	}
}

// fetch receives a source over RTSP.
func (r *Receiver) fetch(ctx context.Context, l *source.Line, e *entry) error {
	u, err := url.Parse(e.address)
	if err != nil {
		return err
	}
	u.RawQuery = url.Values{"interface": {e.Interface}}.Encode()
	line := *l
	line.URL = u
	return r.RTSP.Receive(ctx, &line)
}

// reception is one source as it is received.
type reception struct {
	session *rtpmedia.Session
	ports   []*rtpmedia.Ports
	heard   atomic.Int64 // when a packet came, nanoseconds since 1970
}

// open begins to receive the streams of a source that are wanted.
func open(e *entry, feed func() (contribution.Feed, error), wanted func(*stream) bool) (*reception, error) {
	r := &reception{session: rtpmedia.NewSession(feed)}
	r.heard.Store(time.Now().UnixNano())
	for i := range e.streams {
		s := &e.streams[i]
		if !wanted(s) {
			continue
		}
		if s.group == "" || s.port == 0 {
			r.close()
			return nil, errors.New("the source's description does not say where it sends to")
		}
		t, err := r.session.Add(s.m, rtpmedia.UDPWait)
		if err != nil {
			r.close()
			return nil, err
		}
		p, err := rtpmedia.ListenPorts(s.group, [2]int{s.port, s.rtcp}, url.Values{"interface": {e.Interface}, "source": {s.source}}, s.m.Bitrate() > large)
		if err != nil {
			r.close()
			return nil, err
		}
		r.ports = append(r.ports, p)
		var from netip.Addr
		if s.source != "" {
			from, _ = netip.ParseAddr(s.source)
		}
		go p.Read(t, from, func() { r.heard.Store(time.Now().UnixNano()) })
	}
	return r, nil
}

func (r *reception) close() {
	for _, p := range r.ports {
		p.Close()
	}
}

// receive receives an announced source until it falls silent or is announced again.
func (r *Receiver) receive(ctx context.Context, l *source.Line, e *entry) (err error) {
	in, err := open(e, func() (contribution.Feed, error) { return l.Open("RTP", e.Name, silence) }, func(*stream) bool { return true })
	if err != nil {
		return err
	}
	defer in.close()
	defer func() {
		if f := in.session.Feed(); f != nil {
			f.End(err.Error())
		}
	}()
	var kicked <-chan string
	look := time.NewTicker(rtpmedia.LookEach)
	defer look.Stop()
	for n := 0; ; n++ {
		select {
		case <-ctx.Done():
			return errors.New("its input was removed, or nobody watches")
		case why := <-kicked:
			return &contribution.SentAway{Why: why}
		case now := <-look.C:
			in.session.Look(now)
			if kicked == nil {
				if feed := in.session.Feed(); feed != nil {
					kicked = feed.Kicked()
				} else if err := in.session.Err(); err != nil {
					return err
				}
			}
			if now.Sub(time.Unix(0, in.heard.Load())) > rtpmedia.SilenceLimit {
				return rtpmedia.ErrSilent
			}
			if n%20 == 0 && r.changed(e) {
				return errors.New("it is announced again, with another description")
			}
		}
	}
}

// changed reports whether a source sends otherwise than it did.
func (r *Receiver) changed(e *entry) bool {
	r.Directory.mu.Lock()
	defer r.Directory.mu.Unlock()
	now := r.Directory.sources[e.ID]
	return now != nil && now.version != e.version
}

// String is the source in words.
func (e *entry) String() string { return fmt.Sprintf("%s (%s)", e.Name, e.Via) }
