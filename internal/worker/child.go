package worker

import (
	"bufio"
	"bytes"
	"encoding/json"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"runtime"
	"runtime/debug"
	"strconv"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"metaplasis/internal/core/media"
	"metaplasis/internal/core/transcode"
)

// Stats is what a worker tells of itself, four times a second.
type Stats struct {
	transcode.Stats
	PID   int   `json:"pid"`
	CPU   int64 `json:"cpu"`   // microseconds of processor time so far
	Stuck int64 `json:"stuck"` // milliseconds without any progress on the message at hand, while it had a processor or asked for none
}

// The bounds of the queue inside a worker. Behind it the socket fills, then the supervisor's queue.
const (
	childQueue = 1024
	beat       = 250 * time.Millisecond
)

// incoming is one message on its way to the graph.
type incoming struct {
	kind byte
	body []byte
}

// Run is the child process: it serves the socket behind the file until the other end closes it.
func Run(f *os.File) error {
	conn, err := net.FileConn(f)
	if err != nil {
		return fmt.Errorf("worker: descriptor %d is no socket: %w", f.Fd(), err)
	}
	_ = f.Close()
	// Almost all memory is pictures that are lent again and again; collecting four times less often
	// costs a few megabytes.
	debug.SetGCPercent(400)
	c := &child{w: bufio.NewWriterSize(conn, 256<<10)}
	c.graph = transcode.New(c)
	queue := make(chan incoming, childQueue)
	go c.beat()
	go func() {
		defer close(queue)
		r := bufio.NewReaderSize(conn, 256<<10)
		for {
			kind, body, err := readMessage(r)
			if err != nil {
				return
			}
			if kind == kindVideo {
				if _, u, err := parseUnit(body); err == nil {
					c.graph.Received(u.DTS)
				}
			}
			queue <- incoming{kind, body}
		}
	}()
	for m := range queue {
		c.busy.Store(true)
		if err := c.handle(m); err != nil {
			return err
		}
		c.busy.Store(false)
		c.progress.Add(1)
	}
	return nil
}

type child struct {
	graph    *transcode.Graph
	busy     atomic.Bool  // a message is at hand
	progress atomic.Int64 // messages done and units made

	mu sync.Mutex
	w  *bufio.Writer
}

func (c *child) handle(m incoming) error {
	switch m.kind {
	case kindConfig:
		var conf transcode.Config
		if err := json.Unmarshal(m.body, &conf); err != nil {
			return fmt.Errorf("worker: config: %w", err)
		}
		c.graph.Configure(conf)
	case kindBoundary:
		b, err := parseBoundary(m.body)
		if err != nil {
			return err
		}
		c.graph.Boundary(b)
	case kindVideo, kindAudio:
		_, u, err := parseUnit(m.body)
		if err != nil {
			return err
		}
		if m.kind == kindVideo {
			c.graph.Video(&u)
		} else {
			c.graph.Audio(&u)
		}
	case kindDrain:
		c.graph.Drain()
		c.send(kindDrained)
	default:
		return &media.FormatError{Format: "worker message", Found: fmt.Sprintf("kind %q", m.kind), Want: "one of ours"}
	}
	return nil
}

// send writes one message. A broken socket means that the origin is gone; Run then ends by itself.
func (c *child) send(kind byte, parts ...[]byte) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if writeMessage(c.w, kind, parts...) == nil {
		_ = c.w.Flush()
	}
}

// beat tells the supervisor that the process lives, and how long it could have got on but did not.
// That is its own processor time and the time in which all of it slept. Time in which it waited for
// a processor does not count: on a crowded machine nobody is blamed.
func (c *child) beat() {
	runtime.LockOSThread()
	self := syscall.Gettid()
	var before int64
	var used, stuck time.Duration
	for range time.Tick(beat) {
		cpu := processorTime()
		now := c.progress.Load()
		switch {
		case !c.busy.Load() || now != before:
			stuck = 0
		case waiting(os.Getpid(), self):
			stuck += min(cpu-used, beat)
		default:
			stuck += beat
		}
		before, used = now, cpu
		c.send(kindStats, mustJSON(Stats{Stats: c.graph.Stats(), PID: os.Getpid(), CPU: cpu.Microseconds(),
			Stuck: stuck.Milliseconds()}))
	}
}

// processorTime returns what this process has used so far.
func processorTime() time.Duration {
	var ru syscall.Rusage
	if syscall.Getrusage(syscall.RUSAGE_SELF, &ru) != nil {
		return 0
	}
	return time.Duration(ru.Utime.Nano() + ru.Stime.Nano())
}

// waiting reports whether a thread of a process, other than one, has a processor or waits for one.
func waiting(pid, except int) bool {
	threads, _ := filepath.Glob(fmt.Sprintf("/proc/%d/task/[0-9]*", pid))
	for _, dir := range threads {
		if filepath.Base(dir) == strconv.Itoa(except) {
			continue
		}
		b, err := os.ReadFile(filepath.Join(dir, "stat"))
		if i := bytes.LastIndexByte(b, ')'); err == nil && i > 0 && i+2 < len(b) && b[i+2] == 'R' {
			return true
		}
	}
	return false
}

// Track, Unit, Picture and Failed make the child the sink of its graph.

func (c *child) Track(rendition string, t media.Track) {
	c.send(kindTrack, mustJSON(trackMessage{rendition, t}))
}

func (c *child) Unit(rendition string, u media.AccessUnit) {
	c.progress.Add(1)
	c.send(kindUnit, unitHead(rendition, &u), u.Data)
}

func (c *child) Picture(jpeg []byte) { c.send(kindPicture, jpeg) }

func (c *child) Failed(rendition string, err error) {
	c.send(kindFailed, mustJSON(failedMessage{rendition, err.Error()}))
}
