package cli

import (
	"context"
	"errors"
	"fmt"
	"time"

	"metaplasis/internal/camera"
	"metaplasis/internal/control/api"
	"metaplasis/internal/control/client"
	"metaplasis/internal/core/ladder"
	"metaplasis/internal/origin"
	"metaplasis/internal/service"
)

// rehearsalWay is a demo channel that comes by another protocol than RTMP. Its source passes through.
type rehearsalWay struct {
	slug, title string
	input       string // as the CLI reads it
	loops       []string
	// to is where its camera sends, with the channel's key; nil of a channel that needs no camera of its own.
	to func(svc *service.Service, key string) string
}

// truckGroup is where the outside-broadcast truck sends.
const truckGroup = "udp://239.255.77.1:5077?interface=lo"

// rehearsalWays are the other ways in that the demo shows.
var rehearsalWays = []rehearsalWay{
	{"ob-truck", "Truck: committee boat", truckGroup, []string{"committee", "chase-boat"}, func(*service.Service, string) string { return truckGroup }},
	{"ob-truck-2", "Truck: chase boat", "programme:ob-truck#2", nil, nil},
	{"harbour-wall", "Harbour wall, over SRT", "sender", []string{"committee"}, func(s *service.Service, key string) string {
		return fmt.Sprintf("srt://%s?latency=200&streamid=harbour-wall/%s", local(s.SRT), key)
	}},
	{"pier-camera", "Pier camera, over RTSP", "sender", []string{"committee"}, func(s *service.Service, key string) string {
		return fmt.Sprintf("rtsp://%s/in/pier-camera?key=%s", local(s.RTSP), key)
	}},
	{"guest", "Guest from a browser", "sender", []string{"harbour"}, func(s *service.Service, key string) string {
		return fmt.Sprintf("http://%s/whip/guest?key=%s", local(s.HTTP), key)
	}},
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
	}
	return svc.WebRTC != ""
}

// raiseWay makes a channel of another way in, unless it is there, and starts its camera.
func (a *app) raiseWay(ctx context.Context, c *client.Client, svc *service.Service, w *rehearsalWay, done chan<- struct{}) error {
	if !w.open(svc) {
		done <- struct{}{}
		return nil
	}
	ch, err := c.Channel(ctx, w.slug)
	var refused *client.Error
	if errors.As(err, &refused) && refused.Status == 404 {
		ch, err = c.CreateChannel(ctx, origin.Settings{Slug: w.slug, Title: w.title, Inputs: []origin.Input{origin.ParseInput(w.input)},
			Ladder: ladder.Ladder{Rungs: []ladder.Rung{{Name: "source", On: true, Source: true}}}})
	}
	if err != nil {
		return err
	}
	a.addresses(w.title, ch.Addresses)
	if w.to == nil {
		done <- struct{}{}
		return nil
	}
	key, err := a.rehearsalKey(ctx, c, w.slug)
	if err != nil {
		return err
	}
	programmes, err := loadLoops(w.loops, "")
	if err != nil {
		return err
	}
	go func() {
		defer func() { done <- struct{}{} }()
		o := camera.Options{URL: w.to(svc, key), Name: programmes[0].Name, Retry: time.Second}
		for ctx.Err() == nil {
			if len(programmes) > 1 {
				err = camera.RunProgrammes(ctx, programmes, o)
			} else {
				err = camera.Run(ctx, programmes[0].Clip, o)
			}
			if ctx.Err() == nil {
				_, _ = fmt.Fprintf(a.err, "camera of %s: %v\n", w.slug, err)
				select {
				case <-ctx.Done():
				case <-time.After(o.Retry):
				}
			}
		}
	}()
	return nil
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
