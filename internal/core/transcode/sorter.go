package transcode

import (
	"slices"
	"sort"

	"metaplasis/internal/codec/scale"
	"metaplasis/internal/core/picture"
)

// Sorter brings decoded frames into presentation order. It holds copies, since a frame lives only until the decoder's
// next call. The zero value is ready.
type Sorter struct {
	scaler scale.Scaler
	held   []sorted
	idle   []*picture.Picture
	count  int
}

type sorted struct {
	pts int64
	pic *picture.Picture
}

// Count is how many frames came.
func (s *Sorter) Count() int { return s.count }

// Add takes a frame.
func (s *Sorter) Add(f *picture.Frame) {
	s.count++
	var pic *picture.Picture
	if n := len(s.idle); n > 0 && s.idle[n-1].Width == f.Width && s.idle[n-1].Height == f.Height {
		pic, s.idle = s.idle[n-1], s.idle[:n-1]
	} else {
		pic = picture.New(f.Width, f.Height)
	}
	if s.scaler.FromFrame(pic, f) != nil {
		return
	}
	at := sort.Search(len(s.held), func(i int) bool { return s.held[i].pts > f.PTS })
	s.held = slices.Insert(s.held, at, sorted{f.PTS, pic})
}

// Take hands out the frames that are presented before a time, in order: nothing that is decoded later comes before it.
func (s *Sorter) Take(before int64, each func(*picture.Frame)) {
	n := 0
	for n < len(s.held) && (s.held[n].pts < before || len(s.held)-n > maxHeld) {
		each(s.held[n].pic.Frame(s.held[n].pts))
		s.idle = append(s.idle, s.held[n].pic)
		n++
	}
	s.held = slices.Delete(s.held, 0, n)
}
