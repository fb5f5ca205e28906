package srt

import (
	"fmt"
	"net/url"
	"strings"

	"metaplasis/internal/core/media"
)

// Access is what a stream id asks for.
type Access struct {
	Channel string
	Key     string
	Request bool   // to receive, not to send
	Rung    string // of a request; "" is the sender's transport stream as it came, or the source
}

// maxStreamID bounds a stream id (draft-sharabayko-srt, 3.2.1.3).
//
//limit:bytes of a stream id | each caller | the caller is refused
const maxStreamID = 512

// parseStreamID reads a stream id: the access control syntax of the SRT draft (draft-sharabayko-srt, appendix B),
//
//	#!::r=start-line,m=publish,u=KEY
//
// where r names the channel, m is publish (the default here) or request, and u, or s, is the key; or a plain form,
//
//	start-line/KEY     start-line?key=KEY     request/start-line/KEY     request/start-line/720p/KEY
//
// A request may name a rung behind the channel: r=start-line/720p.
func parseStreamID(text string) (a Access, err error) {
	wrong := func(found string) error {
		return &media.FormatError{Format: "SRT stream id", Found: found, Want: "#!::r=CHANNEL,m=publish,u=KEY or CHANNEL/KEY"}
	}
	if len(text) > maxStreamID {
		return a, wrong(fmt.Sprintf("%d characters", len(text)))
	}
	if strings.HasPrefix(text, "%23") { // some senders hand on what stood in an address as it stood there
		if plain, err := url.PathUnescape(text); err == nil {
			text = plain
		}
	}
	if fields, ok := strings.CutPrefix(text, "#!::"); ok {
		for field := range strings.SplitSeq(fields, ",") {
			name, value, _ := strings.Cut(field, "=")
			switch name {
			case "r":
				a.Channel = strings.TrimPrefix(strings.Trim(value, "/"), "in/")
			case "u", "s":
				if a.Key == "" {
					a.Key = value
				}
			case "m":
				switch value {
				case "publish":
				case "request":
					a.Request = true
				default:
					return a, wrong("the mode " + fmt.Sprintf("%.20q", value))
				}
			}
		}
		if channel, key, ok := strings.Cut(a.Channel, "/"); ok && a.Key == "" {
			a.Channel, a.Key = channel, key
		}
	} else {
		text = strings.Trim(text, "/")
		if rest, ok := strings.CutPrefix(text, "request/"); ok {
			text, a.Request = rest, true
		}
		text = strings.TrimPrefix(strings.TrimPrefix(text, "publish/"), "in/")
		if channel, key, ok := strings.Cut(text, "?key="); ok {
			a.Channel, a.Key = channel, key
		} else {
			a.Channel, a.Key, _ = strings.Cut(text, "/")
		}
	}
	if a.Request {
		if channel, rung, ok := strings.Cut(a.Channel, "/"); ok {
			a.Channel, a.Rung = channel, rung
		} else if rung, key, ok := strings.Cut(a.Key, "/"); ok {
			a.Rung, a.Key = rung, key
		}
	}
	if a.Channel == "" || a.Key == "" {
		return a, wrong(fmt.Sprintf("a stream id of %d characters without a channel and a key", len(text))) // what is there may be a key
	}
	return a, nil
}
