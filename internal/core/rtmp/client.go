package rtmp

import (
	"encoding/binary"
	"fmt"
	"io"

	"metaplasis/internal/core/amf"
	"metaplasis/internal/core/coding"
	"metaplasis/internal/core/media"
)

// Client is the sending end of one connection.
type Client struct {
	link
	app, name, url string
	c1             []byte
	stage          int // 0: S0 to S2, 1: chunks
	stream         uint32
	started        bool
	plays          bool            // it receives
	takes          map[string]bool // the FourCCs that the server announced
}

// offeredCodecs lists the codecs of the enhanced form that are known here.
func offeredCodecs() (out []any) {
	for _, kind := range []media.Kind{media.Video, media.Audio} {
		for _, code := range coding.FourCCs(kind) {
			out = append(out, code)
		}
	}
	return out
}

// announced reads what a server says in its answer to connect of the codecs that it takes: fourCcList, or a map of each kind.
func (c *Client) announced(values []any) {
	for _, v := range values {
		o, ok := v.(amf.Object)
		if !ok {
			continue
		}
		for _, p := range o {
			switch list := p.Value.(type) {
			case []any:
				for _, code := range list {
					if text, ok := code.(string); ok && p.Name == "fourCcList" && len(c.takes) < maxAnnounced {
						c.takes[text] = true
					}
				}
			case amf.Object:
				for _, one := range list {
					if (p.Name == "videoFourCcInfoMap" || p.Name == "audioFourCcInfoMap") && len(c.takes) < maxAnnounced {
						c.takes[one.Name] = true
					}
				}
			}
		}
	}
}

// maxAnnounced bounds them.
//
//limit:codecs that a server announces | each connection | further ones are not sent to it
const maxAnnounced = 64

// Takes reports whether the server announced a codec by its FourCC; "*" announces all.
func (c *Client) Takes(fourCC string) bool { return c.takes[fourCC] || c.takes["*"] }

// NewClient makes a sending end that will publish name in the application app, and queues its
// first bytes. url is the address without the name, as connect's tcUrl wants it.
func NewClient(random io.Reader, url, app, name string, digest bool) (*Client, error) {
	c := &Client{link: newLink(), app: app, name: name, url: url, takes: map[string]bool{}}
	hello, err := makeC1(random, digest)
	if err != nil {
		return nil, err
	}
	c.c1 = hello[1:]
	c.out = append(c.out, hello...)
	return c, nil
}

// NewPlayer makes a receiving end that will play name of the application app, and queues its first bytes.
func NewPlayer(random io.Reader, url, app, name string) (*Client, error) {
	c, err := NewClient(random, url, app, name, false)
	if err == nil {
		c.plays = true
	}
	return c, err
}

// Feed takes bytes from the server and calls handle for each event.
func (c *Client) Feed(p []byte, handle func(Event) error) error {
	if len(p) == 0 {
		return nil
	}
	if c.stage == 0 {
		const want = 1 + 2*handshakeSize
		n := min(want-len(c.hello), len(p))
		c.hello = append(c.hello, p[:n]...)
		p = p[n:]
		if c.hello[0] != version {
			return &media.FormatError{Format: "RTMP handshake", Found: fmt.Sprintf("version byte %d", c.hello[0]),
				Want: "3"}
		}
		if len(c.hello) < want {
			return nil
		}
		if err := checkS2(c.c1, c.hello[1+handshakeSize:]); err != nil {
			return err
		}
		c.out = append(c.out, c.hello[1:1+handshakeSize]...) // C2 echoes S1
		c.hello, c.stage = nil, 1
		c.setChunkSize()
		c.command(0, "connect", 1.0, amf.Object{
			{Name: "app", Value: c.app}, {Name: "type", Value: "nonprivate"}, {Name: "tcUrl", Value: c.url},
			{Name: "capsEx", Value: float64(canReconnect | canMultitrack | canModify | canNanos)},
			{Name: "fourCcList", Value: offeredCodecs()},
		})
	}
	c.count(len(p))
	for len(p) > 0 {
		used, m, err := c.reader.Read(p)
		if err != nil {
			return err
		}
		p = p[used:]
		if m == nil {
			continue
		}
		if err := c.message(m, handle); err != nil {
			return err
		}
	}
	return nil
}

func (c *Client) message(m *Message, handle func(Event) error) error {
	if handled, err := c.protocolControl(m); handled {
		return err
	}
	if c.plays {
		switch m.Type {
		case TypeVideo, TypeAudio, TypeData, TypeData3:
			return media2event(m, handle)
		case TypeAggregate:
			return aggregate(m, handle)
		}
	}
	if m.Type != TypeCommand && m.Type != TypeCommand3 {
		return nil
	}
	values, err := amf.DecodeAll(trimAMF3(m))
	if err != nil {
		return fmt.Errorf("command message: %w", err)
	}
	if len(values) < 2 {
		return nil
	}
	var info amf.Object
	if len(values) > 3 {
		info, _ = values[3].(amf.Object)
	}
	switch values[0] {
	case "_result":
		switch values[1] {
		case 1.0: // of connect
			c.announced(values[2:])
			if !c.plays {
				c.command(0, "releaseStream", 2.0, nil, c.name)
				c.command(0, "FCPublish", 3.0, nil, c.name)
			}
			c.command(0, "createStream", 4.0, nil)
		case 4.0: // of createStream
			id := 1.0
			if len(values) > 3 {
				id, _ = values[3].(float64)
			}
			c.stream = uint32(id)
			if c.plays {
				c.reader.SetLimit(maxPartial)
				c.control(TypeUserControl, append([]byte{0, 3}, binary.BigEndian.AppendUint32(binary.BigEndian.AppendUint32(nil, c.stream), 1000)...)...) // buffer length
				c.command(c.stream, "play", 5.0, nil, c.name, -2000.0)                                                                                    // live, else recorded
				break
			}
			c.command(c.stream, "publish", 5.0, nil, c.name, "live")
		}
	case "_error":
		if values[1] == 1.0 || values[1] == 4.0 || values[1] == 5.0 {
			return handle(Event{Kind: EventRefused, Name: info.String("code"), Text: info.String("description")})
		}
	case "onStatus":
		if info.String("level") == "error" {
			return handle(Event{Kind: EventRefused, Name: info.String("code"), Text: info.String("description")})
		}
		if info.String("code") == codeReconnect {
			return handle(Event{Kind: EventReconnect, Name: info.String("tcUrl"), Text: info.String("description")})
		}
		switch code := info.String("code"); {
		case (code == "NetStream.Publish.Start" || code == "NetStream.Play.Start") && !c.started:
			c.started = true
			return handle(Event{Kind: EventStarted})
		case c.plays && (code == "NetStream.Play.Stop" || code == "NetStream.Play.UnpublishNotify"):
			return handle(Event{Kind: EventEnd})
		}
	}
	return nil
}

// Metadata queues onMetaData.
func (c *Client) Metadata(values amf.ECMAArray) {
	c.send(csidCommand, &Message{Type: TypeData, Stream: c.stream,
		Payload: amf.Append(nil, "@setDataFrame", "onMetaData", values)})
}

// Data queues another data message.
func (c *Client) Data(timestamp uint32, name string, values amf.Object) {
	c.send(csidCommand, &Message{Type: TypeData, Stream: c.stream, Timestamp: timestamp,
		Payload: amf.Append(nil, name, values)})
}

// Media queues the body of an FLV video or audio tag (TypeVideo, TypeAudio).
func (c *Client) Media(kind uint8, timestamp uint32, body []byte) {
	csid := uint32(csidAudio)
	if kind == TypeVideo {
		csid = csidVideo
	}
	c.send(csid, &Message{Type: kind, Stream: c.stream, Timestamp: timestamp, Payload: body})
}

// Close queues an orderly end.
func (c *Client) Close() {
	c.command(0, "FCUnpublish", 6.0, nil, c.name)
	c.command(0, "deleteStream", 7.0, nil, float64(c.stream))
}
