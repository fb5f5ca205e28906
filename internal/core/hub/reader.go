package hub

import (
	"sort"

	"metaplasis/internal/core/media"
)

// From says where a reader starts, and where it goes on when it has lost something.
type From uint8

// The places to start at. All of them are random access points of the first track that is read.
const (
	Oldest From = iota // the oldest that is held
	Newest             // the newest: for who wants to be near to what happens
	Coming             // the next that comes
)

// Reader reads some tracks of a hub in the order in which their units came. It is used from one
// goroutine. It costs the hub nothing: who does not read any more just forgets it.
type Reader struct {
	h      *Hub
	from   From
	ids    []media.TrackID
	places []place // one a track, in the order of ids
	placed bool    // a random access point was found to start at
	begun  bool    // something was read: what is left out from here on is lost
	floor  uint64  // nothing below this number is read
}

// place is how far a reader is in one track.
type place struct {
	next  uint64 // count of the unit that is read next
	bytes int64  // of all units before it
}

// NewReader makes a reader of tracks, the leading one first: its random access points are where reading
// starts. Tracks that are not there yet are read when they come.
func (h *Hub) NewReader(from From, ids ...media.TrackID) *Reader {
	h.mu.RLock()
	defer h.mu.RUnlock()
	r := &Reader{h: h, from: from, ids: ids, places: make([]place, len(ids))}
	if from == Coming {
		r.floor = h.number
	}
	return r
}

// NotBelow lets a reader that has not begun read nothing below a number.
func (r *Reader) NotBelow(number uint64) { r.floor = max(r.floor, number) }

// Back goes to the newest random access point of the leading track that is presented at or before a
// time in its ticks, no unit below a number; to the oldest random access point behind when there is
// none any more. It reports whether there was one.
func (r *Reader) Back(pts int64, number uint64) bool {
	h := r.h
	h.mu.RLock()
	defer h.mu.RUnlock()
	r.placed, r.begun, r.floor, r.from = false, false, number, Oldest
	l := h.find(r.ids[0])
	if l == nil || l.empty() {
		return false
	}
	found := false
	for i, ok := l.random(l.search(number)); ok && l.at(i).PTS <= pts; i, ok = l.random(i + 1) {
		r.floor, found = l.at(i).Number, true
		if !l.video { // every unit is a point: the last one not behind the time
			n := sort.Search(int(l.next-i), func(k int) bool { return l.at(i+uint64(k)).PTS > pts })
			r.floor = l.at(i + uint64(n) - 1).Number
			break
		}
	}
	return found
}

// Read fills a slice with what has come since, and returns how much that is and what was lost before it.
// A reader that lost units of a track goes on where a decoder can start again.
func (r *Reader) Read(into []Unit) (n int, lost Loss) {
	r.h.mu.RLock()
	defer r.h.mu.RUnlock()
	return r.read(into, r.h.number)
}

// ReadBelow is Read, of units below a number.
func (r *Reader) ReadBelow(into []Unit, number uint64) (n int, lost Loss) {
	r.h.mu.RLock()
	defer r.h.mu.RUnlock()
	return r.read(into, number)
}

func (r *Reader) read(into []Unit, below uint64) (n int, lost Loss) {
	for i, id := range r.ids { // what has left before it was read
		if l := r.h.find(id); r.placed && l != nil && r.places[i].next < l.first {
			if i == 0 { // the leading track goes on where a decoder can, and the others with it
				r.placed, r.floor = false, 0
				break
			}
			lost.add(l, &r.places[i], l.first)
		}
	}
	if !r.placed && !r.place(below, &lost) {
		return 0, lost
	}
	for n < len(into) {
		var best *Unit
		track := 0
		for i, id := range r.ids {
			l := r.h.find(id)
			if l == nil || r.places[i].next >= l.next {
				continue
			}
			if u := l.at(r.places[i].next); u.Number < below && (best == nil || u.Number < best.Number) {
				best, track = u, i
			}
		}
		if best == nil {
			break
		}
		into[n] = *best
		n++
		p := &r.places[track]
		p.next, p.bytes = p.next+1, best.before+best.Size()
	}
	return n, lost
}

// add counts what lies between where a reader was and where it goes on.
func (l *Loss) add(from *trackRing, p *place, next uint64) {
	l.Units += int64(next - p.next)
	l.Bytes += from.bytesBefore(next) - p.bytes
	p.next, p.bytes = next, from.bytesBefore(next)
}

// place finds where to begin, or to go on. It reports whether there is such a place below a number.
func (r *Reader) place(below uint64, lost *Loss) bool {
	l := r.h.find(r.ids[0])
	if l == nil {
		return false
	}
	start, found := l.random(l.search(r.floor))
	if r.from == Newest && found {
		for i, ok := start, true; ok; i, ok = l.random(i + 1) {
			if start = i; !l.video {
				start = l.next - 1
				break
			}
		}
	}
	if !found || l.at(start).Number >= below {
		return false
	}
	number := l.at(start).Number
	for i, id := range r.ids {
		l, p := r.h.find(id), &r.places[i]
		switch {
		case l == nil:
			*p = place{}
		case r.begun:
			lost.add(l, p, max(l.search(number), p.next))
		default:
			at := l.search(number)
			*p = place{at, l.bytesBefore(at)}
		}
	}
	r.placed, r.begun = true, true
	return true
}

// Wait returns a channel that is closed when there is something to read, or nothing will follow. over
// reports the latter.
func (r *Reader) Wait() (arrived <-chan struct{}, over bool) {
	h := r.h
	h.mu.Lock()
	defer h.mu.Unlock()
	ready := make(chan struct{})
	if r.ready() {
		close(ready)
		return ready, false
	}
	if h.closed {
		close(ready)
		return ready, true
	}
	if h.arrived == nil {
		h.arrived = make(chan struct{})
	}
	return h.arrived, false
}

// ready reports whether a read would return something.
func (r *Reader) ready() bool {
	if !r.placed { // placing changes nothing that Read would not
		l := r.h.find(r.ids[0])
		if l == nil {
			return false
		}
		_, found := l.random(l.search(r.floor))
		return found
	}
	for i, id := range r.ids {
		if l := r.h.find(id); l != nil && r.places[i].next < l.next {
			return true
		}
	}
	return false
}
