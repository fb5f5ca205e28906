package store

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"metaplasis/internal/core/segment"
)

// errLoading says that what is kept of a channel is still being looked through after a start.
var errLoading = errors.New("what is kept is still being looked through; try again in a moment")

// early is a segment that came before its channel was looked through.
type early struct {
	rendition, sound string
	epoch            time.Time
	seg              *segment.Segment
}

// load takes the bundles that are known, and those that lie in the place behind them: the channels that were on air
// last come first. Media does not wait for it.
func (s *Store) load(known func() ([]Bundle, error)) error {
	list, err := known()
	if err != nil {
		return fmt.Errorf("reading what is kept: %w", err)
	}
	byChannel, newest := map[string][]*Bundle{}, map[string]time.Time{}
	names, have := interner{}, make(map[string]bool, len(list))
	for i := range list {
		b := &list[i]
		have[b.Path] = true
		if b.Removing {
			s.mu.Lock()
			s.deletions.add(b.Path)
			s.mu.Unlock()
			continue
		}
		names.of(b)
		byChannel[b.Channel] = append(byChannel[b.Channel], b)
		if b.Begin.After(newest[b.Channel]) {
			newest[b.Channel] = b.Begin
		}
	}
	entries, err := s.place.List("")
	if err != nil {
		return fmt.Errorf("the store at %s: %w", s.place, err)
	}
	for _, e := range entries {
		if slug, folder := strings.CutSuffix(e.Name, "/"); folder && byChannel[slug] == nil {
			byChannel[slug] = []*Bundle{}
		}
	}
	slugs := make([]string, 0, len(byChannel))
	for slug := range byChannel {
		slugs = append(slugs, slug)
	}
	slices.SortFunc(slugs, func(a, b string) int {
		return cmp.Or(newest[b].Compare(newest[a]), cmp.Compare(a, b))
	})
	var errs []error
	for _, slug := range slugs {
		select {
		case <-s.stop:
			return errStopped
		default:
		}
		found, err := s.search(slug, newest[slug], have)
		if err != nil {
			errs = append(errs, err)
		}
		s.addBundles(slug, append(byChannel[slug], found...))
	}
	return errors.Join(errs...)
}

// interner makes bundles share the texts that most of them have in common.
type interner map[string]string

func (n interner) one(text *string) {
	if shared, known := n[*text]; known {
		*text = shared
		return
	}
	n[*text] = *text
}

func (n interner) of(b *Bundle) {
	for _, text := range []*string{&b.Channel, &b.Rendition, &b.Sound, &b.Prefix, &b.Header} {
		n.one(text)
	}
}

// search returns the bundles of a channel that lie in the place and are not known: from a day before the newest known
// one on, or all.
func (s *Store) search(slug string, newest time.Time, have map[string]bool) (out []*Bundle, err error) {
	days, err := s.place.List(slug)
	if err != nil {
		return nil, err
	}
	from := newest.Add(-24 * time.Hour).Format("2006-01-02")
	for _, day := range slices.Backward(days) {
		d, folder := strings.CutSuffix(day.Name, "/")
		if !folder || !newest.IsZero() && d < from {
			continue
		}
		list, err := s.searchDay(slug+"/"+d, have)
		if out = append(out, list...); err != nil {
			return out, err
		}
	}
	return out, nil
}

// searchDay looks for those of a day.
func (s *Store) searchDay(day string, have map[string]bool) (out []*Bundle, err error) {
	renditions, err := s.place.List(day)
	if err != nil {
		return nil, err
	}
	for _, r := range renditions {
		files, err := s.place.List(day + "/" + strings.TrimSuffix(r.Name, "/"))
		if err != nil {
			return out, err
		}
		folder := day + "/" + r.Name
		for _, f := range files {
			select {
			case <-s.stop:
				return out, errStopped
			default:
			}
			base, index := strings.CutSuffix(f.Name, indexEnding)
			if path := folder + base; index && !have[path] {
				if b := s.recover(path, f.Size); b != nil {
					out = append(out, b)
				}
			}
		}
	}
	return out, nil
}

// addBundles gives a channel its bundles, and places what came meanwhile behind them.
func (s *Store) addBundles(slug string, list []*Bundle) {
	sh := s.make(slug)
	sh.mu.Lock()
	var own []Bundle
	for _, b := range list {
		st := sh.strips[b.Rendition]
		if st == nil {
			st = &renditionMedia{name: b.Rendition}
			sh.strips[b.Rendition] = st
		}
		st.bundles = append(st.bundles, b)
	}
	for _, st := range sh.strips {
		slices.SortFunc(st.bundles, func(a, b *Bundle) int {
			return cmp.Or(a.Begin.Compare(b.Begin), cmp.Compare(a.Ordinal, b.Ordinal))
		})
		for _, b := range follow(st.bundles) {
			own = append(own, *b)
		}
		for _, b := range st.bundles {
			st.last = max(st.last, b.end())
			sh.next, sh.breaks = max(sh.next, b.end()), max(sh.breaks, b.Breaks)
		}
	}
	own = append(own, sh.judgeFound()...)
	sh.loaded(s)
	sh.mu.Unlock()
	for _, b := range own {
		s.ledger.Closed(b)
	}
}

// loaded goes on with what came while the channel was looked through. The lock is held.
func (sh *channelMedia) loaded(s *Store) {
	if !sh.loading {
		return
	}
	sh.loading, sh.changed = false, true
	waiting := sh.early
	sh.early = nil
	for _, e := range waiting {
		sh.queued -= e.seg.Size
		s.queued.Add(-e.seg.Size)
		sh.append(e.rendition, e.sound, e.epoch, e.seg)
	}
}

// recover returns a bundle whose index lies in the place, as far as it is whole, nil when it is not.
func (s *Store) recover(path string, size int64) *Bundle {
	c, whole, err := read(s.place, path)
	n := 0
	if err == nil {
		n, err = check(s.place, path, c)
	}
	if err == nil && len(c.list) == 0 { // nothing was kept in it yet
		_ = s.place.Remove(path + indexEnding)
		_ = s.place.Remove(path + mediaEnding)
		return nil
	}
	if err != nil || n == 0 {
		s.logger.Error("a bundle cannot be read, and is left alone", "path", path, "error", err)
		return nil
	}
	if cut := int64(len(c.list)-n) * recordSize; cut > 0 || whole < size {
		if err := s.place.Truncate(path+indexEnding, whole-cut); err != nil {
			s.logger.Error("the end of an index cannot be cut off", "path", path, "error", err)
		}
		whole -= cut
	}
	c.list = c.list[:n]
	last := &c.list[n-1]
	if err := s.place.Truncate(path+mediaEnding, last.Offset+int64(last.Size)); err != nil {
		s.logger.Error("the end of a bundle cannot be cut off", "path", path, "error", err)
	}
	b := &Bundle{Path: path, from: found}
	b.of(&c.head, c.list, whole)
	return b
}
