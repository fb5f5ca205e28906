package rtpmedia

import "slices"

// opening holds the first pictures of a stream that reorders them and does not say how far apart they are: RTP does not tell
// when they are decoded, and the first one's decode time is known once the pictures that are presented before it have come.
type opening struct {
	depth    int
	times    []int64 // presentation times, ticks of media.VideoTimescale
	pictures [][]byte
	bytes    int
}

// openingBytes is how much is held.
//
//limit:first pictures that are held to learn how far apart they are | each stream, bytes | an interval is assumed
const openingBytes = 4 << 20

// add holds a picture and reports whether more must come.
func (o *opening) add(pts int64, data []byte) bool {
	o.times, o.pictures = append(o.times, pts), append(o.pictures, slices.Clone(data))
	o.bytes += len(data)
	return len(o.times) < o.depth+2 && o.bytes < openingBytes
}

// period is the least time between two of the pictures, 0 when there are none.
func (o *opening) period() (least int64) {
	sorted := slices.Sorted(slices.Values(o.times))
	for i := 1; i < len(sorted); i++ {
		if d := sorted[i] - sorted[i-1]; d > 0 && (least == 0 || d < least) {
			least = d
		}
	}
	return least
}
