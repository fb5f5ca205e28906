package main

import (
	"image/color"
	"math"
)

// phase runs from 0 to 1 over the loop, so that whole multiples of it end where they began.
func phase(n int) float64 { return float64(n) / frames }

func wave(n int, cycles, offset float64) float32 {
	return float32(math.Sin(2 * math.Pi * (phase(n)*cycles + offset)))
}

// water draws rows of swell from the horizon to the lower edge.
func water(c *canvas, n int, horizon float32, near, far color.RGBA) {
	c.bands(horizon, 720, far, near)
	for row := range 9 {
		depth := float32(row) / 8
		y := horizon + 14 + depth*depth*(640-horizon)
		col := color.RGBA{255, 255, 255, uint8(16 + 22*depth)}
		premultiply(&col)
		length := 40 + 160*depth
		for i := range 8 {
			x := float32(i)*190 + 90*wave(n, 1, float64(row)*0.37+float64(i)*0.21) - 40
			h := 2 + 7*depth + 2*wave(n, 2, float64(i)*0.13+float64(row)*0.29)
			c.fill(col, point{x, y}, point{x + length/2, y - h}, point{x + length, y}, point{x + length/2, y + h/2})
		}
	}
}

func premultiply(c *color.RGBA) {
	c.R, c.G, c.B = uint8(int(c.R)*int(c.A)/255), uint8(int(c.G)*int(c.A)/255), uint8(int(c.B)*int(c.A)/255)
}

// boat draws a sloop whose waterline stands at (x, y).
func boat(c *canvas, n int, x, y, size float32, sail, hull color.RGBA, seed float64) {
	y += 4 * size * wave(n, 2, seed)
	heel := 10*size + 5*size*wave(n, 1, seed+0.2)
	c.fill(sail, point{x + 6*size, y - 14*size}, point{x + heel + 10*size, y - 150*size}, point{x + 74*size, y - 22*size})
	c.fill(color.RGBA{235, 238, 244, 255}, point{x, y - 14*size}, point{x + heel + 4*size, y - 138*size}, point{x - 46*size, y - 20*size})
	c.fill(hull, point{x - 64*size, y - 14*size}, point{x + 86*size, y - 18*size}, point{x + 64*size, y + 8*size}, point{x - 48*size, y + 8*size})
	c.fill(color.RGBA{230, 240, 250, 255}, point{x - 48*size, y + 8*size}, point{x + 64*size, y + 8*size}, point{x + 92*size, y + 14*size}, point{x - 90*size, y + 14*size})
}

func buoy(c *canvas, n int, x, y, size float32, seed float64) {
	y += 5 * wave(n, 3, seed)
	c.fill(color.RGBA{242, 120, 40, 255}, point{x - 16*size, y}, point{x - 10*size, y - 48*size}, point{x + 10*size, y - 48*size}, point{x + 16*size, y})
	c.fill(color.RGBA{250, 210, 90, 255}, point{x - 12*size, y - 30*size}, point{x - 11*size, y - 40*size}, point{x + 11*size, y - 40*size}, point{x + 12*size, y - 30*size})
}

func title(c *canvas, what string) {
	c.rect(color.RGBA{12, 20, 36, 255}, 30, 28, 470, 58)
	c.rect(color.RGBA{64, 196, 190, 255}, 30, 28, 8, 58)
	c.text(color.White, 54, 54, 22, false, "KESTREL BAY REGATTA")
	c.text(color.RGBA{150, 205, 215, 255}, 54, 78, 18, false, what)
}

// startLine: the fleet crosses between the committee boat's buoy and the pin, with a results board.
func startLine(c *canvas, n int) {
	c.bands(0, 290, color.RGBA{96, 158, 205, 255}, color.RGBA{214, 230, 238, 255})
	c.fill(color.RGBA{120, 146, 150, 255}, point{0, 290}, point{0, 240}, point{160, 215}, point{330, 256}, point{520, 232}, point{760, 268}, point{980, 240}, point{1280, 262}, point{1280, 290})
	water(c, n, 288, color.RGBA{18, 74, 108, 255}, color.RGBA{94, 152, 178, 255})
	sails := []color.RGBA{{214, 70, 70, 255}, {244, 196, 72, 255}, {70, 150, 90, 255}, {90, 110, 190, 255}}
	for i, s := range sails {
		travel := float32(math.Mod(phase(n)+float64(i)*0.25, 1))
		boat(c, n, -120+travel*1520, 372+float32(i)*34, 0.75+0.16*float32(i), s, color.RGBA{38, 48, 66, 255}, float64(i)*0.23)
	}
	buoy(c, n, 180, 470, 1.2, 0.1)
	buoy(c, n, 1120, 520, 1.4, 0.5)
	title(c, "Start line, camera 1")
	c.rect(color.RGBA{12, 20, 36, 255}, 30, 110, 270, 148)
	for i, row := range []string{"1  KITTIWAKE   GBR 11", "2  SALT & PEPPER NED 4", "3  OLD THUNDER  IRL 27", "4  MISS TERN    FRA 8"} {
		c.rect(sails[i], 42, 124+float32(i)*32, 6, 22)
		c.text(color.White, 58, 141+float32(i)*32, 17, true, row)
	}
}

// chaseBoat: close behind two boats, with spray over the bow.
func chaseBoat(c *canvas, n int) {
	lift := 16 * wave(n, 2, 0)
	c.bands(0, 250+lift, color.RGBA{70, 104, 150, 255}, color.RGBA{236, 206, 176, 255})
	c.fill(color.RGBA{250, 232, 190, 255}, circle(980, 170+lift, 44)...)
	water(c, n, 248+lift, color.RGBA{14, 52, 78, 255}, color.RGBA{120, 130, 150, 255})
	boat(c, n, 420+60*wave(n, 1, 0.1), 430+lift, 1.7, color.RGBA{60, 140, 190, 255}, color.RGBA{240, 240, 236, 255}, 0.4)
	boat(c, n, 880+80*wave(n, 1, 0.6), 390+lift, 1.2, color.RGBA{226, 96, 62, 255}, color.RGBA{44, 52, 70, 255}, 0.9)
	for i := range 26 {
		t := math.Mod(phase(n)*8+float64(i)*0.137, 1)
		x := 500 + float32(math.Sin(float64(i)*12.9)*420)
		y := 640 - float32(t*(1-t))*4*float32(90+i*5%60)
		r := 3 + float32(i%4)
		c.fill(color.RGBA{226, 238, 246, 255}, circle(x+float32(t)*60, y, r)...)
	}
	c.fill(color.RGBA{54, 60, 70, 255}, point{420, 720}, point{560, 600 + lift}, point{720, 600 + lift}, point{860, 720})
	title(c, "Chase boat, camera 2")
}

func circle(x, y, r float32) []point {
	out := make([]point, 20)
	for i := range out {
		a := float64(i) / float64(len(out)) * 2 * math.Pi
		out[i] = point{x + r*float32(math.Cos(a)), y + r*float32(math.Sin(a))}
	}
	return out
}

// noise is a cheap hash, the same every time.
func noise(n int) float64 {
	v := uint32(n)*2654435761 + 12345
	v ^= v >> 15
	v *= 2246822519
	v ^= v >> 13
	return float64(v)/math.MaxUint32*2 - 1
}

var surf float64

// beep marks every second for a tenth of it, higher on the first.
func beep(n int) float64 {
	at := n % samples
	if at > samples/10 {
		return 0
	}
	pitch := 880.0
	if n/samples == 0 {
		pitch = 1320
	}
	envelope := math.Sin(math.Pi * float64(at) / (samples / 10))
	return 0.35 * envelope * math.Sin(2*math.Pi*pitch*float64(at)/samples)
}

func harbourSound(n int) float64 {
	surf += 0.02 * (noise(n) - surf)
	swell := 0.6 + 0.4*math.Sin(2*math.Pi*float64(n)/samples/4)
	return 1.6*surf*swell + beep(n)
}

func engineSound(n int) float64 {
	surf += 0.05 * (noise(n) - surf)
	t := float64(n) / samples
	return 0.7*surf + 0.16*math.Sin(2*math.Pi*62*t) + 0.1*math.Sin(2*math.Pi*124*t) + beep(n)
}
