package main

import (
	"context"
	"fmt"
	"net"
	"os"
	"os/exec"
	"syscall"
	"time"

	"metaplasis/internal/api"
	"metaplasis/internal/core/ladder"
	"metaplasis/internal/onward/relay"
	"metaplasis/internal/settings"
)

// relayed is the loop that relays carry, of relayedBitrate in all, and relays is how many there are.
const (
	relayed        = "relayed"
	relayedBitrate = 5_000_000
	relays         = 20
)

// relaysOut measures what relays add to the processor time of a service whose one channel they carry, all to another service
// or to sockets that throw away what comes.
//
//large:one measurement, told from its begin to its end
func relaysOut() error {
	s, err := serveWhole()
	if err != nil {
		return err
	}
	defer s.close()
	far, err := serveWhole()
	if err != nil {
		return err
	}
	defer far.close()
	ctx := context.Background()
	const slug = "pier"
	secret, err := s.passes(slug)
	if err != nil {
		return err
	}
	self, err := os.Executable()
	if err != nil {
		return err
	}
	child := exec.Command(self, "send-to", relayed, s.rtmp+"/in/"+slug+"/"+secret)
	child.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	if err := child.Start(); err != nil {
		return err
	}
	defer func() { _ = child.Process.Kill(); _ = child.Wait() }()
	watch := func() float64 {
		time.Sleep(6 * time.Second)
		before, begun := s.used(), time.Now()
		time.Sleep(waySpan)
		return float64(s.used()-before) / float64(time.Since(begun))
	}
	alone := watch()
	for _, way := range []string{"UDP", "RTMP", "SRT"} {
		for n := range relays {
			name := fmt.Sprintf("far-%d", n)
			to, end, err := far.takes(way, name)
			if err != nil {
				return err
			}
			defer end()
			if _, err := s.api.PutRelay(ctx, slug, settings.Relay{Name: name, Address: to}); err != nil {
				return err
			}
		}
		share := watch() - alone
		c, err := s.api.Channel(ctx, slug)
		if err != nil {
			return err
		}
		var bits, lost int64
		sending := 0
		for _, r := range c.Status.Relays {
			bits += r.Bitrate
			lost += r.Lost
			if r.State == relay.Sending {
				sending++
			}
		}
		if sending < relays {
			return fmt.Errorf("%s: %d of %d relays send", way, sending, relays)
		}
		row(fmt.Sprintf("%d relays over %s, of a core", relays, way), fmt.Sprintf("%.1f %%", 100*share), fmt.Sprintf("%.0f Mbit/s out", float64(bits)/1e6), "",
			fmt.Sprintf("<= 10 %%; %d times something was left out", lost))
		for n := range relays {
			name := fmt.Sprintf("far-%d", n)
			if err := s.api.RemoveRelay(ctx, slug, name); err != nil {
				return err
			}
			_ = far.api.RemoveChannel(ctx, name) // there is none over UDP
		}
	}
	return nil
}

// passes makes a channel that passes its source through, and a key for it.
func (s *wholeService) passes(slug string) (secret string, err error) {
	ctx := context.Background()
	only := ladder.Ladder{Rungs: []ladder.Rung{{Name: "source", On: true, Source: true}}}
	if _, err := s.api.CreateChannel(ctx, settings.Settings{Slug: slug, Ladder: only}); err != nil {
		return "", err
	}
	k, err := s.api.CreateKey(ctx, slug, api.NewKey{})
	return k.Secret, err
}

// takes is an address that takes a relay: that of a channel, or over UDP of a socket that throws away what comes, until end
// is called.
func (s *wholeService) takes(way, name string) (to string, end func(), err error) {
	if way == "UDP" {
		sink, err := net.ListenUDP("udp", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1)})
		if err != nil {
			return "", nil, err
		}
		return "udp://" + sink.LocalAddr().String(), func() { _ = sink.Close() }, nil
	}
	secret, err := s.passes(name)
	if way == "SRT" {
		return s.srt + "?streamid=" + name + "/" + secret, func() {}, err
	}
	return s.rtmp + "/in/" + name + "/" + secret, func() {}, err
}
