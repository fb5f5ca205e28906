// Package overlay draws upon the pictures of one rung: a logo, the rung's name, and a clock with the picture's number.
// Everything is drawn once, as stamps of 4:2:0 samples with their opacity; a picture costs no more than the samples
// that are covered.
package overlay

import (
	"bytes"
	"fmt"
	"image"
	"image/color"
	"image/png"
	"time"

	"golang.org/x/image/draw"
	"golang.org/x/image/font"
	"golang.org/x/image/font/gofont/gomonobold"
	"golang.org/x/image/font/opentype"
	"golang.org/x/image/math/fixed"

	"metaplasis/internal/core/ladder"
	"metaplasis/internal/core/picture"
)

// MaxImage bounds an image for a logo or a slate: bytes of its file, and samples a side.
const (
	//limit:bytes of an image | each image | 422
	MaxImage = 512 << 10
	//limit:samples of an image's side | each image | 422
	maxImageSide = 4096
)

// CheckImage says whether a file is an image that can be used: a PNG of bounded size.
func CheckImage(file []byte) error {
	if len(file) > MaxImage {
		return fmt.Errorf("found %d bytes, expected %d at most", len(file), MaxImage)
	}
	c, err := png.DecodeConfig(bytes.NewReader(file))
	if err != nil {
		return fmt.Errorf("found no PNG image (%w); save it as PNG", err)
	}
	if c.Width > maxImageSide || c.Height > maxImageSide || c.Width < 1 || c.Height < 1 {
		return fmt.Errorf("found %dx%d, expected %dx%d at most", c.Width, c.Height, maxImageSide, maxImageSide)
	}
	if _, err := png.Decode(bytes.NewReader(file)); err != nil {
		return fmt.Errorf("found a PNG image that ends early or is damaged: %w", err)
	}
	return nil
}

// stamp is something drawn, at even coordinates and of even size.
type stamp struct {
	x, y, w, h  int
	luma, alpha []byte // w×h
	u, v, half  []byte // chroma and its opacity, (w/2)×(h/2)
}

// Overlay is what is drawn upon the pictures of one rung. It is not safe for concurrent use.
type Overlay struct {
	fixed  []*stamp
	digits map[rune]*stamp
	clock  struct{ x, y, advance int }
}

// New prepares an overlay for pictures of a size. name is the rung's, logo the file of its image, nil for none.
func New(width, height int, p ladder.Picture, name string, logo []byte) (*Overlay, error) {
	o := &Overlay{}
	size := max(float64(min(width, height))/18, 8)
	if p.Logo.Image != "" {
		s, err := newLogo(width, height, p.Logo, logo)
		if err != nil {
			return nil, fmt.Errorf("the logo %s: %w", p.Logo.Image, err)
		}
		o.fixed = append(o.fixed, s)
	}
	margin := even(height / 40)
	if p.Label {
		s, err := text(name, size)
		if err != nil {
			return nil, err
		}
		s.x, s.y = margin, margin
		if p.Logo.Image != "" && p.Logo.Place == ladder.TopLeft {
			s.y = even(height/2 - s.h/2)
		}
		o.fixed = append(o.fixed, s)
	}
	if p.Clock != ladder.NoClock {
		o.digits = map[rune]*stamp{}
		for _, r := range "0123456789:. #" {
			s, err := text(string(r), size)
			if err != nil {
				return nil, err
			}
			o.digits[r] = s
		}
		o.clock.advance = o.digits['0'].w
		o.clock.x = even((width - o.clock.advance*clockLength) / 2)
		if o.clock.y = margin; p.Clock == ladder.ClockBottom {
			o.clock.y = even(height) - margin - o.digits['0'].h
		}
	}
	return o, nil
}

// clockLength is how many characters a clock has: 18:05:59.250 #012345.
const clockLength = 20

// Draw draws upon a picture that came at a time and has a number.
func (o *Overlay) Draw(p *picture.Picture, at time.Time, number int64) {
	for _, s := range o.fixed {
		s.put(p, s.x, s.y)
	}
	if o.digits == nil {
		return
	}
	x := o.clock.x
	var buf [40]byte
	line := at.UTC().AppendFormat(buf[:0], "15:04:05.000")
	line = fmt.Appendf(line, " #%06d", number%1_000_000)
	for _, c := range line {
		if s := o.digits[rune(c)]; s != nil {
			s.put(p, x, o.clock.y)
		}
		x += o.clock.advance
	}
}

// put lays a stamp upon a picture; what lies outside is left out.
func (s *stamp) put(p *picture.Picture, x0, y0 int) {
	left, right := max(0, -x0), min(s.w, p.Width-x0)
	if left >= right {
		return
	}
	for y := max(0, -y0); y < s.h && y0+y < p.Height; y++ {
		blend(p.Y[(y0+y)*p.StrideY+x0+left:][:right-left], s.luma[y*s.w+left:], s.alpha[y*s.w+left:])
	}
	hw := s.w / 2
	left, right = left/2, min(hw, (p.Width+1)/2-x0/2)
	if left >= right {
		return
	}
	for y := max(0, -y0/2); y < s.h/2 && y0/2+y < (p.Height+1)/2; y++ {
		at := (y0/2+y)*p.Stride + x0/2 + left
		blend(p.U[at:][:right-left], s.u[y*hw+left:], s.half[y*hw+left:])
		blend(p.V[at:][:right-left], s.v[y*hw+left:], s.half[y*hw+left:])
	}
}

func blend(to, from, alpha []byte) {
	for i := range to {
		switch a := int(alpha[i]); a {
		case 0:
		case 255:
			to[i] = from[i]
		default:
			to[i] = byte((int(to[i])*(255-a) + int(from[i])*a + 127) / 255)
		}
	}
}

func even(n int) int { return n &^ 1 }

// newStamp makes a stamp of an image.
func newStamp(img *image.NRGBA, opacity int) *stamp {
	b := img.Bounds()
	w, h := (b.Dx()+1)&^1, (b.Dy()+1)&^1
	s := &stamp{w: w, h: h, luma: make([]byte, w*h), alpha: make([]byte, w*h),
		u: make([]byte, w*h/4), v: make([]byte, w*h/4), half: make([]byte, w*h/4)}
	for y := 0; y < h; y += 2 {
		for x := 0; x < w; x += 2 {
			var u, v, a int
			for i := range 4 {
				px, py := x+i%2, y+i/2
				c := img.NRGBAAt(b.Min.X+px, b.Min.Y+py) // nothing outside
				luma, cb, cr := narrow(c)
				alpha := int(c.A) * opacity / 100
				s.luma[py*w+px], s.alpha[py*w+px] = luma, byte(alpha)
				u, v, a = u+int(cb)*alpha, v+int(cr)*alpha, a+alpha
			}
			if a > 0 {
				at := y/2*(w/2) + x/2
				s.u[at], s.v[at], s.half[at] = byte(u/a), byte(v/a), byte(a/4)
			}
		}
	}
	return s
}

// narrow is a colour as samples of ITU-R BT.709 in narrow range.
func narrow(c color.NRGBA) (y, cb, cr byte) {
	r, g, b := int(c.R), int(c.G), int(c.B)
	luma := 2126*r + 7152*g + 722*b // 10,000 times
	clamp := func(v int) byte { return byte(min(max(v, 0), 255)) }
	return clamp(16 + luma*219/255/10_000), clamp(128 + (b*10_000-luma)*112/(9278*255)), clamp(128 + (r*10_000-luma)*112/(7874*255))
}

// text draws white characters on a dark ground.
func text(s string, size float64) (*stamp, error) {
	f, err := opentype.Parse(gomonobold.TTF)
	if err != nil {
		return nil, err
	}
	face, err := opentype.NewFace(f, &opentype.FaceOptions{Size: size, DPI: 72, Hinting: font.HintingFull})
	if err != nil {
		return nil, err
	}
	defer func() { _ = face.Close() }()
	advance := font.MeasureString(face, "0").Ceil()
	advance = (advance + 1) &^ 1
	n := len([]rune(s))
	m := face.Metrics()
	w, h := advance*n, (m.Ascent.Ceil()+m.Descent.Ceil()+3)&^1
	img := image.NewNRGBA(image.Rect(0, 0, w, h))
	draw.Draw(img, img.Bounds(), image.NewUniform(color.NRGBA{0, 0, 0, 150}), image.Point{}, draw.Src)
	d := font.Drawer{Dst: img, Src: image.NewUniform(color.NRGBA{255, 255, 255, 255}), Face: face}
	for i, r := range []rune(s) {
		d.Dot = fixed.P(i*advance, m.Ascent.Ceil()+1)
		d.DrawString(string(r))
	}
	return newStamp(img, 100), nil
}

// newLogo scales an image and finds its place.
func newLogo(width, height int, l ladder.Logo, file []byte) (*stamp, error) {
	if file == nil {
		return nil, fmt.Errorf("there is no such image; add it with metaplasis images add")
	}
	src, err := png.Decode(bytes.NewReader(file))
	if err != nil {
		return nil, err
	}
	percent, opacity := l.Width, l.Opacity
	if percent == 0 {
		percent = 10
	}
	if opacity == 0 {
		opacity = 100
	}
	b := src.Bounds()
	w := max(even(width*percent/100), 2)
	h := max(even(w*b.Dy()/max(b.Dx(), 1)), 2)
	if h > height {
		w, h = max(even(w*height/h), 2), even(height)
	}
	img := image.NewNRGBA(image.Rect(0, 0, w, h))
	draw.CatmullRom.Scale(img, img.Bounds(), src, b, draw.Src, nil)
	s := newStamp(img, opacity)
	margin := even(height / 40)
	s.x, s.y = even(width)-margin-w, margin
	switch l.Place {
	case ladder.TopLeft:
		s.x = margin
	case ladder.BottomLeft:
		s.x, s.y = margin, even(height)-margin-h
	case ladder.BottomRight:
		s.y = even(height) - margin - h
	case ladder.Centre:
		s.x, s.y = even((width-w)/2), even((height-h)/2)
	}
	s.x, s.y = max(s.x, 0), max(s.y, 0)
	return s, nil
}

// Titled makes a picture of an image, with a title in its middle.
func Titled(img *image.NRGBA, title string) (*picture.Picture, error) {
	b := img.Bounds()
	p := picture.New(b.Dx(), b.Dy())
	newStamp(img, 100).put(p, 0, 0)
	if title == "" {
		return p, nil
	}
	size := float64(min(b.Dx(), b.Dy())) / 10
	if n := float64(len([]rune(title))); size*0.6*n > float64(b.Dx())*0.9 {
		size = float64(b.Dx()) * 0.9 / (0.6 * n)
	}
	s, err := text(title, size)
	if err != nil {
		return nil, err
	}
	s.put(p, even((b.Dx()-s.w)/2), even((b.Dy()-s.h)/2))
	return p, nil
}
