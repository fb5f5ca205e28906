package transcode

import (
	"sync/atomic"
	"unsafe"

	"metaplasis/internal/core/media"
	"metaplasis/internal/core/picture"
)

// still notices pictures that do not change, and black ones. It looks at a grid of luma five times per second, which costs
// some microseconds. Its results may be read from any goroutine.
type still struct {
	grid    [gridRows * gridColumns]byte
	newest  int64 // presentation time of the picture that was looked at last
	changed int64 // of the one that differed from the one before
	bright  int64 // of the one that was not black
	set     bool
	frozen  atomic.Int64 // milliseconds
	black   atomic.Int64
}

const (
	gridRows, gridColumns = 18, 32
	lookStill             = media.VideoTimescale / 5
	// changedBy is by how much the grid must differ, summed up, to count as another picture: coding noise is less.
	changedBy = gridRows * gridColumns / 2
	// blackBelow is what no more than a fiftieth of a black picture's samples reach.
	blackBelow = 32
)

// see looks at a picture in its turn.
func (s *still) see(f *picture.Frame) {
	if s.set && f.PTS < s.newest+lookStill && f.PTS >= s.newest || f.Depth > 8 || f.Height < gridRows || f.Width < gridColumns {
		return
	}
	luma := unsafe.Slice((*byte)(f.Plane[0]), f.StrideY*(f.Height-1)+f.Width)
	differs, lit := 0, 0
	for row := range gridRows {
		line := luma[f.StrideY*(f.Height*(2*row+1)/(2*gridRows)):]
		for column := range gridColumns {
			v := line[f.Width*(2*column+1)/(2*gridColumns)]
			cell := &s.grid[row*gridColumns+column]
			differs += max(int(v)-int(*cell), int(*cell)-int(v))
			*cell = v
			if v >= blackBelow {
				lit++
			}
		}
	}
	if !s.set || differs >= changedBy || f.PTS < s.newest {
		s.changed = f.PTS
	}
	if !s.set || lit > len(s.grid)/50 || f.PTS < s.newest {
		s.bright = f.PTS
	}
	s.set, s.newest = true, f.PTS
	const milli = media.VideoTimescale / 1000
	s.frozen.Store((f.PTS - s.changed) / milli)
	s.black.Store((f.PTS - s.bright) / milli)
}
