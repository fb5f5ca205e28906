// Package camera is the stand-in contribution device: it sends a recorded loop to a server over any
// protocol that one takes, at the pace of the recording, forever, with timestamps that never go back.
package camera

import (
	"metaplasis/internal/address"

	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"net/url"
	"sort"
	"strconv"
	"strings"
	"time"

	"metaplasis/internal/core/amf"
	"metaplasis/internal/core/flv"
	"metaplasis/internal/core/media"
	"metaplasis/internal/libsrt"
	"metaplasis/internal/onward/mux"
	"metaplasis/internal/protocol/http/push"
	"metaplasis/internal/protocol/mpegts"
	"metaplasis/internal/protocol/rtmp"
	"metaplasis/internal/protocol/rtsp"
	"metaplasis/internal/protocol/srt"
	"metaplasis/internal/protocol/webrtc"
)

// Clip is a loop in memory.
type Clip struct {
	metadata amf.ECMAArray
	configs  []flv.Tag
	tags     []flv.Tag
	length   uint32      // milliseconds
	sent     string      // milliseconds from the start of a turn, of each picture by its number
	shown    map[int]int // the number of each tag's picture
}

// Load reads a loop from an FLV file. Its length is the duration that its metadata tells.
func Load(file []byte) (*Clip, error) {
	r, err := flv.NewReader(bytes.NewReader(file))
	if err != nil {
		return nil, err
	}
	c := &Clip{}
	for {
		t, err := r.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return nil, err
		}
		switch {
		case t.Type == flv.TagScript:
			values, err := amf.DecodeAll(t.Body)
			if err != nil || len(values) < 2 {
				continue
			}
			if m, ok := values[1].(amf.Object); ok {
				c.metadata = amf.ECMAArray(m)
			}
		case t.Timestamp == 0 && isConfig(t):
			c.configs = append(c.configs, *t)
		default:
			c.tags = append(c.tags, *t)
		}
	}
	if len(c.tags) == 0 {
		return nil, errors.New("the loop has no media")
	}
	if d, ok := amf.Object(c.metadata).Number("duration"); ok && d > 0 {
		c.length = uint32(d * 1000)
	} else {
		c.length = c.tags[len(c.tags)-1].Timestamp + 33
	}
	c.sent, c.shown = sendTimes(c.tags)
	return c, nil
}

// isConfig reports whether a tag holds the configuration of a codec.
func isConfig(t *flv.Tag) (found bool) {
	_ = flv.Bodies(t.Type, t.Body, func(b *flv.Body) error { // what cannot be read is sent all the same
		found = found || b.Config
		return nil
	})
	return found
}

// sendTimes lists when each picture of a loop is sent. Pictures are numbered as they are shown.
func sendTimes(tags []flv.Tag) (sent string, numbers map[int]int) {
	type picture struct {
		sent, shown int64
		tag         int
	}
	var list []picture
	for i := range tags {
		if tags[i].Type != flv.TagVideo {
			continue
		}
		_ = flv.Bodies(flv.TagVideo, tags[i].Body, func(b *flv.Body) error {
			if b.Track == 0 && len(b.Data) > 0 && !b.Config {
				list = append(list, picture{int64(tags[i].Timestamp), int64(tags[i].Timestamp) + int64(b.Composition), i})
			}
			return nil
		})
	}
	sort.SliceStable(list, func(i, j int) bool { return list[i].shown < list[j].shown })
	out := make([]string, len(list))
	numbers = map[int]int{}
	for i, p := range list {
		out[i] = strconv.FormatInt(p.sent, 10)
		numbers[p.tag] = i
	}
	return strings.Join(out, ","), numbers
}

// Length returns how long one turn of the loop takes.
func (c *Clip) Length() time.Duration { return time.Duration(c.length) * time.Millisecond }

// Options of a camera.
type Options struct {
	URL      string
	Name     string        // of the loop, for protocols that carry one
	Loops    int           // 0: forever
	From     uint32        // first timestamp, milliseconds
	Fast     bool          // send without waiting for the time of each picture
	NoAudio  bool          // leave the sound out
	NoVideo  bool          // leave the picture out
	Captions []string      // lines of CEA-608 captions to put into the pictures
	Splices  time.Duration // send an SCTE 35 break of a third of this time every so often; 0: none
	Retry    time.Duration // pause before connecting again after a loss; 0 gives up instead
	Dial     rtmp.Options
	OnSent   func(kind uint8, loop int, index int, at time.Time) // called behind each sent tag
	OnChange func(state string)                                  // tells of connecting, sending, losing
}

// Run sends until the context ends, the loops are over, or the server refuses.
func Run(ctx context.Context, c *Clip, o Options) error {
	say := func(s string) {
		if o.OnChange != nil {
			o.OnChange(s)
		}
	}
	begin := time.Now()
	for passed := uint32(0); ; passed = uint32(time.Since(begin).Milliseconds()) {
		err := run(ctx, c, o, passed)
		var refused *rtmp.RefusedError
		var again *rtmp.ReconnectError
		var denied *libsrt.RefusedError
		var rejected *rtsp.RefusedError
		var unwanted *push.RefusedError
		var declined *webrtc.RefusedError
		pause := o.Retry
		switch {
		case err == nil || ctx.Err() != nil:
			return ctx.Err()
		case errors.As(err, &again):
			pause = max(o.Retry, reconnectPause)
		case errors.As(err, &refused) || errors.As(err, &denied) || errors.As(err, &rejected) || errors.As(err, &declined) || errors.As(err, &unwanted) || media.IsFormat(err) || o.Retry == 0:
			return err
		}
		say(fmt.Sprintf("lost the server (%v); trying again in %v", err, pause))
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(pause):
		}
	}
}

// reconnectPause is how long a camera waits before it does what a server asks for, and connects again.
const reconnectPause = 300 * time.Millisecond

// ClockExtra is what a camera tells of itself: when it sends each picture of its loop, so that a page can
// read the delay off the pictures that it shows. It is JSON: began, the start of the first turn in
// milliseconds since 1970; length, of a turn in milliseconds; and sent, of each picture by its number,
// milliseconds from the start of a turn.
const ClockExtra = "x-camera-clock"

func (c *Clip) clock(begin time.Time) string {
	return fmt.Sprintf(`{"began":%d,"length":%d,"sent":[%s]}`, begin.UnixMilli(), c.length, c.sent)
}

func run(ctx context.Context, c *Clip, o Options, passed uint32) error {
	conn, err := dial(ctx, &o)
	if err != nil {
		return err
	}
	return c.send(ctx, conn, o, passed)
}

// send sends the loop over a line that is open.
func (c *Clip) send(ctx context.Context, conn connection, o Options, passed uint32) error {
	if o.OnChange != nil {
		o.OnChange("sending")
	}
	begin := time.Now()
	told := append(amf.ECMAArray(nil), c.metadata...)
	told = append(told, amf.Property{Name: ClockExtra, Value: c.clock(begin)})
	if err := conn.begin(told); err != nil {
		return err
	}
	base := o.From + passed
	for i := range c.configs {
		if c.wanted(&c.configs[i], &o) {
			if err := conn.tag(c.configs[i].Type, base, c.configs[i].Body); err != nil {
				return err
			}
		}
	}
	var captions *captioner
	if len(o.Captions) > 0 {
		captions = newCaptioner(c, o.Captions)
	}
	splices := newSplicer(o.Splices)
	for loop := 0; o.Loops == 0 || loop < o.Loops; loop++ {
		for i := range c.tags {
			t := &c.tags[i]
			if !c.wanted(t, &o) {
				continue
			}
			at := t.Timestamp + uint32(loop)*c.length
			if err := wait(ctx, conn, begin.Add(time.Duration(at)*time.Millisecond), o.Fast); err != nil {
				if ctx.Err() != nil {
					_ = conn.Close()
				}
				return err
			}
			body := t.Body
			if captions != nil && t.Type == flv.TagVideo {
				body = captions.add(body, i, loop)
			}
			if err := splices.send(conn, base, at); err != nil {
				return err
			}
			if err := conn.tag(t.Type, base+at, body); err != nil {
				return err
			}
			if o.OnSent != nil {
				o.OnSent(t.Type, loop, i, time.Now())
			}
		}
	}
	return conn.Close()
}

// Programme is a loop that is one of several in a transport stream.
type Programme struct {
	Number int
	Name   string
	Clip   *Clip
}

// RunProgrammes sends several loops as the programmes of one transport stream, over UDP or RTP, until the context ends.
func RunProgrammes(ctx context.Context, list []Programme, o Options) error {
	u, err := url.Parse(o.URL)
	if err != nil {
		return fmt.Errorf("address to send to: %w", err)
	}
	scheme, _ := address.Find(u.Scheme)
	if scheme == nil || !scheme.Programmes {
		return errors.New("several programmes go over what carries a transport stream alone, such as udp or srt")
	}
	dial := mpegts.Dial
	if scheme.Family == "srt" {
		dial = srt.Dial
	}
	conn, err := dial(ctx, u)
	if err != nil {
		return err
	}
	lines := make([]connection, len(list)) // all are in the tables from the begin on
	for i, p := range list {
		lines[i] = newUnitLine(conn.Programme(p.Number, p.Name))
	}
	ended := make(chan error, len(list))
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	for i, p := range list {
		go func() { ended <- p.Clip.send(ctx, lines[i], o, 0) }()
	}
	for range list {
		err = cmp.Or(err, <-ended)
		cancel()
	}
	return err
}

// Serve sends the loop as a transport stream to who takes its bytes, a whole number of packets a call.
func Serve(ctx context.Context, c *Clip, o Options, write func([]byte) error) error {
	conn := mux.NewConn(write, func() error { return nil }, nil)
	return c.send(ctx, newUnitLine(conn.Programme(1, o.Name)), o, 0)
}

func (c *Clip) wanted(t *flv.Tag, o *Options) bool {
	return !(o.NoAudio && t.Type == flv.TagAudio || o.NoVideo && t.Type == flv.TagVideo)
}

// wait lets the time of a picture come, and hears the server meanwhile.
func wait(ctx context.Context, conn connection, until time.Time, fast bool) error {
	d := time.Until(until)
	if fast || d < 0 {
		d = 0
	}
	if d == 0 {
		select {
		case <-ctx.Done():
			return ctx.Err()
		case err := <-conn.Failed():
			return err
		default:
			return nil
		}
	}
	t := time.NewTimer(d)
	defer t.Stop()
	select {
	case <-ctx.Done():
		return ctx.Err()
	case err := <-conn.Failed():
		return err
	case <-t.C:
		return nil
	}
}
