package camera

import (
	"context"
	"encoding/base64"
	"fmt"
	"net/url"
	"strings"

	"metaplasis/internal/address"

	"metaplasis/internal/contribution"
	"metaplasis/internal/contribution/tracks"
	"metaplasis/internal/core/amf"
	"metaplasis/internal/core/flv"
	"metaplasis/internal/core/media"
	"metaplasis/internal/onward"
	"metaplasis/internal/protocol/http/push"
	"metaplasis/internal/protocol/mpegts"
	"metaplasis/internal/protocol/rtmp"
	"metaplasis/internal/protocol/rtsp"
	"metaplasis/internal/protocol/srt"
	"metaplasis/internal/protocol/studio"
	"metaplasis/internal/protocol/webrtc"
)

// connection is what a camera sends over.
type connection interface {
	// begin sends what the loop says of itself.
	begin(metadata amf.ECMAArray) error
	tag(kind uint8, at uint32, body []byte) error
	cue(at uint32, section []byte) error
	Failed() <-chan error
	Close() error
}

// dial opens the line to an address.
func dial(ctx context.Context, o *Options) (connection, error) {
	u, err := url.Parse(o.URL)
	if err != nil {
		return nil, fmt.Errorf("address to send to: %w", err)
	}
	scheme, known := address.Find(u.Scheme)
	if !known || scheme.Of&address.Camera == 0 {
		return nil, &media.FormatError{Format: "address to send to", Found: fmt.Sprintf("the scheme %q", u.Scheme), Want: strings.Join(address.Names(address.Camera), ", ")}
	}
	switch scheme.Family {
	case "rtmp":
		conn, err := rtmp.Dial(ctx, o.URL, o.Dial)
		if err != nil {
			return nil, err
		}
		return rtmpLine{conn}, nil
	case "srt":
		conn, err := srt.Dial(ctx, u)
		if err != nil {
			return nil, err
		}
		return newUnitLine(conn.Programme(1, o.Name)), nil
	case "rtsp":
		if u.Query().Get("mode") == "listener" { // it waits for who plays, as an IP camera does
			s, err := rtsp.Listen(u)
			if err != nil {
				return nil, err
			}
			return newUnitLine(s), nil
		}
		conn, err := rtsp.Dial(ctx, u, rtsp.Options{TLS: o.Dial.TLS})
		if err != nil {
			return nil, err
		}
		return newUnitLine(conn), nil
	case "http":
		switch {
		case strings.HasPrefix(u.Path, "/whip/"):
			conn, err := webrtc.Dial(u, webrtc.Options{})
			if err != nil {
				return nil, err
			}
			return newUnitLine(conn), nil
		case strings.HasSuffix(u.Path, ".ts"):
			return newUnitLine(push.Stream(ctx, u).Programme(1, o.Name)), nil
		}
		return newUnitLine(push.Dial(ctx, u)), nil
	case "mpegts":
		conn, err := mpegts.Dial(ctx, u)
		if err != nil {
			return nil, err
		}
		return newUnitLine(conn.Programme(1, o.Name)), nil
	}
	conn, err := studio.Dial(ctx, u)
	if err != nil {
		return nil, err
	}
	return newUnitLine(conn), nil
}

// rtmpLine sends tags as they are.
type rtmpLine struct{ *rtmp.Conn }

func (l rtmpLine) begin(m amf.ECMAArray) error { return l.Metadata(m) }

func (l rtmpLine) tag(kind uint8, at uint32, body []byte) error { return l.Media(kind, at, body) }

func (l rtmpLine) cue(at uint32, section []byte) error {
	return l.Data(at, "scte35", amf.Object{{Name: "data", Value: base64.StdEncoding.EncodeToString(section)}})
}

// unitLine sends the access units that tags hold.
type unitLine struct {
	onward.Sender
	set *tracks.Set
}

func newUnitLine(s onward.Sender) *unitLine { return &unitLine{s, tracks.New(s)} }

func (l *unitLine) begin(m amf.ECMAArray) error {
	l.set.Metadata(amf.Object(m))
	if c, ok := l.Sender.(*webrtc.Conn); ok {
		c.Notes(contribution.ExtrasOf(amf.Object(m)))
	}
	return nil
}

func (l *unitLine) tag(kind uint8, at uint32, body []byte) error {
	k := media.Video
	if kind == flv.TagAudio {
		k = media.Audio
	}
	if err := flv.Bodies(kind, body, func(b *flv.Body) error { return l.set.Body(k, at, b) }); err != nil {
		return err
	}
	return l.Flush()
}

func (l *unitLine) cue(at uint32, section []byte) error {
	l.Cue(int64(at), section)
	return l.Flush()
}
