package publish

import (
	"context"
	"fmt"
	"time"

	"metaplasis/internal/core/coding"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/segment"
	"metaplasis/internal/core/wrap"
)

// soundWait is how long a transport segment waits for its sound, which may be made a little later
// than its video.
const soundWait = 2 * time.Second

// Wrap returns a whole segment in another container: "ts", "aac" or "key.m4s". What comes out
// depends on nothing but the segments' own bytes, so it is the same whenever it is made.
func (p *Publisher) Wrap(ctx context.Context, r *Rendition, s *segment.Segment, kind string) ([]byte, error) {
	track := &s.Header.Track
	switch {
	case kind == wrap.TextName: // made with the segment, of text alone
		return s.Made.Get(kind, func() ([]byte, error) { return nil, wrap.ErrNotOffered })
	case kind == "key.m4s" && track.Kind == media.Video:
		return s.Made.Get(kind, func() ([]byte, error) { return wrap.Keyframe(s) })
	case !coding.Transportable(track) && (kind == "aac" || kind == "ts"):
		return nil, wrap.ErrNotOffered
	case kind == "aac" && track.Kind == media.Audio && p.Transport():
		return s.Made.Get(kind, func() ([]byte, error) { return wrap.PackedAudio(s, 0) })
	case kind == "ts" && track.Kind == media.Video && p.Transport():
		sound, err := p.soundFor(ctx, r, s)
		if err != nil {
			return nil, err
		}
		return s.Made.Get(kind, func() ([]byte, error) { return wrap.TransportStream(s, sound, 0) })
	}
	return nil, wrap.ErrNotOffered
}

// soundFor returns the segment of sound that goes with one of video, nil when there is no sound.
func (p *Publisher) soundFor(ctx context.Context, r *Rendition, s *segment.Segment) (*segment.Segment, error) {
	names := p.sounds.Load()
	if names == nil || (*names)[r.Name] == "" {
		return nil, nil
	}
	rend := p.Rendition((*names)[r.Name])
	if rend == nil {
		return nil, nil
	}
	late := time.NewTimer(soundWait)
	defer late.Stop()
	for {
		if again := p.Rendition(rend.Name); again != nil {
			rend = again
		}
		v := rend.View()
		if v == nil {
			return nil, nil
		}
		other, gone := v.Snapshot.Find(s.MSN)
		switch {
		case gone || other != nil && other.Gap:
			return nil, nil
		case other != nil && !other.Open:
			return other, nil
		}
		select {
		case <-v.Next():
		case <-late.C:
			return nil, fmt.Errorf("the sound of segment %d did not come in time", s.MSN)
		case <-ctx.Done():
			return nil, ctx.Err()
		}
	}
}
