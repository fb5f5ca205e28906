package library

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path"
	"slices"
	"sync"
	"time"

	"metaplasis/internal/core/media"
)

// An item is encoded into a ladder stretch by stretch, each from a keyframe of the file on, in a process of the lowest priority. What is
// done lies in a folder beside the files; after a restart it goes on with the stretch that was not whole.

// Code makes a process that codes.
type Code func() *exec.Cmd

// Coding is how the coding of an item goes.
type Coding struct {
	State   string   `json:"state"` // "waiting", "coding", "paused", "failed" or "done"
	Rungs   []string `json:"rungs"`
	Percent int      `json:"percent"`
	Speed   int      `json:"speed,omitempty"` // media time against time, in hundredths, of the newest stretch
	Left    int64    `json:"left,omitempty"`  // seconds, about
	Trouble string   `json:"trouble,omitempty"`
}

// States of a coding.
const (
	codingWaiting = "waiting"
	codingGoes    = "coding"
	codingPaused  = "paused"
	codingFailed  = "failed"
	codingDone    = "done"
)

// codingFile is what is kept of a coding on the disk.
type codingFile struct {
	File     string    `json:"file"`
	Bytes    int64     `json:"bytes"`
	Modified time.Time `json:"modified"`
	Heights  []int     `json:"heights,omitempty"`
	Rungs    []string  `json:"rungs,omitempty"`
	Paused   bool      `json:"paused,omitempty"`
	Done     int       `json:"done"` // stretches
	Of       int       `json:"of"`
	Whole    bool      `json:"whole,omitempty"`
	Failed   string    `json:"failed,omitempty"`
	Begun    time.Time `json:"begun"`
}

// coder encodes one item after the other.
type coder struct {
	l    *Library
	code Code

	mu      sync.Mutex
	jobs    map[string]*codingFile
	order   []string // as they were asked for
	now     string   // that is being coded
	stop    context.CancelFunc
	percent int
	speed   int
	left    int64
	wake    chan struct{}
	ctx     context.Context
	end     context.CancelFunc
}

// Bounds of a coding.
const (
	codedFolder  = ".coded"
	codingState  = "coding.json"
	stretchLeast = 20 * media.VideoTimescale
	codedSegment = 4 * media.VideoTimescale
	//limit:conversions | all | 422
	maxCodings  = 1000
	codedEffort = 4
)

// Errors of asking for a coding.
var (
	ErrUnknown  = errors.New("there is no such item")
	ErrNoCoding = errors.New("it is not being coded")
	ErrCannot   = errors.New("nothing of it can be coded")
)

func (c *coder) begin(l *Library, code Code) {
	c.l, c.code, c.jobs, c.wake = l, code, map[string]*codingFile{}, make(chan struct{}, 1)
	c.ctx, c.end = context.WithCancel(context.Background())
	root, err := os.OpenRoot(l.folder)
	if err != nil {
		return
	}
	defer func() { _ = root.Close() }()
	list, err := fs.ReadDir(root.FS(), codedFolder)
	if err != nil {
		return
	}
	for _, d := range list {
		b, err := fs.ReadFile(root.FS(), path.Join(codedFolder, d.Name(), codingState))
		f := &codingFile{}
		if err == nil && json.Unmarshal(b, f) == nil && len(c.jobs) < maxCodings {
			c.jobs[d.Name()] = f
			c.order = append(c.order, d.Name())
		}
	}
	slices.SortFunc(c.order, func(a, b string) int { return c.jobs[a].Begun.Compare(c.jobs[b].Begun) })
}

func (c *coder) close() { c.end() }

// files are those that were encoded of an item, when all are there and it is what it was.
func (c *coder) files(name string, group []member) (out []member) {
	c.mu.Lock()
	f := c.jobs[name]
	c.mu.Unlock()
	if f == nil || !f.Whole || !f.of(&group[0]) {
		return nil
	}
	root, err := os.OpenRoot(c.l.folder)
	if err != nil {
		return nil
	}
	defer func() { _ = root.Close() }()
	for _, r := range f.Rungs {
		file := path.Join(codedFolder, name, r+".mp4")
		info, err := root.Stat(file)
		if err != nil {
			return nil
		}
		out = append(out, member{name: file, info: info})
	}
	return out
}

func (f *codingFile) of(m *member) bool {
	return f.File == m.name && f.Bytes == m.info.Size() && f.Modified.Equal(m.info.ModTime().UTC())
}

// forget removes what was encoded of an item that is gone.
func (c *coder) forget(name string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.jobs[name] == nil {
		return
	}
	c.drop(name)
}

// drop needs the lock.
func (c *coder) drop(name string) {
	if c.now == name && c.stop != nil {
		c.stop()
	}
	delete(c.jobs, name)
	c.order = slices.DeleteFunc(c.order, func(n string) bool { return n == name })
	if root, err := os.OpenRoot(c.l.folder); err == nil {
		if err := root.RemoveAll(path.Join(codedFolder, name)); err != nil {
			c.l.logger.Warn("what was encoded of an item cannot be removed", "item", name, "error", err)
		}
		_ = root.Close()
	}
}

// status is how the coding of an item goes, nil without one.
func (c *coder) status(name string) *Coding {
	c.mu.Lock()
	defer c.mu.Unlock()
	f := c.jobs[name]
	if f == nil {
		return nil
	}
	out := &Coding{State: codingWaiting, Rungs: f.Rungs, Trouble: f.Failed}
	if f.Of > 0 {
		out.Percent = f.Done * 100 / f.Of
	}
	switch {
	case f.Whole:
		out.State, out.Percent = codingDone, 100
	case f.Failed != "":
		out.State = codingFailed
	case f.Paused:
		out.State = codingPaused
	case c.now == name:
		out.State, out.Percent, out.Speed, out.Left = codingGoes, max(out.Percent, c.percent), c.speed, c.left
	}
	return out
}

// StartCoding asks for a ladder of an item: of pictures of the heights named, or of the usual ones.
func (l *Library) StartCoding(name string, heights []int) error {
	l.mu.Lock()
	e := l.entries[name]
	l.mu.Unlock()
	switch {
	case e == nil:
		return ErrUnknown
	case !e.opened || l.coder.code == nil:
		return ErrCannot
	}
	it, why := l.itemOf(e)
	if it == nil {
		return errors.New(why)
	}
	if _, _, err := ladderOf(it, heights); err != nil {
		return err
	}
	m := &e.members[0]
	c := &l.coder
	c.mu.Lock()
	defer c.mu.Unlock()
	if len(c.jobs) >= maxCodings {
		return fmt.Errorf("found %d codings, expected less: remove some", maxCodings)
	}
	c.drop(name)
	f := &codingFile{File: m.name, Bytes: m.info.Size(), Modified: m.info.ModTime().UTC(), Heights: heights, Begun: time.Now().UTC()}
	c.jobs[name] = f
	c.order = append(c.order, name)
	err := c.save(name, f)
	c.poke()
	return err
}

// PauseCoding stops the coding of an item for a while, ResumeCoding goes on, DropCoding removes what was made.
func (l *Library) PauseCoding(name string) error {
	return l.coder.change(name, func(f *codingFile) { f.Paused = true })
}

// ResumeCoding goes on.
func (l *Library) ResumeCoding(name string) error {
	return l.coder.change(name, func(f *codingFile) { f.Paused, f.Failed = false, "" })
}

// DropCoding removes what was made.
func (l *Library) DropCoding(name string) error {
	c := &l.coder
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.jobs[name] == nil {
		return ErrNoCoding
	}
	c.drop(name)
	return nil
}

func (c *coder) change(name string, do func(*codingFile)) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	f := c.jobs[name]
	if f == nil {
		return ErrNoCoding
	}
	do(f)
	if f.Paused && c.now == name && c.stop != nil {
		c.stop()
	}
	c.poke()
	return c.save(name, f)
}

func (c *coder) poke() {
	select {
	case c.wake <- struct{}{}:
	default:
	}
}

// save writes the state of a coding. It needs the lock.
func (c *coder) save(name string, f *codingFile) error {
	b, err := json.Marshal(f)
	if err != nil {
		return err
	}
	return c.write(path.Join(codedFolder, name, codingState), b)
}

// write puts a file in place whole.
func (c *coder) write(file string, pieces ...[]byte) error {
	return c.put(file, func(_ *os.Root, w io.Writer) error {
		for _, b := range pieces {
			if _, err := w.Write(b); err != nil {
				return err
			}
		}
		return nil
	})
}

// put puts in place whole what fill writes.
func (c *coder) put(file string, fill func(*os.Root, io.Writer) error) error {
	root, err := os.OpenRoot(c.l.folder)
	if err != nil {
		return err
	}
	defer func() { _ = root.Close() }()
	if err := root.MkdirAll(path.Dir(file), 0o755); err != nil {
		return err
	}
	w, err := root.Create(file + ".new")
	if err != nil {
		return err
	}
	if err = fill(root, w); err == nil {
		err = w.Sync()
	}
	if err := errors.Join(err, w.Close()); err != nil {
		_ = root.Remove(file + ".new")
		return err
	}
	return root.Rename(file+".new", file)
}

// run encodes what was asked for.
func (c *coder) run() {
	defer c.l.all.Done()
	retry := time.NewTicker(time.Second)
	defer retry.Stop()
	for {
		name, e := c.next()
		if e != nil {
			c.item(name, e)
			continue
		}
		select {
		case <-c.ctx.Done():
			return
		case <-c.wake:
		case <-retry.C: // an item may have been looked into meanwhile
		}
	}
}

// next is the item whose turn it is, nil when there is none.
func (c *coder) next() (string, *Entry) {
	if c.ctx.Err() != nil || c.code == nil {
		return "", nil
	}
	type asked struct {
		name string
		f    codingFile
	}
	var list []asked
	c.mu.Lock()
	for _, name := range c.order {
		if f := c.jobs[name]; !f.Whole && !f.Paused && f.Failed == "" {
			list = append(list, asked{name, *f})
		}
	}
	c.mu.Unlock()
	c.l.mu.Lock() // never within the coder's lock
	defer c.l.mu.Unlock()
	for i := range list {
		if e := c.l.entries[list[i].name]; e != nil && e.opened && e.Looking == 0 && list[i].f.of(&e.members[0]) {
			return list[i].name, e
		}
	}
	return "", nil
}

// item encodes an item as far as it gets.
func (c *coder) item(name string, e *Entry) {
	ctx, stop := context.WithCancel(c.ctx)
	defer stop()
	c.mu.Lock()
	f := c.jobs[name]
	if f == nil || f.Paused {
		c.mu.Unlock()
		return
	}
	c.now, c.stop, c.percent, c.speed, c.left = name, stop, 0, 0, 0
	c.mu.Unlock()
	it, why := c.l.itemOf(e)
	err := errors.New(why)
	if it != nil {
		err = c.make(ctx, name, it, f)
	} else if why == stillLooking { // its turn comes again
		err = nil
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	c.now, c.stop = "", nil
	if c.jobs[name] != f {
		return // dropped meanwhile: what was written since goes too
	}
	if err != nil && ctx.Err() == nil {
		f.Failed = err.Error()
		c.l.logger.Error("an item cannot be coded", "item", name, "error", err)
	}
	if err := c.save(name, f); err != nil {
		f.Failed = err.Error()
	}
}
