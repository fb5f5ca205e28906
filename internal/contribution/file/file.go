// Package file plays recordings into channels: the file inputs, which repeat in real time while nobody
// who is preferred sends.
package file

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"sync"
	"time"

	"metaplasis/internal/contribution/tracks"
	"metaplasis/internal/core/amf"
	"metaplasis/internal/core/flv"
	"metaplasis/internal/core/media"
)

// Bounds of a recording, and how often the player looks for something to do.
const (
	maxBytes = 256 << 20
	lookEach = 250 * time.Millisecond
	// retryAfter is how long a file that cannot be played is left alone.
	retryAfter = 5 * time.Second
)

// Feed takes the media of one file.
type Feed interface {
	tracks.Sink
	End(reason string)
	Kicked() <-chan string
}

// Input is a file input of a channel.
type Input struct{ Channel, File string }

// Channels is what the player knows of channels.
type Channels interface {
	// Inputs lists the file inputs of all channels.
	Inputs() []Input
	// Vacant reports whether an input would be put on air now.
	Vacant(Input) bool
	// Open puts an input on air.
	Open(Input) (Feed, error)
	// Problem says what keeps an input from playing, "" when nothing does.
	Problem(in Input, text string)
}

// Player plays the file inputs of all channels.
type Player struct {
	Folder   string // that the files lie in
	Channels Channels

	all sync.WaitGroup
}

// Run plays until the context ends.
func (p *Player) Run(ctx context.Context) {
	defer p.all.Wait()
	busy := map[Input]chan struct{}{} // closed when the input may be tried again
	look := time.NewTicker(lookEach)
	defer look.Stop()
	for {
		for _, in := range p.Channels.Inputs() {
			if done := busy[in]; done != nil {
				select {
				case <-done:
					delete(busy, in)
				default:
					continue
				}
			}
			if !p.Channels.Vacant(in) {
				continue
			}
			done := make(chan struct{})
			busy[in] = done
			p.all.Add(1)
			go func() {
				defer p.all.Done()
				defer close(done)
				p.try(ctx, in)
			}()
		}
		select {
		case <-ctx.Done():
			return
		case <-look.C:
		}
	}
}

// try plays one input until it is taken off the air. One that cannot be played is left alone for a while.
func (p *Player) try(ctx context.Context, in Input) {
	clip, err := load(filepath.Join(p.Folder, filepath.Base(in.File)))
	if err == nil {
		p.Channels.Problem(in, "")
		err = p.play(ctx, in, clip)
	}
	if err == nil {
		return
	}
	p.Channels.Problem(in, err.Error())
	select {
	case <-ctx.Done():
	case <-time.After(retryAfter):
	}
}

// clip is a recording in memory.
type clip struct {
	metadata amf.Object
	tags     []flv.Tag
	length   uint32 // milliseconds
}

func load(path string) (*clip, error) {
	f, err := os.Open(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("there is no file %s", path)
	}
	if err != nil {
		return nil, err
	}
	defer func() { _ = f.Close() }()
	b, err := io.ReadAll(io.LimitReader(f, maxBytes+1))
	if err != nil {
		return nil, err
	}
	if len(b) > maxBytes {
		return nil, fmt.Errorf("found more than %d MB, expected a shorter recording", maxBytes>>20)
	}
	return parse(b)
}

func parse(b []byte) (*clip, error) {
	r, err := flv.NewReader(bytes.NewReader(b))
	if err != nil {
		return nil, err
	}
	c := &clip{}
	for {
		t, err := r.Next()
		if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
			break // a recording that was cut off plays as far as it goes
		}
		if err != nil {
			return nil, err
		}
		if t.Type != flv.TagScript {
			c.tags = append(c.tags, *t)
			continue
		}
		if values, err := amf.DecodeAll(t.Body); err == nil && len(values) > 1 && c.metadata == nil {
			c.metadata, _ = values[1].(amf.Object)
		}
	}
	n := len(c.tags)
	if n < 2 || c.tags[n-1].Timestamp == c.tags[0].Timestamp {
		return nil, errors.New("found no media, expected video or sound")
	}
	first := c.tags[0].Timestamp
	for i := range c.tags {
		c.tags[i].Timestamp -= first
	}
	// A turn is as long as the metadata says, if that can be.
	last := c.tags[n-1].Timestamp
	c.length = last + 40
	if d, ok := c.metadata.Number("duration"); ok && d*1000 >= float64(last) && d*1000 < float64(last)+1000 {
		c.length = uint32(d*1000 + 0.5)
	}
	return c, nil
}

// play repeats a recording at its own pace.
func (p *Player) play(ctx context.Context, in Input, c *clip) error {
	feed, err := p.Channels.Open(in)
	if err != nil {
		return nil // somebody else was put on air meanwhile
	}
	end := "the service stopped"
	defer func() { feed.End(end) }()
	set := tracks.New(feed)
	set.Metadata(c.metadata)
	begin := time.Now()
	timer := time.NewTimer(0)
	defer timer.Stop()
	for base := uint32(0); ; base += c.length {
		for i := range c.tags {
			t := &c.tags[i]
			stamp := base + t.Timestamp
			timer.Reset(time.Until(begin.Add(time.Duration(stamp) * time.Millisecond)))
			select {
			case <-ctx.Done():
				return nil
			case end = <-feed.Kicked():
				return nil
			case <-timer.C:
			}
			kind := media.Video
			if t.Type == flv.TagAudio {
				kind = media.Audio
			}
			// The same bytes are given out in each turn: nobody changes them.
			err := flv.Bodies(t.Type, t.Body, func(b *flv.Body) error { return set.Body(kind, stamp, b) })
			if err != nil {
				end = err.Error()
				return err
			}
		}
	}
}
