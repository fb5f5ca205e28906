package picture

// A block code carries a frame's number in a row of 16 squares along the lower edge, black or
// white, large enough to survive scaling to a fifth and heavy compression:
//
//	white black | n11 n10 … n1 n0 | parity | white
//
// The first two and the last tell a reader what white and black are; parity makes the number of
// white squares among the thirteen in the middle even. The row is 8/10 of the width, centred, and
// its squares' lower edges lie one square above the picture's edge.

// CodeCells is the number of squares.
const CodeCells = 16

// CodeNumbers is how many numbers the code can tell apart.
const CodeNumbers = 1 << 12

// CodeCell returns the square of a cell for a picture's size.
func CodeCell(width, height, cell int) (x, y, side int) {
	side = width * 8 / 10 / CodeCells
	return width/10 + cell*side, height - 2*side, side
}

// EncodeNumber returns the cells for a number, true for white.
func EncodeNumber(n int) [CodeCells]bool {
	var out [CodeCells]bool
	out[0], out[15] = true, true
	for bit := range 12 {
		white := n>>(11-bit)&1 == 1
		out[2+bit] = white
		out[14] = out[14] != white
	}
	return out
}

// DecodeNumber reads the number from a luma plane. It fails when there is no code to see.
func DecodeNumber(luma []byte, stride, width, height int) (int, bool) {
	var level [CodeCells]int
	for i := range level {
		x, y, side := CodeCell(width, height, i)
		sum, n := 0, 0
		for dy := side / 3; dy <= side*2/3; dy++ {
			for dx := side / 3; dx <= side*2/3; dx++ {
				sum += int(luma[(y+dy)*stride+x+dx])
				n++
			}
		}
		level[i] = sum / max(n, 1)
	}
	white, black := (level[0]+level[15])/2, level[1]
	if white-black < 60 {
		return 0, false
	}
	middle := (white + black) / 2
	number, parity := 0, false
	for i := 2; i <= 14; i++ {
		set := level[i] > middle
		parity = parity != set
		if i < 14 {
			number <<= 1
			if set {
				number |= 1
			}
		}
	}
	return number, !parity
}
