package fan

import (
	"time"

	"metaplasis/internal/core/media"
)

// Reader is one viewer's place in a stream. It changes to another stream where a keyframe of both lies at the same time, so
// that no picture comes twice and none goes back. It is used from one goroutine.
type Reader struct {
	pool   *Pool
	stream *Stream
	coming *Stream // that it changes to at its next keyframe
	next   uint64  // number of the unit that is read next
	begun  bool
	last   int64     // time of the newest unit that was read, ticks of its packer's clock
	seen   uint64    // how far the stream to come was looked at
	held   time.Time // since when the reader stands at a keyframe and waits for the same one of the stream to come
	moved  time.Time // when something was read last
	Lost   int64     // how often units were left out, since the reader was too slow
}

const (
	// holdAtMost is for how long a reader waits at a keyframe for that of the stream to come, which is encoded more slowly.
	holdAtMost = 800 * time.Millisecond
	// quiet is for how long nothing may come of a stream until the one to come takes its place at once.
	quiet = 500 * time.Millisecond
	// veryQuiet is after what time that may begin before what was read: its times are those of another sender.
	veryQuiet = 5 * time.Second
)

// NewReader begins to read a stream.
func (p *Pool) NewReader(n Name) *Reader {
	return &Reader{pool: p, stream: p.Join(n), moved: time.Now()}
}

// Close leaves the streams.
func (r *Reader) Close() {
	r.pool.Leave(r.stream)
	r.pool.Leave(r.coming)
}

// Stream is the one that is read.
func (r *Reader) Stream() *Stream { return r.stream }

// Changing reports whether another stream is to come.
func (r *Reader) Changing() bool { return r.coming != nil }

// Change goes over to another stream at its next keyframe.
func (r *Reader) Change(n Name) {
	r.pool.Leave(r.coming)
	r.coming, r.held, r.seen = nil, time.Time{}, 0
	if n != r.stream.Name {
		r.coming = r.pool.Join(n)
	}
}

// Restart goes on at the newest keyframe.
func (r *Reader) Restart() { r.begun = false }

// Skip leaves out what is before the newest keyframe, if that is newer than what is read next.
func (r *Reader) Skip() {
	if key, _, ok := r.stream.Newest(); ok && key > r.next {
		r.next = key
		r.Lost++
	}
}

// Behind is how much is waiting, ticks of media.VideoTimescale.
func (r *Reader) Behind() int64 { return r.stream.Behind(r.next) }

// Wait returns a channel that is closed when there may be something to read, or nothing will follow.
func (r *Reader) Wait() (ready <-chan struct{}, over bool) {
	if !r.held.IsZero() && r.coming != nil {
		ready, _ = r.coming.Wait(r.seen)
		return ready, false
	}
	return r.stream.Wait(r.next)
}

// Later is like Wait for who reads when something else comes: see Stream.Later.
func (r *Reader) Later() (ready <-chan struct{}, over bool) {
	if r.coming != nil || !r.begun {
		return r.Wait()
	}
	return r.stream.Later(r.next)
}

// Read returns units. catchUp says how many of them, and of those of the next reads, were there before the reader began at
// their keyframe: they are sent only so that a decoder has what it needs for those behind.
func (r *Reader) Read(into []Unit) (n int, catchUp uint64) {
	if n, catchUp := r.rescue(into); n > 0 {
		return n, catchUp
	}
	if !r.begun {
		key, end, ok := r.stream.Newest()
		if !ok {
			r.next = end
			return 0, 0
		}
		r.next, r.begun = key, true
		if r.stream.Kind == media.Audio {
			r.next = max(key, end-1)
			end = r.next
		}
		n, _ = r.read(into)
		return n, end - min(end, key)
	}
	n, lost := r.read(into)
	if lost {
		r.Lost++
		if n > 0 && !into[0].Key {
			r.begun = false // what is held begins without a keyframe: wait for one
			return 0, 0
		}
	}
	return n, 0
}

// rescue goes over to the stream to come when nothing comes of this one any more: at a keyframe behind what was read, so that
// no picture goes back, unless none comes for long.
func (r *Reader) rescue(into []Unit) (n int, catchUp uint64) {
	if r.coming == nil || !r.held.IsZero() || time.Since(r.moved) <= quiet {
		return 0, 0
	}
	if _, end, _ := r.stream.Newest(); r.begun && r.next < end {
		return 0, 0 // there is something: it is the reader that was away
	}
	key, end, ok := r.coming.Newest()
	if !ok {
		return 0, 0
	}
	var first [1]Unit
	if got, _, _ := r.coming.Read(key, first[:]); got == 0 || r.begun && first[0].Time <= r.last && time.Since(r.moved) <= veryQuiet {
		return 0, 0
	}
	return r.readUnits(key, end, into)
}

// read reads up to a keyframe at which the reader changes, or waits to do so.
func (r *Reader) read(into []Unit) (n int, lost bool) {
	from := r.next
	n, next, lost := r.stream.Read(from, into)
	r.next = next
	if n == 0 {
		return 0, lost
	}
	if r.coming != nil {
		for i := range into[:n] {
			if !into[i].Key || into[i].Time <= r.last {
				continue
			}
			r.next = next - uint64(n-i)
			if i > 0 { // what is before it goes out first
				n = i
				break
			}
			return r.meet(into, n, next, lost)
		}
	}
	r.last, r.moved = into[n-1].Time, time.Now()
	return n, lost
}

// meet changes streams at a keyframe, waits for that of the stream to come, or has waited for it too long.
func (r *Reader) meet(into []Unit, n int, next uint64, lost bool) (int, bool) {
	at := into[0].Time
	key, end, ok := r.coming.Newest()
	if ok {
		var first [1]Unit
		if got, _, _ := r.coming.Read(key, first[:]); got > 0 && first[0].Time >= at-first[0].Packer.Clock/50 {
			n, _ = r.readUnits(key, end, into)
			return n, lost
		}
	}
	r.seen = end
	if r.held.IsZero() {
		r.held = time.Now()
	}
	if time.Since(r.held) < holdAtMost {
		return 0, lost
	}
	r.held = time.Time{} // it goes on as before, up to the next keyframe
	r.next = next
	r.last, r.moved = into[n-1].Time, time.Now()
	return n, lost
}

// readUnits goes over to the stream to come at its keyframe.
func (r *Reader) readUnits(key, end uint64, into []Unit) (n int, catchUp uint64) {
	r.pool.Leave(r.stream)
	r.stream, r.coming, r.held = r.coming, nil, time.Time{}
	r.begun = true
	n, r.next, _ = r.stream.Read(key, into)
	if n > 0 {
		r.last, r.moved = into[n-1].Time, time.Now()
	}
	return n, end - min(end, key)
}
