package fan

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/internal/core/media"
)

// two are a source and a rung of it that is encoded more slowly, at 30 pictures per second with a keyframe every two.
type two struct {
	pool           *Pool
	source, coded  *Stream
	packers        map[*Stream]*Packer
	sourceN, codeN int
}

func newTwo() *two {
	x := &two{pool: &Pool{streams: map[Name]*Stream{}}, packers: map[*Stream]*Packer{}}
	make := func(rung string) *Stream {
		s := &Stream{Name: Name{Channel: "pier", Kind: media.Video, Rung: rung}, stop: func() {}}
		x.pool.streams[s.Name] = s
		x.packers[s] = &Packer{Clock: media.VideoTimescale}
		s.viewers = 1 // it stays
		return s
	}
	x.source, x.coded = make("source"), make("360p")
	return x
}

func (x *two) put(s *Stream, picture int) {
	s.push(&Unit{Time: int64(picture) * 3000, Key: picture%60 == 0, Pieces: [][]byte{{1}}, Packer: x.packers[s]}, int64(picture)*3000)
}

// on lets so many pictures of the source pass, and the encoded ones of before.
func (x *two) on(n, lag int) {
	for range n {
		x.put(x.source, x.sourceN)
		x.sourceN++
		for x.codeN < x.sourceN-lag {
			x.put(x.coded, x.codeN)
			x.codeN++
		}
	}
}

// TestNothingComesTwiceWhenStreamsChange: from a faster stream to a slower one and back, each picture comes once, in order,
// and the change lies at a keyframe.
func TestNothingComesTwiceWhenStreamsChange(t *testing.T) {
	x := newTwo()
	x.on(70, 12)
	r := x.pool.NewReader(x.source.Name)
	defer r.Close()
	var got []int
	var from []string
	var into [16]Unit
	take := func() {
		for {
			n, _ := r.Read(into[:])
			if n == 0 {
				return
			}
			for _, u := range into[:n] {
				got, from = append(got, int(u.Time/3000)), append(from, r.Stream().Rung)
			}
		}
	}
	take()
	require.Equal(t, 60, got[0], "it begins at the newest keyframe")
	r.Change(x.coded.Name)
	for range 140 {
		x.on(1, 12)
		take()
	}
	assert.Equal(t, "360p", r.Stream().Rung)
	r.Change(x.source.Name)
	for range 140 {
		x.on(1, 12)
		take()
	}
	assert.Equal(t, "source", r.Stream().Rung)
	for i := 1; i < len(got); i++ {
		require.Equal(t, got[i-1]+1, got[i], "picture behind %d", got[i-1])
		if from[i] != from[i-1] {
			assert.Zero(t, got[i]%60, "the change is at a keyframe")
		}
	}
	assert.Zero(t, r.Lost)
}

// TestAStreamThatStopsIsLeftForAnother: at a keyframe behind what was read, or at any when none comes for long; a reader that
// was away itself reads on.
func TestAStreamThatStopsIsLeftForAnother(t *testing.T) {
	x := newTwo()
	x.on(70, 0)
	r := x.pool.NewReader(x.source.Name)
	defer r.Close()
	var into [16]Unit
	take := func() (times []int) {
		for {
			n, _ := r.Read(into[:])
			if n == 0 {
				return times
			}
			for _, u := range into[:n] {
				times = append(times, int(u.Time/3000))
			}
		}
	}
	take()
	r.Change(x.coded.Name)
	x.on(3, 0)
	r.moved = r.moved.Add(-2 * quiet)
	assert.Equal(t, []int{70, 71, 72}, take(), "it was the reader that was away")
	r.moved = r.moved.Add(-2 * quiet)
	assert.Empty(t, take(), "the other's keyframe is one of before")
	for ; x.codeN < 125; x.codeN++ { // the source stands
		x.put(x.coded, x.codeN)
	}
	assert.Equal(t, []int{120, 121, 122, 123, 124}, take())
	assert.Equal(t, x.coded, r.Stream())

	r.Change(x.source.Name) // which stands still at what was before
	r.moved = r.moved.Add(-2 * veryQuiet)
	assert.Equal(t, 60, take()[0], "another sender's times")
}

// TestWhoTakesSeveralUnits is woken now and then, and when nothing will follow.
func TestWhoTakesSeveralUnits(t *testing.T) {
	x := newTwo()
	x.on(1, 0)
	r := x.pool.NewReader(x.source.Name)
	defer r.Close()
	var into [16]Unit
	woken := func(c <-chan struct{}) bool {
		select {
		case <-c:
			return true
		default:
			return false
		}
	}
	first, _ := r.Later()
	assert.True(t, woken(first), "what there is at the begin is read at once")
	r.Read(into[:])
	later, over := r.Later()
	assert.False(t, over)
	at := 0
	for ; !woken(later); at++ {
		require.LessOrEqual(t, at, several)
		x.on(1, 0)
	}
	assert.Positive(t, at)
	x.on(several, 0)
	again, _ := r.Later()
	assert.True(t, woken(again), "several are there")
	r.Read(into[:])
	again, _ = r.Later()
	x.source.end()
	assert.True(t, woken(again))
	_, over = r.Later()
	assert.True(t, over)
}

// TestWhoIsFarBehindGoesOnAtAKeyframe, and what is held is bounded.
func TestWhoIsFarBehindGoesOnAtAKeyframe(t *testing.T) {
	x := newTwo()
	x.on(10, 0)
	r := x.pool.NewReader(x.source.Name)
	defer r.Close()
	var into [4]Unit
	n, catchUp := r.Read(into[:])
	require.Equal(t, 4, n)
	assert.EqualValues(t, 10, catchUp)
	x.on(3*maxStreamUnits, 0)
	assert.LessOrEqual(t, len(x.source.units), maxStreamUnits)
	n, _ = r.Read(into[:])
	require.Positive(t, n)
	assert.True(t, into[0].Key)
	assert.EqualValues(t, 1, r.Lost)
	before := r.Behind()
	x.on(120, 0)
	assert.Equal(t, before+120*3000, r.Behind())
	r.Skip()
	n, _ = r.Read(into[:])
	require.Positive(t, n)
	assert.True(t, into[0].Key)
	assert.Less(t, r.Behind(), int64(60*3000))
}
