package ladder

import (
	"math"

	"metaplasis/internal/core/media"
)

// Display is the size of a picture when its samples are drawn square.
func Display(t *media.Track) (width, height int) {
	if t.SAR.Valid() && t.SAR.Num != t.SAR.Den {
		return int(media.Rescale(int64(t.Width), t.SAR.Den, t.SAR.Num)), t.Height
	}
	return t.Width, t.Height
}

// Shape is the size of a source's pictures as a rung takes them: with square samples, cropped and turned.
func (r Rung) Shape(t *media.Track) (width, height int) {
	c := r.Picture.Crop
	cropped := *t
	cropped.Width, cropped.Height = max(t.Width-c.Left-c.Right, 0), max(t.Height-c.Top-c.Bottom, 0)
	width, height = Display(&cropped)
	if r.Picture.Rotate%180 != 0 {
		return height, width
	}
	return width, height
}

// Size returns the encoded size of an encoded rung for a source: both sides even, the source's
// shape kept where only one side was given, and never larger than the source.
func (r Rung) Size(t *media.Track) (width, height int) {
	w, h := r.Shape(t)
	if w == 0 || h == 0 || r.Picture.Pad {
		return r.Width, r.Height
	}
	width, height = r.Width, r.Height
	if width == 0 {
		width = even(int(media.Rescale(int64(height), int64(h), int64(w))))
	} else if height == 0 {
		height = even(int(media.Rescale(int64(width), int64(w), int64(h))))
	}
	if width > even(w) || height > even(h) { // shrink by the side that is too large by more
		if width*h > height*w {
			return even(w), even(int(media.Rescale(int64(height), int64(width), int64(w))))
		}
		return even(int(media.Rescale(int64(width), int64(height), int64(h)))), even(h)
	}
	return width, height
}

// Inner is the size of the source's pictures within the bars of a rung that is padded, zeros for one that is not.
func (r Rung) Inner(t *media.Track) (inner [2]int) {
	w, h := r.Shape(t)
	if !r.Picture.Pad || w == 0 || h == 0 {
		return inner
	}
	if w*r.Height > h*r.Width { // wider than the rung
		return [2]int{r.Width, even(int(media.Rescale(int64(r.Width), int64(w), int64(h))))}
	}
	return [2]int{even(int(media.Rescale(int64(r.Height), int64(h), int64(w)))), r.Height}
}

// SAR returns the sample aspect ratio that gives an encoded size the source's shape.
func (r Rung) SAR(t *media.Track) media.Rational {
	w, h := r.Shape(t)
	rw, rh := r.Size(t)
	if r.Picture.Pad || w == 0 || h == 0 {
		return media.Rational{Num: 1, Den: 1}
	}
	num, den := int64(w)*int64(rh), int64(h)*int64(rw)
	if d := num - den; d*100 < den && -d*100 < den { // within 1 %, the rounding to even sides
		return media.Rational{Num: 1, Den: 1}
	}
	sar := media.Rational{Num: num, Den: den}.Reduce()
	for sar.Num > math.MaxUint16 || sar.Den > math.MaxUint16 {
		sar.Num, sar.Den = max(sar.Num/2, 1), max(sar.Den/2, 1)
	}
	return sar
}

func even(n int) int { return max((n+1)&^1, 2) }
