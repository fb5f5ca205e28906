package push

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"time"

	"metaplasis/internal/core/bmff"
	"metaplasis/internal/core/media"
	"metaplasis/internal/network"
	"metaplasis/internal/onward/mux"
)

// RefusedError says that the server does not take the stream.
type RefusedError struct{ Text string }

// client makes requests where the policy of the process lets it.
var client = &http.Client{Transport: network.Transport(15 * time.Second)}

func (e *RefusedError) Error() string { return "refused: " + e.Text }

// pushedRequest is one whose body goes on.
type pushedRequest struct {
	w      *io.PipeWriter
	failed chan error
}

const closeTimeout = 3 * time.Second

func begin(ctx context.Context, address, kind string, failed chan error) *pushedRequest {
	r, w := io.Pipe()
	out := &pushedRequest{w: w, failed: make(chan error, 1)}
	go func() {
		err := func() error {
			req, err := http.NewRequestWithContext(ctx, http.MethodPost, address, r)
			if err != nil {
				return err
			}
			req.Header.Set("Content-Type", kind)
			res, err := client.Do(req)
			if err != nil {
				return network.WithoutSecrets(err)
			}
			defer func() { _ = res.Body.Close() }()
			switch {
			case res.StatusCode == http.StatusForbidden || res.StatusCode == http.StatusUnauthorized || res.StatusCode == http.StatusConflict:
				return &RefusedError{network.Answer(res)}
			case res.StatusCode/100 != 2:
				return fmt.Errorf("the server answered %s", network.Answer(res))
			}
			return io.EOF
		}()
		_ = r.CloseWithError(err)
		if !errors.Is(err, io.EOF) {
			select {
			case failed <- err:
			default:
			}
		}
		out.failed <- err
	}()
	return out
}

// end finishes the request.
func (r *pushedRequest) end() {
	_ = r.w.Close()
	select {
	case <-r.failed:
	case <-time.After(closeTimeout):
	}
}

// Stream sends a transport stream to an address.
func Stream(ctx context.Context, u *url.URL) *mux.Conn {
	failed := make(chan error, 1)
	r := begin(ctx, u.String(), "video/mp2t", failed)
	return mux.NewConn(func(b []byte) error { _, err := r.w.Write(b); return err }, func() error { r.end(); return nil }, failed)
}

// Tracks sends CMAF tracks below an address.
type Tracks struct {
	ctx    context.Context
	base   url.URL
	tracks map[media.TrackID]*sentTrack
	failed chan error
	err    error
}

type sentTrack struct {
	media.Track
	request *pushedRequest
	number  uint32
	waiting *media.AccessUnit // until the next one tells how long it lasts
}

// Dial sends to http(s)://host/in/CHANNEL?key=KEY.
func Dial(ctx context.Context, u *url.URL) *Tracks {
	return &Tracks{ctx: ctx, base: *u, tracks: map[media.TrackID]*sentTrack{}, failed: make(chan error, 4)}
}

// FrameRate implements onward.Sender.
func (c *Tracks) FrameRate(int64) {}

// Track implements onward.Sender.
func (c *Tracks) Track(t media.Track) {
	if old := c.tracks[t.ID]; old != nil {
		c.write(old, bmff.Header(&t))
		old.Track = t
		return
	}
	name := fmt.Sprintf("audio-%d.cmfa", t.ID)
	if t.Kind == media.Video {
		name = fmt.Sprintf("video-%d.cmfv", t.ID)
	}
	at := c.base
	at.Path = strings.TrimSuffix(at.Path, "/") + "/Streams(" + name + ")"
	own := &sentTrack{Track: t, request: begin(c.ctx, at.String(), "video/mp4", c.failed)}
	c.tracks[t.ID] = own
	c.write(own, bmff.Header(&t))
}

func (c *Tracks) write(t *sentTrack, b []byte) {
	if c.err == nil {
		_, c.err = t.request.w.Write(b)
	}
}

// Unit implements onward.Sender.
func (c *Tracks) Unit(id media.TrackID, stamp, composition int64, key bool, data []byte) {
	t := c.tracks[id]
	if t == nil {
		return
	}
	clock := t.Stamps()
	dts := media.Rescale(stamp, clock.Scale, t.Timescale)
	u := &media.AccessUnit{DTS: dts, PTS: dts + media.Rescale(composition, clock.Scale, t.Timescale), Key: key, Data: data}
	if before := t.waiting; before != nil {
		before.Duration = max(u.DTS-before.DTS, 1)
		t.number++
		c.write(t, bmff.Chunk(&t.Track, bmff.ChunkOptions{Sequence: t.number}, []media.AccessUnit{*before}))
	}
	t.waiting = u
}

// Cue implements onward.Sender.
func (c *Tracks) Cue(int64, []byte) {}

// Flush implements onward.Sender.
func (c *Tracks) Flush() error { return c.err }

// Failed implements onward.Sender.
func (c *Tracks) Failed() <-chan error { return c.failed }

// Close implements onward.Sender.
func (c *Tracks) Close() error {
	for _, t := range c.tracks {
		t.request.end()
	}
	return nil
}
