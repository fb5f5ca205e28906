package service

import (
	"context"
	"fmt"
	"net"
	"strconv"
	"time"

	"metaplasis/internal/protocol/srt"
)

// receiveSRT starts the process that runs SRT, and tells it who may connect, now and whenever that changes.
func (s *Service) receiveSRT(ctx context.Context) error {
	s.srt = &srt.Manager{Receiver: receiver{s.origin}, Streams: &s.streams, Process: s.conf.SRTHost, Channels: taps{s.origin}, Join: s.join, Logger: s.conf.Logger}
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
		s.srtPort = port
	}
	s.desk.OnChange(func() { s.tellPolicy(context.Background()) })
	s.tellPolicy(ctx)
	own, cancel := context.WithCancel(context.Background())
	done := make(chan struct{})
	s.stop = append(s.stop, func() { cancel(); <-done })
	go func() {
		defer close(done)
		each := time.NewTicker(policyEach)
		defer each.Stop()
		for {
			select {
			case <-own.Done():
				return
			case <-each.C:
				s.tellPolicy(own)
			}
		}
	}()
	return nil
}

// policyEach is how often the policy is read again even so, since keys expire; policyWithin bounds how long that may take.
const (
	policyEach   = 20 * time.Second
	policyWithin = 2 * time.Second
)

// tellPolicy tells the process that runs SRT of channels and keys, before who changed them is answered. While the
// database is away, those that were known hold, and the next turn comes.
func (s *Service) tellPolicy(ctx context.Context) {
	ctx, cancel := context.WithTimeout(ctx, policyWithin)
	defer cancel()
	keys, receiving, err := s.db.KeyDigests(ctx, "SRT")
	if err != nil {
		s.conf.Logger.Warn("keys of senders over SRT cannot be read now; those of before hold", "error", err)
		return
	}
	policy := map[string]srt.ChannelPolicy{}
	for _, c := range s.origin.Channels() {
		set := c.Settings()
		policy[c.Slug()] = srt.ChannelPolicy{Digests: keys[c.Slug()], Receiving: receiving[c.Slug()], Passphrase: set.Passphrase, Receivers: set.Receivers}
	}
	s.srt.SetPolicy(policy)
}
