package rtpmedia

import (
	"time"

	"metaplasis/internal/core/rtpmap"
)

// requests decides which missing packets are asked for again (RFC 4585, 6.2.1): each a few times, and all of them within a share of
// what comes, so that a line that loses for want of room is not asked for more than it has. What has come, whatever way it took, is not
// asked for again (RFC 4588).
type requests struct {
	asked  map[uint16]request
	budget float64 // packets
	at     time.Time
	seen   int64 // packets that had come
}

type request struct {
	times int
	first time.Time // when it was seen to be missing
	last  time.Time
}

const (
	// Packets that come in another order are not missing yet.
	requestAfter = 10 * time.Millisecond
	requestEach  = 40 * time.Millisecond
	//limit:times that a missing packet is asked for | each packet | it is given up
	maxRequests = 5
	// requestShare is how many packets may be asked for, of those that come; requestRate how many a second beside.
	requestShare = 0.25
	requestRate  = 50
	//limit:missing packets that are asked for at once | each stream | the rest waits, or is given up
	maxRequested = 200
)

// next lists the sequence numbers to ask for now.
func (r *requests) next(q *rtpmap.Queue, now time.Time) (out []uint16) {
	if r.asked == nil {
		r.asked, r.at, r.seen = map[uint16]request{}, now, q.Packets
		r.budget = requestRate
	}
	r.budget = min(r.budget+now.Sub(r.at).Seconds()*requestRate+float64(q.Packets-r.seen)*requestShare, maxRequested)
	r.at, r.seen = now, q.Packets
	missing := q.Missing(maxRequested)
	if len(missing) == 0 {
		clear(r.asked)
		return nil
	}
	still := make(map[uint16]request, len(missing))
	for _, seq := range missing {
		a := r.asked[seq]
		if a.first.IsZero() {
			a.first = now
		}
		if a.times < maxRequests && now.Sub(a.first) >= requestAfter && now.Sub(a.last) >= requestEach && r.budget >= 1 {
			r.budget--
			a.times++
			a.last = now
			out = append(out, seq)
		}
		still[seq] = a
	}
	r.asked = still
	return out
}

// Requests lists the packets of a stream that are to be asked for again now.
func (t *Track) Requests(now time.Time) []uint16 {
	t.s.mu.Lock()
	defer t.s.mu.Unlock()
	return t.requests.next(t.queue, now)
}
