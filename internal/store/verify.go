package store

import (
	"cmp"
	"context"
	"errors"
	"io/fs"
	"slices"
	"strings"
	"time"
)

// Verification says how what is kept of a stretch was found.
type Verification struct {
	Bundles  int      `json:"bundles"`
	Segments int      `json:"segments"`
	Bytes    int64    `json:"bytes"`   // of media that were read and are right
	Missing  []string `json:"missing"` // files that are not in the place
	Damaged  []string `json:"damaged"` // files whose bytes are others than were written
	// Unread are files that cannot be read now, and why not.
	Unread map[string]string `json:"unread,omitempty"`
}

// Sound reports whether all of it is there as it was written.
func (r *Verification) Sound() bool { return len(r.Missing)+len(r.Damaged)+len(r.Unread) == 0 }

// Verify reads all that is kept of a stretch of a channel, and compares it with its checksums.
func (s *Store) Verify(ctx context.Context, channel string, h Hold) (*Verification, error) {
	sh, err := s.ready(channel)
	if err != nil {
		return nil, err
	}
	out := &Verification{Missing: []string{}, Damaged: []string{}, Unread: map[string]string{}}
	for _, v := range sh.covers(h) {
		if err := ctx.Err(); err != nil {
			return out, err
		}
		out.Bundles++
		c, _, err := read(s.place, v.b.Path)
		n := 0
		if err == nil {
			n, err = check(s.place, v.b.Path, c)
		}
		whole := err == nil && n == len(c.list) && n > 0 && c.list[0].MSN <= v.b.FirstMSN && c.list[n-1].MSN >= v.b.LastMSN
		switch {
		case isGone(err):
			out.Missing = append(out.Missing, v.b.Path)
		case err != nil:
			out.Unread[v.b.Path] = err.Error()
			continue
		case !whole:
			out.Damaged = append(out.Damaged, v.b.Path)
		}
		if err == nil {
			out.Segments += n
			for _, r := range c.list[:n] {
				out.Bytes += int64(r.Size)
			}
		}
		s.mark(sh, v.st, v.b.Path, !whole)
	}
	return out, nil
}

// covered is a bundle of a hold.
type covered struct {
	st *renditionMedia
	b  Bundle
}

// covers lists the bundles that a hold covers, but for what grows.
func (sh *channelMedia) covers(h Hold) (out []covered) {
	sh.mu.Lock()
	defer sh.mu.Unlock()
	for _, st := range sh.strips {
		for _, b := range st.bundles {
			if h.covers(st.name, b.Begin, b.End) && (st.growing == nil || b != &st.growing.bundle) {
				out = append(out, covered{st, *b})
			}
		}
	}
	slices.SortFunc(out, func(a, b covered) int { return cmp.Compare(a.b.Path, b.b.Path) })
	return out
}

// mark notes whether a bundle is there.
func (s *Store) mark(sh *channelMedia, st *renditionMedia, path string, lost bool) {
	sh.mu.Lock()
	defer sh.mu.Unlock()
	for _, b := range st.bundles {
		if b.Path == path && b.lost != lost {
			b.lost, sh.changed, st.recent = lost, true, recent{}
			if lost {
				s.logger.Error("a bundle that is to be kept is not there, or not whole", "channel", sh.slug, "path", path)
			}
		}
	}
}

// Lost lists, of a stretch, how many bundles are known not to be there, and their bytes.
func (s *Store) Lost(channel string, h Hold) (bundles int, bytes int64) {
	sh := s.known(channel)
	if sh == nil {
		return 0, 0
	}
	sh.mu.Lock()
	defer sh.mu.Unlock()
	if sh.count().lost == 0 {
		return 0, 0
	}
	for _, st := range sh.strips {
		for _, b := range st.bundles {
			if b.lost && h.covers(st.name, b.Begin, b.End) {
				bundles++
				bytes += b.Bytes
			}
		}
	}
	return bundles, bytes
}

// The audit compares names and sizes with what lies in the place, a folder at a time.
const (
	auditEach  = 10 * time.Minute
	auditPause = 100 * time.Millisecond // between two folders
)

// audit looks now and then whether what is kept is there, until the store is closed.
func (s *Store) audit() {
	defer s.stopped.Done()
	for {
		select {
		case <-s.stop:
			return
		case <-time.After(auditEach):
		}
		s.Audit(auditPause)
	}
}

// Audit looks once whether the files of all that is kept are there and as large as they were. pause lies between two
// folders.
func (s *Store) Audit(pause time.Duration) {
	for _, sh := range s.allShelves() {
		folders := map[string][]covered{}
		for _, v := range sh.covers(Hold{}) {
			if i := strings.LastIndexByte(v.b.Path, '/'); i >= 0 {
				folders[v.b.Path[:i]] = append(folders[v.b.Path[:i]], v)
			}
		}
		for folder, list := range folders {
			select {
			case <-s.stop:
				return
			case <-time.After(pause):
			}
			s.auditFolder(sh, folder, list)
		}
	}
}

func (s *Store) auditFolder(sh *channelMedia, folder string, list []covered) {
	entries, err := s.place.List(folder)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return // it says nothing about the files
	}
	sizes := make(map[string]int64, len(entries))
	for _, e := range entries {
		sizes[e.Name] = e.Size
	}
	for _, v := range list {
		name := v.b.Path[len(folder)+1:]
		index, indexed := sizes[name+indexEnding]
		media, there := sizes[name+mediaEnding]
		s.mark(sh, v.st, v.b.Path, !indexed || !there || index+media < v.b.Bytes)
	}
}
