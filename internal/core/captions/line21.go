package captions

import (
	"strings"
)

// Text is what a service shows from a time on.
type Text struct {
	Service string // such as CC1 or SERVICE1
	At      int64  // ticks of media.VideoTimescale
	Text    string // lines; "" for nothing
	Top     bool   // it stands in the upper half of the picture
}

// Captions of CEA-608 are a screen of 15 rows of 32 characters. What is shown is written beforehand and then swapped in
// (pop-on), or appears as it is written, with rows that roll up or without.
const (
	rows    = 15
	columns = 32
	// writingEach is how often what appears as it is written is told, ticks of media.VideoTimescale.
	writingEach = 45000
)

type screen [rows][columns]rune

func (s *screen) text() (text string, top bool) {
	var lines []string
	last := -1
	for i := range s {
		line := make([]rune, 0, columns)
		for _, r := range s[i] {
			if r == 0 {
				r = ' '
			}
			line = append(line, r)
		}
		if t := strings.Join(strings.Fields(string(line)), " "); t != "" {
			lines, last = append(lines, t), i
		}
	}
	return strings.Join(lines, "\n"), last >= 0 && last < rows/2
}

type style uint8

const (
	unknownStyle style = iota
	popOn
	rollUp
	paintOn
	textMode // is not for captions
)

// channel608 is one of the two channels of a field.
type channel608 struct {
	service       string
	style         style
	depth         int // rows that roll up
	shown, hidden screen
	row, column   int
	dirty         bool // what is shown changed since it was told
	at            int64
	told          string
}

// field608 reads the pairs of bytes of one field.
type field608 struct {
	channels [2]channel608
	now      *channel608
	control  [2]byte // the control code before, which is sent twice
}

func newField608(field int) *field608 {
	f := &field608{}
	for i := range f.channels {
		f.channels[i] = channel608{service: "CC" + string(rune('1'+2*field+i)), row: rows - 1, depth: 2}
	}
	return f
}

// decodePair reads two bytes (CEA-608, 8.3 to 8.5), without their parity.
func (f *field608) decodePair(at int64, a, b byte, tell func(Text)) {
	a, b = a&0x7f, b&0x7f
	switch {
	case a == 0 && b == 0:
	case a > 0 && a < 0x10: // data of another service, until a control code of captions (8.6)
		f.now, f.control = nil, [2]byte{}
	case a >= 0x10 && a < 0x20:
		if f.control == [2]byte{a, b} {
			f.control = [2]byte{}
			return
		}
		f.control = [2]byte{a, b}
		f.now = &f.channels[a>>3&1]
		f.now.code(at, a&^8, b, tell)
	case a >= 0x20:
		f.control = [2]byte{}
		if c := f.now; c != nil {
			c.write(basic(a))
			if b >= 0x20 {
				c.write(basic(b))
			}
		}
	}
	for i := range f.channels {
		if c := &f.channels[i]; c.dirty && at-c.at >= writingEach {
			c.tell(at, tell)
		}
	}
}

// tell says what is shown now, if that is other than before.
func (c *channel608) tell(at int64, tell func(Text)) {
	c.dirty = false
	text, top := c.shown.text()
	if text == c.told {
		return
	}
	c.told, c.at = text, at
	tell(Text{Service: c.service, At: at, Text: text, Top: top})
}

// page is what is written to.
func (c *channel608) page() *screen {
	if c.style == popOn {
		return &c.hidden
	}
	return &c.shown
}

func (c *channel608) write(r rune) {
	if c.style == unknownStyle || c.style == textMode {
		return
	}
	c.page()[c.row][min(c.column, columns-1)] = r
	c.column = min(c.column+1, columns)
	c.dirty = c.dirty || c.style != popOn
}

func (c *channel608) back() {
	if c.column > 0 {
		c.column--
		c.page()[c.row][c.column] = 0
		c.dirty = c.dirty || c.style != popOn
	}
}

// code obeys a control code.
func (c *channel608) code(at int64, a, b byte, tell func(Text)) {
	switch {
	case b >= 0x40:
		c.place(a, b)
	case a == 0x11 && b >= 0x30:
		c.write(special[b-0x30])
	case a == 0x11: // colour and slant take the room of a character
		c.write(' ')
	case (a == 0x12 || a == 0x13) && b >= 0x20: // in place of the one before, which older decoders show
		c.back()
		c.write(extended[a-0x12][b-0x20])
	case a == 0x17 && b >= 0x21 && b <= 0x23:
		c.column = min(c.column+int(b-0x20), columns-1)
	case (a == 0x14 || a == 0x15) && b >= 0x20 && b < 0x30:
		c.command(at, b, tell)
	}
}

// place reads a preamble address code (table 53): the row, and how far the text is indented.
func (c *channel608) place(a, b byte) {
	row := [8]int{11, 1, 3, 12, 14, 5, 7, 9}[a&7] - 1
	if b&0x20 != 0 && a != 0x10 {
		row++
	}
	if c.style == rollUp && row != c.row { // the rows move there
		moved := screen{}
		for i := range c.depth {
			if from, to := c.row-i, row-i; from >= 0 && to >= 0 {
				moved[to] = c.shown[from]
			}
		}
		c.shown = moved
	}
	c.row, c.column = row, 0
	if b&0x10 != 0 {
		c.column = int(b>>1&7) * 4
	}
}

// command obeys a miscellaneous control code (table 52).
func (c *channel608) command(at int64, b byte, tell func(Text)) {
	switch b {
	case 0x20: // resume caption loading
		c.style = popOn
	case 0x21: // backspace
		c.back()
	case 0x24: // delete to the end of the row
		for i := c.column; i < columns; i++ {
			c.page()[c.row][i] = 0
		}
		c.dirty = c.dirty || c.style != popOn
	case 0x25, 0x26, 0x27: // roll up 2, 3, 4 rows
		if c.style != rollUp {
			c.shown, c.hidden = screen{}, screen{}
			c.row = rows - 1
		}
		c.style, c.depth, c.column = rollUp, int(b-0x23), 0
	case 0x29: // resume direct captioning
		c.style = paintOn
	case 0x2a, 0x2b: // text
		c.style = textMode
	case 0x2c: // erase displayed memory
		c.shown = screen{}
		c.tell(at, tell)
	case 0x2d: // carriage return
		if c.style == rollUp {
			c.tell(at, tell)
			top := max(c.row-c.depth+1, 0)
			copy(c.shown[top:c.row], c.shown[top+1:c.row+1])
			c.shown[c.row] = [columns]rune{}
			c.column, c.dirty = 0, true
		}
	case 0x2e: // erase what is not displayed
		c.hidden = screen{}
	case 0x2f: // end of caption
		c.style = popOn
		c.shown, c.hidden = c.hidden, c.shown
		c.tell(at, tell)
	}
}

// basic is a character of the basic set (table 50).
func basic(b byte) rune {
	switch b {
	case 0x2a:
		return 'á'
	case 0x5c:
		return 'é'
	case 0x5e:
		return 'í'
	case 0x5f:
		return 'ó'
	case 0x60:
		return 'ú'
	case 0x7b:
		return 'ç'
	case 0x7c:
		return '÷'
	case 0x7d:
		return 'Ñ'
	case 0x7e:
		return 'ñ'
	case 0x7f:
		return '█'
	}
	return rune(b)
}

// special and extended are the other sets (table 49, and 5 to 10 of annex).
var (
	special  = []rune("®°½¿™¢£♪à èâêîôû")
	extended = [2][]rune{
		[]rune("ÁÉÓÚÜü‘¡*'—©℠•“”ÀÂÇÈÊËëÎÏïÔÙùÛ«»"),
		[]rune("ÃãÍÌìÒòÕõ{}\\^_|~ÄäÖöß¥¤│ÅåØø┌┐└┘"),
	}
)
