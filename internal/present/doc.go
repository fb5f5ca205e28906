// Package present describes a channel to viewers: media playlists, multivariant playlists, manifests and
// their periods. All of them are pure functions of immutable views. They are made when somebody asks,
// once for all who do, and what a new part costs does not depend on how long the window is.
package present

import (
	"bytes"
	"compress/gzip"
	"crypto/sha256"
	"encoding/hex"
	"sync"
	"time"

	"metaplasis/internal/core/media"
)

// Doc is a text that is made once, for all who will ask for it.
type Doc struct {
	made sync.Once
	zip  sync.Once
	make func() []byte
	body []byte
	tag  string
	gz   []byte
}

// NewDoc makes a text lazily.
func NewDoc(make func() []byte) *Doc { return &Doc{make: make} }

// Bytes returns the text and its entity tag.
func (d *Doc) Bytes() (body []byte, etag string) {
	d.made.Do(func() {
		d.body = d.make()
		d.tag = `"` + digestOf(d.body) + `"`
	})
	return d.body, d.tag
}

// compressors are used again: a new one takes 1.2 MB, far more than a playlist.
var compressors = sync.Pool{New: func() any {
	w, _ := gzip.NewWriterLevel(nil, gzip.BestSpeed) // the level is right
	return w
}}

// Gzip returns the text compressed, and its entity tag.
func (d *Doc) Gzip() (body []byte, etag string) {
	d.zip.Do(func() {
		plain, _ := d.Bytes()
		var b bytes.Buffer
		w := compressors.Get().(*gzip.Writer)
		defer compressors.Put(w)
		w.Reset(&b)
		_, _ = w.Write(plain) // memory does not fail
		_ = w.Close()
		d.gz = b.Bytes()
	})
	return d.gz, d.tag[:len(d.tag)-1] + `-gzip"`
}

// digestOf names bytes.
func digestOf(b []byte) string {
	sum := sha256.Sum256(b)
	return hex.EncodeToString(sum[:6])
}

// Ticks converts ticks of media.VideoTimescale.
func Ticks(t int64) time.Duration {
	return media.Duration(t, media.VideoTimescale)
}
