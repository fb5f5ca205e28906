package segment

import (
	"cmp"
	"slices"
)

// Window holds the published segments of one rendition, oldest first, without holes in their
// numbers. It is not safe for concurrent use; snapshots of it are.
//
// What a part costs does not depend on how many segments there are: snapshots share the list of whole
// segments, which only grows at its end and is copied, now and then, when so many have left at its front.
type Window struct {
	advertised    int
	whole         []*Segment // snapshots hold pieces of it: no element is ever changed
	left          int        // elements in front of it that snapshots may still hold
	open          *Segment   // behind them, or nil
	held          int64      // bytes of all
	discontinuity uint64     // discontinuities before the first
	listedFrom    int        // index in whole of the first that the playlist shows
	hiddenBreaks  uint64     // discontinuities in whole before that one
	peak, keys    []int64
	runs          Runs
	budget        int64          // bytes that all segments may take; 0: no limit
	Cut           int64          // segments that left early since the budget was used up
	Whole         func(*Segment) // is told each segment that is whole, and each gap; nil: nobody
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

// newest returns the newest segment, nil when there is none.
func (w *Window) newest() *Segment {
	if w.open != nil || len(w.whole) == 0 {
		return w.open
	}
	return w.whole[len(w.whole)-1]
}

// Publish adds a segment, or the next state of the newest one while that is open. One that is
// not the newest is refused. Numbers that were skipped become gaps of the length of the step
// given, in ticks of media.VideoTimescale.
func (w *Window) Publish(s *Segment, step int64) bool {
	last := w.newest()
	switch {
	case last == nil:
	case s.MSN == last.MSN && last.Open:
		w.held -= last.Size
		w.open = nil
		last = nil
	case s.MSN <= last.MSN:
		return false
	case last.Open: // it was given up: what there is of it is all
		given := *last
		given.Open = false
		w.held -= last.Size
		w.open = nil
		w.add(&given)
		last = &given
	}
	if last != nil && s.MSN > last.MSN+1 {
		w.fill(last, s, step)
	}
	if len(w.whole) == 0 {
		w.discontinuity = w.runs.Before(s.MSN)
	}
	w.add(s)
	w.trim()
	return true
}

// fill puts gaps between two segments.
func (w *Window) fill(last, s *Segment, step int64) {
	missing := s.MSN - last.MSN - 1
	if missing > uint64(Retained(w.advertised)) { // the hole is longer than the window: start over
		*w = Window{advertised: w.advertised, peak: w.peak, keys: w.keys, runs: w.runs, budget: w.budget, Cut: w.Cut, Whole: w.Whole}
		return
	}
	// What is missing is as long as what lies between, where that is known.
	if between := s.Start - last.Start - last.Duration; between > 0 {
		step = between / int64(missing)
	}
	at := last.Start + last.Duration
	for msn := last.MSN + 1; msn < s.MSN; msn++ {
		w.add(&Segment{MSN: msn, Prefix: s.Prefix, Gap: true, Discontinuity: w.runs.Begins(msn), Start: at, Duration: step, Header: s.Header})
		at += step
	}
}

// add puts a segment at the end.
func (w *Window) add(s *Segment) {
	w.held += s.Size
	if s.Open {
		w.open = s
		return
	}
	w.whole = append(w.whole, s)
	if w.Whole != nil {
		w.Whole(s)
	}
	if s.Gap {
		return
	}
	if w.peak = append(w.peak, s.Bitrate()); len(w.peak) > rateSpan {
		w.peak = w.peak[1:]
	}
	if w.keys = append(w.keys, s.keyRate()); len(w.keys) > rateSpan {
		w.keys = w.keys[1:]
	}
}

func (w *Window) trim() {
	const fewest = 3 // a playlist of fewer does not play
	count := func() int {
		if w.open != nil {
			return len(w.whole) + 1
		}
		return len(w.whole)
	}
	for {
		many := len(w.whole) > Retained(w.advertised)
		heavy := w.budget > 0 && w.held > w.budget && count() > fewest
		if len(w.whole) == 0 || !many && !heavy {
			break
		}
		if !many {
			w.Cut++
		}
		first := w.whole[0]
		if first.Discontinuity {
			w.discontinuity++
			if w.listedFrom > 0 {
				w.hiddenBreaks--
			}
		}
		w.held -= first.Size
		w.whole = w.whole[1:]
		w.listedFrom = max(w.listedFrom-1, 0)
		w.left++
	}
	if w.left > len(w.whole)/8 { // so that what has left does not stay in memory
		w.whole, w.left = append(make([]*Segment, 0, len(w.whole)+len(w.whole)/8+2), w.whole...), 0
	}
	from := max(0, len(w.whole)-w.advertised)
	for ; w.listedFrom < from; w.listedFrom++ {
		if w.whole[w.listedFrom].Discontinuity {
			w.hiddenBreaks++
		}
	}
	for ; w.listedFrom > from; w.listedFrom-- { // the window became longer
		if w.whole[w.listedFrom-1].Discontinuity {
			w.hiddenBreaks--
		}
	}
}

// Rates returns the highest and the mean bitrate of the segments seen recently, and the highest of their
// keyframes alone, bits per second.
func (w *Window) Rates() (peak, average, keys int64) {
	for i, r := range w.peak {
		peak, keys = max(peak, r), max(keys, w.keys[i])
		average += r
	}
	if len(w.peak) > 0 {
		return peak, average / int64(len(w.peak)), keys
	}
	if s := w.newest(); s != nil { // what there is of the first
		peak = s.Bitrate()
	}
	return peak, peak, keys
}

// Snapshot is an immutable view of a window.
type Snapshot struct {
	Held          []*Segment // every whole segment in memory, the oldest first
	Listed        []*Segment // the newest of them, which the playlist shows
	Open          *Segment   // behind them, nil when none is open
	Discontinuity uint64     // discontinuity sequence number of the first that is listed
	Bytes         int64      // payload held
}

// Snapshot returns the window as it is.
func (w *Window) Snapshot() *Snapshot {
	n := len(w.whole)
	return &Snapshot{Held: w.whole[:n:n], Listed: w.whole[w.listedFrom:n:n], Open: w.open,
		Discontinuity: w.discontinuity + w.hiddenBreaks, Bytes: w.held}
}

// SnapshotOf returns a snapshot of whole segments, all of them listed.
func SnapshotOf(list []*Segment) *Snapshot {
	s := &Snapshot{Held: list, Listed: list}
	for _, h := range list {
		s.Bytes += h.Size
	}
	return s
}

// Newest returns the newest segment, nil when there is none.
func (s *Snapshot) Newest() *Segment {
	if s.Open != nil {
		return s.Open
	}
	return s.NewestWhole()
}

// NewestWhole returns the newest segment that is whole, nil when there is none.
func (s *Snapshot) NewestWhole() *Segment {
	if n := len(s.Held); n > 0 {
		return s.Held[n-1]
	}
	return nil
}

// Oldest returns the oldest segment in memory, nil when there is none.
func (s *Snapshot) Oldest() *Segment {
	if len(s.Held) > 0 {
		return s.Held[0]
	}
	return s.Open
}

// All lists every segment in memory, the open one last.
func (s *Snapshot) All() []*Segment { return s.with(s.Held) }

// Advertised lists what the playlist shows, the open one last.
func (s *Snapshot) Advertised() []*Segment { return s.with(s.Listed) }

func (s *Snapshot) with(list []*Segment) []*Segment {
	if s.Open == nil {
		return list
	}
	return append(list[:len(list):len(list)], s.Open)
}

// Find returns the segment with a number, and whether the number is older than all that is held.
func (s *Snapshot) Find(msn uint64) (seg *Segment, gone bool) {
	if s.Open != nil && msn == s.Open.MSN {
		return s.Open, false
	}
	first := s.Oldest()
	if first == nil {
		return nil, false
	}
	if msn < first.MSN {
		return nil, true
	}
	// Numbers follow each other, but where a rendition was off for a while.
	if i := msn - first.MSN; i < uint64(len(s.Held)) && s.Held[i].MSN == msn {
		return s.Held[i], false
	}
	if i, found := slices.BinarySearchFunc(s.Held, msn, func(h *Segment, msn uint64) int { return cmp.Compare(h.MSN, msn) }); found {
		return s.Held[i], false
	}
	return nil, false
}
