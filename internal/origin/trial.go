package origin

import (
	"metaplasis/internal/core/hub"
	"metaplasis/internal/core/ladder"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/slate"
	"metaplasis/internal/core/transcode"
)

// Slate is how a slate of the channel is to be: as its last feed was. It reports false when there is no such image.
func (c *Channel) Slate(image string) (r slate.Request, ok bool) {
	c.mu.Lock()
	r = slate.Request{Title: c.settings.Title, Width: c.past.video.Width, Height: c.past.video.Height, FrameRate: c.past.video.FrameRate,
		SampleRate: c.past.audio.SampleRate, Channels: c.past.audio.Channels}
	c.mu.Unlock()
	if image == "" {
		return r, true
	}
	img, ok := c.o.Images.Get(image)
	r.Image = img.File
	return r, ok
}

// Recent returns the last encoded pictures of the feed on air, from a random access point on, so many bytes at most; nil
// without any.
func (c *Channel) Recent(bytes int) (t *media.Track, units []media.AccessUnit) {
	c.mu.Lock()
	if c.session == nil || c.session.Video == nil {
		c.mu.Unlock()
		return nil, nil
	}
	id := c.session.Video.ID
	c.mu.Unlock()
	r := c.hub.NewReader(hub.Oldest, id)
	batch := make([]hub.Unit, 64)
	total := 0
	for {
		n, _ := r.Read(batch)
		if n == 0 {
			return t, units
		}
		for i := range batch[:n] {
			u := &batch[i]
			if u.Track != t && t != nil && !u.Track.SamePicture(t) {
				units, total = nil, 0 // another run: only the newest counts
			}
			t = u.Track
			if total += len(u.Data); total > bytes {
				return t, units
			}
			out := u.AccessUnit
			out.Key = u.Random
			out.DTS, out.PTS = media.Rescale(u.DTS, t.Timescale, media.VideoTimescale), media.Rescale(u.PTS, t.Timescale, media.VideoTimescale)
			units = append(units, out)
		}
	}
}

// Coded is how rungs would be encoded of the feed on air, nil without any.
func (c *Channel) Coded(rungs []ladder.Rung) (out []transcode.Rung) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.session == nil || c.session.Video == nil {
		return nil
	}
	for _, r := range rungs {
		r = r.WithDefaults()
		r.Picture.Label, r.Picture.Clock, r.Picture.Logo = false, ladder.NoClock, ladder.Logo{}
		out = append(out, c.session.Encoded(&r))
	}
	return out
}
