package origin_test

import (
	"os/exec"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/internal/contribution"
	"metaplasis/internal/core/flv"
	"metaplasis/internal/core/ladder"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/segment"
	"metaplasis/internal/origin"
	"metaplasis/internal/origin/publish"
	"metaplasis/internal/settings"
)

// sizes is a sender of one picture in three sizes, each by a clock of its own, on a clock that the test sets.
type sizes struct {
	t      *testing.T
	keep   *memory
	c      *origin.Channel
	f      *origin.Feed
	units  []flv.VideoBody
	stamps []uint32
	now    handClock
	n      int
	tracks []media.Track
	lazy   map[int]int // a size whose keyframes come so many pictures late
}

func newSizes(t *testing.T, l ladder.Ladder) *sizes {
	s := &sizes{t: t, keep: &memory{}, now: handClock{now: time.Now()}, lazy: map[int]int{}}
	o := origin.New(origin.Options{Keeper: s.keep, Gate: s.keep, Worker: func() *exec.Cmd { return exec.Command("false") }, Now: s.now.Now})
	t.Cleanup(o.Close)
	var err error
	s.c, err = o.Add(settings.Settings{Slug: "sizes", Ladder: l}, s.now.Now(), publish.Position{})
	require.NoError(t, err)
	var track media.Track
	track, s.units, s.stamps = h264(t, 0)
	for i := range 3 {
		size := track
		size.ID, size.Width, size.Height, size.SAR = media.TrackID(i+1), 1280>>i, 720>>i, media.Rational{}
		size.Clock = media.Clock{Scale: media.VideoTimescale, Turn: 1 << 32}
		s.tracks = append(s.tracks, size)
	}
	s.f, err = o.Open(contribution.Sender{Channel: "sizes", Key: "right", Protocol: "TEST", Remote: "here"})
	require.NoError(t, err)
	return s
}

// announce tells of sizes, and of their clocks, which are not told exactly.
func (s *sizes) announce(list ...int) {
	for _, i := range list {
		s.f.Track(s.tracks[i])
		s.f.Anchor(s.tracks[i].ID, s.stamp(i, 0), time.Unix(1_700_000_000, int64(i)*700_000))
	}
}

func (s *sizes) stamp(size int, millis int64) int64 {
	return (4_294_000_000 + 77_777_777*int64(size) + millis*90) & (1<<32 - 1)
}

// send sends so many pictures in some sizes, the smallest first.
func (s *sizes) send(pictures int, list ...int) {
	const loop = 8000
	for range pictures {
		i := s.n % len(s.units)
		u, at := s.units[i], int64(s.stamps[i])+int64(s.n/len(s.units))*loop
		for _, size := range []int{2, 1, 0} {
			if !slices.Contains(list, size) {
				continue
			}
			u := u
			if late := s.lazy[size]; late > 0 {
				u = s.units[(i+len(s.units)-late)%len(s.units)]
			}
			filler := make([]byte, 4+60*(3-size)) // the larger, the more bytes
			filler[3], filler[4] = byte(len(filler)-4), 12
			s.f.Unit(s.tracks[size].ID, s.stamp(size, at), int64(u.Composition)*90, u.Key, slices.Concat(u.Data, filler))
		}
		s.n++
		s.now.pass(time.Second / 30)
	}
}

func (s *sizes) whole(name string) (out []*segment.Segment) {
	if r := s.c.Rendition(name); r != nil && r.View() != nil {
		for _, seg := range r.View().Snapshot.All() {
			if !seg.Open {
				out = append(out, seg)
			}
		}
	}
	return out
}

// TestSmallerPicturesOfTheSenderAreRungs: nothing is encoded where the sender makes the picture itself, and what it makes
// is cut where the main one is.
func TestSmallerPicturesOfTheSenderAreRungs(t *testing.T) {
	s := newSizes(t, ladder.Ladder{Planned: true})
	s.announce(2, 0, 1)
	s.send(400, 0, 1, 2)
	source := s.whole("source")
	require.GreaterOrEqual(t, len(source), 4)
	names := []string{}
	for _, r := range s.c.Status().Rungs {
		names = append(names, r.Name)
	}
	assert.Equal(t, []string{"source", "360p", "180p"}, names)
	for i, name := range names[1:] {
		own := s.whole(name)
		require.Len(t, own, len(source), name)
		for n, seg := range own {
			assert.Equal(t, []int64{source[n].Start, source[n].Duration, int64(source[n].Units), int64(source[n].MSN)},
				[]int64{seg.Start, seg.Duration, int64(seg.Units), int64(seg.MSN)}, "%s, segment %d", name, n)
			assert.Less(t, seg.Size, source[n].Size)
		}
		assert.Equal(t, 360>>i, own[0].Header.Track.Height)
	}
	assert.False(t, s.keep.has("track-ignored"))
	assert.Len(t, s.c.Status().Feed.Tracks, 3)
}

// TestSizesThatComeLater: the smallest comes first, as of browsers that find out what their line carries. The largest
// leads once it is steady, and the next one when it does not come any more.
func TestSizesThatComeLater(t *testing.T) {
	s := newSizes(t, ladder.Ladder{Planned: true})
	s.announce(2)
	s.send(60, 2)
	leads := func() int { return s.c.Status().Feed.Tracks[0].Height }
	assert.Equal(t, 180, leads())
	s.announce(1, 0)
	s.send(90, 0, 1, 2)
	assert.Equal(t, 180, leads(), "not before it is steady")
	s.send(120, 0, 1, 2)
	assert.Equal(t, 720, leads())
	s.send(60, 0, 1, 2)
	assert.NotEmpty(t, s.whole("360p"))
	s.send(60, 1, 2)
	assert.Equal(t, 360, leads())
	assert.Positive(t, s.f.Grid())
	s.send(60, 1, 2)
	assert.Equal(t, 180, s.whole("180p")[len(s.whole("180p"))-1].Header.Track.Height)
	assert.Equal(t, 360, s.whole("source")[len(s.whole("source"))-1].Header.Track.Height)
}

// TestSizesThatAreNotFit: what does not begin with keyframes where the main picture does, or does not come any more, is
// encoded here.
func TestSizesThatAreNotFit(t *testing.T) {
	rungs := []ladder.Rung{{Name: "source", On: true, Source: true},
		{Name: "small", On: true, Ready: true, Width: 640, Height: 360, Bitrate: 600_000},
		{Name: "smaller", On: true, Ready: true, Width: 320, Height: 180, Bitrate: 300_000},
		{Name: "other", On: true, Ready: true, Width: 480, Height: 270, Bitrate: 300_000}}
	for what, spoil := range map[string]func(*sizes){
		"keyframes elsewhere": func(s *sizes) { s.lazy[1] = 20 },
		"nothing comes":       func(s *sizes) { s.send(150, 0, 2) },
	} {
		t.Run(what, func(t *testing.T) {
			s := newSizes(t, ladder.Ladder{Rungs: rungs})
			s.announce(0, 1, 2)
			s.send(240, 0, 1, 2)
			require.NotEmpty(t, s.whole("small"))
			assert.Empty(t, s.whole("other"), "no size of the sender's is that of this rung")
			spoil(s)
			s.send(300, 0, 1, 2)
			assert.True(t, s.keep.has("layer-unfit"))
			n := len(s.whole("smaller"))
			assert.Equal(t, len(s.whole("source")), n)
			assert.Less(t, len(s.whole("small")), n, "it waits for the worker, which this test does not have")
		})
	}
}
