package service

import (
	"context"
	"fmt"
	"net"
	"strconv"
	"time"

	"metaplasis/internal/contribution/srt"
)

// receiveSRT starts the process that runs SRT, and tells it who may connect, now and whenever that changes.
func (s *Service) receiveSRT(ctx context.Context) error {
	s.srt = &srt.Manager{Receiver: receiver{s.origin}, Streams: &s.streams, Process: s.conf.SRTHost, Logger: s.conf.Logger}
	s.srt.Start(s.conf.SRT)
	s.stop = append(s.stop, s.srt.Close)
	if s.conf.SRT != "" {
		ctx, cancel := context.WithTimeout(ctx, stopTimeout)
		defer cancel()
		port, err := s.srt.Port(ctx)
		if err != nil {
			return fmt.Errorf("SRT port %s: %w", s.conf.SRT, err)
		}
		host, _, _ := net.SplitHostPort(s.conf.SRT)
		s.SRT = net.JoinHostPort(host, strconv.Itoa(port))
		s.Control.SetSRT(port)
	}
	changed := make(chan struct{}, 1)
	changed <- struct{}{}
	s.Control.OnKeys = func() {
		select {
		case changed <- struct{}{}:
		default:
		}
	}
	own, cancel := context.WithCancel(context.Background())
	done := make(chan struct{})
	s.stop = append(s.stop, func() { cancel(); <-done })
	go func() {
		defer close(done)
		s.keepPolicy(own, changed)
	}()
	return nil
}

// policyEach is how often the policy is read anew even so, since keys expire.
const policyEach = 20 * time.Second

// keepPolicy tells the process that runs SRT of channels and keys. While the database is away, those that were known
// hold.
func (s *Service) keepPolicy(ctx context.Context, changed <-chan struct{}) {
	each := time.NewTicker(policyEach)
	defer each.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-changed:
		case <-each.C:
		}
		keys, err := s.db.KeyDigests(ctx, "SRT")
		if err != nil {
			continue // the next turn comes
		}
		policy := map[string]srt.ChannelPolicy{}
		for _, c := range s.origin.Channels() {
			set := c.Settings()
			policy[c.Slug()] = srt.ChannelPolicy{Digests: keys[c.Slug()], Passphrase: set.Passphrase, Receivers: set.Receivers}
		}
		s.srt.SetPolicy(policy)
	}
}
