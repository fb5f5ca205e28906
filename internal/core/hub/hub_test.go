package hub

import (
	"fmt"
	"math/rand/v2"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/internal/core/media"
)

const second = media.VideoTimescale

var (
	video = &media.Track{ID: 1, Kind: media.Video, Timescale: media.VideoTimescale}
	sound = &media.Track{ID: 2, Kind: media.Audio, Timescale: 48000}
)

// feed puts units in, of 25 pictures and 50 frames of sound a second, a keyframe each second. The clock
// is the number of pictures.
type feed struct {
	h     *Hub
	clock int64
	size  int
}

func (f *feed) picture() {
	at := f.clock * second / 25
	f.h.Push(video, &media.AccessUnit{DTS: at, PTS: at, Key: f.clock%25 == 0, Data: make([]byte, f.size)})
	for i := range int64(2) {
		f.h.Push(sound, &media.AccessUnit{DTS: f.clock*1920 + i*960, PTS: f.clock*1920 + i*960, Duration: 960, Key: true, Data: make([]byte, 100)})
	}
	f.clock++
}

func (f *feed) run(pictures int) {
	for range pictures {
		f.picture()
	}
}

// all reads what there is.
func all(r *Reader) (out []Unit, lost Loss) {
	into := make([]Unit, 7)
	for {
		n, l := r.Read(into)
		lost.Units += l.Units
		lost.Bytes += l.Bytes
		if n == 0 {
			return out, lost
		}
		out = append(out, into[:n]...)
	}
}

func newFeed(span int64) *feed { return &feed{h: New(1<<30, span), size: 1000} }

func TestReadersGetEverythingInOrder(t *testing.T) {
	f := newFeed(100 * second)
	r := f.h.NewReader(Oldest, 1, 2)
	f.run(50)
	list, lost := all(r)
	require.Len(t, list, 150)
	for i := range list {
		assert.Equal(t, uint64(i), list[i].Number)
	}
	assert.Zero(t, lost)
	assert.True(t, list[0].Key && list[0].Track == video)
	f.run(1)
	list, _ = all(r)
	assert.Len(t, list, 3)
	only, _ := all(f.h.NewReader(Oldest, 2))
	assert.Len(t, only, 102, "a reader of audio only needs no picture")
}

func TestLateReadersStartWhereADecoderCan(t *testing.T) {
	f := newFeed(100 * second)
	f.run(60) // keyframes at 0, 25, 50
	first := func(from From) int64 {
		r := f.h.NewReader(from, 1, 2)
		if from == Coming {
			assert.Equal(t, Loss{}, func() Loss { _, l := all(r); return l }())
			f.run(16) // the next one at 75
		}
		list, lost := all(r)
		require.NotEmpty(t, list)
		assert.Zero(t, lost, "what came before a reader began is not lost to it")
		assert.True(t, list[0].Key)
		return list[0].PTS * 25 / second
	}
	assert.Equal(t, []int64{0, 50, 75}, []int64{first(Oldest), first(Newest), first(Coming)})
	r := f.h.NewReader(Newest, 2)
	list, _ := all(r)
	assert.Len(t, list, 1, "every frame of sound is one")
}

func TestASlowReaderLosesAndIsTold(t *testing.T) {
	for from, want := range map[From]int64{Oldest: 225, Newest: 300} {
		f := newFeed(4 * second)
		r := f.h.NewReader(from, 1, 2)
		f.run(10)
		read, _ := all(r)
		require.Len(t, read, 30)
		f.run(310) // of 320 pictures, those from about 220 on are held
		list, lost := all(r)
		assert.Equal(t, want, list[0].PTS*25/second)
		assert.True(t, list[0].Key)
		assert.Equal(t, 3*(want-10), lost.Units, "all between what was read and what is")
		assert.Equal(t, (want-10)*(1000+UnitCost)+2*(want-10)*(100+UnitCost), lost.Bytes)
		_, lost = all(r)
		assert.Zero(t, lost, "it is told once")
	}
}

func TestAReaderThatStandsStillCostsNothing(t *testing.T) {
	f := newFeed(2 * second)
	f.h.NewReader(Oldest, 1, 2)
	f.run(1000)
	units, bytes, span := f.h.Held()
	assert.LessOrEqual(t, span, int64(2*second))
	assert.InDelta(t, 153, units, 3)
	assert.Less(t, bytes, int64(51*(1000+200+3*UnitCost)+3000))
}

func TestTheBoundsHold(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	h := New(1<<20, 5*second)
	for i := range int64(5000) {
		track, at := video, i*second/100
		if r.IntN(3) == 0 {
			track, at = sound, i*480
		}
		h.Push(track, &media.AccessUnit{DTS: at, PTS: at, Key: r.IntN(50) == 0, Data: make([]byte, r.IntN(9000))})
		_, bytes, span := h.Held()
		require.LessOrEqual(t, bytes, int64(1<<20))
		require.LessOrEqual(t, span, int64(5*second))
	}
	h.Push(video, &media.AccessUnit{DTS: 60 * second, Data: make([]byte, 2<<20)})
	units, _, _ := h.Held()
	assert.Equal(t, int64(1), units, "the newest is held, however large it is")
	h.Limit(1<<20, second)
	h.Push(video, &media.AccessUnit{DTS: 70 * second, Key: true})
	units, bytes, _ := h.Held()
	assert.Equal(t, []int64{1, UnitCost}, []int64{units, bytes})
}

func TestRunsAndTracksAreTold(t *testing.T) {
	f := newFeed(100 * second)
	f.run(1)
	f.h.Break()
	other := *video
	f.h.Push(&other, &media.AccessUnit{DTS: 9000, PTS: 9000, Key: true})
	list, _ := all(f.h.NewReader(Oldest, 1, 2))
	require.Len(t, list, 4)
	assert.Equal(t, []any{uint64(0), uint64(1), &other}, []any{list[0].Run, list[3].Run, list[3].Track})
	assert.NotSame(t, list[0].Track, list[3].Track)
}

func TestBack(t *testing.T) {
	f := newFeed(100 * second)
	f.run(100)
	r := f.h.NewReader(Oldest, 1, 2)
	first := func() int64 { list, _ := all(r); return list[0].PTS * 25 / second }
	assert.True(t, r.Back(60*second/25, 0))
	assert.Equal(t, int64(50), first())
	assert.True(t, r.Back(50*second/25, 0))
	assert.Equal(t, int64(50), first(), "a point at the time itself")
	assert.False(t, r.Back(60*second/25, 51*3), "none at or before it is left above the number")
	assert.Equal(t, int64(75), first())
	assert.False(t, r.Back(0, 100*3), "nothing has come yet")
	f.run(1)
	assert.Equal(t, int64(100), first())
	_, lost := r.Read(make([]Unit, 1))
	assert.Zero(t, lost)
	s := f.h.NewReader(Oldest, 2)
	assert.True(t, s.Back(48000, 0))
	list, _ := all(s)
	assert.Equal(t, int64(48000), list[0].PTS)
	n, _ := s.ReadBelow(make([]Unit, 9), 0)
	assert.Zero(t, n)
	assert.False(t, f.h.NewReader(Oldest, 9).Back(0, 0), "no such track")
}

func TestWaiting(t *testing.T) {
	f := newFeed(100 * second)
	r := f.h.NewReader(Oldest, 1, 2)
	arrived, over := r.Wait()
	assert.False(t, over)
	select {
	case <-arrived:
		t.Fatal("nothing has come")
	default:
	}
	f.run(1)
	<-arrived
	again, _ := r.Wait()
	<-again // it has not been read
	all(r)
	arrived, _ = r.Wait()
	f.h.Close()
	<-arrived
	_, over = r.Wait()
	assert.True(t, over)
}

// TestAThousandReaders go at paces of their own, while one stands still; none holds up who puts in, and
// each gets everything, or is told what it lost.
func TestAThousandReaders(t *testing.T) {
	f := newFeed(3 * second)
	f.h.NewReader(Oldest, 1, 2) // stands still
	const readers, pictures = 1000, 500
	var all sync.WaitGroup
	faults := make(chan string, 2*pictures*readers)
	f.run(1)
	ready := make(chan struct{}, readers)
	for i := range readers {
		r := f.h.NewReader(Oldest, 1, 2)
		all.Add(1)
		go func() {
			defer all.Done()
			into := make([]Unit, 1+i%40)
			n, _ := r.Read(into)
			got, lost, next := int64(n), int64(0), uint64(n)
			ready <- struct{}{}
			for {
				arrived, over := r.Wait()
				<-arrived
				n, l := r.Read(into)
				got, lost = got+int64(n), lost+l.Units
				for k := range into[:n] {
					if into[k].Number < next || l.Units == 0 && into[k].Number != next {
						faults <- fmt.Sprintf("reader %d: unit %d where %d was expected", i, into[k].Number, next)
					}
					next = into[k].Number + 1
				}
				if over && n == 0 {
					break
				}
				if i%100 == 99 {
					time.Sleep(time.Duration(i) * 10 * time.Microsecond) // a slow one
				}
			}
			if got+lost != 3*pictures {
				faults <- fmt.Sprintf("reader %d: %d units and %d lost of %d", i, got, lost, 3*pictures)
			}
		}()
	}
	for range readers {
		<-ready
	}
	f.run(pictures - 1)
	f.h.Close()
	all.Wait()
	close(faults)
	for text := range faults {
		t.Error(text)
	}
}

func BenchmarkPush(b *testing.B) {
	for _, readers := range []int{0, 10, 1000} {
		b.Run(fmt.Sprint("readers=", readers), func(b *testing.B) {
			f := newFeed(10 * second)
			for range readers {
				f.h.NewReader(Newest, 1, 2)
			}
			for b.Loop() {
				f.picture()
			}
		})
	}
}

// A run whose times lie far below those of the run before, as when a channel stops following the wall clock.
func TestRunsOfOtherTimes(t *testing.T) {
	f := newFeed(2 * second)
	h := f.h
	for _, begin := range []int64{1_800_000_000 * 25, 0, 40 * 365 * 86400 * 25} {
		h.Break()
		f.clock = begin
		f.run(50)
		held, _, span := h.Held()
		assert.GreaterOrEqual(t, held, int64(148), "two seconds are held of a run that begins at picture %d", begin)
		assert.LessOrEqual(t, span, int64(2*second))
	}
}
