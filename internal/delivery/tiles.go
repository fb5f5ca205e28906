package delivery

import (
	"bytes"
	"fmt"
	"image"
	"image/jpeg"
	"io"
	"net/http"
	"strconv"
	"strings"
	"time"

	"golang.org/x/image/draw"

	"metaplasis/internal/core/media"
	"metaplasis/internal/core/segment"
	"metaplasis/internal/origin/publish"
	"metaplasis/internal/present"
)

// tile answers with many small pictures in one (DASH-IF IOP, part 3, "Thumbnail tiles"): tiles-BASE-N.jpg holds those of a stretch
// that begins N times its length behind a media time. It is there once the stretch is over, and does not change.
func (q *request) tile() {
	base, number, ok := strings.Cut(strings.TrimSuffix(strings.TrimPrefix(q.file, present.TilePrefix), ".jpg"), "-")
	from, err1 := strconv.ParseInt(base, 10, 63)
	n, err2 := strconv.ParseInt(number, 10, 31)
	if !ok || err1 != nil || err2 != nil || n < 0 || from > 1<<55 {
		q.fail(http.StatusNotFound, "There is nothing at this address.")
		return
	}
	span, err := q.s.store.Span(q.r.Context(), q.name, q.s.now().Add(-time.Minute), time.Time{})
	if err != nil {
		// A channel whose last minute is not kept: the whole tells the clock as well.
		span, err = q.s.store.Span(q.r.Context(), q.name, time.Time{}, time.Time{})
	}
	if err != nil {
		q.fail(http.StatusNotFound, "No media of that time is stored.")
		return
	}
	begin := media.WallClock(span.Epoch, from+n*present.TileTicks)
	end := begin.Add(media.Duration(present.TileTicks, media.VideoTimescale))
	if end.After(q.s.now()) {
		q.fail(http.StatusNotFound, "That time is not over.")
		return
	}
	if !q.readable(end) {
		q.fail(http.StatusNotFound, "No picture of that time is stored.")
		return
	}
	strip, err := q.s.store.Rendition(q.r.Context(), q.name, publish.Stills, begin.Add(-stillReach), end)
	if err != nil || len(strip.List) == 0 {
		q.fail(http.StatusNotFound, "No picture of that time is stored.")
		return
	}
	doc, err := q.document("", strconv.Itoa(len(strip.List)), func() []byte { return tiled(strip.List, from+n*present.TileTicks) })
	if err != nil || doc == nil {
		q.fail(http.StatusServiceUnavailable, "The pictures of that time cannot be read now.")
		return
	}
	b, etag := doc.Bytes()
	q.send("image/jpeg", "public, max-age=3600", etag, end, segment.Memory{b})
}

const tileQuality = 75

// tiled puts the pictures of a stretch into one, each where its time is; where none is, the one before stands. It returns nil when no
// picture can be read.
func tiled(list []*segment.Segment, from int64) []byte {
	out := image.NewYCbCr(image.Rect(0, 0, present.TileColumns*present.TileWidth, present.TileRows*present.TileHeight), image.YCbCrSubsampleRatio420)
	for i := range out.Cb { // black
		out.Cb[i], out.Cr[i] = 128, 128
	}
	sheet := image.NewRGBA(out.Rect)
	draw.Draw(sheet, sheet.Rect, out, image.Point{}, draw.Src)
	const each = present.TileTicks / (present.TileColumns * present.TileRows)
	any, next := false, 0
	var now image.Image
	for cell := range present.TileColumns * present.TileRows {
		till := from + int64(cell+1)*each
		for ; next < len(list) && list[next].Start < till; next++ {
			if next+1 < len(list) && list[next+1].Start < till && list[next+1].Start <= from+int64(cell)*each {
				continue // another one comes before this cell
			}
			if img, err := still(list[next]); err == nil {
				now = img
			}
		}
		if now == nil {
			continue
		}
		any = true
		x, y := cell%present.TileColumns*present.TileWidth, cell/present.TileColumns*present.TileHeight
		draw.ApproxBiLinear.Scale(sheet, fitted(now.Bounds(), image.Rect(x, y, x+present.TileWidth, y+present.TileHeight)), now, now.Bounds(), draw.Src, nil)
	}
	if !any {
		return nil
	}
	var b bytes.Buffer
	if jpeg.Encode(&b, sheet, &jpeg.Options{Quality: tileQuality}) != nil {
		return nil
	}
	return b.Bytes()
}

// fitted is where a picture lies in a cell, in its own shape.
func fitted(of, in image.Rectangle) image.Rectangle {
	w, h := in.Dx(), in.Dy()
	if of.Dx() == 0 || of.Dy() == 0 {
		return in
	}
	if of.Dx()*h > w*of.Dy() {
		h = max(of.Dy()*w/of.Dx(), 1)
	} else {
		w = max(of.Dx()*h/of.Dy(), 1)
	}
	x, y := in.Min.X+(in.Dx()-w)/2, in.Min.Y+(in.Dy()-h)/2
	return image.Rect(x, y, x+w, y+h)
}

// maxStill bounds a small picture, in bytes.
//
//limit:bytes of a small picture | each picture | it is not shown
const maxStill = 1 << 20

// still reads a small picture.
func still(s *segment.Segment) (image.Image, error) {
	if s.Gap || s.Blob == nil || s.Size > maxStill {
		return nil, fmt.Errorf("segment %d holds no picture", s.MSN)
	}
	in, err := s.Blob.Open()
	if err != nil {
		return nil, err
	}
	defer func() { _ = in.Close() }()
	return jpeg.Decode(io.LimitReader(in, maxStill))
}
