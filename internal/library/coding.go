package library

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path"
	"slices"
	"sync"
	"time"

	"metaplasis/internal/core/bmff"
	"metaplasis/internal/core/coding"
	"metaplasis/internal/core/item"
	"metaplasis/internal/core/ladder"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/segment"
	"metaplasis/internal/core/transcode"
	"metaplasis/internal/worker"
)

// An item is coded into a ladder stretch by stretch, each from a keyframe of the file on, in a process of the lowest priority. What is
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

// coder codes one item after the other.
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
	maxCodings   = 1000
	codedEffort  = 4
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

// files are those that were coded of an item, when all are there and it is what it was.
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

// forget removes what was coded of an item that is gone.
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
			c.l.logger.Warn("what was coded of an item cannot be removed", "item", name, "error", err)
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
	for _, b := range pieces {
		if err == nil {
			_, err = w.Write(b)
		}
	}
	if err == nil {
		err = w.Sync()
	}
	if err := errors.Join(err, w.Close()); err != nil {
		_ = root.Remove(file + ".new")
		return err
	}
	return root.Rename(file+".new", file)
}

// run codes what was asked for.
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

// item codes an item as far as it gets.
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

// part is a piece of work: sound in one, pictures in several.
type part struct {
	track  *item.Track
	lo, hi int
	sound  bool
}

// ladderOf are the tracks of an item that are coded, and the rungs that pictures are coded to.
func ladderOf(it *item.Item, heights []int) (tracks []*item.Track, rungs []ladder.Rung, err error) {
	var video *item.Track
	for i := range it.Tracks {
		t := &it.Tracks[i]
		if t.Count() == 0 || !t.Codable && t.Trouble != "" || t.Codec == "" {
			continue
		}
		switch {
		case t.Kind == media.Video && video == nil:
			video = t
			tracks = append(tracks, t)
		case t.Kind == media.Audio:
			tracks = append(tracks, t)
		}
	}
	if len(tracks) == 0 {
		return nil, nil, ErrCannot
	}
	if video == nil {
		return tracks, nil, nil
	}
	source := video.Track
	if !source.FrameRate.Valid() {
		source.FrameRate = rateOf(video)
	}
	if len(heights) > 0 {
		_, h := ladder.Display(&source)
		for _, side := range heights {
			if side < 64 || side > 4320 {
				return nil, nil, fmt.Errorf("found a height of %d, expected 64 to 4320", side)
			}
			r := ladder.Small(&source, min(side, h))
			r.Name = fmt.Sprintf("%dp", min(side, h))
			if !slices.ContainsFunc(rungs, func(o ladder.Rung) bool { return o.Name == r.Name }) {
				rungs = append(rungs, r)
			}
		}
	} else {
		rungs = ladder.Default(&source, nil)
		w, h := ladder.Display(&source)
		rungs[0] = ladder.Small(&source, min(w, h))
		rungs[0].Name = fmt.Sprintf("%dp", min(w, h))
	}
	for i := range rungs {
		rungs[i] = rungs[i].WithDefaults()
		rungs[i].Effort = codedEffort
	}
	return tracks, rungs, nil
}

// rateOf measures the rate of pictures.
func rateOf(t *item.Track) media.Rational {
	n := t.Count()
	if n < 2 {
		return media.Rational{Num: 25, Den: 1}
	}
	ticks := t.At(n-1) - t.At(0)
	if ticks <= 0 {
		return media.Rational{Num: 25, Den: 1}
	}
	exact := media.Rational{Num: int64(n-1) * t.Timescale, Den: ticks}
	for _, r := range []media.Rational{{Num: 24000, Den: 1001}, {Num: 24, Den: 1}, {Num: 25, Den: 1}, {Num: 30000, Den: 1001}, {Num: 30, Den: 1}, {Num: 50, Den: 1}, {Num: 60000, Den: 1001}, {Num: 60, Den: 1}} {
		if d := exact.Milli() - r.Milli(); d < 8 && d > -8 {
			return r
		}
	}
	return exact.Reduce()
}

// make codes what is missing, and puts it together.
func (c *coder) make(ctx context.Context, name string, it *item.Item, f *codingFile) error {
	tracks, rungs, err := ladderOf(it, f.Heights)
	if err != nil {
		return err
	}
	var parts []part
	var names []string
	for _, t := range tracks {
		if t.Kind != media.Video {
			parts = append(parts, part{track: t, hi: t.Count(), sound: true})
			names = append(names, soundName(it, t))
			continue
		}
		for _, s := range t.Stretches(stretchLeast) {
			parts = append(parts, part{track: t, lo: s[0], hi: s[1]})
		}
	}
	slices.SortStableFunc(parts, func(a, b part) int { return cmp.Compare(soundFirst(&b), soundFirst(&a)) })
	var pictures []string
	for _, r := range rungs {
		pictures = append(pictures, r.Name)
	}
	c.mu.Lock()
	f.Rungs, f.Of = append(pictures, names...), len(parts)
	c.mu.Unlock()
	for n := f.Done; n < len(parts); n++ {
		p := &parts[n]
		begin := time.Now()
		base := n * 100 / len(parts)
		progress := func(share int) {
			c.mu.Lock()
			c.percent = base + share/len(parts)
			c.mu.Unlock()
		}
		if p.sound {
			err = c.sound(ctx, name, soundName(it, p.track), p.track, progress)
		} else {
			err = c.pictures(ctx, name, n, p, rungs, progress)
		}
		if err != nil {
			return err
		}
		took := time.Since(begin)
		lasted := media.Rescale(p.track.At(p.hi-1)-p.track.At(p.lo), p.track.Timescale, 1000)
		c.mu.Lock()
		f.Done = n + 1
		c.speed = int(lasted * 100 / max(took.Milliseconds(), 1))
		c.left = int64(took.Seconds() * float64(len(parts)-n-1))
		err := c.save(name, f)
		c.mu.Unlock()
		if err != nil {
			return err
		}
	}
	for _, r := range pictures {
		if err := c.join(name, r, parts); err != nil {
			return err
		}
	}
	c.mu.Lock()
	f.Whole = true
	c.mu.Unlock()
	if root, err := os.OpenRoot(c.l.folder); err == nil {
		_ = root.RemoveAll(path.Join(codedFolder, name, "parts"))
		_ = root.Close()
	}
	return nil
}

func soundFirst(p *part) int {
	if p.sound {
		return 1
	}
	return 0
}

// soundName names the file of a track of sound.
func soundName(it *item.Item, t *item.Track) string {
	n := 0
	for i := range it.Tracks {
		if it.Tracks[i].Kind == media.Audio {
			n++
		}
		if &it.Tracks[i] == t {
			break
		}
	}
	return fmt.Sprintf("audio-%d", n)
}

// collecting makes fragments of what is coded.
type collecting struct {
	header func(media.Track) *segment.Header
	tracks map[media.TrackID]*media.Track
	units  map[media.TrackID][]media.AccessUnit
	bytes  int
}

// maxCollected bounds what is held of a stretch, in bytes.
const maxCollected = 1 << 30

func (o *collecting) Track(id media.TrackID, t media.Track) { o.tracks[id] = &t }

func (o *collecting) Unit(id media.TrackID, u media.AccessUnit) {
	if o.bytes += len(u.Data); o.bytes < maxCollected {
		o.units[id] = append(o.units[id], u)
	}
}

// fragments are the units of a track, a fragment from keyframe to keyframe, or of so much sound.
func (o *collecting) fragments(id media.TrackID, number *uint32) (pieces [][]byte) {
	t := o.tracks[id]
	units := o.units[id]
	for i := range units {
		if i+1 < len(units) {
			units[i].Duration = max(units[i+1].DTS-units[i].DTS, 0)
		} else if units[i].Duration == 0 && i > 0 {
			units[i].Duration = units[i-1].Duration
		}
	}
	for len(units) > 0 {
		n := 1
		for n < len(units) && (t.Kind == media.Video && !units[n].Key || t.Kind == media.Audio && units[n].DTS-units[0].DTS < 4*t.Timescale) {
			n++
		}
		*number++
		pieces = append(pieces, bmff.Chunk(t, bmff.ChunkOptions{Sequence: *number, First: true}, units[:n]))
		units = units[n:]
	}
	return pieces
}

// sound makes the file of a track of sound: coded anew where browsers do not play it, else as it is.
func (c *coder) sound(ctx context.Context, name, file string, t *item.Track, progress func(int)) error {
	out := &collecting{header: c.l.newHeader, tracks: map[media.TrackID]*media.Track{}, units: map[media.TrackID][]media.AccessUnit{}}
	const id, bitrate = 1, 128_000
	if t.Trouble == "" {
		track := t.Track
		out.tracks[id] = &track
	}
	each := func(do func(u *media.AccessUnit) error) error {
		const batch = 256
		for lo := 0; lo < t.Count(); lo += batch {
			if err := ctx.Err(); err != nil {
				return err
			}
			list, err := t.Units(lo, min(lo+batch, t.Count()))
			if err != nil {
				return err
			}
			for i := range list {
				if err := do(&list[i]); err != nil {
					return err
				}
			}
			progress(lo * 100 / t.Count())
		}
		return nil
	}
	var err error
	if t.Trouble == "" {
		err = each(func(u *media.AccessUnit) error {
			out.Unit(id, *u)
			return nil
		})
	} else {
		source := t.Track
		source.ID = 2
		conf := transcode.Config{Audio: &source, Sound: []transcode.AudioRung{{ID: id, Name: file, Codec: coding.Usual(media.Audio), Bitrate: bitrate}}}
		if source.Channels > 2 {
			conf.Sound[0].Channels = 2
		}
		err = worker.Recode(ctx, c.code, conf, func(f worker.Feeding) error {
			if err := f.Boundary(segment.Boundary{Start: media.Rescale(t.At(0), t.Timescale, media.VideoTimescale)}); err != nil {
				return err
			}
			return each(func(u *media.AccessUnit) error { return f.Unit(source.ID, u) })
		}, out)
	}
	if err != nil {
		return err
	}
	if out.tracks[id] == nil || len(out.units[id]) == 0 {
		return errors.New("nothing of the sound could be decoded")
	}
	out.tracks[id].Language = t.Language
	number := uint32(0)
	least := min(out.units[id][0].DTS, 0)
	for i := range out.units[id] { // an encoder begins a little before 0
		out.units[id][i].DTS -= least
		out.units[id][i].PTS -= least
	}
	pieces := out.fragments(id, &number)
	return c.write(path.Join(codedFolder, name, file+".mp4"), append([][]byte{c.l.newHeader(*out.tracks[id]).Bytes}, pieces...)...)
}

// pictures codes a stretch of pictures to all rungs.
func (c *coder) pictures(ctx context.Context, name string, n int, p *part, rungs []ladder.Rung, progress func(int)) error {
	source := p.track.Track
	if !source.FrameRate.Valid() {
		source.FrameRate = rateOf(p.track)
	}
	scale := source.Timescale
	source.ID, source.Timescale = media.TrackID(len(rungs)+1), media.VideoTimescale
	conf := transcode.Config{Video: &source}
	for i := range rungs {
		r := &rungs[i]
		w, h := r.Size(&source)
		limits := r.Limits(media.Rescale(codedSegment, media.VideoTimescale, 1000))
		conf.Rungs = append(conf.Rungs, transcode.Rung{ID: media.TrackID(i + 1), Name: r.Name, Codec: cmp.Or(r.Codec, coding.Usual(media.Video)), Width: w, Height: h, SAR: r.SAR(&source),
			Bitrate: limits.Bitrate, Peak: limits.Rate, Buffer: limits.Buffer, Effort: r.Effort, Colour: transcode.Flattened(source.Colour), BFrames: 2, Picture: r.Picture, Inner: r.Inner(&source)})
	}
	out := &collecting{header: c.l.newHeader, tracks: map[media.TrackID]*media.Track{}, units: map[media.TrackID][]media.AccessUnit{}}
	err := worker.Recode(ctx, c.code, conf, func(f worker.Feeding) error {
		const batch = 32
		next, msn := int64(-1), uint64(0)
		for lo := p.lo; lo < p.hi; lo += batch {
			list, err := p.track.Units(lo, min(lo+batch, p.hi))
			if err != nil {
				return err
			}
			for i := range list {
				u := &list[i]
				u.DTS, u.PTS, u.Duration = media.Rescale(u.DTS, scale, media.VideoTimescale), media.Rescale(u.PTS, scale, media.VideoTimescale), 0
				if next < 0 {
					next = u.PTS
					u.Data = coding.WithConfig(&source, u.Data)
				}
				for u.DTS+media.VideoTimescale >= next { // before the units behind it
					if err := f.Boundary(segment.Boundary{MSN: msn, Start: next}); err != nil {
						return err
					}
					next += codedSegment
					msn++
				}
				if err := f.Unit(source.ID, u); err != nil {
					return err
				}
			}
			progress((lo - p.lo) * 100 / (p.hi - p.lo))
		}
		return nil
	}, out)
	if err != nil {
		return err
	}
	for i := range rungs {
		id := media.TrackID(i + 1)
		if out.tracks[id] == nil || len(out.units[id]) == 0 {
			return fmt.Errorf("nothing of the pictures from %d s on could be coded to %s", media.Rescale(p.track.At(p.lo), scale, 1), rungs[i].Name)
		}
		number := uint32(n) << 12
		pieces := out.fragments(id, &number)
		if err := c.write(partFile(name, n, rungs[i].Name), append([][]byte{c.l.newHeader(*out.tracks[id]).Bytes}, pieces...)...); err != nil {
			return err
		}
	}
	return nil
}

func partFile(name string, n int, rung string) string {
	return path.Join(codedFolder, name, "parts", fmt.Sprintf("%05d-%s.mp4", n, rung))
}

// join puts the stretches of a rung into one file.
func (c *coder) join(name, rung string, parts []part) error {
	root, err := os.OpenRoot(c.l.folder)
	if err != nil {
		return err
	}
	defer func() { _ = root.Close() }()
	file := path.Join(codedFolder, name, rung+".mp4")
	w, err := root.Create(file + ".new")
	if err != nil {
		return err
	}
	var header []byte
	for n := range parts {
		if parts[n].sound || err != nil {
			continue
		}
		var b []byte
		if b, err = root.ReadFile(partFile(name, n, rung)); err != nil {
			break
		}
		head := bmff.HeaderSize(b)
		if header == nil {
			header = b[:head]
			_, err = w.Write(header)
		} else if !slices.Equal(header, b[:head]) {
			err = fmt.Errorf("the stretches of %s have different headers", rung)
		}
		if err == nil {
			_, err = w.Write(b[head:])
		}
	}
	if err == nil {
		err = w.Sync()
	}
	if err := errors.Join(err, w.Close()); err != nil {
		_ = root.Remove(file + ".new")
		return err
	}
	return root.Rename(file+".new", file)
}
