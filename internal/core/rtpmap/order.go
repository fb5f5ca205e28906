package rtpmap

import "slices"

// Order finds decode times of pictures that come in the order in which they are decoded, and of which RTP tells only
// when they are shown (RFC 3550, 5.1). A picture is decoded when the one is shown that so many pictures before it is
// shown, as many as the stream is seen to reorder.
type Order struct {
	depth  int
	period int64   // from picture to picture, 0: not known
	recent []int64 // presentation times, in their order
	made   []int64 // those of them that stand for pictures before the first one
	last   int64
	begun  bool
}

// Expect says how many pictures are decoded before one that is presented first, as the stream's parameter sets tell, and how
// far apart pictures are, in ticks of 90 kHz; 0 when nobody knows. It counts from where the stream begins.
func (o *Order) Expect(depth int, period int64) {
	o.depth, o.period = min(max(depth, 0), maxDepth), period
}

// leastPeriod is how far apart pictures are taken to be in front of the first one when nobody says.
const leastPeriod = 1500

// maxDepth is how far pictures may be reordered (ITU-T H.264, A.3.1).
//
//limit:pictures that wait for one that is presented earlier | each stream | the first goes on
const maxDepth = 16

// Decode returns the decode time of the next picture, never more than pts and more than the one before, as far as what
// came before allows.
func (o *Order) Decode(pts int64) (dts int64) {
	if o.begun && (pts < o.recent[0] || pts > o.recent[len(o.recent)-1]+10*90000) { // it started over
		*o = Order{depth: o.depth, period: o.period}
	}
	if !o.begun { // as if others had come before it
		step := o.period
		if step <= 0 {
			step = leastPeriod
		}
		for n := o.depth; n > 0; n-- {
			o.recent = append(o.recent, pts-int64(n)*step)
		}
		o.made = slices.Clone(o.recent)
	}
	o.replace(pts)
	at, _ := slices.BinarySearch(o.recent, pts)
	later := len(o.recent) - at // pictures that came before and are shown later
	o.depth = min(max(o.depth, later), maxDepth)
	o.recent = slices.Insert(o.recent, at, pts)
	if len(o.recent) > 2*maxDepth+2 {
		o.recent = o.recent[1:]
	}
	dts = o.recent[max(0, len(o.recent)-1-o.depth)]
	if o.begun && dts <= o.last {
		dts = min(o.last+1, pts)
	}
	o.last, o.begun = dts, true
	return dts
}

// replace takes out the time that stood for a picture that has come: one that is decoded behind the first and presented before it.
func (o *Order) replace(pts int64) {
	step := o.period
	if step <= 0 {
		step = leastPeriod
	}
	i := slices.IndexFunc(o.made, func(at int64) bool { return at > pts-step/2 && at <= pts+step/2 })
	if i < 0 {
		return
	}
	if at, found := slices.BinarySearch(o.recent, o.made[i]); found {
		o.recent = slices.Delete(o.recent, at, at+1)
	}
	o.made = slices.Delete(o.made, i, i+1)
}
