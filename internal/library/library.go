// Package library watches a folder of files and offers them on demand: what each holds, what keeps it from being played, and its
// segments, which are made when somebody asks for them and kept for a while, bounded in bytes.
package library

import (
	"metaplasis/internal/safely"

	"metaplasis/internal/lru"

	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"maps"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"golang.org/x/text/language"
	"golang.org/x/text/language/display"

	"metaplasis/internal/core/coding"
	"metaplasis/internal/core/item"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/segment"
	"metaplasis/internal/core/webvtt"
	"metaplasis/internal/worker"
)

// Entry is an item of the library: a file, or several that belong together by their names.
//
//large:what is told of an item, as the API gives it out
type Entry struct {
	Name     string    `json:"name"` // part of its addresses
	File     string    `json:"file"` // below the folder: the main one
	Bytes    int64     `json:"bytes"`
	Modified time.Time `json:"modified"`
	// Beside are further files of it: rungs, sound and subtitles.
	Beside []string `json:"beside,omitempty"`
	// Looking is how much of the file was looked through, in hundredths, while that goes on; 0 when it is done.
	Looking int `json:"looking,omitempty"`
	// Trouble says why nothing of it plays, "" when something does; Note what is to be known beside.
	Trouble   string       `json:"trouble,omitempty"`
	Note      string       `json:"note,omitempty"`
	Container string       `json:"container,omitempty"`
	Millis    int64        `json:"millis"` // that it lasts
	Tracks    []EntryTrack `json:"tracks"`
	HLS       string       `json:"hls,omitempty"`
	TS        string       `json:"ts,omitempty"` // HLS with transport streams
	DASH      string       `json:"dash,omitempty"`
	Download  string       `json:"download,omitempty"`
	// Packed: it is sound that browsers take in segments of its own frames alone, which HLS has and DASH has not.
	Packed bool `json:"packed,omitempty"`
	// Transport: transport streams hold something of it.
	Transport bool `json:"transport,omitempty"`
	// Coding is how the coding of a ladder goes, nil when nobody asked for one.
	Coding *Coding `json:"coding,omitempty"`

	opened   bool   // it holds something, whether or not browsers play it
	state    string // of its files
	progress *atomic.Int64
	members  []member // the main one first
	coded    []member // what was encoded of them, and is played instead
}

// EntryTrack is a track of an item.
type EntryTrack struct {
	Name      string `json:"name"` // of its rendition
	File      string `json:"file,omitempty"`
	Kind      string `json:"kind"`
	Codec     string `json:"codec"`
	Width     int    `json:"width,omitempty"`
	Height    int    `json:"height,omitempty"`
	Language  string `json:"language,omitempty"`
	Bitrate   int64  `json:"bitrate"`             // bits per second
	KeyMillis int64  `json:"keyMillis,omitempty"` // how far keyframes lie apart at most
	Trouble   string `json:"trouble,omitempty"`   // why it does not play as it is
	// Codable: coding it again would help.
	Codable bool `json:"codable,omitempty"`
}

// Library is a folder that is watched.
//
//large:the folder, what is known of its files, and the caches before them
type Library struct {
	folder    string
	logger    *slog.Logger
	newHeader func(media.Track) *segment.Header

	mu      sync.Mutex
	entries map[string]*Entry
	looking sync.Mutex        // one look at a time
	names   map[string]string // of items, by their main files; guarded by looking
	queue   []*Entry          // to be looked into
	wake    chan struct{}
	stop    chan struct{}
	all     sync.WaitGroup
	cache   segments
	indexes indexes
	coder   coder
	uploads uploads
}

// Bounds of a library.
const (
	lookEach = 2 * time.Second
	settled  = 1500 * time.Millisecond // a file that changed later is being written
	//limit:files | all | further ones are not listed, and a problem is told
	maxEntries = 20_000
	//limit:files of an item | each item | further ones are left out
	maxMembers = 24 // files of an item
	//limit:folders within folders | all | what is deeper is not listed
	maxDepth = 8
	//limit:bytes of segments that are held | all | those that were not used longest are dropped
	cacheBytes = 96 << 20
	//limit:bytes of indexes that are held | all | those that were not used longest are dropped
	indexBytes = 256 << 20
)

// New watches a folder. newHeader makes the CMAF header of a track; code encodes video and audio again, nil for a library that cannot.
func New(folder string, newHeader func(media.Track) *segment.Header, code Code, logger *slog.Logger) *Library {
	l := &Library{folder: folder, logger: logger, newHeader: newHeader, entries: map[string]*Entry{}, wake: make(chan struct{}, 1), stop: make(chan struct{})}
	l.cache.cache, l.indexes.items = lru.New[*segment.Segment, *kept](cacheBytes), lru.New[*Entry, *item.Item](indexBytes)
	l.coder.begin(l, code)
	l.all.Add(3)
	go l.watch()
	go l.lookInto()
	go l.coder.run()
	return l
}

// Close ends the watching.
func (l *Library) Close() {
	close(l.stop)
	l.coder.close()
	l.all.Wait()
}

func (l *Library) watch() {
	defer l.all.Done()
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

// endings are those of files that are looked into, textEndings those of subtitles.
var (
	endings     = map[string]bool{".mp4": true, ".m4v": true, ".mov": true, ".m4a": true, ".cmfv": true, ".cmfa": true, ".webm": true, ".mkv": true, ".mka": true, ".ts": true, ".m2ts": true, ".mts": true, ".flv": true, ".wav": true, ".mp3": true, ".aac": true}
	textEndings = map[string]bool{".vtt": true, ".srt": true, ".ttml": true, ".dfxp": true}
)

// member is a file of an item.
type member struct {
	name string // below the folder
	info fs.FileInfo
	word string // that tells it from the main one, "" of that
}

// Look looks through the folder once.
func (l *Library) Look() {
	l.looking.Lock()
	defer l.looking.Unlock()
	root, err := os.OpenRoot(l.folder)
	if err != nil {
		if !errors.Is(err, fs.ErrNotExist) {
			l.logger.Error("the library's folder cannot be read", "folder", l.folder, "error", err)
		}
		return
	}
	defer func() { _ = root.Close() }()
	var files []member
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
		if ending := strings.ToLower(path.Ext(name)); d.IsDir() || !endings[ending] && !textEndings[ending] {
			return nil
		}
		if len(files) >= maxEntries {
			return fs.SkipAll
		}
		info, err := root.Stat(name) // of what a link within the folder leads to
		if err != nil || !info.Mode().IsRegular() || now.Sub(info.ModTime()) < settled {
			return nil // a pipe or a device would never end
		}
		files = append(files, member{name: name, info: info})
		return nil
	})
	found := map[string]bool{}
	groups := grouped(files)
	slugs := l.named(root, groups)
	for i, group := range groups {
		found[slugs[i]] = true
		l.adopt(slugs[i], group)
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	for name, e := range l.entries {
		if !found[name] {
			delete(l.entries, name)
			l.letGo(e)
			l.coder.forget(name)
		}
	}
}

var (
	rungWord     = regexp.MustCompile(`^(\d{3,4}p?\d{0,2}|\d{2,5}k|rung-?\w{1,16})$`)
	languageWord = regexp.MustCompile(`^[A-Za-z]{2,3}(-[A-Za-z0-9]{2,8})*$`)
)

// grouped puts files together that make one item: NAME.mp4, with NAME.720p.mp4 (a rung), NAME.de.m4a (sound in another language) and
// NAME.de.vtt (subtitles).
func grouped(files []member) (out [][]member) {
	stem := func(name string) string { return strings.TrimSuffix(name, path.Ext(name)) }
	main := map[string]int{} // by stem
	for _, f := range files {
		if endings[strings.ToLower(path.Ext(f.name))] {
			if _, twice := main[stem(f.name)]; !twice && beside(stem(f.name), f.name, files) == "" {
				main[stem(f.name)] = len(out)
			}
			if beside(stem(f.name), f.name, files) == "" {
				out = append(out, []member{f})
			}
		}
	}
	for _, f := range files {
		base := stem(f.name)
		if textEndings[strings.ToLower(path.Ext(f.name))] {
			if i, ok := main[base]; ok {
				out[i] = append(out[i], f)
				continue
			}
		}
		if word := strings.TrimPrefix(path.Ext(base), "."); word != "" {
			if i, ok := main[stem(base)]; ok && (textEndings[strings.ToLower(path.Ext(f.name))] || beside(base, f.name, files) != "") && len(out[i]) < maxMembers {
				f.word = word
				out[i] = append(out[i], f)
			}
		}
	}
	return out
}

// beside returns the word by which a file of media belongs to another one, "" when it stands for itself.
func beside(stem, name string, files []member) string {
	word := strings.TrimPrefix(path.Ext(stem), ".")
	if !rungWord.MatchString(word) && !(languageWord.MatchString(word) && soundEnding(name)) {
		return ""
	}
	of := strings.TrimSuffix(stem, path.Ext(stem)) + "."
	for _, f := range files {
		if rest, ok := strings.CutPrefix(f.name, of); ok && endings["."+strings.ToLower(rest)] {
			return word
		}
	}
	return ""
}

func soundEnding(name string) bool {
	return slices.Contains([]string{".m4a", ".mp3", ".aac", ".mka", ".cmfa"}, strings.ToLower(path.Ext(name)))
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

// namesFile is where the names of items are kept: an item keeps its addresses, whatever else comes into the folder.
const namesFile = ".names.json"

// plainly reports whether a file is called as its addresses are.
func plainly(file string) bool { return nameOf(file) == strings.TrimSuffix(file, path.Ext(file)) }

func compareBools(a, b bool) int {
	switch {
	case a == b:
		return 0
	case a:
		return 1
	}
	return -1
}

// named gives each group its name for addresses: the one that it had, else one of its own. Of those that come at once a file that is
// called so has it first, then the older one.
func (l *Library) named(root *os.Root, groups [][]member) []string {
	if l.names == nil {
		l.names = map[string]string{}
		if b, err := root.ReadFile(namesFile); err == nil {
			_ = json.Unmarshal(b, &l.names)
		}
	}
	out := make([]string, len(groups))
	now, taken := map[string]string{}, map[string]bool{}
	var fresh []int
	for i, g := range groups {
		name := g[0].name
		if slug := l.names[name]; slug != "" && !taken[slug] {
			out[i], now[name], taken[slug] = slug, slug, true
		} else {
			fresh = append(fresh, i)
		}
	}
	slices.SortStableFunc(fresh, func(i, j int) int {
		a, b := groups[i][0], groups[j][0]
		return cmp.Or(-compareBools(plainly(a.name), plainly(b.name)), a.info.ModTime().Compare(b.info.ModTime()))
	})
	for _, i := range fresh {
		name := groups[i][0].name
		slug := nameOf(name)
		for n := 2; taken[slug]; n++ {
			slug = fmt.Sprintf("%s-%d", nameOf(name), n)
		}
		out[i], now[name], taken[slug] = slug, slug, true
	}
	if !maps.Equal(now, l.names) {
		l.names = now
		if b, err := json.Marshal(now); err == nil { // of a folder that is read only, they follow from the files' ages
			_ = root.WriteFile(namesFile+".new", b, 0o644)
			_ = root.Rename(namesFile+".new", namesFile)
		}
	}
	return out
}

// identity names the files of an item as they are: others have other addresses.
func (e *Entry) identity() string {
	sum := sha256.Sum256([]byte(e.state))
	return hex.EncodeToString(sum[:5])
}

// adopt notes an item that is new or another one than before, to be looked into.
func (l *Library) adopt(slug string, group []member) {
	coded := l.coder.files(slug, group)
	state := ""
	size := int64(0)
	for _, m := range slices.Concat(group, coded) {
		state += fmt.Sprintf("%s %d %d\n", m.name, m.info.Size(), m.info.ModTime().UnixNano())
		size += m.info.Size()
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	old := l.entries[slug]
	if old != nil && old.state == state {
		return
	}
	main := group[0]
	e := &Entry{Name: slug, File: main.name, Bytes: size, Modified: main.info.ModTime().UTC(), Tracks: []EntryTrack{}, state: state, Looking: 1, progress: &atomic.Int64{}}
	for _, m := range group[1:] {
		e.Beside = append(e.Beside, m.name)
	}
	e.members, e.coded = group, coded
	l.entries[slug] = e
	l.queue = append(l.queue, e)
	l.letGo(old)
	select {
	case l.wake <- struct{}{}:
	default:
	}
}

// lookInto looks into what is new, one after the other.
func (l *Library) lookInto() {
	defer l.all.Done()
	for {
		l.mu.Lock()
		var next *Entry
		if len(l.queue) > 0 {
			next = l.queue[0]
			l.queue = l.queue[1:]
		}
		there := next != nil && l.entries[next.Name] == next
		l.mu.Unlock()
		if next == nil {
			select {
			case <-l.stop:
				return
			case <-l.wake:
			}
			continue
		}
		if there {
			l.examine(next)
		}
	}
}

// letGo forgets what was found out of an entry that is there no more.
func (l *Library) letGo(e *Entry) {
	if e != nil {
		if it := l.indexes.drop(e); it != nil {
			l.cache.forget(it)
		}
	}
}

// open looks into the files of an entry; names are those of the files with media, note what is wrong with those beside.
func (l *Library) open(e *Entry) (it *item.Item, names []string, note string, err error) {
	o := item.Options{NewHeader: l.newHeader, Prefix: e.identity() + "-"}
	total := max(e.Bytes, 1)
	o.Progress = func(n int64) { e.progress.Store(1 + n*98/total) }
	list := e.members
	if len(e.coded) > 0 {
		list = e.coded
	}
	for _, m := range list {
		if !endings[strings.ToLower(path.Ext(m.name))] {
			continue
		}
		o.Files = append(o.Files, &onDisk{folder: l.folder, name: m.name, size: m.info.Size(), modified: m.info.ModTime(), stop: l.stop})
		names = append(names, m.name)
		spoken := ""
		if soundEnding(m.name) && languageWord.MatchString(m.word) {
			spoken = m.word
		}
		o.Languages = append(o.Languages, spoken)
	}
	for _, m := range e.members {
		if textEndings[strings.ToLower(path.Ext(m.name))] {
			text, err := l.text(m)
			if err != nil {
				note += fmt.Sprintf("%s: %v. ", m.name, err)
				continue
			}
			o.Texts = append(o.Texts, text)
		}
	}
	it, err = item.Open(o)
	return it, names, note, err
}

// probe lets a process of its own look into the files of an item first: what ends that one, or takes more than it may,
// is told and left alone.
func (l *Library) probe(e *Entry) error {
	if l.coder.code == nil {
		return nil
	}
	var paths []string
	for _, m := range slices.Concat(e.members, e.coded) {
		if endings[strings.ToLower(path.Ext(m.name))] {
			paths = append(paths, filepath.Join(l.folder, filepath.FromSlash(m.name)))
		}
	}
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	go func() {
		select {
		case <-l.stop:
			cancel()
		case <-ctx.Done():
		}
	}()
	err := worker.Probe(ctx, l.coder.code, paths)
	if errors.Is(err, worker.ErrUnfit) {
		l.logger.Error("a file of the library is left alone", "item", e.Name, "error", err)
		return worker.ErrUnfit
	}
	return err
}

// openSafely is open, whose faults are the file's trouble and nobody else's.
func (l *Library) openSafely(e *Entry) (it *item.Item, names []string, note string, err error) {
	err = safely.Run(l.logger.With("item", e.Name), func() (err error) {
		it, names, note, err = l.open(e)
		return err
	})
	return it, names, note, err
}

// examine looks into an item that is new.
func (l *Library) examine(e *Entry) {
	done := *e
	var it *item.Item
	var names []string
	var note string
	err := l.probe(e)
	if err == nil {
		it, names, note, err = l.openSafely(e)
	}
	done.Looking = 0
	if err != nil {
		done.Trouble = err.Error()
	} else {
		done.describe(it, names)
		done.Note = strings.TrimSpace(note + done.Note)
	}
	l.mu.Lock()
	there := l.entries[e.Name] == e
	if there {
		l.entries[e.Name] = &done
	}
	l.mu.Unlock()
	if there && err == nil {
		l.hold(&done, it)
	}
}

// text reads a file of subtitles.
func (l *Library) text(m member) (t item.Text, err error) {
	const most = 8 << 20
	if m.info.Size() > most {
		return t, fmt.Errorf("found subtitles of %d MB, expected %d at most", m.info.Size()>>20, most>>20)
	}
	b := make([]byte, m.info.Size())
	if _, err := (&onDisk{folder: l.folder, name: m.name, size: m.info.Size(), modified: m.info.ModTime()}).ReadAt(b, 0); err != nil {
		return t, err
	}
	if t.Cues, err = webvtt.Parse(b); err != nil {
		return t, err
	}
	t.Name = "Subtitles"
	if languageWord.MatchString(m.word) {
		t.Language = m.word
		if tag, err := language.Parse(m.word); err == nil {
			if name := display.Self.Name(tag); name != "" {
				t.Name = name
			}
		}
	}
	return t, nil
}

func (e *Entry) describe(it *item.Item, files []string) {
	e.Packed = it.Packed
	e.opened, e.Container, e.Millis = true, it.Container, media.Rescale(it.Duration, media.VideoTimescale, 1000)
	names := map[string]bool{}
	any, trouble := false, ""
	for i := range it.Tracks {
		t := &it.Tracks[i]
		name := t.Kind.String()
		if t.Kind == media.Data {
			name = "text"
		}
		for n, base := 2, name; names[name]; n++ {
			name = fmt.Sprintf("%s-%d", base, n)
		}
		names[name] = true
		if any = any || t.Trouble == "" && t.Kind != media.Data; trouble == "" {
			trouble = t.Trouble
		}
		et := EntryTrack{Name: name, Kind: t.Kind.String(), Codec: cmp.Or(t.Label, string(t.Codec)), Width: t.Width, Height: t.Height, Language: t.Language, Bitrate: t.Bitrate, KeyMillis: t.KeyMillis, Trouble: t.Trouble, Codable: t.Codable}
		e.Transport = e.Transport || t.Trouble == "" && t.Kind != media.Data && coding.Transportable(&t.Track)
		if len(files) > 1 && t.Kind != media.Data {
			et.File = path.Base(files[t.File])
		}
		e.Tracks = append(e.Tracks, et)
	}
	if !any {
		e.Trouble = "None of its tracks plays as it is: " + trouble + "."
	}
	notes := it.Notes
	if it.Truncated {
		notes = append([]string{"The file ends early: what there is of it plays."}, notes...)
	}
	if any && trouble != "" { // of a film, the audio only is not the film
		for _, t := range e.Tracks {
			if t.Trouble != "" {
				notes = append([]string{fmt.Sprintf("Of its tracks, %s (%s) does not play: %s.", t.Name, t.Codec, t.Trouble)}, notes...)
			}
		}
	}
	e.Note = strings.Join(notes, " ")
	const far = 10_000
	for _, t := range e.Tracks {
		if t.KeyMillis > far && e.Note == "" {
			e.Note = fmt.Sprintf("Keyframes lie up to %d s apart: players seek only as finely as that.", (t.KeyMillis+500)/1000)
		}
	}
}

// Open opens the main file of an item.
func (l *Library) Open(name string) (*os.File, fs.FileInfo, error) {
	l.mu.Lock()
	e := l.entries[name]
	l.mu.Unlock()
	if e == nil {
		return nil, nil, fs.ErrNotExist
	}
	return openRegular(l.folder, e.File)
}

// Remove deletes the files of an item.
func (l *Library) Remove(name string) error {
	l.mu.Lock()
	e := l.entries[name]
	l.mu.Unlock()
	if e == nil {
		return ErrUnknown
	}
	root, err := os.OpenRoot(l.folder)
	if err != nil {
		return err
	}
	defer func() { _ = root.Close() }()
	for _, m := range e.members {
		if err := root.Remove(m.name); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	l.coder.forget(name)
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.entries[name] == e {
		delete(l.entries, name)
	}
	return nil
}

// Folder is the one that is watched.
func (l *Library) Folder() string { return l.folder }

// List lists the files by name.
func (l *Library) List() []Entry {
	l.mu.Lock()
	defer l.mu.Unlock()
	out := make([]Entry, 0, len(l.entries))
	for _, e := range l.entries {
		c := *e
		if c.Looking > 0 {
			c.Looking = int(max(e.progress.Load(), 1))
		}
		c.Coding = l.coder.status(e.Name)
		out = append(out, c)
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
	if e.Looking > 0 {
		return nil, stillLooking, true
	}
	if e.Trouble != "" {
		return nil, e.Trouble, true
	}
	it, why := l.itemOf(e)
	if it == nil {
		return nil, why, true
	}
	for i := range it.Tracks {
		if t := &it.Tracks[i]; t.Trouble == "" && len(t.Segments) > 0 && i < len(e.Tracks) {
			list = append(list, Rendition{e.Tracks[i].Name, t})
		}
	}
	if len(list) == 0 { // the file is another one than it was, and was not looked into yet
		return nil, stillLooking, true
	}
	return list, "", true
}

// Item is what an item holds, nil when it cannot be said now, and why.
func (l *Library) Item(name string) (*item.Item, string) {
	l.mu.Lock()
	e := l.entries[name]
	l.mu.Unlock()
	switch {
	case e == nil:
		return nil, "there is none of this name in the library"
	case e.Looking > 0:
		return nil, stillLooking
	case !e.opened:
		return nil, e.Trouble
	}
	return l.itemOf(e)
}

// Packed reports whether an item is sound that is offered as packed audio only.
func (l *Library) Packed(name string) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	e := l.entries[name]
	return e != nil && e.Packed
}

// Make returns the bytes of a segment, made when they are asked for, or of before.
func (l *Library) Make(s *segment.Segment) ([]byte, error) { return l.cache.get(s) }

// kept is a segment that was made recently.
type kept struct {
	once sync.Once
	b    []byte
	err  error
}

// segments are those that were made recently.
type segments struct {
	cache *lru.Cache[*segment.Segment, *kept]
}

func (c *segments) get(s *segment.Segment) ([]byte, error) {
	k := c.cache.GetOrPut(s, func() *kept { return &kept{} }, s.Size)
	k.once.Do(func() {
		if maker, ok := s.Blob.(interface{ Make() ([]byte, error) }); ok {
			k.b, k.err = maker.Make()
			return
		}
		pieces, err := s.Bytes() // of text, which is there already
		k.b, k.err = slices.Concat(pieces...), err
	})
	if k.err != nil { // it is tried again
		c.cache.Remove(s)
	}
	return k.b, k.err
}

// forget drops the segments of an item that is held no more.
func (c *segments) forget(it *item.Item) {
	for i := range it.Tracks {
		for _, s := range it.Tracks[i].Segments {
			c.cache.Remove(s)
		}
	}
}

// ErrReplaced says that a file is not the one any more that was looked into.
var ErrReplaced = errors.New("the file was replaced meanwhile; it is looked into again")

// openRegular opens a file below a folder that is neither a pipe nor a device; it waits for nothing.
func openRegular(folder, name string) (*os.File, fs.FileInfo, error) {
	root, err := os.OpenRoot(folder)
	if err != nil {
		return nil, nil, err
	}
	defer func() { _ = root.Close() }()
	f, err := root.OpenFile(name, os.O_RDONLY|syscall.O_NONBLOCK, 0)
	if err != nil {
		return nil, nil, err
	}
	info, err := f.Stat()
	if err == nil && !info.Mode().IsRegular() {
		err = fmt.Errorf("%s is no regular file", name)
	}
	if err != nil {
		_ = f.Close()
		return nil, nil, err
	}
	return f, info, nil
}

// onDisk reads a file of the folder, as it was when it was found. It holds none open.
type onDisk struct {
	folder, name string
	size         int64
	modified     time.Time
	stop         <-chan struct{} // closed when nothing is to be read any more
}

func (o *onDisk) Size() int64 { return o.size }

func (o *onDisk) ReadAt(p []byte, at int64) (int, error) {
	select {
	case <-o.stop:
		return 0, fs.ErrClosed
	default:
	}
	f, info, err := openRegular(o.folder, o.name)
	if err != nil {
		return 0, err
	}
	defer func() { _ = f.Close() }()
	if info.Size() != o.size || !info.ModTime().Equal(o.modified) {
		return 0, ErrReplaced
	}
	return f.ReadAt(p, at)
}
