package service

import (
	"metaplasis/internal/address"

	"cmp"
	"context"
	"net/url"
	"path/filepath"
	"sync"
	"time"

	"metaplasis/internal/core/coding"
	"metaplasis/internal/core/media"
	"metaplasis/internal/events"
	"metaplasis/internal/onward"
	"metaplasis/internal/onward/forward"
	"metaplasis/internal/onward/mux"
	"metaplasis/internal/onward/relay"
	"metaplasis/internal/origin"
	"metaplasis/internal/present"
	"metaplasis/internal/protocol/http/files"
	"metaplasis/internal/protocol/mpegts"
	"metaplasis/internal/protocol/rtmp"
	"metaplasis/internal/protocol/rtsp"
	"metaplasis/internal/protocol/webrtc"
)

// carryOnward keeps the relays of all channels up.
func (s *Service) carryOnward() {
	s.relays = &relay.Runner{Channels: taps{s.origin}, Plans: s.relayPlans, Schemes: s.relaySchemes(), Whole: s.wholeStream, Logger: s.conf.Logger,
		Event: func(channel string, bad bool, kind, text, do string) {
			level := events.Info
			if bad {
				level = events.Warning
			}
			s.desk.Event(events.Event{At: time.Now(), Channel: channel, Level: level, Kind: kind, Text: text, Do: do})
		}}
	ctx, cancel := context.WithCancel(context.Background())
	var all sync.WaitGroup
	s.stop = append(s.stop, func() { cancel(); all.Wait() })
	all.Go(func() { s.relays.Run(ctx) })
}

// relayPlans lists the relays that are to send now.
func (s *Service) relayPlans() (out []relay.Plan) {
	now := time.Now()
	for _, c := range s.origin.Channels() {
		set := c.Settings()
		for i := range set.Relays {
			if set.Relays[i].On(now) && !set.Closed {
				out = append(out, relay.PlanOf(&set, &set.Relays[i]))
			}
		}
	}
	return out
}

// relaySchemes are the kinds of address that relays send to.
func (s *Service) relaySchemes() map[string]relay.Scheme {
	overRTMP := relay.Scheme{Dial: func(ctx context.Context, _ *url.URL, p *relay.Plan) (relay.Line, error) {
		c, err := rtmp.Dial(ctx, p.Full, rtmp.Options{})
		if err != nil {
			return relay.Line{}, err
		}
		return relay.Line{Sender: rtmp.NewSender(c), Told: true}, nil
	}}
	overRTSP := relay.Scheme{Dial: func(ctx context.Context, u *url.URL, _ *relay.Plan) (relay.Line, error) {
		c, err := rtsp.Dial(ctx, u, rtsp.Options{})
		if err != nil {
			return relay.Line{}, err
		}
		return relay.Line{Sender: c, Fixed: true, Told: true}, nil
	}}
	packets := relay.Scheme{Dial: func(ctx context.Context, u *url.URL, p *relay.Plan) (relay.Line, error) {
		c, err := mpegts.Dial(ctx, u)
		if err != nil {
			return relay.Line{}, err
		}
		return transportStream(c, p), nil
	}}
	overSRT := relay.Scheme{Dial: func(ctx context.Context, u *url.URL, p *relay.Plan) (relay.Line, error) {
		c, err := s.srt.Call(ctx, u)
		if err != nil {
			return relay.Line{}, err
		}
		line := transportStream(c, p)
		line.Told = true
		return line, nil
	}}
	real := &onward.Real{Video: coding.RealTimes(media.Video), Audio: coding.RealTimes(media.Audio)}
	overWebRTC := relay.Scheme{Real: real, Dial: func(_ context.Context, u *url.URL, _ *relay.Plan) (relay.Line, error) {
		c, err := webrtc.Dial(u, webrtc.Options{})
		if err != nil {
			return relay.Line{}, err
		}
		return relay.Line{Sender: c, Fixed: true, Told: true}, nil
	}}
	overStudio := relay.Scheme{Dial: func(ctx context.Context, _ *url.URL, p *relay.Plan) (relay.Line, error) {
		c, err := forward.Dial(ctx, s.conf.Forward, p.Full)
		if err != nil {
			return relay.Line{}, err
		}
		return relay.Line{Sender: c, Fixed: true, Told: false}, nil
	}}
	asFiles := relay.Scheme{Copy: (&files.Writer{Channels: shelves{s.origin}, Folder: s.sendFolder()}).Copy}
	families := map[string]relay.Scheme{"studio": overStudio, "rtmp": overRTMP, "rtsp": overRTSP, "mpegts": packets, "srt": overSRT, "http": overWebRTC}
	out := map[string]relay.Scheme{}
	for _, scheme := range address.In(address.Relay) {
		if out[scheme.Name] = families[scheme.Family]; scheme.Files {
			out[scheme.Name] = asFiles
		}
	}
	return out
}

// sendFolder is where the folders lie that channels are written to.
func (s *Service) sendFolder() string {
	return cmp.Or(s.conf.SendFolder, filepath.Join(s.conf.Data, "sent"))
}

// shelves lets channels be written as files.
type shelves struct{ o *origin.Origin }

// Document implements files.Channels.
func (s shelves) Document(channel, file string) []byte {
	c := s.o.Channel(channel)
	if c == nil {
		return nil
	}
	c.Watched()
	d, _ := c.Document(file)
	if d == nil {
		return nil
	}
	b, _ := d.Bytes()
	return b
}

// Views implements files.Channels.
func (s shelves) Views(channel string) map[string]*present.View {
	c := s.o.Channel(channel)
	if c == nil {
		return nil
	}
	return c.Views()
}

// transportStream sends the channel as a programme, to which others may be added.
func transportStream(c *mux.Conn, p *relay.Plan) relay.Line {
	return relay.Line{Sender: c.Programme(max(p.Number, 1), p.Title), Programme: func(number int, name string) onward.Sender { return c.Programme(number, name) }}
}

// wholeStream hands over the transport stream that feeds a channel, whenever there is one.
func (s *Service) wholeStream(ctx context.Context, channel string, write func([]byte) error) error {
	const lookEach = 200 * time.Millisecond
	for {
		failed := make(chan error, 1)
		copying, ok := s.streams.Copy(channel, func(b []byte) {
			if err := write(b); err != nil {
				select {
				case failed <- err:
				default:
				}
			}
		})
		wait := lookEach
		if ok {
			wait = time.Hour
		}
		select {
		case <-ctx.Done():
		case <-copying.Done():
		case <-time.After(wait):
		case err := <-failed:
			copying.Stop()
			return err
		}
		if ok {
			copying.Stop()
		}
		if ctx.Err() != nil {
			return ctx.Err()
		}
	}
}
