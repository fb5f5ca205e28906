package worker

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os/exec"
	"sync"
	"syscall"

	"metaplasis/internal/core/media"
	"metaplasis/internal/core/segment"
	"metaplasis/internal/core/transcode"
)

// Coded takes what a coding in the background makes. Its methods are called from one goroutine.
type Coded interface {
	Track(id media.TrackID, t media.Track)
	Unit(id media.TrackID, u media.AccessUnit)
}

// Feeding hands media to a coding: where segments begin, before the units behind it, and units as for a worker.
type Feeding interface {
	Boundary(b segment.Boundary) error
	Unit(id media.TrackID, u *media.AccessUnit) error
}

type codedTrack struct {
	ID    media.TrackID `json:"id"`
	Track media.Track   `json:"track"`
}

type codedUnit struct {
	ID       media.TrackID `json:"id"`
	DTS      int64         `json:"dts"`
	PTS      int64         `json:"pts"`
	Duration int64         `json:"duration"`
	Key      bool          `json:"key,omitempty"`
	Data     []byte        `json:"data"`
}

// answers is the sink of the child's graphs.
type answers struct {
	mu     sync.Mutex
	w      *json.Encoder
	failed error
}

func (a *answers) put(v *jobAnswer) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if err := a.w.Encode(v); err != nil && a.failed == nil {
		a.failed = err
	}
}

func (a *answers) Track(id media.TrackID, t media.Track) {
	a.put(&jobAnswer{Track: &codedTrack{id, t}})
}

func (a *answers) Unit(id media.TrackID, u media.AccessUnit) {
	a.put(&jobAnswer{Unit: &codedUnit{id, u.DTS, u.PTS, u.Duration, u.Key, u.Data}})
}

func (a *answers) Picture([]byte) {}

func (a *answers) Failed(_ media.TrackID, err error) { a.put(&jobAnswer{Error: err.Error()}) }

// doCode encodes what comes until it ends: nothing is left out to be in time.
func doCode(conf *transcode.Config, r *bufio.Reader, w *json.Encoder) error {
	out := &answers{w: w}
	pictures, sound := transcode.New(out), transcode.NewSounds(out)
	pictures.Configure(*conf)
	sound.Configure(*conf)
	for out.failed == nil {
		kind, body, err := readMessage(r)
		if errors.Is(err, io.EOF) || err == nil && kind == kindDrain {
			break
		}
		if err != nil {
			return err
		}
		switch kind {
		case kindBoundary:
			b, err := parseBoundary(body)
			if err != nil {
				return err
			}
			pictures.Boundary(b)
			sound.Boundary(b)
		case kindAccess:
			id, u, err := parseUnit(body)
			if err != nil {
				return err
			}
			if conf.Video != nil && id == conf.Video.ID {
				pictures.Video(&u)
			} else {
				sound.Audio(id, &u)
			}
		}
	}
	pictures.Drain()
	sound.Drain()
	return out.failed
}

// feeding writes to the child.
type feeding struct{ w *bufio.Writer }

func (f feeding) Boundary(b segment.Boundary) error {
	return writeMessage(f.w, kindBoundary, boundaryBody(b))
}

func (f feeding) Unit(id media.TrackID, u *media.AccessUnit) error {
	return writeMessage(f.w, kindAccess, unitHead(id, u), u.Data)
}

// Recode codes in the background what feed hands over, as a configuration says: at the lowest priority, as fast as the processor
// allows. Its memory is bounded; it has no bound in time but its context.
func Recode(ctx context.Context, command func() *exec.Cmd, conf transcode.Config, feed func(Feeding) error, to Coded) error {
	var failed error
	err := run(ctx, command, job{Code: &conf}, func(w *bufio.Writer) error {
		failed = feed(feeding{w})
		return failed
	}, func(a *jobAnswer) {
		switch {
		case a.Track != nil:
			to.Track(a.Track.ID, a.Track.Track)
		case a.Unit != nil:
			u := a.Unit
			to.Unit(u.ID, media.AccessUnit{DTS: u.DTS, PTS: u.PTS, Duration: u.Duration, Key: u.Key, Data: u.Data})
		}
	})
	if failed != nil && !errors.Is(failed, syscall.EPIPE) {
		return fmt.Errorf("reading what is to be encoded: %w", failed)
	}
	return err
}
