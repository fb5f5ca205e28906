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
	"metaplasis/internal/core/segment"
	"metaplasis/internal/core/transcode"
)

// Stats is what a worker tells of itself, four times per second.
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

// incoming is one message on its way to a graph.
type incoming struct {
	kind byte
	body []byte
}

// firstSocket is the file descriptor of the socket of pictures; that of sound is the next one.
const firstSocket = 3

// Run is the child process: it serves its sockets until the other end closes them.
func Run() error {
	if jobWanted() {
		return runJob(os.Stdin, os.Stdout)
	}
	var conns [lanes]net.Conn
	for i := range conns {
		f := os.NewFile(uintptr(firstSocket+i), "socket")
		conn, err := net.FileConn(f)
		if err != nil {
			return fmt.Errorf("worker: descriptor %d is no socket: %w", firstSocket+i, err)
		}
		_ = f.Close()
		conns[i] = conn
	}
	// Almost all memory is pictures that are lent again and again; collecting four times less often
	// costs a few megabytes.
	debug.SetGCPercent(400)
	c := &child{w: bufio.NewWriterSize(conns[0], 256<<10)}
	c.pictures, c.sound = transcode.New(pictureSink{c}), transcode.NewSounds(c)
	c.lanes = [lanes]*lane{{graph: c.pictures, unit: func(_ media.TrackID, u *media.AccessUnit) { c.pictures.Video(u) }, came: c.pictures.Received}, {graph: c.sound, unit: c.sound.Audio}}
	go c.beat()
	ended := make(chan error, len(c.lanes))
	for i, l := range c.lanes {
		go func() { ended <- c.serve(l, conns[i]) }()
	}
	return <-ended
}

// graph is what both kinds of graph have in common.
type graph interface {
	Configure(c transcode.Config)
	Boundary(b segment.Boundary)
	Drain()
}

// lane is a graph with its queue: what one waits for, another does not.
type lane struct {
	graph    graph
	unit     func(media.TrackID, *media.AccessUnit)
	came     func(dts int64) // a unit that waits is noted, when not nil
	busy     atomic.Bool     // a message is at hand
	progress atomic.Int64    // messages done and units made
	before   int64           // progress at the last beat
	stuck    time.Duration
}

// serve hands the messages of one socket to their graph.
func (c *child) serve(l *lane, conn net.Conn) error {
	queue := make(chan incoming, childQueue)
	go func() {
		defer close(queue)
		r := bufio.NewReaderSize(conn, 256<<10)
		for {
			kind, body, err := readMessage(r)
			if err != nil {
				return
			}
			if kind == kindAccess && l.came != nil {
				if _, u, err := parseUnit(body); err == nil {
					l.came(u.DTS)
				}
			}
			queue <- incoming{kind, body}
		}
	}()
	for m := range queue {
		l.busy.Store(true)
		if err := c.handle(l, m); err != nil {
			return err
		}
		l.busy.Store(false)
		l.progress.Add(1)
	}
	return nil
}

type child struct {
	pictures *transcode.Graph
	sound    *transcode.Sounds
	lanes    [lanes]*lane
	drained  atomic.Int32 // lanes that have put out everything
	// The graphs of sound know their tracks.
	configured atomic.Bool

	mu     sync.Mutex
	w      *bufio.Writer
	memory int64 // bytes that it may take
	nice   int
}

func (c *child) handle(l *lane, m incoming) error {
	switch m.kind {
	case kindConfig:
		var conf transcode.Config
		if err := json.Unmarshal(m.body, &conf); err != nil {
			return fmt.Errorf("worker: config: %w", err)
		}
		c.bound(&conf)
		l.graph.Configure(conf)
		if l.graph == graph(c.sound) {
			c.configured.Store(true)
		}
	case kindBoundary:
		b, err := parseBoundary(m.body)
		if err != nil {
			return err
		}
		l.graph.Boundary(b)
	case kindAccess:
		id, u, err := parseUnit(m.body)
		if err != nil {
			return err
		}
		l.unit(id, &u)
	case kindDrain:
		l.graph.Drain()
		if int(c.drained.Add(1)) == len(c.lanes) {
			c.send(kindDrained)
		}
	default:
		return &media.FormatError{Format: "worker message", Found: fmt.Sprintf("kind %q", m.kind), Want: "one of ours"}
	}
	return nil
}

// What a worker may take of memory, in bytes: of its own; of each encoded picture for an encoder with its references and
// what it looks ahead; and of each of the source's for the decoder and what waits.
const (
	ownMemory    = 1 << 30
	rungPictures = 120
	sourceHeld   = 80
)

// bound limits what the worker may take, by what it is to make, and takes its place among the channels. Limits only
// rise: a worker that has grown keeps what it has.
func (c *child) bound(conf *transcode.Config) {
	memory := int64(ownMemory)
	if t := conf.Video; t != nil {
		memory += int64(t.Width*t.Height) * 3 / 2 * sourceHeld
	}
	for _, r := range conf.Rungs {
		memory += int64(r.Width*r.Height) * 3 / 2 * rungPictures
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if memory > c.memory {
		c.memory = memory
		bound(memory)
	}
	if conf.Nice != c.nice {
		c.nice = conf.Nice
		_ = syscall.Setpriority(syscall.PRIO_PROCESS, 0, conf.Nice) // a better one is not for everybody; a new worker has it
	}
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
	var used time.Duration
	for range time.Tick(beat) {
		cpu := processorTime()
		var stuck time.Duration
		for _, l := range c.lanes {
			stuck = max(stuck, l.held(cpu-used, self))
		}
		used = cpu
		st := c.pictures.Stats()
		if c.configured.Load() {
			errors, nodes, loud, levels := c.sound.Status()
			st.Errors += errors
			st.Nodes, st.Loudness, st.Levels = append(st.Nodes, nodes...), loud, levels
		}
		c.send(kindStats, mustJSON(Stats{Stats: st, PID: os.Getpid(), CPU: cpu.Microseconds(), Stuck: stuck.Milliseconds()}))
	}
}

// held returns for how long a lane has made no progress though it could have. It is called once a beat
// with the processor time that was used since.
func (l *lane) held(used time.Duration, except int) time.Duration {
	now := l.progress.Load()
	switch {
	case !l.busy.Load() || now != l.before:
		l.stuck = 0
	case waiting(os.Getpid(), except):
		l.stuck += min(used, beat)
	default:
		l.stuck += beat
	}
	l.before = now
	return l.stuck
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

func (c *child) Track(id media.TrackID, t media.Track) {
	c.send(kindTrack, mustJSON(trackMessage{id, t}))
}

func (c *child) Unit(id media.TrackID, u media.AccessUnit) {
	c.send(kindUnit, unitHead(id, &u), u.Data)
}

// pictureSink notes that encoders get on, which work beside their lane.
type pictureSink struct{ *child }

func (c pictureSink) Unit(id media.TrackID, u media.AccessUnit) {
	c.lanes[0].progress.Add(1)
	c.child.Unit(id, u)
}

func (c *child) Picture(jpeg []byte) { c.send(kindPicture, jpeg) }

func (c *child) Failed(id media.TrackID, err error) {
	c.send(kindFailed, mustJSON(failedMessage{id, err.Error()}))
}
