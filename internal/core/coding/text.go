package coding

import (
	"metaplasis/internal/core/media"
)

// IsText reports whether a track is text in time.
func IsText(t *media.Track) bool {
	c := Find(t.Codec)
	return t.Kind == media.Data && c != nil && c.Entry != ""
}
