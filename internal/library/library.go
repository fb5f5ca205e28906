// Package library watches a folder of files and offers them on demand: what each holds, what keeps it from being played, and its
// segments, which are made when somebody asks for them and kept for a while, bounded in bytes.
package library

import (
	"container/list"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"os"
	"path"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"metaplasis/internal/core/item"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/segment"
)

// Entry is a file of the library.
type Entry struct {
	Name     string    `json:"name"` // part of its addresses
	File     string    `json:"file"` // below the folder
	Bytes    int64     `json:"bytes"`
	Modified time.Time `json:"modified"`
	// Trouble says why nothing of it plays, "" when something does; Note what is to be known beside.
	Trouble   string       `json:"trouble,omitempty"`
	Note      string       `json:"note,omitempty"`
	Container string       `json:"container,omitempty"`
	Millis    int64        `json:"millis"` // that it lasts
	Tracks    []EntryTrack `json:"tracks"`
	HLS       string       `json:"hls,omitempty"`
	DASH      string       `json:"dash,omitempty"`

	item *item.Item
}

// EntryTrack is a track of a file.
type EntryTrack struct {
	Name      string `json:"name"` // of its rendition
	Kind      string `json:"kind"`
	Codec     string `json:"codec"`
	Width     int    `json:"width,omitempty"`
	Height    int    `json:"height,omitempty"`
	Language  string `json:"language,omitempty"`
	Bitrate   int64  `json:"bitrate"`             // bits a second
	KeyMillis int64  `json:"keyMillis,omitempty"` // how far keyframes lie apart at most
	Trouble   string `json:"trouble,omitempty"`   // why it does not play as it is
}

// Library is a folder that is watched.
type Library struct {
	folder    string
	logger    *slog.Logger
	newHeader func(media.Track) *segment.Header

	mu      sync.Mutex
	entries map[string]*Entry
	stop    chan struct{}
	done    chan struct{}
	cache   segments
}

// Bounds of a library.
const (
	lookEach   = 2 * time.Second
	settled    = 1500 * time.Millisecond // a file that changed later is being written
	maxEntries = 20_000
	maxDepth   = 8
	cacheBytes = 96 << 20
)

// New watches a folder. newHeader makes the CMAF header of a track.
func New(folder string, newHeader func(media.Track) *segment.Header, logger *slog.Logger) *Library {
	l := &Library{folder: folder, logger: logger, newHeader: newHeader, entries: map[string]*Entry{}, stop: make(chan struct{}), done: make(chan struct{})}
	l.cache.most = cacheBytes
	go l.watch()
	return l
}

// Close ends the watching.
func (l *Library) Close() {
	close(l.stop)
	<-l.done
}

func (l *Library) watch() {
	defer close(l.done)
	t := time.NewTicker(lookEach)
	defer t.Stop()
	for {
		l.Look()
		select {
		case <-l.stop:
			return
		case <-t.C:
		}
	}
}

// endings are those of files that are looked into.
var endings = map[string]bool{".mp4": true, ".m4v": true, ".mov": true, ".m4a": true, ".cmfv": true, ".cmfa": true, ".webm": true, ".mkv": true, ".ts": true, ".m2ts": true, ".flv": true, ".wav": true, ".mp3": true, ".aac": true}

// Look looks through the folder once.
func (l *Library) Look() {
	root, err := os.OpenRoot(l.folder)
	if err != nil {
		if !errors.Is(err, fs.ErrNotExist) {
			l.logger.Error("the library's folder cannot be read", "folder", l.folder, "error", err)
		}
		return
	}
	defer func() { _ = root.Close() }()
	found := map[string]bool{}
	now := time.Now()
	_ = fs.WalkDir(root.FS(), ".", func(name string, d fs.DirEntry, err error) error {
		if err != nil {
			return nil
		}
		if base := path.Base(name); name != "." && strings.HasPrefix(base, ".") || strings.Count(name, "/") > maxDepth {
			if d.IsDir() {
				return fs.SkipDir
			}
			return nil
		}
		if d.IsDir() || !endings[strings.ToLower(path.Ext(name))] {
			return nil
		}
		if len(found) >= maxEntries {
			return fs.SkipAll
		}
		info, err := d.Info()
		if err != nil || now.Sub(info.ModTime()) < settled {
			return nil
		}
		slug := nameOf(name)
		for n := 2; found[slug]; n++ {
			slug = fmt.Sprintf("%s-%d", nameOf(name), n)
		}
		found[slug] = true
		l.take(slug, name, info)
		return nil
	})
	l.mu.Lock()
	defer l.mu.Unlock()
	for name := range l.entries {
		if !found[name] {
			delete(l.entries, name)
		}
	}
}

var unfit = regexp.MustCompile(`[^a-z0-9]+`)

// nameOf makes a name for addresses of a file's.
func nameOf(file string) string {
	s := strings.Trim(unfit.ReplaceAllString(strings.ToLower(strings.TrimSuffix(file, path.Ext(file))), "-"), "-")
	if s == "" {
		return "file"
	}
	return s[:min(len(s), 80)]
}

// take looks into a file that is new or another one than before.
func (l *Library) take(slug, name string, info fs.FileInfo) {
	l.mu.Lock()
	old := l.entries[slug]
	l.mu.Unlock()
	if old != nil && old.File == name && old.Bytes == info.Size() && old.Modified.Equal(info.ModTime().UTC()) {
		return
	}
	e := &Entry{Name: slug, File: name, Bytes: info.Size(), Modified: info.ModTime().UTC(), Tracks: []EntryTrack{}}
	src := &onDisk{folder: l.folder, name: name, size: info.Size()}
	it, err := item.Open(src, l.newHeader)
	if err != nil {
		e.Trouble = err.Error()
	} else {
		e.describe(it)
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	l.entries[slug] = e
}

func (e *Entry) describe(it *item.Item) {
	e.item, e.Container, e.Millis = it, it.Container, media.Rescale(it.Duration, media.VideoTimescale, 1000)
	names := map[string]bool{}
	any := false
	for i := range it.Tracks {
		t := &it.Tracks[i]
		name := t.Kind.String()
		for n := 2; names[name]; n++ {
			name = fmt.Sprintf("%s-%d", t.Kind, n)
		}
		names[name] = true
		any = any || t.Trouble == ""
		e.Tracks = append(e.Tracks, EntryTrack{Name: name, Kind: t.Kind.String(), Codec: t.Label, Width: t.Width, Height: t.Height, Language: t.Language, Bitrate: t.Bitrate, KeyMillis: t.KeyMillis, Trouble: t.Trouble})
	}
	if !any {
		e.Trouble = "None of its tracks plays as it is: " + e.Tracks[0].Trouble + "."
	}
	if it.Truncated {
		e.Note = "The file ends early: what there is of it plays."
	}
	const far = 10_000
	for _, t := range e.Tracks {
		if t.KeyMillis > far && e.Note == "" {
			e.Note = fmt.Sprintf("Keyframes lie up to %d s apart: players seek only as finely as that.", (t.KeyMillis+500)/1000)
		}
	}
}

// List lists the files by name.
func (l *Library) List() []Entry {
	l.mu.Lock()
	defer l.mu.Unlock()
	out := make([]Entry, 0, len(l.entries))
	for _, e := range l.entries {
		out = append(out, *e)
	}
	slices.SortFunc(out, func(a, b Entry) int { return strings.Compare(a.Name, b.Name) })
	return out
}

// Rendition is a track of an item with its name.
type Rendition struct {
	Name  string
	Track *item.Track
}

// Find returns the tracks of an item that play, nil when there is no such item; trouble says why nothing of it plays.
func (l *Library) Find(name string) (list []Rendition, trouble string, known bool) {
	l.mu.Lock()
	e := l.entries[name]
	l.mu.Unlock()
	if e == nil {
		return nil, "", false
	}
	if e.Trouble != "" {
		return nil, e.Trouble, true
	}
	for i := range e.item.Tracks {
		if t := &e.item.Tracks[i]; t.Trouble == "" && len(t.Segments) > 0 {
			list = append(list, Rendition{e.Tracks[i].Name, t})
		}
	}
	return list, "", true
}

// Make returns the bytes of a segment, made when they are asked for, or of before.
func (l *Library) Make(s *segment.Segment) ([]byte, error) { return l.cache.get(s) }

// segments are those that were made of late.
type segments struct {
	mu    sync.Mutex
	most  int64
	held  int64
	order list.List // of *kept
	byKey map[*segment.Segment]*list.Element
}

type kept struct {
	of   *segment.Segment
	once sync.Once
	b    []byte
	err  error
}

func (c *segments) get(s *segment.Segment) ([]byte, error) {
	c.mu.Lock()
	e := c.byKey[s]
	if e == nil {
		if c.byKey == nil {
			c.byKey = map[*segment.Segment]*list.Element{}
		}
		e = c.order.PushFront(&kept{of: s})
		c.byKey[s] = e
		c.held += s.Size
		for c.held > c.most && c.order.Len() > 1 {
			last := c.order.Remove(c.order.Back()).(*kept)
			c.held -= last.of.Size
			delete(c.byKey, last.of)
		}
	} else {
		c.order.MoveToFront(e)
	}
	k := e.Value.(*kept)
	c.mu.Unlock()
	k.once.Do(func() {
		maker, ok := s.Blob.(interface{ Make() ([]byte, error) })
		if !ok {
			k.err = errors.New("the segment is none of the library's")
			return
		}
		k.b, k.err = maker.Make()
	})
	if k.err != nil { // it is tried again
		c.mu.Lock()
		if c.byKey[s] == e {
			c.order.Remove(e)
			delete(c.byKey, s)
			c.held -= s.Size
		}
		c.mu.Unlock()
	}
	return k.b, k.err
}

// onDisk reads a file of the folder. It holds none open.
type onDisk struct {
	folder, name string
	size         int64
}

func (o *onDisk) Size() int64 { return o.size }

func (o *onDisk) ReadAt(p []byte, at int64) (int, error) {
	f, err := os.OpenInRoot(o.folder, o.name)
	if err != nil {
		return 0, err
	}
	defer func() { _ = f.Close() }()
	return f.ReadAt(p, at)
}
