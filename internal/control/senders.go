package control

import (
	"context"
	"fmt"
	"net"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/go-chi/chi/v5"

	"metaplasis/internal/control/api"
	"metaplasis/internal/events"
	"metaplasis/internal/records"
	"metaplasis/internal/settings"
)

// senders lists how a sender reaches a channel, protocol by protocol, with what an encoder asks for in its fields. In
// place of a key stands KEY where there is none.
func (s *Service) senders(base string, slug, key string, encrypted bool) (out []api.SenderAddress) {
	host := hostOf(base)
	at := func(port int) string { return net.JoinHostPort(host, strconv.Itoa(port)) }
	if key == "" {
		key = "KEY"
	}
	for _, p := range []struct {
		name, scheme string
		port         int
	}{{"RTMP", "rtmp", s.ports.RTMP}, {"RTMPS", "rtmps", s.ports.RTMPS}} {
		if p.port > 0 {
			server := fmt.Sprintf("%s://%s/in/%s", p.scheme, at(p.port), slug)
			out = append(out, api.SenderAddress{Protocol: p.name, Server: server, Key: key, URL: server + "/" + key,
				Hint: "H.264, HEVC, VP8, VP9 or AV1, with AAC, Opus, MP3 or AC-3. Keyframes every two seconds."})
		}
	}
	if s.ports.SRT > 0 {
		id := "#!::r=" + slug + ",m=publish,u=" + key
		q := "mode=caller&latency=120&streamid=" + url.QueryEscape(id)
		hint := "MPEG-TS. Latency: four times the round trip, 120 ms at least."
		if encrypted {
			q += "&pbkeylen=16"
			hint += " Use the channel's passphrase."
		}
		out = append(out, api.SenderAddress{Protocol: "SRT", Server: "srt://" + at(s.ports.SRT), Key: id,
			URL: "srt://" + at(s.ports.SRT) + "?" + q, Hint: hint})
	}
	for _, p := range []struct {
		name, scheme string
		port         int
	}{{"RTSP", "rtsp", s.ports.RTSP}, {"RTSPS", "rtsps", s.ports.RTSPS}} {
		if p.port > 0 {
			server := fmt.Sprintf("%s://%s/in/%s", p.scheme, at(p.port), slug)
			out = append(out, api.SenderAddress{Protocol: p.name, Server: server, Key: key, URL: server + "?key=" + key,
				Hint: "Publish with RECORD; the key as query, or as password of any user."})
		}
	}
	if s.ports.WebRTC {
		server := base + "/whip/" + slug
		out = append(out, api.SenderAddress{Protocol: "WebRTC", Server: server, Key: key, URL: server,
			Hint: "WHIP. The key is the bearer token. H.264, VP8, VP9 or AV1, with Opus."})
	}
	server := base + "/in/" + slug
	return append(out, api.SenderAddress{Protocol: "HTTP", Server: server, Key: key, URL: server + "/stream.ts?key=" + key,
		Hint: "POST or PUT an MPEG-TS body that goes on, or CMAF tracks as DASH-IF live ingest, interface 1, below this address; the key as query or bearer token."})
}

func hostOf(base string) string {
	host := base[strings.Index(base, "://")+len("://"):]
	if h, _, err := net.SplitHostPort(host); err == nil {
		host = h
	}
	return host
}

// Protocols that a key may be held to.
var keyProtocols = []string{"RTMP", "SRT", "RTSP", "WebRTC", "HTTP"}

func (s *Service) addKey(_ http.ResponseWriter, r *http.Request) (any, error) {
	c, err := s.running(r)
	if err != nil {
		return nil, err
	}
	var in api.NewKey
	if err := read(r, &in); err != nil {
		return nil, err
	}
	if err := checkLabel(in.Label); err != nil {
		return nil, err
	}
	set := c.Settings()
	now := time.Now().UTC()
	switch {
	case in.Protocol != "" && !slices.Contains(keyProtocols, in.Protocol):
		return nil, fail(http.StatusBadRequest, fmt.Sprintf("found the protocol %.40q, expected one of %s", in.Protocol, strings.Join(keyProtocols, ", ")), "")
	case in.Input != "" && !slices.ContainsFunc(set.Inputs, func(i settings.Input) bool { return i.Kind == settings.InputSender && i.Name == in.Input }):
		return nil, fail(http.StatusBadRequest, fmt.Sprintf("the channel has no input for senders with the name %.40q", in.Input),
			"Add sender:NAME to its inputs first.")
	case in.Receives && (in.Input != "" || in.Protocol != "" && in.Protocol != "SRT"):
		return nil, fail(http.StatusBadRequest, "found a key for receivers with an input or a protocol other than SRT", "Receivers need keys over SRT alone.")
	case in.Expires != nil && in.Expires.Before(now):
		return nil, fail(http.StatusBadRequest, "found a time of expiry that has passed", "Give one that lies ahead.")
	}
	secret := records.NewSecret()
	id, err := s.db.AddKey(r.Context(), c.Slug(), secret, records.Key{Label: in.Label, Input: in.Input, Protocol: in.Protocol, Expires: in.Expires, Receives: in.Receives})
	if err != nil {
		return nil, err
	}
	k := api.Key{ID: id, Label: in.Label, Created: now, Input: in.Input, Protocol: in.Protocol, Expires: in.Expires, Receives: in.Receives, Secret: secret}
	if !in.Receives {
		s.sendBy(r, &k, &set)
	}
	s.Event(events.Event{At: time.Now(), Channel: c.Slug(), Level: events.Info, Kind: "key-created",
		Text: fmt.Sprintf("The contribution key %q was made by %s.", in.Label, who(r).User)})
	s.keysChanged()
	return k, nil
}

// sendBy tells how senders use a key.
func (s *Service) sendBy(r *http.Request, k *api.Key, set *settings.Settings) {
	k.Server = s.Addresses(base(r), &settings.Settings{Slug: set.Slug}).Server
	k.Senders = slices.DeleteFunc(s.senders(base(r), set.Slug, k.Secret, set.Passphrase != ""), func(a api.SenderAddress) bool {
		return k.Protocol != "" && strings.TrimSuffix(a.Protocol, "S") != k.Protocol
	})
	if k.Server != "" {
		k.URL = k.Server + "/" + k.Secret
	}
}

func (s *Service) listKeys(_ http.ResponseWriter, r *http.Request) (any, error) {
	if _, err := s.running(r); err != nil {
		return nil, err
	}
	list, err := s.db.Keys(r.Context(), chi.URLParam(r, "channel"))
	out := make([]api.Key, 0, len(list))
	for _, k := range list {
		out = append(out, api.Key{ID: k.ID, Label: k.Label, Created: k.Created, Used: k.Used, Input: k.Input, Protocol: k.Protocol, Expires: k.Expires, Receives: k.Receives})
	}
	return out, err
}

func (s *Service) removeKey(_ http.ResponseWriter, r *http.Request) (any, error) {
	id, err := number(r, "id")
	if err != nil {
		return nil, err
	}
	slug := chi.URLParam(r, "channel")
	if err := s.db.RemoveKey(r.Context(), slug, id); err != nil {
		return nil, err
	}
	s.keys.forget(slug, id)
	s.o.KeyRemoved(slug, id)
	s.Event(events.Event{At: time.Now(), Channel: slug, Level: events.Info, Kind: "key-removed",
		Text: fmt.Sprintf("A contribution key was removed by %s.", who(r).User)})
	s.keysChanged()
	return nil, nil
}

// chooseInput puts an input on air by hand.
func (s *Service) chooseInput(_ http.ResponseWriter, r *http.Request) (any, error) {
	c, err := s.running(r)
	if err != nil {
		return nil, err
	}
	var in api.Chosen
	if err := read(r, &in); err != nil {
		return nil, err
	}
	if c.Choose(in.Input) != nil {
		return nil, fail(http.StatusBadRequest, fmt.Sprintf("the channel has no input %q", in.Input), "Name one of its inputs, or none for their order.")
	}
	return nil, nil
}

// keysChanged tells whoever holds a copy of the keys.
func (s *Service) keysChanged() {
	ctx, cancel := context.WithTimeout(context.Background(), checkTimeout)
	defer cancel()
	s.learnKeys(ctx)
	if s.OnKeys != nil {
		s.OnKeys()
	}
}

// receivers lists how receivers fetch a channel, protocol by protocol.
func (s *Service) receivers(base, host, slug string) []api.ReceiverAddress {
	out := []api.ReceiverAddress{{Protocol: "Transport stream over HTTP", Way: "ts", URL: base + "/media/" + slug + "/{rung}.ts", Source: "source",
		Hint: "A stream that goes on, for players, tuners and set-top boxes."}}
	for _, p := range []struct {
		name, scheme, way, hint string
		port                    int
	}{{"RTMP", "rtmp", "rtmp", "Codecs beyond H.264 and AAC go in the enhanced form.", s.ports.RTMP}, {"RTMPS", "rtmps", "rtmp", "The same over TLS.", s.ports.RTMPS},
		{"RTSP", "rtsp", "rtsp", "Over UDP, or interleaved in the connection.", s.ports.RTSP}, {"RTSPS", "rtsps", "rtsp", "The same over TLS.", s.ports.RTSPS}} {
		if p.port > 0 {
			out = append(out, api.ReceiverAddress{Protocol: p.name, Way: p.way, URL: fmt.Sprintf("%s://%s/out/%s/{rung}", p.scheme, net.JoinHostPort(host, strconv.Itoa(p.port)), slug), Hint: p.hint})
		}
	}
	if s.ports.SRT > 0 {
		out = append(out, api.ReceiverAddress{Protocol: "SRT", Way: "srt", URL: fmt.Sprintf("srt://%s?streamid=request/%s/{rung}/KEY", net.JoinHostPort(host, strconv.Itoa(s.ports.SRT)), slug),
			Hint: "KEY is a key of this channel, and receivers over SRT have to be let in by its settings."})
	}
	return out
}
