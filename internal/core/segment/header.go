package segment

import (
	"crypto/sha256"
	"encoding/hex"

	"metaplasis/internal/core/bmff"
	"metaplasis/internal/core/media"
)

// NewHeader makes the header of a track. Its name is a digest of its bytes.
func NewHeader(t media.Track) *Header {
	b := bmff.Header(&t)
	sum := sha256.Sum256(b)
	return &Header{Name: "header-" + hex.EncodeToString(sum[:6]) + ".mp4", Bytes: b, Track: t}
}
