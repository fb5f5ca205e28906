package pull

import (
	"metaplasis/internal/safely"

	"bytes"
	"context"
	"errors"
	"fmt"
	"net/url"
	"strconv"
	"time"

	"metaplasis/internal/contribution"
	"metaplasis/internal/core/hls"
)

// hls follows a playlist: of a multivariant one the best variant, with its sound.
func (x *follower) hls(ctx context.Context, address, base string, body []byte) error {
	type list struct{ address, language string }
	lists := []list{{address: address}}
	if hls.IsMultivariant(body) {
		variants, media, err := hls.ReadMultivariant(body)
		if err != nil {
			return err
		}
		if len(variants) == 0 {
			return errors.New("the playlist has no variants")
		}
		best := variants[0]
		for _, v := range variants[1:] {
			if bandwidth(v) > bandwidth(best) {
				best = v
			}
		}
		lists = []list{{address: resolve(base, best.URI)}}
		for _, m := range media {
			if m["TYPE"] == "AUDIO" && m["GROUP-ID"] == best.Attributes["AUDIO"] && m["URI"] != "" && len(lists) < maxRenditions {
				one := list{resolve(base, m["URI"]), m["LANGUAGE"]}
				if m["DEFAULT"] == "YES" && len(lists) > 1 { // the main one is the first
					lists = append(lists[:1], append([]list{one}, lists[1:]...)...)
				} else {
					lists = append(lists, one)
				}
			}
		}
		if len(lists) > 1 {
			x.expect = len(lists)
		}
	}
	ended := make(chan error, len(lists))
	for i, l := range lists {
		r := &rendition{x: x, number: i, language: l.language, ids: map[mediaID]bool{}, line: -1}
		go func() {
			ended <- safely.Run(x.logger, func() error { return x.follow(ctx, r, l.address) })
		}()
	}
	return x.wait(ctx, ended)
}

// wait returns why following ends.
func (x *follower) wait(ctx context.Context, ended <-chan error) error {
	look := time.NewTicker(time.Second)
	defer look.Stop()
	for {
		select {
		case <-ctx.Done():
			return errors.New("its input was removed, or nobody watches")
		case err := <-ended:
			return err
		case why := <-x.kicked:
			return &contribution.SentAway{Why: why}
		case <-look.C:
			x.mu.Lock()
			err := x.err
			x.mu.Unlock()
			if err != nil {
				return err
			}
			if q := x.quiet(); q > stallLimit {
				return fmt.Errorf("no new segment came for %d s", int(q.Seconds()))
			}
		}
	}
}

func bandwidth(v hls.VariantEntry) int {
	n, _ := strconv.Atoi(v.Attributes["BANDWIDTH"])
	return n
}

func resolve(base, to string) string {
	b, err := url.Parse(base)
	if err != nil {
		return to
	}
	u, err := b.Parse(to)
	if err != nil {
		return to
	}
	return u.String()
}

// follow follows one media playlist.
func (x *follower) follow(ctx context.Context, r *rendition, address string) error {
	next, begun := uint64(0), false
	var lines playlistLines
	failures := 0
	for {
		b, base, err := x.list(ctx, address)
		var p *hls.Playlist
		if err == nil {
			p, err = hls.ReadMedia(b)
		}
		if err != nil {
			if failures++; failures >= attempts || ctx.Err() != nil {
				return fmt.Errorf("playlist: %w", err)
			}
			pause(ctx, time.Second)
			continue
		}
		failures = 0
		whole := p.Whole()
		if !begun && len(whole) > 0 {
			begun = true
			next = whole[max(0, len(whole)-fromEnd)].MSN
			if p.Ended {
				next = whole[0].MSN
			}
		} else if len(whole) > 0 && next < whole[0].MSN { // it went on without us
			next = whole[0].MSN
		} else if len(whole) > 0 && next > whole[len(whole)-1].MSN+uint64(len(whole))+1 { // it started over
			next = whole[max(0, len(whole)-fromEnd)].MSN
		}
		numbers := lines.of(p, whole)
		came := false
		for i := range whole {
			e := &whole[i]
			if e.MSN < next || e.Gap {
				continue
			}
			r.next(numbers[i])
			if err := x.entry(ctx, r, base, e); err != nil {
				return err
			}
			next, came = e.MSN+1, true
			if !x.pause(ctx, r) {
				return ctx.Err()
			}
		}
		if p.Ended {
			r.finish()
			return errEnded
		}
		wait := p.TargetDuration / 2
		if came {
			wait = max(p.TargetDuration/4, 500*time.Millisecond)
		}
		if !pause(ctx, min(max(wait, 300*time.Millisecond), 5*time.Second)) {
			return ctx.Err()
		}
	}
}

// playlistLines numbers the lines of a playlist's segments: a discontinuity begins another one. A segment keeps its
// number as the playlist goes on, also when the playlist does not count the discontinuities that have left it
// (RFC 8216, 4.3.3.3).
type playlistLines struct {
	first uint64 // media sequence number of the first segment of the playlist before
	known []int  // the numbers of its segments
}

// of returns the number of each segment.
func (l *playlistLines) of(p *hls.Playlist, whole []hls.Entry) []int {
	out := make([]int, len(whole))
	line := int(p.DiscontinuitySequence)
	for i := range whole {
		if whole[i].Discontinuity {
			line++
		}
		out[i] = line
	}
	if len(whole) == 0 {
		return out
	}
	for i := range whole { // the first that was there before tells how much further the numbers are
		at := whole[i].MSN - l.first
		if whole[i].MSN < l.first || at >= uint64(len(l.known)) {
			continue
		}
		for k, by := 0, l.known[at]-out[i]; k < len(out); k++ {
			out[k] += by
		}
		break
	}
	l.first, l.known = whole[0].MSN, out
	return out
}

// entry fetches a segment, and its header when it is another one.
func (x *follower) entry(ctx context.Context, r *rendition, base string, e *hls.Entry) error {
	if e.Key != nil && !e.Key.Opens() {
		return fmt.Errorf("the segments are encrypted with %.20s: take the stream in the clear, or with AES-128", e.Key.Method)
	}
	if e.Header != "" {
		if at := fmt.Sprint(resolve(base, e.Header), e.HeaderOffset); at != r.header {
			b, err := x.again(ctx, resolve(base, e.Header), e.HeaderOffset, e.HeaderLength)
			if err != nil {
				return fmt.Errorf("header of segments: %w", err)
			}
			if e.Key != nil && !bytes.Contains(b, []byte("moov")) {
				if b, err = x.decrypt(ctx, base, e, b); err != nil {
					return fmt.Errorf("header of segments: %w", err)
				}
			}
			if err := r.open(b); err != nil {
				return err
			}
			r.header = at
		}
	}
	b, err := x.patiently(ctx, resolve(base, e.URI), e.Offset, e.Length, e.Duration)
	if err != nil {
		x.logger.Warn("a segment did not come and is left out", "error", err)
		return nil
	}
	if e.Key != nil {
		if b, err = x.decrypt(ctx, base, e, b); err != nil {
			return fmt.Errorf("segment %d: %w", e.MSN, err)
		}
	}
	return r.segment(b)
}

// decrypt decrypts a segment, with a key that is fetched when it is another one.
func (x *follower) decrypt(ctx context.Context, base string, e *hls.Entry, b []byte) ([]byte, error) {
	const keySize = 16
	at := resolve(base, e.Key.URI)
	x.mu.Lock()
	secret := x.secrets[at]
	x.mu.Unlock()
	if secret == nil {
		var err error
		if secret, err = x.get(ctx, at, -1, 0, keySize); err != nil {
			return nil, fmt.Errorf("its key: %w", err)
		}
		x.mu.Lock()
		if len(x.secrets) >= maxSecrets {
			clear(x.secrets)
		}
		x.secrets[at] = secret
		x.mu.Unlock()
	}
	return e.Key.Open(secret, b, e.MSN)
}

// again asks a few times.
func (x *follower) again(ctx context.Context, address string, offset, length int64) (b []byte, err error) {
	for n := range attempts {
		if b, err = x.get(ctx, address, offset, length, maxSegment); err == nil || ctx.Err() != nil {
			return b, err
		}
		pause(ctx, time.Duration(n+1)*300*time.Millisecond)
	}
	return nil, err
}

// Bounds of how long a segment is asked for that is named and does not come.
const (
	leastLate = 3 * time.Second
	mostLate  = 10 * time.Second
	lateEach  = 300 * time.Millisecond
)

// patiently asks for a segment for as long as another one like it takes: an origin may name it before it can be had.
func (x *follower) patiently(ctx context.Context, address string, offset, length int64, duration time.Duration) (b []byte, err error) {
	until := time.Now().Add(min(max(duration+duration/2, leastLate), mostLate))
	for {
		if b, err = x.get(ctx, address, offset, length, maxSegment); err == nil || ctx.Err() != nil || time.Now().After(until) {
			return b, err
		}
		pause(ctx, lateEach)
	}
}
