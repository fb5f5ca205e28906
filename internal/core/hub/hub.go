// Package hub holds the last seconds of a channel's access units, so that every reader can go at its
// own pace: who puts them in never waits, and who stands still loses what has left meanwhile and is
// told how much.
//
// Units are kept a track, in the order in which they came, and numbered over all tracks. A hub is
// bounded in bytes and in media time for all of its tracks together: what is over leaves, the oldest
// first, whoever has read it or not. Units are shared, never copied.
//
// Putting in and reading cost the same whatever is held: neither depends on the number of units or, but
// for waking them, of readers.
package hub

import (
	"sort"
	"sync"

	"metaplasis/internal/core/media"
)

// UnitCost is what a unit takes beside its data, in bytes.
const UnitCost = 160

// Unit is an access unit in a hub.
type Unit struct {
	media.AccessUnit
	Track  *media.Track // as it was when the unit came: another pointer, another configuration
	Run    uint64       // within one run times go on; a break lies between two
	Number uint64       // over all tracks of the hub
	At     int64        // decode time in ticks of media.VideoTimescale
	Random bool         // a decoder can start here: a key, or what a run begins with
	before int64        // bytes of all units of its track that came before
	line   int64        // its place on the hub's own line of time, which goes on from one run to the next
}

// Size is what the unit takes of a hub's bytes.
func (u *Unit) Size() int64 { return int64(len(u.Data)) + UnitCost }

// Loss is what a reader missed since it read last.
type Loss struct {
	Units int64
	Bytes int64
}

// trackRing is one track's units.
type trackRing struct {
	id    media.TrackID
	ring  []Unit   // of a length that is a power of two; unit i lies at i modulo it
	first uint64   // count of the oldest unit held
	next  uint64   // count of the next one to come
	keys  []uint64 // counts of the random access points held, of video
	total int64    // bytes of all units that ever came
	video bool
	run   uint64 // of the newest unit
}

func (l *trackRing) at(i uint64) *Unit { return &l.ring[i&uint64(len(l.ring)-1)] }

func (l *trackRing) empty() bool { return l.first == l.next }

func (l *trackRing) push(u *Unit) {
	if n := uint64(len(l.ring)); l.next-l.first == n {
		grown := make([]Unit, max(2*n, 64))
		for i := l.first; i < l.next; i++ {
			grown[i&uint64(len(grown)-1)] = *l.at(i)
		}
		l.ring = grown
	}
	u.Random = u.Key || l.next == 0 || u.Run != l.run
	u.before, l.run = l.total, u.Run
	*l.at(l.next) = *u
	l.total += u.Size()
	l.video = u.Track.Kind == media.Video
	if l.video && u.Random {
		l.keys = append(l.keys, l.next)
	}
	l.next++
}

// drop lets the oldest unit go.
func (l *trackRing) drop() {
	*l.at(l.first) = Unit{}
	if len(l.keys) > 0 && l.keys[0] == l.first {
		l.keys = l.keys[1:]
	}
	l.first++
}

// random returns the first count from one on at which a decoder can start, or false. Every unit of a track
// that is not video is such a point.
func (l *trackRing) random(from uint64) (uint64, bool) {
	from = max(from, l.first)
	if from >= l.next || !l.video {
		return from, from < l.next
	}
	i := sort.Search(len(l.keys), func(i int) bool { return l.keys[i] >= from })
	if i == len(l.keys) {
		return l.next, false
	}
	return l.keys[i], true
}

// search returns the count of the first unit that is not below a number.
func (l *trackRing) search(number uint64) uint64 {
	n := sort.Search(int(l.next-l.first), func(i int) bool { return l.at(l.first+uint64(i)).Number >= number })
	return l.first + uint64(n)
}

// bytesBefore is what came before a count, in bytes.
func (l *trackRing) bytesBefore(i uint64) int64 {
	if i >= l.next {
		return l.total
	}
	return l.at(i).before
}

// Hub is a bounded ring of access units. Its methods may be called from any goroutine.
type Hub struct {
	mu       sync.RWMutex
	maxBytes int64
	maxTime  int64
	lines    []*trackRing
	bytes    int64
	newest   int64  // place of the newest unit on the hub's line of time
	shift    int64  // from decode times of this run to the line of time
	fresh    bool   // nothing of this run has come yet
	number   uint64 // of the next unit
	run      uint64
	arrived  chan struct{} // closed when something came; nil while nobody waits
	closed   bool
}

// New makes a hub that holds at most so many bytes and so much media time, in ticks of
// media.VideoTimescale. One unit is always held, however large it is.
func New(bytes, span int64) *Hub { return &Hub{maxBytes: bytes, maxTime: span, fresh: true} }

// Limit changes the bounds.
func (h *Hub) Limit(bytes, span int64) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.maxBytes, h.maxTime = bytes, span
	h.trim()
}

// Break begins another run: its times have nothing to do with those of the run before. Who puts units in begins it
// where a decoder can start.
func (h *Hub) Break() {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.run++
	h.fresh = true
}

// Push puts a unit of a track in and returns its number. It waits for no reader.
func (h *Hub) Push(t *media.Track, u *media.AccessUnit) uint64 {
	h.mu.Lock()
	defer h.mu.Unlock()
	in := Unit{AccessUnit: *u, Track: t, Run: h.run, Number: h.number, At: media.Rescale(u.DTS, t.Timescale, media.VideoTimescale)}
	h.number++
	if h.fresh {
		h.shift, h.fresh = h.newest-in.At, false
	}
	in.line = in.At + h.shift
	h.newest = max(h.newest, in.line)
	h.ring(t.ID).push(&in)
	h.bytes += in.Size()
	h.trim()
	h.wake()
	return in.Number
}

// ring returns a track's line, made when it is new.
func (h *Hub) ring(id media.TrackID) *trackRing {
	if l := h.find(id); l != nil {
		return l
	}
	l := &trackRing{id: id}
	h.lines = append(h.lines, l)
	return l
}

func (h *Hub) find(id media.TrackID) *trackRing {
	for _, l := range h.lines {
		if l.id == id {
			return l
		}
	}
	return nil
}

// trim lets go what is over the bounds, the oldest of all tracks first.
func (h *Hub) trim() {
	for {
		var oldest *trackRing
		held := uint64(0)
		for _, l := range h.lines {
			held += l.next - l.first
			if !l.empty() && (oldest == nil || l.at(l.first).Number < oldest.at(oldest.first).Number) {
				oldest = l
			}
		}
		if held <= 1 {
			return
		}
		u := oldest.at(oldest.first)
		if h.bytes <= h.maxBytes && h.newest-u.line <= h.maxTime {
			return
		}
		h.bytes -= u.Size()
		oldest.drop()
	}
}

func (h *Hub) wake() {
	if h.arrived != nil {
		close(h.arrived)
		h.arrived = nil
	}
}

// Close tells all readers that nothing will follow. What is held can still be read.
func (h *Hub) Close() {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.closed = true
	h.wake()
}

// Next returns the number that the next unit will have.
func (h *Hub) Next() uint64 {
	h.mu.RLock()
	defer h.mu.RUnlock()
	return h.number
}

// Held returns how much is held: units, bytes, and media time in ticks of media.VideoTimescale.
func (h *Hub) Held() (units, bytes, span int64) {
	h.mu.RLock()
	defer h.mu.RUnlock()
	oldest := h.newest
	for _, l := range h.lines {
		units += int64(l.next - l.first)
		if !l.empty() {
			oldest = min(oldest, l.at(l.first).line)
		}
	}
	return units, h.bytes, h.newest - oldest
}

// Newest returns the presentation time of a track's newest unit, in its ticks; false without one.
func (h *Hub) Newest(id media.TrackID) (int64, bool) {
	h.mu.RLock()
	defer h.mu.RUnlock()
	l := h.find(id)
	if l == nil || l.empty() {
		return 0, false
	}
	return l.at(l.next - 1).PTS, true
}
