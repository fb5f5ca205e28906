package origin

import (
	"crypto/sha256"
	"encoding/hex"
	"sync/atomic"
	"time"

	"metaplasis/internal/core/bmff"
	"metaplasis/internal/core/hls"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/segment"
)

// Rendition is one coded stream of a channel, as delivery sees it.
type Rendition struct {
	Name   string
	window *segment.Window
	view   atomic.Pointer[View]
	target int64  // seconds, never falls
	until  uint64 // the first segment that is not made any more; 0: none

	standIn *Rendition // goes on in its place since the rung was turned off
}

// View is an immutable picture of a rendition: what a viewer can fetch now.
type View struct {
	Playlist []byte
	ETag     string
	Snapshot *segment.Snapshot
	Retired  bool // the rung was turned off: another rendition stands in for it
	Peak     int64
	Average  int64
	Changed  time.Time
}

// View returns the current view, nil before the first segment.
func (r *Rendition) View() *View { return r.view.Load() }

// newHeader makes the header of a track. Its name is a digest of its bytes.
func newHeader(t media.Track) *segment.Header {
	b := bmff.Header(&t)
	return &segment.Header{Name: "header-" + digest(b) + ".mp4", Bytes: b, Track: t}
}

func digest(b []byte) string {
	sum := sha256.Sum256(b)
	return hex.EncodeToString(sum[:6])
}

// publish adds a finished segment and renders the playlist once, for all who will ask.
func (r *Rendition) publish(s *segment.Segment, step int64, epoch time.Time) bool {
	if !r.window.Publish(s, step) {
		return false
	}
	snap := r.window.Snapshot()
	r.target = max(r.target, hls.TargetDuration(step, snap.Advertised))
	m := hls.Media{Segments: snap.Advertised, Discontinuity: snap.Discontinuity, TargetDuration: r.target, Epoch: epoch}
	v := &View{Playlist: m.Marshal(), Snapshot: snap, Changed: time.Now()}
	v.ETag = `"` + digest(v.Playlist) + `"`
	v.Peak, v.Average = r.window.Rates()
	r.view.Store(v)
	return true
}

// retire lets another rendition of the same kind stand in, so that viewers of this one go on
// without noticing more than a segment boundary. A nil leaves the playlist as it ended.
func (r *Rendition) retire(standIn *Rendition) {
	r.standIn = standIn
	if v := r.view.Load(); v != nil {
		gone := *v
		gone.Retired = true
		r.view.Store(&gone)
	}
}

// follow renders the playlist of a retired rendition from its own last segments and those of its
// stand-in. discontinuities tells how many lie before a segment.
func (r *Rendition) follow(epoch time.Time, discontinuities func(msn uint64) uint64) {
	v, other := r.view.Load(), r.standIn.view.Load()
	if v == nil || other == nil {
		return
	}
	all := other.Snapshot.Advertised
	first := all[0].MSN
	var own, shown []*segment.Segment
	for _, s := range v.Snapshot.All {
		if s.MSN < r.until && s.MSN+uint64(len(all)) >= first {
			own = append(own, s) // still in memory for those who have its address
			if s.MSN >= first {
				shown = append(shown, s)
			}
		}
	}
	for _, s := range all {
		if s.MSN >= r.until {
			shown = append(shown, s)
		}
	}
	if len(shown) == 0 {
		return
	}
	r.target = max(r.target, hls.TargetDuration(0, shown), r.standIn.target)
	m := hls.Media{
		Segments: shown, Discontinuity: discontinuities(shown[0].MSN), TargetDuration: r.target, Epoch: epoch,
		StandIn: r.standIn.Name, StandInFrom: r.until,
	}
	next := &View{Playlist: m.Marshal(), Snapshot: &segment.Snapshot{All: own, Advertised: own}, Retired: true, Changed: time.Now()}
	next.ETag = `"` + digest(next.Playlist) + `"`
	r.view.Store(next)
}
