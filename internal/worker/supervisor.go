package worker

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"math"
	"net"
	"os"
	"os/exec"
	"sync"
	"syscall"
	"time"

	"metaplasis/internal/core/coding"
	"metaplasis/internal/core/hub"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/segment"
	"metaplasis/internal/core/transcode"
)

// Handler takes what a worker makes. Its methods are called from one goroutine at a time.
type Handler interface {
	Track(rendition media.TrackID, t media.Track)
	Unit(rendition media.TrackID, u media.AccessUnit)
	Picture(jpeg []byte)
	Stats(Stats)
	// Failed says that a rendition cannot be made, 0 for all of the graph.
	Failed(rendition media.TrackID, text string)
	// Replaced is called when a worker was lost and a new one is about to repeat, from the oldest
	// unfinished segment on, what the lost one had taken. With repeats false there is nothing to
	// repeat: the same stretch has killed two workers, and the next segment begins behind it. It
	// returns from which time on each rendition is wanted, where some of it is published.
	Replaced(why string, repeats bool) (resume map[media.TrackID]int64)
	Drained()
}

// Bounds of what a supervisor holds and waits for.
const (
	//limit:boundaries and configurations that a worker has not answered | each worker | the oldest are dropped
	maxNotes  = 4096 // boundaries and configurations
	hangAfter = 900 * time.Millisecond
	//limit:how long a worker may stand still | each worker | it is killed and restarted
	hangLongest  = 8 * time.Second
	spawnPause   = 200 * time.Millisecond // between two attempts to start a process
	longestPause = 10 * time.Second       // when it ends again and again
	batch        = 64                     // units read at a time
)

// lanes is how many queues of units go to a worker: of pictures and of sound.
const lanes = 2

// note is what is said to the worker between two units.
type note struct {
	before   uint64 // number of the first unit behind it
	kind     byte
	boundary segment.Boundary
	config   transcode.Config
}

// Supervisor keeps one worker alive for one feed, whose units it reads from the channel's hub: a worker
// that is slow or dead costs the channel nothing but what left the hub meanwhile. Its methods may be
// called from any goroutine and never block on the worker.
//
//large:one process, its pipes, and what it was sent and has answered
type Supervisor struct {
	command func() *exec.Cmd
	hub     *hub.Hub
	handler Handler
	logger  *slog.Logger
	ids     [lanes][]media.TrackID // of the tracks that are encoded, the leading one first

	mu        sync.Mutex
	wake      *sync.Cond
	config    transcode.Config // the newest whose boundary is settled
	notes     []note           // that a new worker would have to be told
	forgotten uint64           // notes before those
	told      [lanes]uint64    // notes that the current process has, by lane
	taken     uint64           // units below this number are for the worker
	first     uint64           // no unit below this number is
	from      int64            // presentation time of the oldest boundary that is not settled, ticks of media.VideoTimescale
	draining  bool
	closed    bool
	settled   uint64
	killer    uint64 // settled when the last process died
	deaths    int    // in a row without progress
	early     int    // processes in a row that ended at once
	lost      int64  // units that left the hub before the worker took them
	pid       int
	restarts  int64
	hang      time.Duration
	resume    map[media.TrackID]int64 // for the current process
	quit      chan struct{}           // closed by Close
	done      chan struct{}
}

// NewSupervisor starts a worker and keeps it alive. command makes the child's command line; its sockets
// become its file descriptors 3 and 4. The worker is given the hub's units from a number on, as far as Take
// allows.
func NewSupervisor(command func() *exec.Cmd, units *hub.Hub, from uint64, first transcode.Config, h Handler,
	logger *slog.Logger) *Supervisor {
	s := &Supervisor{command: command, hub: units, config: first, handler: h, logger: logger, hang: hangAfter,
		quit: make(chan struct{}), done: make(chan struct{}), settled: first.At, killer: first.At, from: math.MinInt64, first: from, taken: from}
	for lane, list := range laneTracks(&first) {
		for _, t := range list {
			s.ids[lane] = append(s.ids[lane], t.ID)
		}
	}
	s.wake = sync.NewCond(&s.mu)
	go s.run()
	return s
}

// laneTracks lists the tracks of each lane.
func laneTracks(c *transcode.Config) (out [lanes][]*media.Track) {
	if c.Video != nil {
		out[0] = []*media.Track{c.Video}
	}
	if c.Audio != nil {
		out[1] = []*media.Track{c.Audio}
	}
	out[1] = append(out[1], c.Others...)
	return out
}

// Configure changes what the worker makes, from a boundary on.
func (s *Supervisor) Configure(c transcode.Config) { s.note(note{kind: kindConfig, config: c}) }

// Boundary announces a boundary, before Take lets any unit behind it through.
func (s *Supervisor) Boundary(b segment.Boundary) { s.note(note{kind: kindBoundary, boundary: b}) }

func (s *Supervisor) note(n note) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if len(s.notes) >= maxNotes { // the worker has stood still for hours of boundaries: it does without the oldest
		s.drop(len(s.notes) / 2)
	}
	n.before = s.taken
	s.notes = append(s.notes, n)
	s.wake.Broadcast()
}

// Take lets the worker have the hub's units below a number.
func (s *Supervisor) Take(below uint64) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.taken = max(s.taken, below)
	s.wake.Broadcast()
}

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
	if !s.closed {
		close(s.quit)
	}
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

// trim forgets what no new worker would need to be told: everything before the start of the oldest
// unfinished segment.
func (s *Supervisor) trim() {
	for i := range s.notes {
		if n := &s.notes[i]; n.kind == kindBoundary && n.boundary.MSN == s.settled {
			s.from = n.boundary.Start
			s.forget(i)
			return
		}
	}
}

// forget drops what is settled of the first n notes that the current process was told: configurations
// among them become the base.
func (s *Supervisor) forget(n int) {
	for i := range s.told {
		n = min(n, int(s.told[i]-s.forgotten))
	}
	s.drop(n)
}

// drop is forget whether the process was told or not.
func (s *Supervisor) drop(n int) {
	oldest := uint64(0)
	if n < len(s.notes) && len(s.notes) >= maxNotes {
		oldest = s.notes[n].boundary.MSN
	}
	var stay []note
	for _, e := range s.notes[:n] {
		switch {
		case e.kind == kindConfig && e.config.At <= s.settled:
			s.config = e.config
		case e.kind == kindConfig, e.boundary.MSN >= max(s.settled, oldest):
			stay = append(stay, e)
		}
	}
	gone := n - len(stay)
	s.notes = append(stay, s.notes[n:]...)
	s.forgotten += uint64(gone)
	for i := range s.told {
		s.told[i] = max(s.told[i], s.forgotten)
	}
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
				s.first = s.taken
				s.told = [lanes]uint64{s.forgotten + uint64(len(s.notes)), s.forgotten + uint64(len(s.notes))}
				s.forget(len(s.notes))
			}
			s.told = [lanes]uint64{s.forgotten, s.forgotten}
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
		s.restartPause(time.Since(begin))
	}
}

// restartPause waits before another process is started: ever longer while they end at once.
func (s *Supervisor) restartPause(lived time.Duration) {
	const enough = 5 * time.Second // of a life that was no failure to start
	if s.early++; lived >= enough {
		s.early = 0
		return
	}
	pause := min(spawnPause<<min(s.early-1, 8), longestPause)
	if s.early <= freeRestarts {
		pause = max(0, spawnPause-lived)
	}
	select {
	case <-time.After(pause):
	case <-s.quit:
	}
}

// freeRestarts is how many processes may end soon after their start before the next one has to wait longer.
const freeRestarts = 3

// serve runs one process to its end and says why it ended.
func (s *Supervisor) serve() error {
	conns, cmd, err := s.spawn()
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
	for lane, conn := range conns {
		feeding.Add(1)
		go func() {
			defer feeding.Done()
			f := s.feeder(lane, conn, stop)
			for f.step() {
			}
		}()
	}
	why := s.listen(conns[0], cmd.Process.Pid)
	_ = cmd.Process.Kill()
	for _, conn := range conns {
		_ = conn.Close()
	}
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

// spawn starts a process with a socket for each lane.
func (s *Supervisor) spawn() (conns [lanes]*net.UnixConn, cmd *exec.Cmd, err error) {
	cmd = s.command()
	defer func() {
		for _, f := range cmd.ExtraFiles {
			_ = f.Close()
		}
		for _, c := range conns {
			if err != nil && c != nil {
				_ = c.Close()
			}
		}
	}()
	for i := range conns {
		pair, err := syscall.Socketpair(syscall.AF_UNIX, syscall.SOCK_STREAM|syscall.SOCK_CLOEXEC, 0)
		if err != nil {
			return conns, cmd, fmt.Errorf("socket pair for the worker: %w", err)
		}
		ours := os.NewFile(uintptr(pair[0]), "worker")
		cmd.ExtraFiles = append(cmd.ExtraFiles, os.NewFile(uintptr(pair[1]), "worker"))
		conn, err := net.FileConn(ours)
		_ = ours.Close()
		if err != nil {
			return conns, cmd, fmt.Errorf("socket of the worker: %w", err)
		}
		conns[i] = conn.(*net.UnixConn)
	}
	if err := cmd.Start(); err != nil {
		return conns, cmd, fmt.Errorf("starting the worker %s: %w", cmd.Path, err)
	}
	return conns, cmd, nil
}

// feeder writes one lane to a process, at the process's own pace.
type feeder struct {
	s       *Supervisor
	lane    int
	w       *bufio.Writer
	stop    <-chan struct{}
	reader  *hub.Reader                    // nil when nothing goes over the lane
	tracks  map[media.TrackID]*media.Track // the worker's decoders have their parameter sets
	units   []hub.Unit
	drained bool
}

// feeder begins with the base configuration and goes back to what the process has to repeat.
func (s *Supervisor) feeder(lane int, conn *net.UnixConn, stop <-chan struct{}) *feeder {
	f := &feeder{s: s, lane: lane, w: bufio.NewWriterSize(conn, 256<<10), stop: stop, units: make([]hub.Unit, batch), tracks: map[media.TrackID]*media.Track{}}
	s.mu.Lock()
	defer s.mu.Unlock()
	first := s.config
	first.Resume = s.resume
	if s.restarts > 0 && len(s.ids[0]) > 0 {
		if pts, ok := s.hub.Newest(s.ids[0][0]); ok {
			first.Keep = max(first.Keep, pts)
		}
	}
	if tracks := laneTracks(&first)[lane]; len(tracks) > 0 {
		f.reader = s.hub.NewReader(hub.Oldest, s.ids[lane]...)
		for _, t := range tracks {
			f.tracks[t.ID] = t
		}
		from := s.from
		if from != math.MinInt64 {
			from = media.Rescale(from, media.VideoTimescale, tracks[0].Timescale)
		}
		f.reader.Back(from, s.first)
	}
	_ = writeMessage(f.w, kindConfig, mustJSON(first)) // a broken socket shows with what follows
	return f
}

// step writes the next units or the next note, or waits for one. It reports whether to go on.
func (f *feeder) step() bool {
	s := f.s
	s.mu.Lock()
	below, next, due := s.taken, note{}, false
	if i := s.told[f.lane] - s.forgotten; i < uint64(len(s.notes)) {
		next, due = s.notes[i], true
		below = min(below, next.before)
	}
	over := s.closed || stopped(f.stop)
	s.mu.Unlock()
	if over {
		return false
	}
	if f.reader != nil {
		n, lost := f.reader.ReadBelow(f.units, below)
		if lost.Units > 0 {
			s.mu.Lock()
			s.lost += lost.Units
			s.mu.Unlock()
		}
		if n > 0 {
			return f.write(f.units[:n])
		}
	}
	if due {
		return f.tell(&next)
	}
	return f.wait(below)
}

func (f *feeder) write(list []hub.Unit) bool {
	for i := range list {
		u := &list[i]
		out := u.AccessUnit
		out.Key = u.Random
		if u.Track != f.tracks[u.Track.ID] && u.Random {
			f.tracks[u.Track.ID] = u.Track
			out.Data = coding.WithConfig(u.Track, u.Data)
		}
		if writeMessage(f.w, kindAccess, unitHead(u.Track.ID, &out), out.Data) != nil {
			return false
		}
		*u = hub.Unit{}
	}
	return true
}

// tell writes a note. It counts as told first: who forgets meanwhile counts on that.
func (f *feeder) tell(n *note) bool {
	f.s.mu.Lock()
	f.s.told[f.lane]++
	f.s.mu.Unlock()
	if n.kind == kindConfig {
		return writeMessage(f.w, kindConfig, mustJSON(n.config)) == nil
	}
	return writeMessage(f.w, kindBoundary, boundaryBody(n.boundary)) == nil
}

// wait returns when there is more than units below a number.
func (f *feeder) wait(below uint64) bool {
	s := f.s
	if f.w.Buffered() > 0 && f.w.Flush() != nil {
		return false
	}
	idle := func() bool {
		return s.taken == below && s.told[f.lane] == s.forgotten+uint64(len(s.notes)) && !s.closed && !stopped(f.stop)
	}
	s.mu.Lock()
	for idle() && (!s.draining || f.drained) {
		s.wake.Wait()
	}
	drain := idle()
	s.mu.Unlock()
	if drain {
		f.drained = true
		return writeMessage(f.w, kindDrain) == nil && f.w.Flush() == nil
	}
	return true
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

// slowWriter reads from a worker and gives up after so many quiet ticks. A tick that comes late does
// not count, nor one at which the worker waits for a processor: then the machine is held up, not
// the worker.
type slowWriter struct {
	conn  *net.UnixConn
	pid   int
	limit func() time.Duration
}

const quietTick = 100 * time.Millisecond

func (p *slowWriter) Read(b []byte) (int, error) {
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
	r := bufio.NewReaderSize(&slowWriter{conn, pid, func() time.Duration { return s.hang }}, 256<<10)
	steady := time.Now()
	for {
		kind, body, err := readMessage(r)
		if err != nil {
			return err
		}
		switch kind {
		case kindUnit:
			id, u, err := parseUnit(body)
			if err != nil {
				return err
			}
			s.handler.Unit(id, u)
		case kindTrack:
			var t trackMessage
			if err := json.Unmarshal(body, &t); err != nil {
				return err
			}
			s.handler.Track(t.ID, t.Track)
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
			s.handler.Failed(f.ID, f.Text)
		case kindDrained:
			s.handler.Drained()
		}
	}
}
