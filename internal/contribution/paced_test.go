package contribution

import (
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"

	"metaplasis/internal/core/media"
)

// noted is a feed that notes when units come.
type noted struct {
	mu    sync.Mutex
	begun time.Time
	list  []notedUnit
}

type notedUnit struct {
	id media.TrackID
	at time.Duration
}

func (n *noted) note(id media.TrackID) {
	n.mu.Lock()
	defer n.mu.Unlock()
	n.list = append(n.list, notedUnit{id, time.Since(n.begun).Round(time.Millisecond)})
}

func (n *noted) Track(t media.Track)                                 { n.note(100 + t.ID) }
func (n *noted) Unit(id media.TrackID, _, _ int64, _ bool, _ []byte) { n.note(id) }
func (n *noted) FrameRate(int64)                                     {}
func (n *noted) Anchor(media.TrackID, int64, time.Time)              {}
func (n *noted) Line(Line)                                           {}
func (n *noted) Extras(map[string]string)                            {}
func (n *noted) Caption(Caption)                                     {}
func (n *noted) Splice(media.Clock, int64, []byte)                   {}
func (n *noted) Grid() time.Duration                                 { return 0 }
func (n *noted) Pace() time.Duration                                 { return 0 }
func (n *noted) End(string)                                          {}
func (n *noted) Kicked() <-chan string                               { return nil }

// TestSegmentsArePaced gives two tracks a second of media at once, then another line behind it.
func TestSegmentsArePaced(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		feed := &noted{begun: time.Now()}
		p := NewPaced(feed)
		p.Expect(2)
		ticks := media.Clock{Scale: 90000, Turn: 1 << 33}
		second := func(line int, from int64) {
			for _, id := range []media.TrackID{1, 2} {
				p.GoOn(id, line)
				p.Track(media.Track{ID: id, Clock: ticks})
				for n := range int64(4) {
					p.Unit(id, (from+n*22500)&(1<<33-1), 0, true, make([]byte, 10))
				}
			}
		}
		second(0, 1<<33-30000)
		second(1, 700)
		time.Sleep(5 * time.Second)
		synctest.Wait()
		feed.mu.Lock()
		defer feed.mu.Unlock()
		want := []time.Duration{500, 750, 1000, 1250, 1250, 1500, 1750, 2000}
		var got [3][]time.Duration
		for _, u := range feed.list {
			if u.id < 100 {
				got[u.id] = append(got[u.id], u.at/time.Millisecond)
			}
		}
		assert.Equal(t, want, got[1], "a unit when it is due, half a second behind")
		assert.Equal(t, want, got[2])
		assert.Equal(t, []notedUnit{{101, 500 * time.Millisecond}, {1, 500 * time.Millisecond}}, feed.list[:2], "a track is announced with its first unit")
		p.End("test")
	})
}

// A track that is behind the others when they begin another line keeps its order: the line waits for what lies before it.
func TestALineBeginsBehindAllOfTheOneBefore(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		feed := &noted{begun: time.Now()}
		p := NewPaced(feed)
		p.Expect(2)
		const picture, sound = 2, 1
		for _, id := range []media.TrackID{picture, sound} {
			p.GoOn(id, 0)
			p.Track(media.Track{ID: id, Clock: media.Clock{Scale: 90_000}})
		}
		put := func(id media.TrackID, seconds ...int64) {
			for _, n := range seconds {
				p.Unit(id, n*90_000, 0, true, []byte{byte(n)})
			}
		}
		put(picture, 0, 1)
		put(sound, 0, 1, 2, 3)
		p.GoOn(sound, 1)
		put(sound, 100, 101)
		put(picture, 2, 3, 4, 5) // late, and longer
		p.GoOn(picture, 1)
		put(picture, 100, 101)
		time.Sleep(20 * time.Second)
		synctest.Wait()
		feed.mu.Lock()
		defer feed.mu.Unlock()
		var at [3][]time.Duration
		for _, u := range feed.list {
			if u.id < 100 {
				at[u.id] = append(at[u.id], u.at/time.Millisecond)
			}
		}
		assert.Equal(t, []time.Duration{500, 1500, 2500, 3500, 4500, 5500, 5500, 6500}, at[picture])
		assert.Equal(t, []time.Duration{500, 1500, 2500, 3500, 5500, 6500}, at[sound], "beside the pictures")
		p.End("test")
	})
}

// TestPacingAfterManyDays gives units whose times lie about those at which their nanoseconds leave 63 bits.
func TestPacingAfterManyDays(t *testing.T) {
	for _, from := range []int64{0, (1<<63 - 1) / 1_000_000_000, 30 * 3600 * 90_000, 20_000 * 24 * 3600 * 90_000} {
		synctest.Test(t, func(t *testing.T) {
			feed := &noted{begun: time.Now()}
			p := NewPaced(feed)
			p.Expect(1)
			p.GoOn(1, 0)
			p.Track(media.Track{ID: 1, Clock: media.Clock{Scale: 90_000}})
			for n := range int64(5) {
				p.Unit(1, from+(n-2)*45_000, 0, true, []byte{1})
			}
			time.Sleep(5 * time.Second)
			synctest.Wait()
			feed.mu.Lock()
			defer feed.mu.Unlock()
			var at []time.Duration
			for _, u := range feed.list {
				if u.id == 1 {
					at = append(at, u.at/time.Millisecond)
				}
			}
			assert.Equal(t, []time.Duration{500, 1000, 1500, 2000, 2500}, at, "%d", from)
			p.End("test")
		})
	}
}

func TestSoundWaitsForPictures(t *testing.T) {
	begun := time.Now()
	o := Opening{Pictures: true, Begun: begun}
	assert.True(t, o.Holds(media.Audio, begun.Add(time.Second)))
	assert.False(t, o.Holds(media.Audio, begun.Add(13*time.Second)), "not forever")
	assert.False(t, o.Holds(media.Video, begun))
	assert.False(t, o.Holds(media.Audio, begun.Add(time.Second)))
	none := Opening{}
	assert.False(t, none.Holds(media.Audio, begun))
}

// A track that lies ahead is not fetched on; one that lies behind is, since who waits are the others.
func TestTheTrackThatIsBehindIsFetched(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		p := NewPaced(&noted{begun: time.Now()})
		defer p.End("test")
		p.Expect(2)
		for id, seconds := range map[media.TrackID]int64{1: 20, 2: 1} {
			p.GoOn(id, 0)
			p.Track(media.Track{ID: id, Clock: media.Clock{Scale: 90_000}})
			p.Unit(id, 0, 0, true, nil)
			for n := range seconds {
				p.Unit(id, (n+1)*90_000, 0, true, nil)
			}
		}
		assert.Positive(t, p.Pace())
		assert.Positive(t, p.PaceOf(map[media.TrackID]bool{1: true}))
		assert.Zero(t, p.PaceOf(map[media.TrackID]bool{2: true}))
	})
}

// Stamps that jump by hours without a word begin a line of their own behind what waits, for all tracks the same one; a track
// that was silent for long comes back where it belongs.
func TestJumpsAreNotWaitedFor(t *testing.T) {
	for _, jump := range []int64{5 * 3600 * 90_000, -5 * 3600 * 90_000} {
		synctest.Test(t, func(t *testing.T) {
			feed := &noted{begun: time.Now()}
			p := NewPaced(feed)
			p.Expect(2)
			const base = 6 * 3600 * 90_000
			for id := range media.TrackID(2) {
				p.GoOn(id, 0)
				p.Track(media.Track{ID: id, Clock: media.Clock{Scale: 90_000}})
			}
			for n := range int64(8) {
				at := base + n*45_000
				if n >= 4 {
					at += jump
				}
				for id := range media.TrackID(2) {
					p.Unit(id, at, 0, true, []byte{1})
				}
			}
			time.Sleep(10 * time.Second)
			synctest.Wait()
			feed.mu.Lock()
			defer feed.mu.Unlock()
			var got [2][]time.Duration
			for _, u := range feed.list {
				if u.id < 2 {
					got[u.id] = append(got[u.id], u.at/time.Millisecond)
				}
			}
			want := []time.Duration{500, 1000, 1500, 2000, 2000, 2500, 3000, 3500}
			assert.Equal(t, want, got[0])
			assert.Equal(t, want, got[1])
			p.End("test")
		})
	}
}
