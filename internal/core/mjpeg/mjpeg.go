// Package mjpeg reads of JPEG pictures (ISO/IEC 10918-1, annex B) what a stream of them needs: their size.
package mjpeg

import (
	"fmt"

	"metaplasis/internal/core/media"
)

// sizeOf reads the frame header (B.2.2) of a picture: marker(16) length(16) precision(8) lines(16) samples(16) …
func sizeOf(b []byte) (width, height int, err error) {
	wrong := func(found, want string) (int, int, error) {
		return 0, 0, &media.FormatError{Format: "JPEG picture", Found: found, Want: want}
	}
	if len(b) < 4 || b[0] != 0xff || b[1] != 0xd8 {
		return wrong(fmt.Sprintf("% x", b[:min(len(b), 2)]), "ff d8")
	}
	for at := 2; at+9 <= len(b); {
		if b[at] != 0xff {
			return wrong(fmt.Sprintf("%02x", b[at]), "a marker")
		}
		kind := b[at+1]
		switch {
		case kind == 0xff: // fill
			at++
			continue
		case kind >= 0xc0 && kind <= 0xc2: // baseline, extended, progressive
			height, width = int(b[at+5])<<8|int(b[at+6]), int(b[at+7])<<8|int(b[at+8])
			if width == 0 || height == 0 {
				return wrong(fmt.Sprintf("a picture of %dx%d", width, height), "one with samples")
			}
			return width, height, nil
		case kind == 0xda:
			return wrong("a scan", "a frame header before it")
		}
		at += 2 + int(b[at+2])<<8 + int(b[at+3])
	}
	return wrong("no frame header", "one")
}

// Track is a track of such pictures. How large they are, the first one tells.
func Track([]byte) (media.Track, error) {
	return media.Track{Kind: media.Video, Codec: media.JPEG, Timescale: media.VideoTimescale, SAR: media.Rational{Num: 1, Den: 1}, CodecName: "jpeg"}, nil
}

// Complete adds to a track what a picture tells.
func Complete(t *media.Track, picture []byte) error {
	w, h, err := sizeOf(picture)
	if err == nil {
		t.Width, t.Height = w, h
	}
	return err
}
