package origin

import (
	"errors"
	"fmt"
	"net/http"

	"metaplasis/internal/core/bmff"
	"metaplasis/internal/core/id3"
	"metaplasis/internal/core/ladder"
	"metaplasis/internal/present"
)

// NowPlaying is what a channel says of its programme, as timed metadata in the media itself.
type NowPlaying struct {
	Title   string `json:"title"`
	Artist  string `json:"artist,omitempty"`
	Picture []byte `json:"picture,omitempty"` // cover: JPEG or PNG
}

// maxCover bounds a cover picture: it travels in every so-many-th segment of every rendition.
const maxCover = 512 << 10

// ErrBadPlaying says that the metadata cannot be set.
var ErrBadPlaying = errors.New("what is playing was not set")

// SetPlaying changes what the channel says is playing, from the next segment on. An empty title
// says nothing any more.
func (c *Channel) SetPlaying(p NowPlaying) error {
	kind := ""
	if len(p.Picture) > 0 {
		kind = http.DetectContentType(p.Picture)
	}
	switch {
	case ladder.CheckText("title", p.Title, 300) != nil:
		return fmt.Errorf("%w: %v", ErrBadPlaying, ladder.CheckText("title", p.Title, 300))
	case ladder.CheckText("artist", p.Artist, 300) != nil:
		return fmt.Errorf("%w: %v", ErrBadPlaying, ladder.CheckText("artist", p.Artist, 300))
	case len(p.Picture) > maxCover:
		return fmt.Errorf("%w: found a cover of %d bytes, expected %d at most", ErrBadPlaying, len(p.Picture), maxCover)
	case kind != "" && kind != "image/jpeg" && kind != "image/png":
		return fmt.Errorf("%w: found a cover of type %s, expected JPEG or PNG", ErrBadPlaying, kind)
	case p.Title == "" && (p.Artist != "" || p.Picture != nil):
		return fmt.Errorf("%w: found no title, expected one", ErrBadPlaying)
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	c.playing, c.cover = p, kind
	c.titled = c.titled || p.Title != ""
	return nil
}

// Playing returns what the channel says is playing.
func (c *Channel) Playing() NowPlaying {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.playing
}

// messages makes the events at the begin of a segment.
func (c *Channel) messages(msn uint64) []bmff.Message {
	if c.playing.Title == "" {
		return nil
	}
	t := id3.Tag{Title: c.playing.Title, Artist: c.playing.Artist, Timestamp: -1}
	if msn%uint64(c.settings.CoverEvery) == 0 {
		t.Picture, t.PictureType = c.playing.Picture, c.cover
	}
	return []bmff.Message{{Scheme: present.ID3Scheme, Duration: 0xffffffff, ID: uint32(msn), Data: t.Marshal()}}
}
