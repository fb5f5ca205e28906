// Package forward sends over a process of its own: what decodes media for a way out runs there, and not in the origin's.
package forward

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/url"
	"os/exec"
	"strings"
	"sync"
	"time"

	"metaplasis/internal/core/amf"
	"metaplasis/internal/core/flv"
	"metaplasis/internal/network"
	"metaplasis/internal/onward/tags"
)

// Sender writes tags to the standard input of a process. It implements onward.Sender.
type Sender struct {
	*tags.Writer
	cmd    *exec.Cmd
	in     io.WriteCloser
	failed chan error
	out    []byte
	said   tail
}

// writeWithin is for how long the process may take nothing.
const writeWithin = 5 * time.Second

// Dial starts the process, which sends what it reads to an address.
func Dial(ctx context.Context, command func(address string) *exec.Cmd, address string) (*Sender, error) {
	if u, err := url.Parse(address); err == nil { // that process connects by itself
		if _, err := network.Resolve(ctx, net.JoinHostPort(u.Hostname(), cmp.Or(u.Port(), "0"))); err != nil {
			return nil, err
		}
	}
	s := &Sender{cmd: command(address), failed: make(chan error, 1)}
	s.cmd.Stderr = &s.said
	var err error
	if s.in, err = s.cmd.StdinPipe(); err != nil {
		return nil, err
	}
	if err := s.cmd.Start(); err != nil {
		return nil, fmt.Errorf("starting the process that sends: %w", err)
	}
	s.out = flv.AppendHeader(nil)
	s.Writer = tags.New(s)
	go func() {
		err := s.cmd.Wait()
		if said := s.said.String(); said != "" {
			err = errors.New(said)
		} else if err == nil {
			err = errors.New("the process that sends has ended")
		}
		s.failed <- err
	}()
	context.AfterFunc(ctx, func() { _ = s.in.Close() })
	return s, nil
}

// Metadata implements tags.Line.
func (s *Sender) Metadata(values amf.ECMAArray) {
	s.out = flv.AppendTag(s.out, &flv.Tag{Type: flv.TagScript, Body: amf.Append(nil, "onMetaData", values)})
}

// Media implements tags.Line.
func (s *Sender) Media(kind uint8, timestamp uint32, body []byte) {
	s.out = flv.AppendTag(s.out, &flv.Tag{Type: kind, Timestamp: timestamp, Body: body})
}

// Cue implements onward.Sender.
func (s *Sender) Cue(int64, []byte) {}

// Flush implements onward.Sender.
func (s *Sender) Flush() error {
	if err := s.Err(); err != nil {
		return err
	}
	if len(s.out) == 0 {
		return nil
	}
	out := s.out
	s.out = nil
	if d, ok := s.in.(interface{ SetWriteDeadline(time.Time) error }); ok {
		_ = d.SetWriteDeadline(time.Now().Add(writeWithin))
	}
	if _, err := s.in.Write(out); err != nil {
		select {
		case why := <-s.failed: // the reason is worth more than the broken pipe
			return why
		case <-time.After(time.Second):
			return err
		}
	}
	return nil
}

// Failed implements onward.Sender.
func (s *Sender) Failed() <-chan error { return s.failed }

// Close implements onward.Sender.
func (s *Sender) Close() error {
	err := s.in.Close()
	select {
	case <-s.failed:
	case <-time.After(2 * time.Second):
		_ = s.cmd.Process.Kill()
	}
	return err
}

// tail keeps the last of what a process said.
type tail struct {
	mu sync.Mutex
	b  []byte
}

//limit:bytes of what a forwarded service said last | each service | the first are dropped
const maxTail = 500

func (t *tail) Write(b []byte) (int, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.b = append(t.b, b...)
	if n := len(t.b); n > maxTail {
		t.b = append([]byte(nil), t.b[n-maxTail:]...)
	}
	return len(b), nil
}

func (t *tail) String() string {
	t.mu.Lock()
	defer t.mu.Unlock()
	lines := strings.Split(strings.TrimSpace(string(t.b)), "\n")
	return strings.TrimPrefix(lines[len(lines)-1], "metaplasis: ")
}
