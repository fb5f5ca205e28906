package control

import (
	"fmt"
	"net"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"metaplasis/internal/api"
	"metaplasis/internal/settings"
)

// Ports say where senders and receivers reach the service, for the addresses that it shows.
type Ports struct {
	RTMP, RTMPS, SRT, RTSP, RTSPS int // 0: off
	WebRTC                        bool
}

// base is how the caller reached us, such as http://host:8780.
func base(r *http.Request) string {
	scheme := "http"
	if r.TLS != nil || r.Header.Get("X-Forwarded-Proto") == "https" {
		scheme = "https"
	}
	return scheme + "://" + r.Host
}

// Addresses makes a channel's addresses below a base such as http://host:8780.
func (p Ports) Addresses(base string, set *settings.Settings) api.Addresses {
	slug := set.Slug
	host := hostOf(base)
	a := api.Addresses{
		Console: base + "/#/channels/" + slug, Watch: base + "/watch/" + slug, Embed: base + "/embed/" + slug,
		HLS: base + "/media/" + slug + "/index.m3u8", DASH: base + "/media/" + slug + "/index.mpd", LowDASH: base + "/media/" + slug + "/low.mpd", Selections: []api.SelectionAddresses{}, Picture: base + "/media/" + slug + "/picture.jpg",
	}
	a.Code = fmt.Sprintf(`<iframe src="%s" width="960" height="540" style="border:0" allow="autoplay; fullscreen" title="%s"></iframe>`, a.Embed, slug)
	if set.TS {
		a.TS = base + "/media/" + slug + "/ts.m3u8"
	}
	a.Socket = "ws" + strings.TrimPrefix(base, "http") + "/socket/" + slug
	if p.WebRTC {
		a.WebRTC = base + "/whep/" + slug
	}
	for _, sel := range set.Selections {
		at := base + "/media/" + slug + "/" + sel.Name
		a.Selections = append(a.Selections, api.SelectionAddresses{Name: sel.Name, HLS: at + ".m3u8", DASH: at + ".mpd",
			LowDASH: at + "-low.mpd"})
	}
	if p.RTMP > 0 {
		a.Server = fmt.Sprintf("rtmp://%s/in/%s", net.JoinHostPort(host, strconv.Itoa(p.RTMP)), slug)
	}
	if p.RTMPS > 0 {
		a.Secure = fmt.Sprintf("rtmps://%s/in/%s", net.JoinHostPort(host, strconv.Itoa(p.RTMPS)), slug)
	}
	a.Receivers = p.receivers(base, host, slug)
	a.Senders = p.senders(base, slug, "", set.Passphrase != "")
	return a
}

// senders lists how a sender reaches a channel, protocol by protocol, with what an encoder asks for in its fields. In
// place of a key stands KEY where there is none.
func (p Ports) senders(base string, slug, key string, encrypted bool) (out []api.SenderAddress) {
	host := hostOf(base)
	at := func(port int) string { return net.JoinHostPort(host, strconv.Itoa(port)) }
	if key == "" {
		key = "KEY"
	}
	for _, one := range []struct {
		name, scheme string
		port         int
	}{{"RTMP", "rtmp", p.RTMP}, {"RTMPS", "rtmps", p.RTMPS}} {
		if one.port > 0 {
			server := fmt.Sprintf("%s://%s/in/%s", one.scheme, at(one.port), slug)
			out = append(out, api.SenderAddress{Protocol: one.name, Server: server, Key: key, URL: server + "/" + key,
				Hint: "H.264, HEVC, VP8, VP9 or AV1, with AAC, Opus, MP3 or AC-3. Keyframes every two seconds."})
		}
	}
	if p.SRT > 0 {
		id := "#!::r=" + slug + ",m=publish,u=" + key
		q := "mode=caller&latency=120&streamid=" + url.QueryEscape(id)
		hint := "MPEG-TS. Latency: four times the round trip, 120 ms at least."
		if encrypted {
			q += "&pbkeylen=16"
			hint += " Use the channel's passphrase."
		}
		out = append(out, api.SenderAddress{Protocol: "SRT", Server: "srt://" + at(p.SRT), Key: id,
			URL: "srt://" + at(p.SRT) + "?" + q, Hint: hint})
	}
	for _, one := range []struct {
		name, scheme string
		port         int
	}{{"RTSP", "rtsp", p.RTSP}, {"RTSPS", "rtsps", p.RTSPS}} {
		if one.port > 0 {
			server := fmt.Sprintf("%s://%s/in/%s", one.scheme, at(one.port), slug)
			out = append(out, api.SenderAddress{Protocol: one.name, Server: server, Key: key, URL: server + "?key=" + key,
				Hint: "Publish with RECORD; the key as query, or as password of any user."})
		}
	}
	if p.WebRTC {
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

// sendBy tells how senders use a key.
func (p Ports) sendBy(base string, k *api.Key, set *settings.Settings) {
	k.Server = p.Addresses(base, &settings.Settings{Slug: set.Slug}).Server
	k.Senders = slices.DeleteFunc(p.senders(base, set.Slug, k.Secret, set.Passphrase != ""), func(a api.SenderAddress) bool {
		return k.Protocol != "" && strings.TrimSuffix(a.Protocol, "S") != k.Protocol
	})
	if k.Server != "" {
		k.URL = k.Server + "/" + k.Secret
	}
}

// receivers lists how receivers fetch a channel, protocol by protocol.
func (p Ports) receivers(base, host, slug string) []api.ReceiverAddress {
	out := []api.ReceiverAddress{{Protocol: "Transport stream over HTTP", Way: "ts", URL: base + "/media/" + slug + "/{rung}.ts", Source: "source",
		Hint: "A stream that goes on, for players, tuners and set-top boxes."}}
	for _, one := range []struct {
		name, scheme, way, hint string
		port                    int
	}{{"RTMP", "rtmp", "rtmp", "Codecs beyond H.264 and AAC go in the enhanced form.", p.RTMP}, {"RTMPS", "rtmps", "rtmp", "The same over TLS.", p.RTMPS},
		{"RTSP", "rtsp", "rtsp", "Over UDP, or interleaved in the connection.", p.RTSP}, {"RTSPS", "rtsps", "rtsp", "The same over TLS.", p.RTSPS}} {
		if one.port > 0 {
			out = append(out, api.ReceiverAddress{Protocol: one.name, Way: one.way, URL: fmt.Sprintf("%s://%s/out/%s/{rung}", one.scheme, net.JoinHostPort(host, strconv.Itoa(one.port)), slug), Hint: one.hint})
		}
	}
	if p.SRT > 0 {
		out = append(out, api.ReceiverAddress{Protocol: "SRT", Way: "srt", URL: fmt.Sprintf("srt://%s?streamid=request/%s/{rung}/KEY", net.JoinHostPort(host, strconv.Itoa(p.SRT)), slug),
			Hint: "KEY is a key of this channel, and receivers over SRT have to be let in by its settings."})
	}
	return out
}
