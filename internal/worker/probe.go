package worker

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"runtime/debug"
	"syscall"
	"time"

	"metaplasis/internal/core/item"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/segment"
)

// Bounds of looking into files: memory, and time for reading them, which grows with their length.
const (
	probeMemory = 1 << 30
	//limit:how long a file may be looked into | each file | the file is marked and left alone
	probeLongest = 2 * time.Minute
	probeRate    = 8 << 20 // bytes per second, the slowest disk that is waited for
)

// ErrUnfit says that a file takes more memory or time than any may, or ended the process that looked into it.
var ErrUnfit = errors.New("looking into the file took more memory or time than a file of its size may, or ended the process that did")

// Probe looks into files in a process of its own, so that none of them can harm this one. An error that is not
// ErrUnfit is what the reader of such files says of them.
func Probe(ctx context.Context, command func() *exec.Cmd, paths []string) error {
	longest := probeLongest
	for _, path := range paths {
		if info, err := os.Stat(path); err == nil {
			longest += time.Duration(info.Size()/probeRate) * time.Second
		}
	}
	bounded, cancel := context.WithTimeout(ctx, longest)
	defer cancel()
	err := run(bounded, command, job{Probe: paths}, func(*bufio.Writer) error { return nil }, func(*jobAnswer) {})
	var said *exec.ExitError
	switch {
	case ctx.Err() != nil:
		return ctx.Err()
	case errors.As(err, &said), bounded.Err() != nil:
		return fmt.Errorf("%w (%w)", ErrUnfit, err)
	}
	return err
}

// doProbe is the child's side.
func doProbe(paths []string) error {
	bound(probeMemory)
	debug.SetMemoryLimit(probeMemory * 3 / 4)
	header := func(t media.Track) *segment.Header { return &segment.Header{Track: t} }
	for _, path := range paths {
		f, err := openSource(path)
		if err != nil {
			return err
		}
		_, err = item.Open(item.Options{Files: []item.Source{f}, NewHeader: header})
		_ = f.Close()
		if err != nil && !media.IsFormat(err) {
			return err
		}
	}
	return nil
}

// diskSource is a file on disk as an item's source.
type diskSource struct {
	*os.File
	size int64
}

func openSource(path string) (*diskSource, error) {
	f, err := os.OpenFile(path, os.O_RDONLY|syscall.O_NONBLOCK, 0) // a pipe is not waited for
	if err != nil {
		return nil, err
	}
	info, err := f.Stat()
	if err != nil {
		_ = f.Close()
		return nil, err
	}
	return &diskSource{f, info.Size()}, nil
}

// Size implements item.Source.
func (d *diskSource) Size() int64 { return d.size }
