package cli

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"metaplasis/demo"
	"metaplasis/internal/api"
	"metaplasis/internal/camera"
	"metaplasis/internal/client"
	"metaplasis/internal/core/ladder"
	"metaplasis/internal/service"
	"metaplasis/internal/settings"
)

// rehearsalWay is a demo channel that comes by another protocol than RTMP, or without a name a source on the studio's
// network alone.
type rehearsalWay struct {
	slug, title string
	input       string // as the CLI reads it; HOST stands for the service's HTTP address
	loops       []string
	coded       []ladder.Rung // that are made of it; none: it passes through
	sound       bool          // the camera sends no pictures
	// to is where its camera sends, with the channel's key; nil of a channel that needs no camera of its own.
	to func(svc *service.Service, key string) string
}

// truckGroup is where the outside-broadcast truck sends.
const truckGroup = "udp://239.255.77.1:5077?interface=lo"

// studioAt is where a source on the studio's network of the demo is announced and sent.
func studioAt(group, name, format string) func(*service.Service, string) string {
	return func(*service.Service, string) string {
		return "studio://" + group + ":5004?" + url.Values{"interface": {rehearsalStudio}, "name": {name}, "format": {format}}.Encode()
	}
}

// rehearsalStudio is the interface of the demo's studio network.
const rehearsalStudio = "lo"

// rehearsalWays are the other ways in that the demo shows.
var rehearsalWays = []rehearsalWay{
	{slug: "ob-truck", title: "Truck: committee boat", input: truckGroup, loops: []string{"committee", "chase-boat"}, to: func(*service.Service, string) string { return truckGroup }},
	{slug: "ob-truck-2", title: "Truck: chase boat", input: "programme:ob-truck#2"},
	{slug: "harbour-wall", title: "Harbour wall, over SRT", input: "sender", loops: []string{"committee"}, to: func(s *service.Service, key string) string {
		return fmt.Sprintf("srt://%s?latency=200&streamid=harbour-wall/%s", local(s.SRT), key)
	}},
	{slug: "pier-camera", title: "Pier camera, over RTSP", input: "sender", loops: []string{"committee"}, to: func(s *service.Service, key string) string {
		return fmt.Sprintf("rtsp://%s/in/pier-camera?key=%s", local(s.RTSP), key)
	}},
	{slug: "guest", title: "Guest from a browser", input: "sender", loops: []string{"harbour"}, to: func(s *service.Service, key string) string {
		return fmt.Sprintf("http://%s/whip/guest?key=%s", local(s.HTTP), key)
	}},
	{slug: "club-house", title: "Club house, pushed over HTTP", input: "sender", loops: []string{"committee"}, to: func(s *service.Service, key string) string {
		return fmt.Sprintf("http://%s/in/club-house?key=%s", local(s.HTTP), key)
	}},
	{slug: "repeater", title: "Repeater of the pier camera, while watched", input: "on-demand:http://HOST/media/pier-camera/index.m3u8"},
	{slug: "mast", title: "Mast camera, on the studio's network, while watched", input: "on-demand:studio:Mast camera", loops: []string{"committee"}, to: studioAt("239.20.7.1", "Mast camera", "raw"),
		coded: []ladder.Rung{{Name: "360p", On: true, Width: 640, Height: 360, Bitrate: 800_000, Effort: 1, AudioBitrate: 96_000}}},
	{title: "Commentary booth", sound: true, loops: []string{"start-line"}, to: studioAt("239.20.7.2", "Commentary booth", "raw")},
}

// rehearsalMore is what a larger machine carries beside.
var rehearsalMore = []rehearsalWay{
	{slug: "north", title: "North camera, 442 Mbit/s", input: "studio:North camera", loops: []string{"start-line"}, to: studioAt("239.20.7.3", "North camera", "raw"),
		coded: []ladder.Rung{{Name: "720p", On: true, Width: 1280, Height: 720, Bitrate: 2_400_000, Effort: 1, AudioBitrate: 128_000}}},
	{title: "South camera", loops: []string{"chase-boat"}, to: studioAt("239.20.7.4", "South camera", "jpeg")},
}

// open reports whether the way's port is open.
func (w *rehearsalWay) open(svc *service.Service) bool {
	if w.to == nil || w.input != "sender" {
		return true
	}
	switch w.slug {
	case "harbour-wall":
		return svc.SRT != ""
	case "pier-camera":
		return svc.RTSP != ""
	case "guest":
		return svc.WebRTC != ""
	}
	return true
}

// raiseWay makes a channel of another way in, unless it is there, and starts its camera.
func (a *app) raiseWay(ctx context.Context, c *client.Client, svc *service.Service, w *rehearsalWay, done chan<- struct{}) error {
	if !w.open(svc) {
		done <- struct{}{}
		return nil
	}
	key := ""
	if w.slug != "" {
		if err := a.raiseWayChannel(ctx, c, svc, w); err != nil {
			return err
		}
		if w.to == nil {
			done <- struct{}{}
			return nil
		}
		var err error
		if key, err = a.rehearsalKey(ctx, c, w.slug); err != nil {
			return err
		}
	}
	programmes, err := loadLoops(w.loops, "")
	if err != nil {
		return err
	}
	go func() {
		defer func() { done <- struct{}{} }()
		o := camera.Options{URL: w.to(svc, key), Name: programmes[0].Name, NoVideo: w.sound, Retry: time.Second}
		for ctx.Err() == nil {
			if len(programmes) > 1 {
				err = camera.RunProgrammes(ctx, programmes, o)
			} else {
				err = camera.Run(ctx, programmes[0].Clip, o)
			}
			if ctx.Err() == nil {
				_, _ = fmt.Fprintf(a.err, "camera of %s: %v\n", w.title, err)
				select {
				case <-ctx.Done():
				case <-time.After(o.Retry):
				}
			}
		}
	}()
	return nil
}

func (a *app) raiseWayChannel(ctx context.Context, c *client.Client, svc *service.Service, w *rehearsalWay) error {
	ch, err := c.Channel(ctx, w.slug)
	var refused *client.Error
	if errors.As(err, &refused) && refused.Status == 404 {
		rungs := w.coded
		if rungs == nil {
			rungs = []ladder.Rung{{Name: "source", On: true, Source: true}}
		}
		input := strings.Replace(w.input, "HOST", local(svc.HTTP), 1)
		ch, err = c.CreateChannel(ctx, settings.Settings{Slug: w.slug, Title: w.title, Inputs: []settings.Input{settings.ParseInput(input)}, Ladder: ladder.Ladder{Rungs: rungs}})
	}
	if err == nil {
		a.addresses(w.title, ch.Addresses)
	}
	return err
}

// rehearsalKey makes a key for a demo camera, in place of the one of the time before, whose secret is not known any
// more.
func (a *app) rehearsalKey(ctx context.Context, c *client.Client, slug string) (string, error) {
	const label = "rehearsal camera"
	keys, err := c.Keys(ctx, slug)
	if err != nil {
		return "", err
	}
	for _, k := range keys {
		if k.Label == label {
			if err := c.RemoveKey(ctx, slug, k.ID); err != nil {
				return "", err
			}
		}
	}
	key, err := c.CreateKey(ctx, slug, api.NewKey{Label: label})
	return key.Secret, err
}

// rehearsalFiles are what lies in the library: the loops under other names, and what goes with them.
var rehearsalFiles = []struct {
	name, loop, text string
	cut              bool // the file is not whole
}{
	{name: "2026/Race 3, start.flv", loop: "start-line"},
	{name: "2026/Race 3, start.en.vtt", text: "WEBVTT\n\n00:01.000 --> 00:04.000\nThe boats line up behind the start.\n\n00:05.000 --> 00:09.000\nAnd they are off!\n"},
	{name: "2026/Race 3, start.fr.srt", text: "1\n00:00:01,000 --> 00:00:04,000\nLes bateaux s’alignent derrière le départ.\n"},
	{name: "2026/Race 3, upwind leg.flv", loop: "chase-boat"},
	{name: "2026/Marks at noon.flv", loop: "marks"},
	{name: "2026/Committee boat, broken off.flv", loop: "committee", cut: true},
	{name: "Harbour at dusk.flv", loop: "harbour"},
}

// stock puts the files of the rehearsal into the library, unless they are there.
func stock(folder, data string) error {
	if folder == "" {
		folder = filepath.Join(data, "library")
	}
	for _, f := range rehearsalFiles {
		path := filepath.Join(folder, f.name)
		if _, err := os.Stat(path); err == nil {
			continue
		}
		b := []byte(f.text)
		for _, l := range slices.Concat(demo.Loops, demo.Others) {
			if l.Name == f.loop {
				b = l.FLV
			}
		}
		if f.cut {
			b = b[:len(b)*2/3]
		}
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			return err
		}
		if err := os.WriteFile(path, b, 0o644); err != nil {
			return err
		}
	}
	return nil
}
