package service

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"maps"
	"net"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"metaplasis/internal/core/media"
	"metaplasis/internal/delivery"
	"metaplasis/internal/onward"
	"metaplasis/internal/onward/mux"
	"metaplasis/internal/origin"
	"metaplasis/internal/protocol/socket"
)

// taps are an origin's channels for what carries them onward.
type taps struct{ o *origin.Origin }

// Tap implements onward.Channels.
func (t taps) Tap(slug string, choice onward.Choice) (onward.Tap, error) {
	c := t.o.Channel(slug)
	if c == nil {
		return nil, onward.ErrNoChannel
	}
	return c.Tap(choice), nil
}

// Runs implements onward.Channels.
func (t taps) Runs(slug string) (known, video, sound bool) {
	c := t.o.Channel(slug)
	if c == nil {
		return false, false, false
	}
	c.Watched()
	video, sound = c.Runs()
	return true, video, sound
}

// Has implements onward.Channels.
func (t taps) Has(slug, rung string) bool {
	c := t.o.Channel(slug)
	return c != nil && c.Has(rung)
}

// Epoch implements onward.Channels.
func (t taps) Epoch(slug string) time.Time {
	if c := t.o.Channel(slug); c != nil {
		return c.Epoch()
	}
	return time.Time{}
}

// Sounds implements onward.Channels.
func (t taps) Sounds(slug string) []onward.Sound {
	if c := t.o.Channel(slug); c != nil {
		return c.Sounds()
	}
	return nil
}

// Offers implements onward.Channels.
func (t taps) Offers(slug string, real *onward.Real) []onward.Offer {
	if c := t.o.Channel(slug); c != nil {
		return c.Offers(real)
	}
	return nil
}

// mayWatch asks the authority that stands in front of all viewers.
func (s *Service) mayWatch(r *http.Request, channel string) error {
	select {
	case <-s.ready:
	default:
		return errors.New("the service is starting; try again in a moment")
	}
	return s.delivery.MayWatch(r, delivery.Target{Channel: channel})
}

// join lets a receiver in that comes over a connection of its own, and counts it.
func (s *Service) join(channel, way, remote, ticket string) (leave func(), err error) {
	if s.origin.Channel(channel) == nil {
		return nil, onward.ErrNoChannel
	}
	r := &http.Request{Method: http.MethodGet, URL: &url.URL{Path: "/" + channel, RawQuery: url.Values{"ticket": {ticket}}.Encode()}, Header: http.Header{}, RemoteAddr: remote}
	if err := s.mayWatch(r, channel); err != nil {
		return nil, err
	}
	leave, ok := s.audience.Join(channel, way, remote)
	if !ok {
		return nil, errors.New("there are too many receivers")
	}
	return leave, nil
}

// joinHTTP lets a viewer in that asks over HTTP, and counts it.
func (s *Service) joinHTTP(r *http.Request, channel, way string) (leave func(), err error) {
	if s.origin.Channel(channel) == nil {
		return nil, onward.ErrNoChannel
	}
	if err := s.mayWatch(r, channel); err != nil {
		return nil, err
	}
	leave, ok := s.audience.Join(channel, way, r.RemoteAddr)
	if !ok {
		return nil, errors.New("there are too many viewers")
	}
	return leave, nil
}

// streamWrite is for how long a receiver of a continuous stream may take nothing.
const streamWrite = 10 * time.Second

// continuous answers with a transport stream of a rung that goes on until the receiver or the service leaves.
func (s *Service) continuous(w http.ResponseWriter, r *http.Request, c *origin.Channel, rung string) {
	fail := func(status int, text string) {
		w.Header().Set("Cache-Control", "no-store")
		http.Error(w, text, status)
	}
	offered := c.Offered()
	switch {
	case rung == "source" && !slices.Contains(offered, rung):
		rung = "" // as it came
	case !slices.Contains(offered, rung):
		fail(http.StatusNotFound, fmt.Sprintf("The channel has no rung %.40q on; it has %s.", rung, strings.Join(offered, ", ")))
		return
	}
	if video, sound := c.Runs(); !video && !sound {
		w.Header().Set("Retry-After", "2")
		fail(http.StatusServiceUnavailable, "The channel is not on air.")
		return
	}
	leave, ok := s.audience.Join(c.Slug(), "ts", r.RemoteAddr)
	if !ok {
		fail(http.StatusServiceUnavailable, "There are too many receivers.")
		return
	}
	defer leave()
	w.Header().Set("Content-Type", "video/mp2t")
	w.Header().Set("Cache-Control", "no-store")
	if r.Method == http.MethodHead {
		return
	}
	tap := c.Tap(onward.Choice{Rung: rung})
	defer tap.Close()
	ctx, cancel := context.WithCancel(r.Context())
	defer cancel()
	defer context.AfterFunc(s.leaving, cancel)()
	control := http.NewResponseController(w)
	begun := false
	err := mux.Serve(ctx, tap, c.Settings().Title, func(b []byte) error {
		begun = true
		_ = control.SetWriteDeadline(time.Now().Add(streamWrite))
		if _, err := w.Write(b); err != nil {
			return err
		}
		return control.Flush()
	})
	if refused := (*media.UnsupportedError)(nil); errors.As(err, &refused) && !begun {
		fail(http.StatusNotAcceptable, refused.Error())
	}
	s.conf.Logger.Debug("a receiver of a continuous stream is gone", "channel", c.Slug(), "remote", r.RemoteAddr, "error", err)
}

// viewers counts them by channel and by the way in which they watch.
func (s *Service) viewers() map[string]map[string]int {
	out := s.delivery.Viewers()
	for channel, by := range s.audience.Counts() {
		if out[channel] == nil {
			out[channel] = map[string]int{}
		}
		maps.Copy(out[channel], by)
	}
	add := func(way string, of map[string]int) {
		for channel, n := range of {
			if out[channel] == nil {
				out[channel] = map[string]int{}
			}
			out[channel][way] += n
		}
	}
	if s.whep != nil {
		add("webrtc", s.whep.Viewers())
	}
	return out
}

// NoWebTransport turns WebTransport off.
const NoWebTransport = "off"

// serveWebTransport opens its port: with the service's certificate, or with one of its own making that players trust by its
// hash.
func (s *Service) serveWebTransport() error {
	address := s.conf.WebTransport
	if address == NoWebTransport || address == "" && s.HTTP == "" {
		return nil
	}
	var conf *tls.Config
	if s.conf.TLSCert != "" {
		var err error
		if conf, err = certificate(s.conf.TLSCert, s.conf.TLSKey, s.conf.Logger); err != nil {
			return err
		}
	}
	if address != "" {
		t, err := s.socket.ListenWebTransport(address, conf)
		if err != nil {
			return err
		}
		s.useWebTransport(t)
		return nil
	}
	t, err := s.socket.ListenWebTransport(s.HTTP, conf)
	if err != nil { // another program has the number over UDP: players are told of any
		host, _, _ := net.SplitHostPort(s.HTTP)
		if t, err = s.socket.ListenWebTransport(net.JoinHostPort(host, "0"), conf); err != nil {
			return err
		}
	}
	s.useWebTransport(t)
	return nil
}

func (s *Service) useWebTransport(t *socket.WebTransport) {
	s.socket.Transport = t
	s.stop = append(s.stop, t.Close)
	go func() {
		if err := t.Serve(); err != nil {
			s.failed <- fmt.Errorf("WebTransport port: %w", err)
		}
	}()
}
