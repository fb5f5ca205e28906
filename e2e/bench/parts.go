package main

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net/http"
	"slices"
	"sync"
	"time"

	"metaplasis/demo"
	"metaplasis/internal/api"
	"metaplasis/internal/camera"
	"metaplasis/internal/core/bmff"
	"metaplasis/internal/core/flv"
	"metaplasis/internal/core/hls"
	"metaplasis/internal/core/ladder"
	"metaplasis/internal/settings"
	"metaplasis/internal/viewer"
)

// partSpan is for how long the parts of a protocol are watched.
const partSpan = 8 * time.Second

// pictures are those of a loop by what they end with, in the order in which they are sent.
func pictures(loop *demo.Loop) (list map[[32]byte]int, err error) {
	r, err := flv.NewReader(bytes.NewReader(loop.FLV))
	if err != nil {
		return nil, err
	}
	list = map[[32]byte]int{}
	for n := 0; ; {
		tag, err := r.Next()
		if errors.Is(err, io.EOF) {
			return list, nil
		}
		if err != nil {
			return nil, err
		}
		if tag.Type != flv.TagVideo {
			continue
		}
		err = flv.Bodies(tag.Type, tag.Body, func(b *flv.Body) error {
			if !b.Config && len(b.Data) > 0 {
				list[tailOf(b.Data)] = n
				n++
			}
			return nil
		})
		if err != nil {
			return nil, err
		}
	}
}

// tailOf is what stays of a picture whatever carries it.
func tailOf(b []byte) [32]byte { return sha256.Sum256(b[max(0, len(b)-120):]) }

// partDelays measures, protocol by protocol, how long behind the camera's sending of a part's last picture the part is
// in a viewer's hands, passed through.
func partDelays() error {
	s, err := serveWhole()
	if err != nil {
		return err
	}
	defer s.close()
	committee, harbour := &demo.Others[2], &demo.Others[0]
	for _, w := range []struct {
		name    string
		loop    *demo.Loop
		note    string
		address func(slug, key string) (input, to string)
	}{
		{"RTMP", committee, "", func(slug, key string) (string, string) { return "", s.rtmp + "/in/" + slug + "/" + key }},
		{"TS over UDP", committee, "", overUDP},
		{"SRT", committee, "latency 120 ms", func(slug, key string) (string, string) {
			return "", s.srt + "?latency=120&streamid=" + slug + "/" + key
		}},
		{"RTSP", committee, "", func(slug, key string) (string, string) { return "", s.rtsp + "/in/" + slug + "?key=" + key }},
		{"CMAF over HTTP", committee, "a picture leaves with the next one", func(slug, key string) (string, string) { return "", s.http + "/in/" + slug + "?key=" + key }},
		{"WebRTC", harbour, "", func(slug, key string) (string, string) { return "", s.http + "/whip/" + slug + "?key=" + key }},
	} {
		delays, err := s.partsOf(w.loop, w.address)
		if err != nil {
			return fmt.Errorf("%s: %w", w.name, err)
		}
		slices.Sort(delays)
		at := func(share int) string {
			return fmt.Sprintf("%.1f", max(delays[(len(delays)-1)*share/100], 0).Seconds()*1000)
		}
		row("last picture of a part sent to the part read, over "+w.name, "p50 "+at(50)+" ms, p95 "+at(95)+" ms", w.note, "", fmt.Sprintf("%d parts", len(delays)))
	}
	return nil
}

// pageDelays measures what a viewer sees of a 720p source beside two encoded rungs: how far behind the camera pictures are shown, and
// how often the player stops.
func pageDelays() error {
	s, err := serveWhole()
	if err != nil {
		return err
	}
	defer s.close()
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	const slug = "pages"
	set := settings.Settings{Slug: slug, Ladder: ladder.Ladder{Rungs: []ladder.Rung{{Name: "source", On: true, Source: true},
		{Name: "480p", On: true, Height: 480, Bitrate: 1_200_000, Effort: 1}, {Name: "240p", On: true, Height: 240, Bitrate: 350_000, Effort: 1}}}}
	if _, err := s.api.CreateChannel(ctx, set); err != nil {
		return err
	}
	k, err := s.api.CreateKey(ctx, slug, api.NewKey{})
	if err != nil {
		return err
	}
	clip, err := camera.Load(demo.Loops[0].FLV)
	if err != nil {
		return err
	}
	go func() { _ = camera.Run(ctx, clip, camera.Options{URL: s.rtmp + "/in/" + slug + "/" + k.Secret}) }()
	for begun := time.Now(); ; time.Sleep(100 * time.Millisecond) {
		if time.Since(begun) > time.Minute {
			return errors.New("it is not on air")
		}
		if _, b, err := answered(s.http + "/media/" + slug + "/480p/index.m3u8"); err == nil && bytes.HasPrefix(b, []byte("#EXTM3U")) {
			break
		}
	}
	for _, run := range []struct{ way, rung, goal string }{
		{"ll-hls", "480p", "median 1000 ms, p95 1300 ms"}, {"ll-dash", "480p", "median 1000 ms, p95 1300 ms"}, {"ll-hls", "source", "median 800 ms, p95 1300 ms"},
		{"hls", "480p", "no stall"}, {"dash", "480p", "no stall"},
	} {
		m, err := viewer.Measure(ctx, s.http, viewer.Run{Channel: slug, Way: run.way, Rung: run.rung, Settle: 6 * time.Second, Take: 20 * time.Second})
		if err != nil {
			return fmt.Errorf("%s of %s: %w", run.way, run.rung, err)
		}
		row("camera to page, "+run.way+" of "+run.rung, fmt.Sprintf("median %d ms, p95 %d ms", m.Median, m.P95), fmt.Sprintf("%d stalls", m.Stalls), "", run.goal)
	}
	return nil
}

// partsOf measures what parts cost.
//
//large:one measurement, told from its begin to its end
func (s *wholeService) partsOf(loop *demo.Loop, address func(slug, key string) (input, to string)) ([]time.Duration, error) {
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	const slug = "parts"
	input, to := address(slug, "")
	set := settings.Settings{Slug: slug, Ladder: ladder.Ladder{Rungs: []ladder.Rung{{Name: "source", On: true, Source: true}}}}
	if input != "" {
		set.Inputs = []settings.Input{settings.ParseInput(input)}
	}
	if _, err := s.api.CreateChannel(ctx, set); err != nil {
		return nil, err
	}
	defer func() { _ = s.api.RemoveChannel(context.Background(), slug) }()
	k, err := s.api.CreateKey(ctx, slug, api.NewKey{})
	if err != nil {
		return nil, err
	}
	if input == "" {
		_, to = address(slug, k.Secret)
	}
	known, err := pictures(loop)
	if err != nil {
		return nil, err
	}
	clip, err := camera.Load(loop.FLV)
	if err != nil {
		return nil, err
	}
	var mu sync.Mutex
	sent := make([]time.Time, len(known))
	count := 0
	go func() {
		_ = camera.Run(ctx, clip, camera.Options{URL: to, Name: loop.Title, Retry: time.Second, OnSent: func(kind uint8, _, _ int, at time.Time) {
			if kind == flv.TagVideo {
				mu.Lock()
				sent[count%len(sent)] = at
				count++
				mu.Unlock()
			}
		}})
	}()
	base := s.http + "/media/" + slug + "/source/"
	var p *hls.Playlist
	for begun := time.Now(); p == nil || len(p.Whole()) < 2; time.Sleep(50 * time.Millisecond) {
		if time.Since(begun) > 30*time.Second {
			return nil, errors.New("it is not on air")
		}
		if _, b, err := answered(base + "index.m3u8"); err == nil {
			p, _ = hls.ReadMedia(b)
		}
	}
	_, head, err := answered(base + p.Whole()[0].Header)
	if err != nil {
		return nil, err
	}
	header, err := bmff.ReadHeader(head)
	if err != nil {
		return nil, err
	}
	var delays []time.Duration
	next := p.Whole()[len(p.Whole())-1].MSN + 1
	first := true // of which parts may be there already
	for end := time.Now().Add(partSpan); time.Now().Before(end); next++ {
		err := grows(fmt.Sprintf("%s%d.m4s", base, next), func(chunk []byte, at time.Time) error {
			fragments, err := header.ReadFragments(chunk)
			if err != nil || len(fragments) == 0 {
				return err
			}
			units := fragments[len(fragments)-1].Units
			if n, ok := known[tailOf(units[len(units)-1].Data)]; ok && !first {
				mu.Lock()
				delays = append(delays, at.Sub(sent[n]))
				mu.Unlock()
			}
			return nil
		})
		if err != nil {
			return nil, err
		}
		first = false
	}
	if len(delays) == 0 {
		return nil, errors.New("no part was found again")
	}
	return delays, nil
}

// grows reads a segment as it grows, and hands each chunk over with the time at which it was whole.
func grows(url string, take func(chunk []byte, at time.Time) error) error {
	res, err := http.Get(url)
	if err != nil {
		return err
	}
	defer func() { _ = res.Body.Close() }()
	if res.StatusCode != http.StatusOK {
		return fmt.Errorf("%s: %s", url, res.Status)
	}
	var buf []byte
	piece := make([]byte, 64<<10)
	for {
		n, err := res.Body.Read(piece)
		now := time.Now()
		buf = append(buf, piece[:n]...)
		for at := 0; at+8 <= len(buf); {
			size := int(binary.BigEndian.Uint32(buf[at:]))
			if size < 8 || at+size > len(buf) {
				break
			}
			at += size
			if string(buf[at-size+4:at-size+8]) == "mdat" {
				if err := take(buf[:at], now); err != nil {
					return err
				}
				buf, at = append([]byte(nil), buf[at:]...), 0
			}
		}
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
	}
}
