// Package files writes a channel's playlists, manifests and segments, as they appear, to where other servers take them from: a
// folder, a server that takes PUT and DELETE (DASH-IF Live Media Ingest Protocol, interface 2), an object store, FTP or SFTP.
//
// What is written is what viewers of the channel get, under the same relative addresses. Media comes before the list that names it,
// and media that no list names any more is removed a while later. What could not be written while the far end was away is
// written when it is back, as far as it is still in memory: the queue is the channel's window, which is bounded.
package files

import (
	"bytes"
	"context"
	"fmt"
	"maps"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"metaplasis/internal/core/hls"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/segment"
	"metaplasis/internal/onward/relay"
	"metaplasis/internal/present"
)

// Channels is what the package needs to know of channels.
type Channels interface {
	// Document returns a playlist or manifest of a channel by its name, nil while there is none.
	Document(channel, file string) []byte
	// Views returns the renditions of a channel by their names.
	Views(channel string) map[string]*present.View
}

// Writer writes channels elsewhere.
type Writer struct {
	Channels Channels
	Folder   string           // in which the folders of the scheme folder lie; "" for none
	Now      func() time.Time // nil: time.Now

	mu     sync.Mutex
	copies map[relay.Plan]*copied
}

// copied is what the far end has of a channel, over several attempts.
type copied struct {
	mu    sync.Mutex
	kept  bool                 // the far end lets nothing be removed
	files map[string]time.Time // when no list named it any more; zero while one does
	lists map[string]string    // by name, the digest of what was written
}

const (
	lookEach = 100 * time.Millisecond
	// keepGone is how long media stays that no list names any more: players hold lists of before.
	keepGone = 30 * time.Second
	//limit:files at the far end that are known | each relay | the relay looks again
	maxFiles = 100_000
)

// expand puts a channel and the date into an address.
func expand(address, channel string, now time.Time) string {
	return strings.NewReplacer("{channel}", channel, "{date}", now.UTC().Format("2006-01-02"), "%7Bchannel%7D", channel, "%7Bdate%7D", now.UTC().Format("2006-01-02")).Replace(address)
}

// Copy writes the channel of a plan to an address until the context ends or the far end fails. up is called when the first list is there,
// sent with what was written, and tell says how it is doing.
func (w *Writer) Copy(ctx context.Context, p *relay.Plan, up func(), sent func(bytes int, lost int64), tell func(text string)) error {
	x, err := w.begin(ctx, p, sent)
	if err != nil {
		return err
	}
	defer func() { _ = x.t.close() }()
	tick := time.NewTicker(lookEach)
	defer tick.Stop()
	first := true
	for {
		if w.expand(p) != x.at { // another day
			next, err := w.begin(ctx, p, sent)
			if err != nil {
				return err
			}
			_ = x.t.close()
			x = next
		}
		listed, behind, err := x.round(ctx)
		if err != nil {
			return err
		}
		if listed && first {
			first = false
			up()
		}
		if !first {
			text := "writing to " + relay.Shown(p.Address)
			if behind > 0 {
				text += fmt.Sprintf(", %.0f s behind", behind.Seconds())
			}
			if x.c.kept {
				text += "; the far end lets nothing be removed, so that what is over stays there"
			}
			tell(text)
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-tick.C:
		}
	}
}

// expand is the address of a plan as it is now.
func (w *Writer) expand(p *relay.Plan) string {
	now := time.Now
	if w.Now != nil {
		now = w.Now
	}
	return expand(p.Full, p.Channel, now())
}

// begin opens the way to the address of a plan as it is now.
func (w *Writer) begin(ctx context.Context, p *relay.Plan, sent func(bytes int, lost int64)) (*run, error) {
	at := w.expand(p)
	u, err := url.Parse(at)
	if err != nil {
		return nil, err
	}
	t, err := open(ctx, u, w.Folder)
	if err != nil {
		return nil, err
	}
	return w.newRun(p, at, t, sent), nil
}

// copyOf remembers what the far end of a plan has.
func (w *Writer) copyOf(p relay.Plan) *copied {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.copies == nil {
		w.copies = map[relay.Plan]*copied{}
	}
	if len(w.copies) > maxCopies {
		w.copies = map[relay.Plan]*copied{}
	}
	c := w.copies[p]
	if c == nil {
		c = &copied{}
		w.copies[p] = c
	}
	if c.files == nil || len(c.files) > maxFiles {
		c.files = map[string]time.Time{}
	}
	c.lists = map[string]string{} // the far end may have started over
	return c
}

//limit:copies of files that are made | each relay | the oldest are forgotten
const maxCopies = 1024

// run is one attempt.
type run struct {
	w       *Writer
	p       *relay.Plan
	at      string // the address, with the channel and the date in it
	t       target
	c       *copied
	sent    func(bytes int, lost int64)
	sending sync.Mutex // guards sent
	// What the lists at the far end were made of, by name: there is a round ten times per second, and mostly nothing new.
	views map[string]*present.View
	docs  map[string][]byte
}

func (w *Writer) newRun(p *relay.Plan, at string, t target, sent func(bytes int, lost int64)) *run {
	there := *p
	there.Full = at
	return &run{w: w, p: p, at: at, t: t, c: w.copyOf(there), sent: sent, views: map[string]*present.View{}, docs: map[string][]byte{}}
}

// Tries of a file whose far end says that it may take it a moment later, and the pause before the first further one.
const (
	putTries = 4
	putPause = 200 * time.Millisecond
)

func (x *run) put(ctx context.Context, name, contentType string, pieces ...[]byte) (err error) {
	for n := range putTries {
		own, cancel := context.WithTimeout(ctx, wait)
		err = x.t.put(own, name, contentType, pieces)
		cancel()
		if err == nil {
			x.sending.Lock()
			defer x.sending.Unlock()
			x.sent(int(size(pieces)), 0)
			return nil
		}
		if !passing(err) {
			break
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(putPause << n):
		}
	}
	return fmt.Errorf("%s: %w", name, err)
}

// mediaType is the type of a rendition's segments.
func mediaType(t *media.Track) string {
	switch t.Kind {
	case media.Audio:
		return "audio/mp4"
	case media.Data:
		return "application/mp4"
	}
	return "video/mp4"
}

// round writes what is new, and reports whether the channel has lists, and how much media is not written yet.
func (x *run) round(ctx context.Context) (listed bool, behind time.Duration, err error) {
	// The documents first: all that they name is in the views then, and is written before them.
	docs := map[string][]byte{}
	for file := range documents {
		docs[file] = x.w.Channels.Document(x.p.Channel, file)
	}
	views := x.w.Channels.Views(x.p.Channel)
	names := make([]string, 0, len(views))
	for name, v := range views {
		if t, known := v.Track(); known && t.Kind != media.Data {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	needed := map[string]bool{}
	if behind, err = x.renditions(ctx, names, views, needed); err != nil {
		return false, 0, err
	}
	for _, name := range names {
		if x.views[name] == views[name] {
			continue
		}
		done, err := x.list(ctx, name+"/index.m3u8", "application/vnd.apple.mpegurl", playlist(views[name]))
		if err != nil {
			return false, 0, err
		}
		if done {
			x.views[name] = views[name]
		}
	}
	for file, kind := range documents {
		b := docs[file]
		if b == nil {
			continue
		}
		listed = true
		if bytes.Equal(x.docs[file], b) || behind > 0 { // else it waits for what it names
			continue
		}
		if _, err := x.list(ctx, file, kind, plain(b)); err != nil {
			return false, 0, err
		}
		x.docs[file] = b
	}
	return listed, behind, x.expire(ctx, needed)
}

// documents are the lists of a channel, by their names, and their types.
var documents = map[string]string{"index.m3u8": "application/vnd.apple.mpegurl", "index.mpd": "application/dash+xml"}

// renditions writes the segments of all renditions that the far end does not have, several at a time where it takes them.
func (x *run) renditions(ctx context.Context, names []string, views map[string]*present.View, needed map[string]bool) (behind time.Duration, err error) {
	var all sync.WaitGroup
	var mu sync.Mutex
	room := make(chan struct{}, max(x.t.streams(), 1))
	for _, name := range names {
		room <- struct{}{}
		all.Go(func() {
			defer func() { <-room }()
			own := map[string]bool{}
			late, wrong := x.rendition(ctx, name, views[name], own)
			mu.Lock()
			defer mu.Unlock()
			maps.Copy(needed, own)
			if behind = max(behind, late); err == nil {
				err = wrong
			}
		})
	}
	all.Wait()
	return behind, err
}

// rendition writes the segments of a rendition that the far end does not have.
func (x *run) rendition(ctx context.Context, name string, v *present.View, needed map[string]bool) (behind time.Duration, err error) {
	written := func(s *segment.Segment) error {
		header, file := name+"/"+s.Header.Name, name+"/"+hls.CMAF.SegmentName(s)
		needed[header], needed[file] = true, true
		kind := mediaType(&s.Header.Track)
		if !x.has(header) {
			if err := x.put(ctx, header, kind, s.Header.Bytes); err != nil {
				return err
			}
			x.note(header)
		}
		if x.has(file) {
			return nil
		}
		b, err := s.Bytes()
		if err != nil {
			return err
		}
		if err := x.put(ctx, file, kind, b...); err != nil {
			return err
		}
		x.note(file)
		return nil
	}
	var missing []*segment.Segment
	for _, s := range v.Snapshot.Held {
		if s.Gap {
			continue
		}
		if file := name + "/" + hls.CMAF.SegmentName(s); x.has(file) {
			needed[file], needed[name+"/"+s.Header.Name] = true, true
			continue
		}
		missing = append(missing, s)
	}
	begun := time.Now()
	for i, s := range missing {
		if err := written(s); err != nil {
			return 0, err
		}
		if time.Since(begun) > time.Second { // others want to go on too, and the window has moved
			for _, rest := range missing[i+1:] {
				behind += media.Duration(rest.Duration, media.VideoTimescale)
			}
			break
		}
	}
	return behind, nil
}

// note says that the far end has a file.
func (x *run) note(file string) {
	x.c.mu.Lock()
	defer x.c.mu.Unlock()
	x.c.files[file] = time.Time{}
}

func (x *run) has(file string) bool {
	x.c.mu.Lock()
	defer x.c.mu.Unlock()
	_, ok := x.c.files[file]
	return ok
}

// list writes a list when it is another one than before, if all that it names is there; done is false when it is not.
func (x *run) list(ctx context.Context, name, kind string, b []byte) (done bool, err error) {
	if b == nil || x.c.lists[name] == string(b) {
		return true, nil
	}
	if strings.HasSuffix(name, "/index.m3u8") {
		folder := strings.TrimSuffix(name, "index.m3u8")
		list, err := hls.ReadMedia(b)
		if err != nil {
			return false, err
		}
		for _, e := range list.Entries {
			if file := (&url.URL{Path: folder}).JoinPath(e.URI).Path; !e.Gap && !x.has(strings.TrimPrefix(file, "/")) {
				return false, nil // with the next round
			}
		}
	}
	if err := x.put(ctx, name, kind, b); err != nil {
		return false, err
	}
	x.c.lists[name] = string(b)
	return true, nil
}

// expire removes media that no list has named for a while.
func (x *run) expire(ctx context.Context, needed map[string]bool) error {
	for _, name := range x.unneeded(needed, time.Now()) {
		own, cancel := context.WithTimeout(ctx, wait)
		err := x.t.remove(own, name)
		cancel()
		switch {
		case ctx.Err() != nil:
			return ctx.Err()
		case err != nil && refused(err):
			x.c.kept = true
			return nil
		case err != nil: // it is tried again a while later; what is written goes on
			return nil
		}
		x.c.mu.Lock()
		delete(x.c.files, name)
		x.c.mu.Unlock()
	}
	return nil
}

// unneeded lists the files that no list has named for a while, and notes those that none names any more.
func (x *run) unneeded(needed map[string]bool, now time.Time) (out []string) {
	x.c.mu.Lock()
	defer x.c.mu.Unlock()
	for name, gone := range x.c.files {
		switch {
		case needed[name]:
			x.c.files[name] = time.Time{}
		case gone.IsZero():
			x.c.files[name] = now
		case now.Sub(gone) <= keepGone:
		case x.c.kept:
			delete(x.c.files, name)
		default:
			x.c.files[name] = now
			out = append(out, name)
		}
	}
	return out
}

// playlist is the media playlist of a view without what only a server can do: parts, and waiting for them.
func playlist(v *present.View) []byte {
	m := v.List
	m.Open, m.PartTarget, m.Reports, m.Skip = nil, 0, nil, false
	if len(m.Whole) == 0 {
		return nil
	}
	return m.Marshal()
}

var (
	clockLine = regexp.MustCompile(`(?s)\s*<UTCTiming[^>]*(/>|>\s*</UTCTiming>)`)
	keysLine  = regexp.MustCompile(`(?m)^#EXT-X-I-FRAME-STREAM-INF:.*\n`)
	textLine  = regexp.MustCompile(`(?m)^#EXT-X-MEDIA:TYPE=SUBTITLES.*\n`)
	textGroup = regexp.MustCompile(`,SUBTITLES="[^"]*"`)
)

// plain takes out of a document what only the service itself answers for: its clock, keyframes alone, text.
func plain(b []byte) []byte {
	b = clockLine.ReplaceAll(b, nil)
	b = keysLine.ReplaceAll(b, nil)
	b = textLine.ReplaceAll(b, nil)
	return textGroup.ReplaceAll(bytes.Clone(b), nil)
}
