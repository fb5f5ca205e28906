package publish

import (
	"errors"
	"fmt"
	"net/http"

	"metaplasis/internal/core/bmff"
	"metaplasis/internal/core/id3"
	"metaplasis/internal/core/ladder"
)

// NowPlaying is what a channel says of its programme, as timed metadata in the media itself.
type NowPlaying struct {
	Title   string `json:"title"`
	Artist  string `json:"artist,omitempty"`
	Picture []byte `json:"picture,omitempty"` // cover: JPEG or PNG
}

// MaxCover bounds a cover picture: it travels in every Nth segment of every rendition.
//
//limit:bytes of a cover picture | each channel | 422
const MaxCover = 512 << 10

// ErrBadPlaying says that the metadata cannot be set.
var ErrBadPlaying = errors.New("what is playing was not set")

// SetPlaying changes what a channel says is playing, from the next segment on. An empty title
// says nothing any more.
func (a *Annotations) SetPlaying(p NowPlaying) error {
	kind := ""
	if len(p.Picture) > 0 {
		kind = http.DetectContentType(p.Picture)
	}
	switch {
	case ladder.CheckText("title", p.Title, 300) != nil:
		return fmt.Errorf("%w: %v", ErrBadPlaying, ladder.CheckText("title", p.Title, 300))
	case ladder.CheckText("artist", p.Artist, 300) != nil:
		return fmt.Errorf("%w: %v", ErrBadPlaying, ladder.CheckText("artist", p.Artist, 300))
	case len(p.Picture) > MaxCover:
		return fmt.Errorf("%w: found a cover of %d bytes, expected %d at most", ErrBadPlaying, len(p.Picture), MaxCover)
	case kind != "" && kind != "image/jpeg" && kind != "image/png":
		return fmt.Errorf("%w: found a cover of type %s, expected JPEG or PNG", ErrBadPlaying, kind)
	case p.Title == "" && (p.Artist != "" || p.Picture != nil):
		return fmt.Errorf("%w: found no title, expected one", ErrBadPlaying)
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	a.playing, a.cover = p, kind
	a.titled = a.titled || p.Title != ""
	return nil
}

// Playing returns what the channel says is playing.
func (a *Annotations) Playing() NowPlaying {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.playing
}

// everTitled reports whether something was ever said to be playing.
func (a *Annotations) everTitled() bool {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.titled
}

// SetCover says into which segments the cover goes: every Nth.
func (a *Annotations) SetCover(every int) {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.coverEvery = every
}

// Messages makes the events at the begin of a segment.
func (a *Annotations) Messages(msn uint64) []bmff.Message {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.playing.Title == "" {
		return nil
	}
	t := id3.Tag{Title: a.playing.Title, Artist: a.playing.Artist, Timestamp: -1}
	if msn%uint64(max(a.coverEvery, 1)) == 0 {
		t.Picture, t.PictureType = a.playing.Picture, a.cover
	}
	return []bmff.Message{{Scheme: id3.Scheme, Duration: 0xffffffff, ID: uint32(msn), Data: t.Marshal()}}
}
