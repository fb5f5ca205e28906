package demux

import (
	"context"
	"errors"
	"fmt"
	"io"
	"sync"
	"time"
)

// Streams are the transport streams that feed channels now.
type Streams struct {
	mu       sync.Mutex
	channels map[string][]*Stream // by the channel's name; the newest last
}

// Publish lets other channels take programmes of the stream that feeds a channel, until the function that it returns
// is called.
func (r *Streams) Publish(channel string, s *Stream) (end func()) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.channels == nil {
		r.channels = map[string][]*Stream{}
	}
	r.channels[channel] = append(r.channels[channel], s)
	return func() {
		r.mu.Lock()
		defer r.mu.Unlock()
		var rest []*Stream
		for _, o := range r.channels[channel] {
			if o != s {
				rest = append(rest, o)
			}
		}
		if r.channels[channel] = rest; len(rest) == 0 {
			delete(r.channels, channel)
		}
	}
}

// Copy hands the bytes of the stream that feeds a channel to take as they come, untouched; ok is false while there is
// none. take must not wait.
func (r *Streams) Copy(channel string, take func([]byte)) (c *Copying, ok bool) {
	if s := r.Of(channel); s != nil {
		return s.copy(take)
	}
	return nil, false
}

// Feeds reports whether a transport stream feeds a channel.
func (r *Streams) Feeds(channel string) bool { return r.Of(channel) != nil }

// Of returns the stream that feeds a channel, nil without one.
func (r *Streams) Of(channel string) *Stream {
	r.mu.Lock()
	defer r.mu.Unlock()
	if list := r.channels[channel]; len(list) > 0 {
		return list[len(list)-1]
	}
	return nil
}

// Bounds of reading a body.
const (
	stallTimeout = 10 * time.Second
	readSize     = 64 << 10
)

// Read takes a body into a stream, at the pace of its media, until it ends or nothing comes for long. stall is a timer
// that ends the reading.
func Read(ctx context.Context, body io.Reader, s *Stream, stall *time.Timer) error {
	buf := make([]byte, readSize)
	for {
		stall.Reset(stallTimeout)
		n, err := body.Read(buf)
		s.Write(buf[:n])
		switch {
		case ctx.Err() != nil:
			return fmt.Errorf("nothing came for %d s", int(stallTimeout.Seconds()))
		case errors.Is(err, io.EOF):
			return errors.New("the source ended its stream")
		case err != nil:
			return err
		}
		for wait := s.Pace(); wait > 0; wait = s.Pace() {
			stall.Reset(stallTimeout)
			select {
			case <-ctx.Done():
				return ctx.Err()
			case <-time.After(wait):
			}
		}
	}
}
