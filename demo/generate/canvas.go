package main

import (
	"fmt"
	"image"
	"image/color"
	"image/draw"
	"log"

	"golang.org/x/image/font"
	"golang.org/x/image/font/gofont/gobold"
	"golang.org/x/image/font/gofont/gomono"
	"golang.org/x/image/font/opentype"
	"golang.org/x/image/math/fixed"
	"golang.org/x/image/vector"

	"metaplasis/internal/core/picture"
)

// canvas draws in units of 1/1280 of its width, so that scenes fit every size.
type canvas struct {
	img   *image.RGBA
	scale float32
	out   *picture.Picture
	faces map[string]font.Face
}

func newCanvas(w, h int) *canvas {
	return &canvas{img: image.NewRGBA(image.Rect(0, 0, w, h)), scale: float32(w) / 1280, out: picture.New(w, h), faces: map[string]font.Face{}}
}

type point struct{ x, y float32 }

// fill draws a polygon, touching no more than its bounding box.
func (c *canvas) fill(col color.Color, points ...point) {
	x0, y0, x1, y1 := points[0].x, points[0].y, points[0].x, points[0].y
	for _, p := range points {
		x0, y0, x1, y1 = min(x0, p.x), min(y0, p.y), max(x1, p.x), max(y1, p.y)
	}
	box := image.Rect(int(x0*c.scale)-1, int(y0*c.scale)-1, int(x1*c.scale)+2, int(y1*c.scale)+2).Intersect(c.img.Bounds())
	if box.Empty() {
		return
	}
	r := vector.NewRasterizer(box.Dx(), box.Dy())
	ox, oy := float32(box.Min.X), float32(box.Min.Y)
	for i, p := range points {
		if i == 0 {
			r.MoveTo(p.x*c.scale-ox, p.y*c.scale-oy)
		} else {
			r.LineTo(p.x*c.scale-ox, p.y*c.scale-oy)
		}
	}
	r.ClosePath()
	r.Draw(c.img, box, image.NewUniform(col), image.Point{})
}

func (c *canvas) rect(col color.Color, x, y, w, h float32) {
	c.fill(col, point{x, y}, point{x + w, y}, point{x + w, y + h}, point{x, y + h})
}

// bands fills lines from y0 to y1 with a gradient.
func (c *canvas) bands(y0, y1 float32, from, to color.RGBA) {
	top, bottom := int(y0*c.scale), int(y1*c.scale)
	mix := func(a, b uint8, i int) uint8 {
		return uint8(int(a) + (int(b)-int(a))*(i-top)/max(bottom-top, 1))
	}
	for y := top; y < bottom && y < c.img.Bounds().Dy(); y++ {
		col := color.RGBA{mix(from.R, to.R, y), mix(from.G, to.G, y), mix(from.B, to.B, y), 255}
		draw.Draw(c.img, image.Rect(0, y, c.img.Bounds().Dx(), y+1), image.NewUniform(col), image.Point{}, draw.Src)
	}
}

func (c *canvas) text(col color.Color, x, y, size float32, mono bool, s string) {
	key := fmt.Sprint(size, mono)
	face := c.faces[key]
	if face == nil {
		ttf := gobold.TTF
		if mono {
			ttf = gomono.TTF
		}
		f, err := opentype.Parse(ttf)
		if err != nil {
			log.Fatal(err)
		}
		if face, err = opentype.NewFace(f, &opentype.FaceOptions{Size: float64(size * c.scale), DPI: 72, Hinting: font.HintingFull}); err != nil {
			log.Fatal(err)
		}
		c.faces[key] = face
	}
	d := font.Drawer{Dst: c.img, Src: image.NewUniform(col), Face: face, Dot: fixed.P(int(x*c.scale), int(y*c.scale))}
	d.DrawString(s)
}

// number writes the frame's number for people and as a block code for tests.
func (c *canvas) number(n int) {
	b := c.img.Bounds()
	x0, y0, side := picture.CodeCell(b.Dx(), b.Dy(), 0)
	margin := side / 4
	draw.Draw(c.img, image.Rect(x0-margin, y0-margin, x0+picture.CodeCells*side+margin, y0+side+margin), image.NewUniform(color.RGBA{70, 78, 92, 255}), image.Point{}, draw.Src)
	for i, white := range picture.EncodeNumber(n) {
		x, y, side := picture.CodeCell(b.Dx(), b.Dy(), i)
		col := color.RGBA{16, 16, 16, 255}
		if white {
			col = color.RGBA{240, 240, 240, 255}
		}
		draw.Draw(c.img, image.Rect(x, y, x+side, y+side), image.NewUniform(col), image.Point{}, draw.Src)
	}
	c.rect(color.RGBA{12, 20, 36, 255}, 1032, 28, 218, 58)
	c.text(color.White, 1046, 71, 40, true, fmt.Sprintf("%02d:%02d.%02d", n/rate/60, n/rate%60, n%rate))
}

// yuv converts to 4:2:0 in the limited range of ITU-R BT.709, with 10-bit fixed-point factors.
func (c *canvas) yuv() *picture.Picture {
	w, h := c.img.Bounds().Dx(), c.img.Bounds().Dy()
	p := c.out
	at := func(x, y int) (r, g, b int) {
		i := c.img.PixOffset(x, y)
		return int(c.img.Pix[i]), int(c.img.Pix[i+1]), int(c.img.Pix[i+2])
	}
	for y := range h {
		for x := range w {
			r, g, b := at(x, y)
			p.Y[y*p.StrideY+x] = byte(16 + (187*r+629*g+63*b)>>10)
		}
	}
	for y := 0; y < h; y += 2 {
		for x := 0; x < w; x += 2 {
			var r, g, b int
			for _, d := range [4][2]int{{0, 0}, {1, 0}, {0, 1}, {1, 1}} {
				dr, dg, db := at(x+d[0], y+d[1])
				r, g, b = r+dr, g+dg, b+db
			}
			p.U[y/2*p.Stride+x/2] = byte(128 + (-103*r-347*g+450*b)>>12)
			p.V[y/2*p.Stride+x/2] = byte(128 + (450*r-409*g-41*b)>>12)
		}
	}
	return p
}
