package segment

// Window holds the published segments of one rendition, oldest first, without holes in their
// numbers. It is not safe for concurrent use; snapshots of it are.
type Window struct {
	advertised    int
	segments      []*Segment
	discontinuity uint64 // discontinuities before segments[0]
	peak          []int64
	runs          Runs
	budget        int64 // bytes that all segments may take; 0: no limit
	Cut           int64 // segments that left early since the budget was used up
}

// Runs tells a window about the runs of timestamps and encodings that a channel's segments belong to.
type Runs interface {
	// Before returns the number of discontinuities before a segment.
	Before(msn uint64) uint64
	// Begins reports whether a segment begins with a discontinuity.
	Begins(msn uint64) bool
}

// Retained is how many segments a window of n advertised ones keeps in memory: those that the
// playlist shows, and those that a player may still ask for, since a segment must stay for its
// own duration and that of the longest playlist that held it (RFC 8216, 6.2.2).
func Retained(n int) int { return 2*n + 1 }

// rateSpan is over how many segments the bitrate is measured.
const rateSpan = 64

// NewWindow makes an empty window.
func NewWindow(advertised int, runs Runs) *Window {
	return &Window{advertised: advertised, runs: runs}
}

// SetBudget bounds what the segments take, in bytes: when there is more, the oldest leave early.
func (w *Window) SetBudget(bytes int64) { w.budget = bytes }

// Resize changes how many segments are advertised.
func (w *Window) Resize(advertised int) {
	w.advertised = advertised
	w.trim()
}

// Publish adds a segment, or the next state of the newest one while that is open. One that is
// not the newest is refused. Numbers that were skipped become gaps of the length of the step
// given, in ticks of media.VideoTimescale.
func (w *Window) Publish(s *Segment, step int64) bool {
	if n := len(w.segments); n > 0 {
		last := w.segments[n-1]
		if s.MSN == last.MSN && last.Open {
			w.segments[n-1] = s
			w.closed(s)
			return true
		}
		if s.MSN <= last.MSN {
			return false
		}
		if last.Open { // it was given up: what there is of it is all
			whole := *last
			whole.Open = false
			w.segments[n-1] = &whole
		}
		// What is missing is as long as what lies between, where that is known.
		if between := s.Start - last.Start - last.Duration; between > 0 && s.MSN > last.MSN+1 {
			step = between / int64(s.MSN-last.MSN-1)
		}
		for missing := last.MSN + 1; missing < s.MSN; missing++ {
			at := w.segments[len(w.segments)-1]
			gap := &Segment{MSN: missing, Prefix: s.Prefix, Gap: true, Discontinuity: w.runs.Begins(missing),
				Start: at.Start + at.Duration, Duration: step, Header: s.Header}
			w.segments = append(w.segments, gap)
			if s.MSN-missing > uint64(Retained(w.advertised)) {
				w.segments = w.segments[:0] // the hole is longer than the window: begin anew
				break
			}
		}
	}
	if len(w.segments) == 0 {
		w.discontinuity = w.runs.Before(s.MSN)
	}
	w.segments = append(w.segments, s)
	w.closed(s)
	w.trim()
	return true
}

// closed takes the bitrate of a segment that is whole.
func (w *Window) closed(s *Segment) {
	if s.Open {
		return
	}
	if w.peak = append(w.peak, s.Bitrate()); len(w.peak) > rateSpan {
		w.peak = w.peak[1:]
	}
}

func (w *Window) trim() {
	most := Retained(w.advertised)
	if n := len(w.segments); n > 0 && w.segments[n-1].Open {
		most++
	}
	const fewest = 3 // a playlist of fewer does not play
	over := func() bool {
		if w.budget <= 0 || len(w.segments) <= fewest {
			return false
		}
		var held int64
		for _, s := range w.segments {
			held += s.Size
		}
		return held > w.budget
	}
	for len(w.segments) > most || over() {
		if len(w.segments) <= most {
			w.Cut++
		}
		if w.segments[0].Discontinuity {
			w.discontinuity++
		}
		w.segments[0] = nil
		w.segments = w.segments[1:]
	}
}

// Rates returns the highest and the mean bitrate of the segments seen of late, bits a second.
func (w *Window) Rates() (peak, average int64) {
	for _, r := range w.peak {
		peak = max(peak, r)
		average += r
	}
	if len(w.peak) > 0 {
		return peak, average / int64(len(w.peak))
	}
	if n := len(w.segments); n > 0 { // what there is of the first
		peak = w.segments[n-1].Bitrate()
	}
	return peak, peak
}

// Snapshot is an immutable view of a window.
type Snapshot struct {
	All           []*Segment // every segment in memory; the last may be open
	Advertised    []*Segment // the newest of them, which the playlist shows: whole ones, then the open one
	Discontinuity uint64     // discontinuity sequence number of Advertised[0]
	Bytes         int64      // payload held
}

// Snapshot copies the view.
func (w *Window) Snapshot() *Snapshot {
	all := append([]*Segment(nil), w.segments...)
	s := &Snapshot{All: all, Discontinuity: w.discontinuity}
	hidden := len(all) - w.advertised
	if n := len(all); n > 0 && all[n-1].Open {
		hidden--
	}
	hidden = max(0, hidden)
	s.Advertised = all[hidden:]
	for _, h := range all[:hidden] {
		if h.Discontinuity {
			s.Discontinuity++
		}
	}
	for _, h := range all {
		s.Bytes += h.Size
	}
	return s
}

// Whole returns the advertised segments that are whole.
func (s *Snapshot) Whole() []*Segment {
	n := len(s.Advertised)
	if n > 0 && s.Advertised[n-1].Open {
		n--
	}
	return s.Advertised[:n]
}

// Find returns the segment with a number, and whether the number is older than all that is held.
func (s *Snapshot) Find(msn uint64) (seg *Segment, gone bool) {
	if len(s.All) == 0 {
		return nil, false
	}
	first := s.All[0].MSN
	if msn < first {
		return nil, true
	}
	if i := msn - first; i < uint64(len(s.All)) {
		return s.All[i], false
	}
	return nil, false
}
