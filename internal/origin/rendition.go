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
	target int64 // seconds, never falls
	from   uint64
	until  uint64 // the first segment that is not made any more; 0: none
}

// View is an immutable picture of a rendition: what a viewer can fetch now.
type View struct {
	Playlist []byte
	ETag     string
	Snapshot *segment.Snapshot
	Retired  bool // the rung was turned off: its playlist is gone, its segments linger
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

// retire takes the playlist away and leaves the segments.
func (r *Rendition) retire() {
	if v := r.view.Load(); v != nil {
		gone := *v
		gone.Retired = true
		r.view.Store(&gone)
	}
}
