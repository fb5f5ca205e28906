package picture

// Interlaced pictures hold two fields: the even lines are of one time, the odd ones of another, half a frame apart.
//
//	line 0  ────────  top field
//	line 1  ┄┄┄┄┄┄┄┄  bottom field
//	line 2  ────────  top field
//
// A Deinterlacer makes a whole picture of a field. Where nothing moved since the frame before, its missing lines are
// those of the other field; where something did, they are interpolated from the lines above and below, along the
// direction in which those agree best. It looks at what has come already, so that it adds no delay.
type Deinterlacer struct {
	// Bob interpolates everywhere.
	Bob bool

	previous *Picture
	known    bool
}

// How much samples may differ between two frames and count as still, and from where on as moved.
const (
	stillBelow = 8
	movedFrom  = 20
)

// Reset forgets the frame before: what comes next is of another scene.
func (d *Deinterlacer) Reset() { d.known = false }

// Field makes a whole picture of one field of a frame: of the even lines, or of the odd ones. to has the frame's size.
func (d *Deinterlacer) Field(to, frame *Picture, odd bool) {
	if d.previous == nil || d.previous.Width != frame.Width || d.previous.Height != frame.Height {
		d.previous, d.known = New(frame.Width, frame.Height), false
	}
	before := d.previous
	if !d.known {
		before = nil
	}
	cw, ch := (frame.Width+1)/2, (frame.Height+1)/2
	past := func(of func(*Picture) []byte) []byte {
		if before == nil || d.Bob {
			return nil
		}
		return of(before)
	}
	field(to.Y, to.StrideY, frame.Y, past(func(p *Picture) []byte { return p.Y }), frame.StrideY, frame.Width, frame.Height, odd)
	field(to.U, to.Stride, frame.U, past(func(p *Picture) []byte { return p.U }), frame.Stride, cw, ch, odd)
	field(to.V, to.Stride, frame.V, past(func(p *Picture) []byte { return p.V }), frame.Stride, cw, ch, odd)
}

// Seen notes a frame whose fields were made: what comes next is compared with it.
func (d *Deinterlacer) Seen(frame *Picture) {
	if d.previous == nil || d.Bob {
		return
	}
	for y := range frame.Height {
		copy(d.previous.Y[y*d.previous.StrideY:][:frame.Width], frame.Y[y*frame.StrideY:])
	}
	for y := range (frame.Height + 1) / 2 {
		w := (frame.Width + 1) / 2
		copy(d.previous.U[y*d.previous.Stride:][:w], frame.U[y*frame.Stride:])
		copy(d.previous.V[y*d.previous.Stride:][:w], frame.V[y*frame.Stride:])
	}
	d.known = true
}

// field makes one plane of one field. past is the plane of the frame before, nil for none; its stride is from's, as all
// pictures of one width have the same.
func field(to []byte, strideTo int, from, past []byte, stride, w, h int, odd bool) {
	first := 0
	if odd {
		first = 1
	}
	for y := range h {
		out := to[y*strideTo:][:w]
		if y%2 == first || h < 2 {
			copy(out, from[y*stride:][:w])
			continue
		}
		above, below := y-1, y+1
		if above < 0 {
			above = below
		}
		if below >= h {
			below = above
		}
		up, down := from[above*stride:][:w], from[below*stride:][:w]
		if past == nil {
			between(out, up, down)
			continue
		}
		mix(out, up, down, from[y*stride:][:w], past[y*stride:][:w], past[above*stride:][:w], past[below*stride:][:w])
	}
}

func distance(a, b byte) int {
	if a > b {
		return int(a) - int(b)
	}
	return int(b) - int(a)
}

// slanted interpolates a sample between two lines, along the direction in which they agree best.
func slanted(up, down []byte, x int) byte {
	straight := distance(up[x], down[x])
	v := (int(up[x]) + int(down[x]) + 1) / 2
	if straight < stillBelow || x < 2 || x+2 >= len(up) {
		return byte(v)
	}
	// A slant has to be better by some, and so do its neighbours: single samples agree by chance.
	score := func(s int) int {
		return distance(up[x+s-1], down[x-s-1]) + distance(up[x+s], down[x-s]) + distance(up[x+s+1], down[x-s+1])
	}
	best := score(0) - stillBelow
	if s := score(1); s < best {
		best, v = s, (int(up[x+1])+int(down[x-1])+1)/2
	}
	if s := score(-1); s < best {
		v = (int(up[x-1]) + int(down[x+1]) + 1) / 2
	}
	return byte(v)
}

// between interpolates a line.
func between(out, up, down []byte) {
	for x := range out {
		out[x] = slanted(up, down, x)
	}
}

// mix takes each sample of a missing line from the other field where nothing moved, else from the lines around it.
func mix(out, up, down, other, otherPast, upPast, downPast []byte) {
	for x := range out {
		moved := max(distance(other[x], otherPast[x]), (distance(up[x], upPast[x])+distance(down[x], downPast[x])+1)/2)
		if moved <= stillBelow {
			out[x] = other[x]
			continue
		}
		v := slanted(up, down, x)
		if moved < movedFrom {
			part := moved - stillBelow
			v = byte((int(v)*part + int(other[x])*(movedFrom-stillBelow-part)) / (movedFrom - stillBelow))
		}
		out[x] = v
	}
}
