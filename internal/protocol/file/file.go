// Package file plays recordings into channels: inputs that repeat in real time while nobody who is preferred sends.
package file

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"sync"
	"time"

	"metaplasis/internal/core/media"
	"metaplasis/internal/safely"
)

// Bounds of a recording, and how often the player looks for something to do.
const (
	//limit:bytes of a recording that is held | each file input | the input is refused
	maxBytes = 256 << 20
	lookEach = 250 * time.Millisecond
	// retryAfter is how long a file that cannot be played is left alone.
	retryAfter = 5 * time.Second
)

// Feed takes the media of one file.
type Feed interface {
	media.Sink
	End(reason string)
	Kicked() <-chan string
}

// Input is an input of a channel that plays by itself.
type Input struct{ Channel, Kind, File string }

// Channels is what the player knows of channels.
type Channels interface {
	// Inputs lists those of all channels.
	Inputs() []Input
	// Vacant reports whether an input would be put on air now.
	Vacant(Input) bool
	// Open puts an input on air.
	Open(Input) (Feed, error)
	// Load reads or makes what an input plays.
	Load(ctx context.Context, in Input) (Recording, error)
	// Problem says what keeps an input from playing, "" when nothing does.
	Problem(in Input, text string)
}

// Player plays the inputs of all channels that play by themselves.
type Player struct {
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
				if err := safely.Run(nil, func() error { return p.try(ctx, in) }); err != nil {
					p.Channels.Problem(in, err.Error())
					select {
					case <-ctx.Done():
					case <-time.After(retryAfter):
					}
				}
			}()
		}
		select {
		case <-ctx.Done():
			return
		case <-look.C:
		}
	}
}

// try plays one input until it is taken off the air. An error says why it cannot be played.
func (p *Player) try(ctx context.Context, in Input) error {
	r, err := p.Channels.Load(ctx, in)
	if err != nil {
		return err
	}
	p.Channels.Problem(in, "")
	return p.play(ctx, in, r)
}

// Recording is a file in memory: units in the order in which they are due within a turn.
type Recording interface {
	// start announces what the recording holds.
	start(feed Feed)
	count() int
	// due is when a unit is, from the begin of a turn.
	due(i int) time.Duration
	// send hands a unit of a turn to the feed of start.
	send(i int, turn int64) error
	// length is that of a turn.
	length() time.Duration
}

// Load reads a file: FLV, a transport stream, or CMAF track files.
func Load(path string) (Recording, error) {
	b, err := read(path)
	if err != nil {
		return nil, err
	}
	switch filepath.Ext(path) {
	case ".mp4":
		return loadCMAF(path, b)
	case ".ts":
		return loadTS(b)
	}
	return parseFLV(b)
}

// Parse reads an FLV file from memory.
func Parse(b []byte) (Recording, error) { return parseFLV(b) }

func read(path string) ([]byte, error) {
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
	return b, nil
}

// play repeats a recording at its own pace.
func (p *Player) play(ctx context.Context, in Input, r Recording) error {
	feed, err := p.Channels.Open(in)
	if err != nil {
		return nil // somebody else was put on air meanwhile
	}
	end := "the service stopped"
	defer func() { feed.End(end) }()
	r.start(feed)
	begin := time.Now()
	timer := time.NewTimer(0)
	defer timer.Stop()
	for turn := int64(0); ; turn++ {
		base := begin.Add(time.Duration(turn) * r.length())
		for i := range r.count() {
			timer.Reset(time.Until(base.Add(r.due(i))))
			select {
			case <-ctx.Done():
				return nil
			case end = <-feed.Kicked():
				return nil
			case <-timer.C:
			}
			if err := r.send(i, turn); err != nil {
				end = err.Error()
				return err
			}
		}
	}
}
