package worker

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"os"
	"os/exec"
	"sync"
	"syscall"
	"time"

	"metaplasis/internal/core/media"
	"metaplasis/internal/core/segment"
	"metaplasis/internal/core/transcode"
)

// Handler takes what a worker makes. Its methods are called from one goroutine at a time.
type Handler interface {
	Track(rendition string, t media.Track)
	Unit(rendition string, u media.AccessUnit)
	Picture(jpeg []byte)
	Stats(Stats)
	// Failed says that a rendition cannot be made, "" for all of the graph.
	Failed(rendition, text string)
	// Replaced is called when a worker was lost and a new one is about to repeat, from the oldest
	// unfinished segment on, what the lost one had taken. With repeats false there is nothing to
	// repeat: the same stretch has killed two workers, and the next segment begins behind it. It
	// returns from which time on each rendition is wanted, where some of it is published.
	Replaced(why string, repeats bool) (resume map[string]int64)
	Drained()
}

// Bounds of what a supervisor holds.
const (
	maxLogBytes = 48 << 20 // of units that a new worker would have to see again
	maxLogUnits = 8192
	maxQueue    = 4096 // messages on their way to the worker
	hangAfter   = 900 * time.Millisecond
	hangLongest = 8 * time.Second
	spawnPause  = 200 * time.Millisecond // between two attempts to start a process
)

// LogBound is the most that a supervisor's backlog takes, in bytes.
const LogBound = maxLogBytes

// entry is one message kept for a repetition.
type entry struct {
	kind     byte
	unit     *media.AccessUnit
	boundary segment.Boundary
	config   transcode.Config
}

func (e *entry) size() int {
	if e.unit == nil {
		return 64
	}
	return len(e.unit.Data)
}

// Supervisor keeps one worker alive for one feed. Its methods may be called from any goroutine
// and never block on the worker.
type Supervisor struct {
	command func() *exec.Cmd
	handler Handler
	logger  *slog.Logger

	mu       sync.Mutex
	wake     *sync.Cond
	config   transcode.Config // the newest whose boundary is settled
	log      []entry          // from the last keyframe that the oldest unfinished segment needs
	logBytes int
	sent     int // entries of log that the current process has
	queued   int // entries of log that it has not
	draining bool
	drained  bool // drain was sent to the current process
	closed   bool
	settled  uint64
	killer   uint64 // settled when the last process died
	deaths   int    // in a row without progress
	lost     int64  // units dropped since the worker did not take them
	pid      int
	restarts int64
	hang     time.Duration
	resume   map[string]int64 // for the current process
	done     chan struct{}
}

// NewSupervisor starts a worker and keeps it alive. command makes the child's command line; the
// socket becomes its file descriptor 3.
func NewSupervisor(command func() *exec.Cmd, first transcode.Config, h Handler, logger *slog.Logger) *Supervisor {
	s := &Supervisor{command: command, config: first, handler: h, logger: logger, hang: hangAfter,
		done: make(chan struct{}), settled: first.At, killer: first.At}
	s.wake = sync.NewCond(&s.mu)
	go s.run()
	return s
}

// Configure changes what the worker makes, from a boundary on.
func (s *Supervisor) Configure(c transcode.Config) { s.push(entry{kind: kindConfig, config: c}) }

// Boundary announces a boundary, before any unit behind it.
func (s *Supervisor) Boundary(b segment.Boundary) { s.push(entry{kind: kindBoundary, boundary: b}) }

// Video hands over one access unit.
func (s *Supervisor) Video(u *media.AccessUnit) { s.push(entry{kind: kindVideo, unit: u}) }

// Audio hands over one frame.
func (s *Supervisor) Audio(u *media.AccessUnit) { s.push(entry{kind: kindAudio, unit: u}) }

// Drain asks for everything that is still held; Handler.Drained says when it is out.
func (s *Supervisor) Drain() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.draining = true
	s.wake.Broadcast()
}

// Close ends the worker and returns when its process is gone.
func (s *Supervisor) Close() {
	s.mu.Lock()
	s.closed = true
	s.wake.Broadcast()
	pid := s.pid
	s.mu.Unlock()
	if pid > 0 {
		_ = syscall.Kill(pid, syscall.SIGKILL)
	}
	<-s.done
}

// PID returns the process id of the current worker, 0 between two.
func (s *Supervisor) PID() int {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.pid
}

// Lost returns how many units were dropped since the worker did not take them, and Restarts how
// often it was replaced.
func (s *Supervisor) Lost() (units, restarts int64) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.lost, s.restarts
}

// Settled says that every segment below a number is finished in all renditions that the worker
// makes, so that nothing before it has to be repeated.
func (s *Supervisor) Settled(msn uint64) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if msn > s.settled {
		s.settled = msn
		s.deaths = 0
		s.trim()
	}
}

func (s *Supervisor) push(e entry) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.closed {
		return
	}
	if s.queued >= maxQueue || s.logBytes > maxLogBytes || len(s.log) >= maxLogUnits {
		s.overflow()
	}
	s.log = append(s.log, e)
	s.logBytes += e.size()
	s.queued++
	s.wake.Signal()
}

// trim forgets what no new worker would need: everything before the last keyframe at or before
// the start of the oldest unfinished segment. Boundaries and configs that are passed count as known.
func (s *Supervisor) trim() {
	cut, from := 0, int64(-1)
	for i := range s.log[:s.sent] {
		e := &s.log[i]
		if e.kind == kindBoundary && e.boundary.MSN == s.settled {
			from = e.boundary.Start
		}
	}
	if from < 0 {
		return
	}
	for i := range s.log[:s.sent] {
		e := &s.log[i]
		if e.kind == kindVideo && e.unit.Key && e.unit.PTS <= from {
			cut = i
		}
		if e.kind == kindBoundary && e.boundary.MSN == s.settled && s.config.Video == nil {
			cut = i
		}
	}
	s.forget(cut)
}

// forget drops the first n entries. Configs among them become the base; boundaries that are not
// settled stay, at the front.
func (s *Supervisor) forget(n int) {
	var stay []entry
	staySent := 0
	for i := range s.log[:n] {
		e := s.log[i]
		s.logBytes -= e.size()
		switch {
		case e.kind == kindConfig && e.config.At <= s.settled:
			s.config = e.config
		case e.kind == kindConfig, e.kind == kindBoundary && e.boundary.MSN >= s.settled:
			stay = append(stay, e)
			s.logBytes += e.size()
			if i < s.sent {
				staySent++
			}
		}
	}
	sent := min(n, s.sent)
	s.log = append(stay, s.log[n:]...)
	s.sent += staySent - sent
	s.queued = len(s.log) - s.sent
}

// overflow drops the units that the worker did not take, and with them the chance to repeat.
func (s *Supervisor) overflow() {
	for i := range s.log {
		if s.log[i].unit != nil && i >= s.sent {
			s.lost++
		}
	}
	s.forget(len(s.log))
}

// run starts one process after the other.
func (s *Supervisor) run() {
	defer close(s.done)
	why := ""
	for first := true; ; first = false {
		s.mu.Lock()
		if s.closed {
			s.mu.Unlock()
			return
		}
		repeats := true
		if !first {
			s.restarts++
			if s.killer == s.settled {
				s.deaths++
			}
			s.killer = s.settled
			if s.deaths >= 2 {
				repeats, s.deaths = false, 0
				s.sent = len(s.log)
				s.forget(len(s.log))
			}
			s.sent, s.queued, s.drained = 0, len(s.log), false
		}
		s.mu.Unlock()
		if !first {
			resume := s.handler.Replaced(why, repeats)
			s.mu.Lock()
			s.resume = resume
			s.mu.Unlock()
		}
		begin := time.Now()
		err := s.serve()
		s.mu.Lock()
		closed := s.closed
		s.pid = 0
		s.mu.Unlock()
		if closed {
			return
		}
		why = err.Error()
		s.logger.Warn("worker lost", "why", why)
		if time.Since(begin) < spawnPause {
			time.Sleep(spawnPause)
		}
	}
}

// serve runs one process to its end and says why it ended.
func (s *Supervisor) serve() error {
	conn, cmd, err := s.spawn()
	if err != nil {
		return err
	}
	s.mu.Lock()
	s.pid = cmd.Process.Pid
	closed := s.closed
	s.mu.Unlock()
	if closed {
		_ = cmd.Process.Kill()
	}
	stop := make(chan struct{})
	var feeding sync.WaitGroup
	feeding.Add(1)
	go func() {
		defer feeding.Done()
		s.feed(conn, stop)
	}()
	why := s.listen(conn, cmd.Process.Pid)
	_ = cmd.Process.Kill()
	_ = conn.Close()
	close(stop)
	s.mu.Lock()
	s.wake.Broadcast()
	s.mu.Unlock()
	feeding.Wait()
	state := cmd.Wait()
	if errors.Is(why, errSilent) {
		s.hang = min(2*s.hang, hangLongest)
		return errSilent
	}
	var stuck *stuckError
	if errors.As(why, &stuck) {
		s.hang = min(2*s.hang, hangLongest)
		return stuck
	}
	return fmt.Errorf("the process ended: %w", orUnknown(state))
}

func orUnknown(err error) error {
	if err == nil {
		return errors.New("exit status 0")
	}
	return err
}

func (s *Supervisor) spawn() (*net.UnixConn, *exec.Cmd, error) {
	pair, err := syscall.Socketpair(syscall.AF_UNIX, syscall.SOCK_STREAM|syscall.SOCK_CLOEXEC, 0)
	if err != nil {
		return nil, nil, fmt.Errorf("socket pair for the worker: %w", err)
	}
	ours, theirs := os.NewFile(uintptr(pair[0]), "worker"), os.NewFile(uintptr(pair[1]), "worker")
	defer func() { _ = ours.Close(); _ = theirs.Close() }()
	conn, err := net.FileConn(ours)
	if err != nil {
		return nil, nil, fmt.Errorf("socket of the worker: %w", err)
	}
	cmd := s.command()
	cmd.ExtraFiles = []*os.File{theirs}
	if err := cmd.Start(); err != nil {
		_ = conn.Close()
		return nil, nil, fmt.Errorf("starting the worker %s: %w", cmd.Path, err)
	}
	return conn.(*net.UnixConn), cmd, nil
}

// feed writes the log to the process as it grows.
func (s *Supervisor) feed(conn *net.UnixConn, stop <-chan struct{}) {
	w := bufio.NewWriterSize(conn, 256<<10)
	s.mu.Lock()
	first := s.config
	first.Resume = s.resume
	for i := range s.log {
		if u := s.log[i].unit; s.log[i].kind == kindVideo {
			first.Keep = max(first.Keep, u.PTS)
		}
	}
	s.mu.Unlock()
	if writeMessage(w, kindConfig, mustJSON(first)) != nil {
		return
	}
	for {
		s.mu.Lock()
		for s.queued == 0 && !(s.draining && !s.drained) && !s.closed && !stopped(stop) {
			if w.Buffered() > 0 {
				break
			}
			s.wake.Wait()
		}
		if s.closed || stopped(stop) {
			s.mu.Unlock()
			return
		}
		var e *entry
		drain := false
		if s.queued > 0 {
			next := s.log[s.sent]
			e = &next
			s.sent++
			s.queued--
		} else if s.draining && !s.drained {
			s.drained, drain = true, true
		}
		s.mu.Unlock()
		var err error
		switch {
		case drain:
			err = writeMessage(w, kindDrain)
		case e == nil:
			err = w.Flush()
		case e.kind == kindConfig:
			err = writeMessage(w, kindConfig, mustJSON(e.config))
		case e.kind == kindBoundary:
			err = writeMessage(w, kindBoundary, boundaryBody(e.boundary))
		default:
			err = writeMessage(w, e.kind, unitHead("", e.unit), e.unit.Data)
		}
		if err != nil {
			return
		}
	}
}

func stopped(c <-chan struct{}) bool {
	select {
	case <-c:
		return true
	default:
		return false
	}
}

type stuckError struct{ millis int64 }

func (e *stuckError) Error() string { return fmt.Sprintf("it made no progress for %d ms", e.millis) }

// errSilent says that a worker's heart has stopped.
var errSilent = errors.New("it stopped answering")

// patient reads from a worker and gives up after so many quiet ticks. A tick that comes late does
// not count, nor one at which the worker waits for a processor: then the machine is held up, not
// the worker.
type patient struct {
	conn  *net.UnixConn
	pid   int
	limit func() time.Duration
}

const quietTick = 100 * time.Millisecond

func (p *patient) Read(b []byte) (int, error) {
	for quiet := time.Duration(0); ; {
		begin := time.Now()
		_ = p.conn.SetReadDeadline(begin.Add(quietTick))
		n, err := p.conn.Read(b)
		if n > 0 || !errors.Is(err, os.ErrDeadlineExceeded) {
			return n, err
		}
		if time.Since(begin) < quietTick*3/2 && !waiting(p.pid, 0) {
			quiet += quietTick
		}
		if quiet >= p.limit() {
			return 0, errSilent
		}
	}
}

// listen hands messages to the handler until the process ends or hangs.
func (s *Supervisor) listen(conn *net.UnixConn, pid int) error {
	r := bufio.NewReaderSize(&patient{conn, pid, func() time.Duration { return s.hang }}, 256<<10)
	steady := time.Now()
	for {
		kind, body, err := readMessage(r)
		if err != nil {
			return err
		}
		switch kind {
		case kindUnit:
			name, u, err := parseUnit(body)
			if err != nil {
				return err
			}
			s.handler.Unit(name, u)
		case kindTrack:
			var t trackMessage
			if err := json.Unmarshal(body, &t); err != nil {
				return err
			}
			s.handler.Track(t.Name, t.Track)
		case kindPicture:
			s.handler.Picture(body)
		case kindStats:
			var st Stats
			if err := json.Unmarshal(body, &st); err != nil {
				return err
			}
			if st.Stuck > s.hang.Milliseconds() {
				return &stuckError{st.Stuck}
			}
			if time.Since(steady) > 30*time.Second {
				s.hang, steady = hangAfter, time.Now()
			}
			s.handler.Stats(st)
		case kindFailed:
			var f failedMessage
			if err := json.Unmarshal(body, &f); err != nil {
				return err
			}
			s.handler.Failed(f.Name, f.Text)
		case kindDrained:
			s.handler.Drained()
		}
	}
}
