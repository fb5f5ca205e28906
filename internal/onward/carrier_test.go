package onward

import (
	"context"
	"fmt"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"

	"metaplasis/internal/core/hub"
	"metaplasis/internal/core/media"
)

// longTap is a channel that has been on air for a long time: a picture each second, each when it is due.
type longTap struct {
	track media.Track
	from  int64 // media time of the first, ticks of media.VideoTimescale
	sent  int64
	most  int64
}

func (l *longTap) Tracks() (video, sound *media.Track) { return &l.track, nil }
func (l *longTap) Close()                              {}
func (l *longTap) Next(ctx context.Context, into []hub.Unit) (int, hub.Loss, error) {
	if l.sent == l.most {
		return 0, hub.Loss{}, ErrOver
	}
	if l.sent > 0 {
		time.Sleep(time.Second)
	}
	at := l.from + l.sent*media.VideoTimescale
	l.sent++
	into[0] = hub.Unit{AccessUnit: media.AccessUnit{DTS: at, PTS: at, Key: true, Data: []byte{1}}, Track: &l.track, At: at, Random: true}
	return 1, hub.Loss{}, nil
}

// line notes what is carried.
type carried struct{ stamps []int64 }

func (c *carried) Track(media.Track) {}
func (c *carried) FrameRate(int64)   {}
func (c *carried) Unit(_ media.TrackID, stamp, _ int64, _ bool, _ []byte) {
	c.stamps = append(c.stamps, stamp)
}
func (c *carried) Cue(int64, []byte)    {}
func (c *carried) Flush() error         { return nil }
func (c *carried) Failed() <-chan error { return nil }
func (c *carried) Close() error         { return nil }

// TestChannelsOfManyDaysAreCarried has channels that began hours, days and years ago: each unit is carried, at its time.
func TestChannelsOfManyDaysAreCarried(t *testing.T) {
	for _, age := range []time.Duration{time.Hour, 28*time.Hour + 28*time.Minute + 30*time.Second, 30 * time.Hour, 11 * 24 * time.Hour, 57 * 365 * 24 * time.Hour} {
		for _, shared := range []bool{false, true} {
			t.Run(fmt.Sprint(age, shared), func(t *testing.T) {
				synctest.Test(t, func(t *testing.T) {
					tap := &longTap{track: media.Track{ID: 1, Kind: media.Video, Timescale: media.VideoTimescale}, from: media.Ticks(age, media.VideoTimescale), most: 60}
					to := &carried{}
					c := Carrier{To: to}
					var lost int64
					c.Sent = func(_ int, n int64) { lost += n }
					if shared {
						c.Begun = time.Now().Add(-age)
					}
					assert.ErrorIs(t, c.Run(t.Context(), tap, nil), ErrOver)
					assert.Zero(t, lost)
					if assert.Len(t, to.stamps, 60) {
						want := int64(HeadStart)
						if shared {
							want += media.Ticks(age, media.VideoTimescale)
						}
						assert.Equal(t, want, to.stamps[0])
						assert.Equal(t, want+59*media.VideoTimescale, to.stamps[59])
					}
				})
			})
		}
	}
}

// listTap gives units that it has, and ends.
type listTap struct {
	units []hub.Unit
}

func (l *listTap) Tracks() (video, sound *media.Track) { return l.units[0].Track, l.units[1].Track }
func (l *listTap) Close()                              {}
func (l *listTap) Next(context.Context, []hub.Unit) (int, hub.Loss, error) {
	return 0, hub.Loss{}, ErrOver
}

// TestNothingIsCarriedFromBeforeTheBegin: a young feed's sound may lie long before its first keyframe, where the line has no times.
func TestNothingIsCarriedFromBeforeTheBegin(t *testing.T) {
	video := &media.Track{ID: 1, Kind: media.Video, Timescale: media.VideoTimescale}
	sound := &media.Track{ID: 2, Kind: media.Audio, Timescale: media.VideoTimescale}
	unit := func(t *media.Track, at int64) hub.Unit {
		return hub.Unit{AccessUnit: media.AccessUnit{DTS: at, PTS: at, Key: true, Data: []byte{1}}, Track: t, At: at, Random: true}
	}
	const second = media.VideoTimescale
	tap := &listTap{units: []hub.Unit{unit(video, 10*second), unit(sound, 8*second), unit(sound, 9*second+second/2), unit(video, 11*second)}}
	to := &carried{}
	c := Carrier{To: to}
	assert.ErrorIs(t, c.Run(t.Context(), tap, tap.units), ErrOver)
	assert.Equal(t, []int64{HeadStart, HeadStart - second/2, HeadStart + second}, to.stamps)
}
