package service

import (
	"metaplasis/internal/address"

	"context"
	"crypto/tls"
	"net"
	"net/url"
	"strconv"
	"strings"
	"sync"
	"time"

	"metaplasis/internal/contribution"
	"metaplasis/internal/contribution/source"
	"metaplasis/internal/network/rtc"
	"metaplasis/internal/origin"
	"metaplasis/internal/protocol/channel"
	"metaplasis/internal/protocol/http/pull"
	"metaplasis/internal/protocol/mpegts"
	"metaplasis/internal/protocol/rtmp"
	"metaplasis/internal/protocol/rtsp"
	"metaplasis/internal/protocol/studio"
	"metaplasis/internal/protocol/webrtc"
	"metaplasis/internal/settings"
)

// sources lets the runner of sources reach the channels.
type sources struct{ o *origin.Origin }

func (s sources) Sources() (out []source.Source) {
	for _, c := range s.o.Channels() {
		list, wanted := c.Sources()
		for i, in := range list {
			if wanted[i] {
				address, secret := in.Reveal()
				if in.Kind == settings.InputStudio {
					address = studio.Scheme + ":" + url.PathEscape(in.Name)
				}
				if in.Kind == settings.InputChannel {
					address = channel.Scheme + ":"
				}
				out = append(out, source.Source{Channel: c.Slug(), Address: address, From: in.Channel, Programme: in.Programme,
					Secret: secret, OnDemand: in.OnDemand, Shown: in.Address, Sealed: in.Secret})
			}
		}
	}
	return out
}

func inputOfSource(s source.Source) settings.Input {
	in := settings.Input{Kind: settings.InputAddress, Address: s.Shown, Channel: s.From, Programme: s.Programme, Secret: s.Sealed, OnDemand: s.OnDemand}
	if name, ok := strings.CutPrefix(s.Address, studio.Scheme+":"); ok {
		in.Kind, in.Address = settings.InputStudio, ""
		in.Name, _ = url.PathUnescape(name)
	} else if s.Address == channel.Scheme+":" {
		in.Kind, in.Address = settings.InputChannel, ""
	} else if s.Address == "" {
		in.Kind = settings.InputProgramme
	}
	return in
}

func (s sources) Open(src source.Source, protocol, remote string, silence time.Duration) (contribution.Feed, error) {
	feed, err := s.o.OpenSource(src.Channel, inputOfSource(src), protocol, remote, silence)
	if err != nil {
		return nil, err
	}
	return feed, nil
}

func (s sources) Lets(channel, remote string) bool {
	c := s.o.Channel(channel)
	return c != nil && c.Admits(remote)
}

func (s sources) Problem(src source.Source, text string) {
	if c := s.o.Channel(src.Channel); c != nil {
		c.InputProblem(inputOfSource(src), text)
	}
}

// serveRTSP takes who publishes over RTSP.
func (s *Service) serveRTSP(l net.Listener, conf *tls.Config) {
	if l == nil {
		return
	}
	server := &rtsp.Server{Receiver: receiver{s.origin}, Logger: s.conf.Logger, TLS: conf, Channels: taps{s.origin}, Join: s.join, Groups: s.groups}
	s.stop = append(s.stop, func() {
		_ = l.Close()
		ctx, cancel := context.WithTimeout(context.Background(), stopTimeout)
		defer cancel()
		_ = server.Shutdown(ctx)
	})
	go func() {
		if err := server.Serve(l); err != nil {
			s.failed <- err
		}
	}()
}

// receiveWebRTC opens the port of WebRTC.
func (s *Service) receiveWebRTC() (err error) {
	if s.conf.WebRTC.Address == "" {
		return nil
	}
	port, err := rtc.Open(s.conf.WebRTC, s.conf.Logger)
	if err != nil {
		return err
	}
	s.stop = append(s.stop, port.Close)
	if s.whip, err = webrtc.NewWHIP(port, s.conf.WebRTCCodecs, receiver{s.origin}, s.conf.Logger); err != nil {
		return err
	}
	s.stop = append(s.stop, s.whip.Close)
	s.whep = webrtc.NewWHEP(port, taps{s.origin}, s.mayWatch, s.conf.Logger)
	s.stop = append(s.stop, s.whep.Close)
	host, _, _ := net.SplitHostPort(s.conf.WebRTC.Address)
	s.WebRTC = net.JoinHostPort(host, strconv.Itoa(port.Number))
	s.webrtc = true
	return nil
}

// receiveSources keeps up what the service fetches and receives by itself.
func (s *Service) receiveSources() {
	r := &source.Runner{Channels: sources{s.origin}, Protocols: map[string]source.Protocol{}, Logger: s.conf.Logger}
	streams := &mpegts.Receiver{Streams: &s.streams, Logger: s.conf.Logger}
	puller := &rtsp.Puller{Logger: s.conf.Logger}
	families := map[string]source.Protocol{"mpegts": streams, "http": &pull.Fetcher{Streams: streams, Logger: s.conf.Logger}, "srt": s.srt,
		"rtsp": puller, "rtmp": &rtmp.Puller{Logger: s.conf.Logger}}
	for _, scheme := range address.In(address.Input) {
		r.Protocols[scheme.Name] = families[scheme.Family]
	}
	r.Protocols[""] = streams // programmes of other channels
	r.Protocols[channel.Scheme] = &channel.Receiver{Channels: taps{s.origin}}
	s.studio = studio.Directory{Interfaces: s.conf.Studio, Describe: rtsp.Describe, Logger: s.conf.Logger}
	r.Protocols[studio.Scheme] = &studio.Receiver{Directory: &s.studio, RTSP: puller}
	ctx, cancel := context.WithCancel(context.Background())
	var all sync.WaitGroup
	s.stop = append(s.stop, func() { cancel(); all.Wait() })
	all.Go(func() { s.studio.Run(ctx) })
	all.Go(func() { r.Run(ctx) })
}
