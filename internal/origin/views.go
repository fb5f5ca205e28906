package origin

import (
	"context"
	"fmt"
	"time"

	"metaplasis/internal/core/hls"
	"metaplasis/internal/core/segment"
	"metaplasis/internal/origin/publish"
	"metaplasis/internal/present"
)

// Mark sets a marker; without a time it stands at now. It returns the marker as it was stored.
func (c *Channel) Mark(m publish.Marker) (publish.Marker, error) {
	m, err := c.notes.Mark(m, c.now())
	if err != nil {
		return m, err
	}
	c.o.Keeper.Marked(c.slug, m)
	c.mu.Lock()
	defer c.mu.Unlock()
	c.out.Describe() // the manifest lists markers too
	return m, nil
}

// SetPlaying changes what the channel says is playing, from the next segment on. An empty title
// says nothing any more.
func (c *Channel) SetPlaying(p publish.NowPlaying) error { return c.notes.SetPlaying(p) }

// Playing returns what the channel says is playing.
func (c *Channel) Playing() publish.NowPlaying { return c.notes.Playing() }

// RecallMarkers gives a channel the markers that it had before the service was started, the oldest first.
func (c *Channel) RecallMarkers(list []publish.Marker) {
	c.notes.Recall(list)
	c.mu.Lock()
	defer c.mu.Unlock()
	c.out.Describe()
}

// Markers returns the markers that are remembered, oldest first.
func (c *Channel) Markers() []publish.Marker { return c.notes.Markers() }

// Ranges returns the markers within a stretch of time as playlists show them; without an end, all that follow.
func (c *Channel) Ranges(from, to time.Time) []hls.DateRange { return c.notes.Ranges(from, to) }

// Noted returns all markers as manifests show them.
func (c *Channel) Noted() []present.Marker { return c.notes.Noted() }

// Document returns a playlist or manifest of the channel by its file name, nil while there is
// nothing to play, and whether the channel has one of that name.
func (c *Channel) Document(file string) (d *present.Doc, known bool) { return c.out.Document(file) }

// Transport reports whether the channel offers transport streams and packed audio.
func (c *Channel) Transport() bool { return c.out.Transport() }

// Timeline returns the window of every rendition that is on, as it is now.
func (c *Channel) Timeline() []publish.TimelineRow { return c.out.Timeline(c.Epoch()) }

// Wrap returns a whole segment in another container: "ts", "aac", "key.m4s" or "vtt".
func (c *Channel) Wrap(ctx context.Context, r *publish.Rendition, s *segment.Segment, kind string) ([]byte, error) {
	return c.out.Wrap(ctx, r, s, kind)
}

// StartsIn says, in words for people, when a channel that has nothing to play yet is likely to begin.
func (c *Channel) StartsIn() string {
	c.mu.Lock()
	defer c.mu.Unlock()
	switch s := c.session; {
	case c.settings.Closed:
		return "The channel is closed."
	case c.air.On() == nil:
		return "Nobody is sending to this channel. It starts a second or two after its sender."
	case s == nil:
		return "A sender is connected; its tracks are being detected. The channel starts in about two seconds."
	case !s.Begun():
		return fmt.Sprintf("A sender is connected; the channel starts about a second after the sender's next keyframe, expected within %d ms.", s.Keyframes().GapMillis)
	}
	return "The first parts are being made. The channel starts in about a second."
}
