package store

import (
	"metaplasis/internal/retry"

	"cmp"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"os"
	"slices"
	"strings"
	"sync"
	"time"
)

// Spool is a place of which what is new lies in a local folder first, and goes to an object store when it is whole. So
// nothing waits in memory for an object to become large enough, what a process left behind when it was killed is there
// at the next start, and an object store that is away costs nothing until the folder is full.
type Spool struct {
	local  Folder
	remote Remote
	most   int64 // bytes of the folder
	logger *slog.Logger

	mu      sync.Mutex
	held    int64            // bytes that are local
	files   map[string]int64 // local files and their sizes
	before  []string         // of them those that a process before left behind
	queue   []string         // whole files that are to go to the object store
	busy    map[string]bool  // of them those that are on their way
	failing error
	since   time.Time
	wake    *sync.Cond
	over    bool
	all     sync.WaitGroup
}

// Remote is an object store.
type Remote interface {
	Place
	// Upload copies a local file to an object.
	Upload(name, path string) error
}

// Bounds of a spool.
const (
	// DefaultSpool is how many bytes wait locally at most: over an hour of ten channels of 12 Mbit/s.
	DefaultSpool = 64 << 30
	uploads      = 16 // at a time
	spoolBudget  = 20 * time.Second
)

// errSpoolFull says that so much waits for the object store that no more is taken.
var errSpoolFull = errors.New("what waits for the object store has no room in the local folder any more")

// NewSpool puts a local folder before an object store. What lies in it from before is brought there.
func NewSpool(local Folder, remote Remote, most int64, logger *slog.Logger) (*Spool, error) {
	if logger == nil {
		logger = slog.New(slog.DiscardHandler)
	}
	if err := os.MkdirAll(string(local), 0o755); err != nil {
		return nil, fmt.Errorf("the local folder before the object store: %w", err)
	}
	p := &Spool{local: local, remote: remote, most: cmp.Or(most, DefaultSpool), logger: logger, files: map[string]int64{}, busy: map[string]bool{}}
	p.wake = sync.NewCond(&p.mu)
	if err := p.find(""); err != nil {
		return nil, err
	}
	for range uploads {
		p.all.Go(p.upload)
	}
	return p, nil
}

// find takes what a process before left in a folder. It goes to the object store once the store has taken it up.
func (p *Spool) find(folder string) error {
	list, err := p.local.List(folder)
	if err != nil {
		return fmt.Errorf("the local folder before the object store: %w", err)
	}
	for _, e := range list {
		name := strings.TrimPrefix(folder+"/"+e.Name, "/")
		if sub, ok := strings.CutSuffix(name, "/"); ok {
			if err := p.find(sub); err != nil {
				return err
			}
			continue
		}
		p.files[name], p.before = e.Size, append(p.before, name)
		p.held += e.Size
	}
	return nil
}

// Resume brings what lay in the folder from before to the object store. It is called when the store has taken it up.
func (p *Spool) Resume() {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, name := range p.before {
		if _, there := p.files[name]; there {
			p.enqueue(name)
		}
	}
	p.before = nil
}

// enqueue lets a file go to the object store. The lock is held.
func (p *Spool) enqueue(name string) {
	p.queue = append(p.queue, name)
	p.wake.Signal()
}

// String implements Place.
func (p *Spool) String() string { return p.remote.String() }

// Waiting returns the bytes that wait for the object store, and why they cannot go there now, since when.
func (p *Spool) Waiting() (bytes int64, since time.Time, err error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.held, p.since, p.failing
}

// upload brings files to the object store until the spool is closed.
func (p *Spool) upload() {
	pause := retry.New(retryFirst, retryMost)
	for {
		name := p.next()
		if name == "" {
			return
		}
		err := p.remote.Upload(name, p.local.path(name))
		if errors.Is(err, fs.ErrNotExist) {
			err = nil // it was removed meanwhile
		}
		p.uploaded(name, err)
		if err == nil {
			pause.Reset()
			continue
		}
		if p.pause(pause.Take()) {
			return
		}
	}
}

// pause waits, and reports whether the spool is closed.
func (p *Spool) pause(d time.Duration) bool {
	until := time.Now().Add(d)
	for time.Now().Before(until) {
		p.mu.Lock()
		over := p.over
		p.mu.Unlock()
		if over {
			return true
		}
		time.Sleep(min(d, 100*time.Millisecond))
	}
	return false
}

// next waits for a file, "" when the spool is closed.
func (p *Spool) next() string {
	p.mu.Lock()
	defer p.mu.Unlock()
	for len(p.queue) == 0 && !p.over {
		p.wake.Wait()
	}
	if p.over {
		return ""
	}
	name := p.queue[0]
	p.queue = p.queue[1:]
	p.busy[name] = true
	return name
}

// uploaded books an attempt.
func (p *Spool) uploaded(name string, err error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	delete(p.busy, name)
	if err != nil {
		if p.failing == nil {
			p.since = time.Now()
			p.logger.Error("the object store takes nothing now; what is kept waits in a local folder", "error", err)
		}
		p.failing = err
		if _, there := p.files[name]; there {
			p.queue = append(p.queue, name)
		}
		return
	}
	p.failing = nil
	if size, there := p.files[name]; there {
		p.held -= size
		delete(p.files, name)
		_ = p.local.Remove(name)
	}
}

// Close lets what is on its way arrive, for as long as there is time. What waits is there at the next start.
func (p *Spool) Close() {
	until := time.Now().Add(spoolBudget)
	for time.Now().Before(until) {
		p.mu.Lock()
		waits := len(p.queue)+len(p.busy) > 0 && p.failing == nil
		p.mu.Unlock()
		if !waits {
			break
		}
		time.Sleep(20 * time.Millisecond)
	}
	p.mu.Lock()
	p.over = true
	p.wake.Broadcast()
	p.mu.Unlock()
}

// isLocal reports whether a file lies in the folder.
func (p *Spool) isLocal(name string) bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	_, there := p.files[name]
	return there
}

// Create implements Place.
func (p *Spool) Create(name string) (File, error) {
	p.mu.Lock()
	full := p.held >= p.most
	p.mu.Unlock()
	if full {
		return nil, fmt.Errorf("%w: %d MB wait", errSpoolFull, p.most>>20)
	}
	f, err := p.local.Create(name)
	if err != nil {
		return nil, err
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	p.held -= p.files[name]
	p.files[name] = 0
	return &spooled{File: f, p: p, name: name}, nil
}

// spooled is a file of the folder that is being written.
type spooled struct {
	File
	p    *Spool
	name string
}

func (f *spooled) Write(b []byte) (int, error) {
	n, err := f.File.Write(b)
	f.p.mu.Lock()
	defer f.p.mu.Unlock()
	if _, there := f.p.files[f.name]; there {
		f.p.files[f.name] += int64(n)
		f.p.held += int64(n)
	}
	return n, err
}

// Close implements File: the file goes to the object store.
func (f *spooled) Close() error {
	if err := f.File.Close(); err != nil {
		return err
	}
	f.p.mu.Lock()
	defer f.p.mu.Unlock()
	if _, there := f.p.files[f.name]; there {
		f.p.enqueue(f.name)
	}
	return nil
}

// Open implements Place.
func (p *Spool) Open(name string, offset, size int64) (io.ReadSeekCloser, error) {
	if p.isLocal(name) {
		if f, err := p.local.Open(name, offset, size); !errors.Is(err, fs.ErrNotExist) {
			return f, err
		}
	}
	return p.remote.Open(name, offset, size)
}

// List implements Place.
func (p *Spool) List(folder string) ([]Entry, error) {
	out, err := p.remote.List(folder)
	if err != nil {
		return nil, err
	}
	local, err := p.local.List(folder)
	if err != nil {
		return nil, err
	}
	for _, e := range local {
		if i := slices.IndexFunc(out, func(o Entry) bool { return o.Name == e.Name }); i >= 0 {
			out[i].Size = max(out[i].Size, e.Size)
			continue
		}
		out = append(out, e)
	}
	return out, nil
}

// Size implements Place.
func (p *Spool) Size(name string) (int64, error) {
	if p.isLocal(name) {
		if n, err := p.local.Size(name); !errors.Is(err, fs.ErrNotExist) {
			return n, err
		}
	}
	return p.remote.Size(name)
}

// Truncate implements Place.
func (p *Spool) Truncate(name string, size int64) error {
	if !p.isLocal(name) {
		return p.remote.Truncate(name, size)
	}
	return p.local.Truncate(name, size)
}

// Remove implements Place.
func (p *Spool) Remove(name string) error {
	p.mu.Lock()
	if size, there := p.files[name]; there {
		p.held -= size
		delete(p.files, name)
		p.queue = slices.DeleteFunc(p.queue, func(q string) bool { return q == name })
	}
	busy := p.busy[name]
	p.mu.Unlock()
	if err := p.local.Remove(name); err != nil {
		return err
	}
	if busy {
		return errBusy
	}
	return p.remote.Remove(name)
}

// errBusy says that a file is on its way to the object store.
var errBusy = errors.New("the file is on its way to the object store; it is removed when it is there")
