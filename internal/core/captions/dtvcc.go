package captions

import (
	"fmt"
	"strings"
)

// Captions of CEA-708 are text in up to eight windows a service, each shown or hidden.

// window is one of them (8.4).
type window struct {
	defined, visible bool
	depth            int // rows
	lines            []string
	row              int
	top              bool
}

func (w *window) write(r rune) {
	for len(w.lines) <= w.row {
		w.lines = append(w.lines, "")
	}
	if len(w.lines[w.row]) < 4*columns*2 {
		w.lines[w.row] += string(r)
	}
}

func (w *window) clear() { w.lines, w.row = nil, 0 }

// service708 is one service.
type service708 struct {
	name    string
	windows [8]window
	now     *window
	dirty   bool
	at      int64
	told    string
}

// sizes of commands' parameters (8.10.5), from 0x80 on: those that are not named have none.
var sizes708 = map[byte]int{0x88: 1, 0x89: 1, 0x8a: 1, 0x8b: 1, 0x8c: 1, 0x8d: 1, 0x90: 2, 0x91: 3, 0x92: 2, 0x93: 1, 0x94: 1, 0x95: 1, 0x96: 1, 0x97: 4,
	0x98: 6, 0x99: 6, 0x9a: 6, 0x9b: 6, 0x9c: 6, 0x9d: 6, 0x9e: 6, 0x9f: 6}

// block reads a service block (7.1).
func (s *service708) block(at int64, b []byte, tell func(Text)) {
	for len(b) > 0 {
		c := b[0]
		b = b[1:]
		switch {
		case c == 0x10 && len(b) > 0: // extended sets
			e := b[0]
			b = b[1:]
			switch {
			case e >= 0x20 && e < 0x80:
				s.write(extra708(e))
			case e >= 0x80 && e < 0x90 || e < 0x20: // commands that are not defined, with their parameters
				b = b[min(skip708(e), len(b)):]
			case e == 0xa0:
				s.write('㏄')
			}
		case c < 0x20:
			b = b[min(s.control(at, c, tell), len(b)):]
		case c < 0x80:
			if c == 0x7f {
				s.write('♪')
			} else {
				s.write(rune(c))
			}
		case c < 0xa0:
			n := sizes708[c]
			if n > len(b) {
				return
			}
			s.command(at, c, b[:n], tell)
			b = b[n:]
		default:
			s.write(rune(c)) // Latin 1
		}
	}
	if s.dirty && at-s.at >= writingEach {
		s.tell(at, tell)
	}
}

func skip708(e byte) int {
	switch {
	case e < 0x08:
		return 0
	case e < 0x10:
		return 1
	case e < 0x18:
		return 2
	case e < 0x20:
		return 3
	case e < 0x88:
		return 4
	}
	return 5
}

func extra708(e byte) rune {
	if r, ok := map[byte]rune{0x20: ' ', 0x21: ' ', 0x25: '…', 0x2a: 'Š', 0x2c: 'Œ', 0x30: '█', 0x31: '‘', 0x32: '’', 0x33: '“', 0x34: '”', 0x35: '•', 0x39: '™',
		0x3a: 'š', 0x3c: 'œ', 0x3d: '℠', 0x3f: 'Ÿ', 0x76: '⅛', 0x77: '⅜', 0x78: '⅝', 0x79: '⅞'}[e]; ok {
		return r
	}
	return '_' // as the standard has it for what cannot be shown (7.1.8)
}

func (s *service708) write(r rune) {
	if w := s.now; w != nil && w.defined {
		w.write(r)
		s.dirty = s.dirty || w.visible
	}
}

// control obeys a code of the set C0 (7.1.4), and returns how many bytes follow it.
func (s *service708) control(at int64, c byte, tell func(Text)) int {
	w := s.now
	switch {
	case c >= 0x18:
		return 2
	case c >= 0x11:
		return 1
	case w == nil || !w.defined:
	case c == 0x08: // backspace
		if w.row < len(w.lines) {
			if r := []rune(w.lines[w.row]); len(r) > 0 {
				w.lines[w.row] = string(r[:len(r)-1])
			}
		}
		s.dirty = s.dirty || w.visible
	case c == 0x0c: // form feed
		w.clear()
		s.dirty = s.dirty || w.visible
	case c == 0x0d: // carriage return
		if w.visible {
			s.tell(at, tell)
		}
		if w.row++; w.row >= w.depth {
			w.row = max(w.depth-1, 0)
			if len(w.lines) > 0 && len(w.lines) >= w.depth {
				w.lines = append(w.lines[1:], "")
			}
		}
	case c == 0x0e: // the row from its begin on
		if w.row < len(w.lines) {
			w.lines[w.row] = ""
		}
		s.dirty = s.dirty || w.visible
	}
	return 0
}

// command obeys a code of the set C1 (8.10.5).
func (s *service708) command(at int64, c byte, p []byte, tell func(Text)) {
	each := func(do func(w *window)) {
		for i := range s.windows {
			if p[0]>>i&1 == 1 {
				do(&s.windows[i])
			}
		}
		s.tell(at, tell)
	}
	switch {
	case c < 0x88: // the current window
		s.now = &s.windows[c&7]
	case c == 0x88:
		each((*window).clear)
	case c == 0x89:
		each(func(w *window) { w.visible = w.defined })
	case c == 0x8a:
		each(func(w *window) { w.visible = false })
	case c == 0x8b:
		each(func(w *window) { w.visible = w.defined && !w.visible })
	case c == 0x8c:
		each(func(w *window) { *w = window{} })
	case c == 0x8f: // reset
		s.windows, s.now = [8]window{}, nil
		s.tell(at, tell)
	case c == 0x92: // where the pen is
		if w := s.now; w != nil && w.defined {
			w.row = min(int(p[0]&15), max(w.depth-1, 0))
		}
	case c >= 0x98: // a window is defined
		w := &s.windows[c&7]
		before := *w
		*w = window{defined: true, visible: p[0]&0x20 != 0, depth: int(p[3]&15) + 1, lines: before.lines, row: before.row, top: p[1]&0x80 == 0 && p[1]&0x7f < 37}
		if !before.defined {
			w.clear()
		}
		w.row = min(w.row, w.depth-1)
		s.now = w
		s.dirty = s.dirty || before.visible != w.visible
	}
}

// tell says what is shown now, if that is other than before.
func (s *service708) tell(at int64, tell func(Text)) {
	s.dirty = false
	var lines []string
	top := true
	for i := range s.windows {
		w := &s.windows[i]
		if !w.visible {
			continue
		}
		for _, line := range w.lines {
			if t := strings.Join(strings.Fields(line), " "); t != "" {
				lines, top = append(lines, t), top && w.top
			}
		}
	}
	text := strings.Join(lines, "\n")
	if text == s.told {
		return
	}
	s.told, s.at = text, at
	tell(Text{Service: s.name, At: at, Text: text, Top: top && text != ""})
}

// Decoder reads the text of captions. The zero value is ready.
type Decoder struct {
	fields   [2]*field608
	services map[int]*service708
	packets  packets708
}

// maxServices bounds the services that are read.
//
//limit:caption services that are read | each channel | further ones are left out
const maxServices = 8

// See reads one cc_data, of a picture that is shown at a time, in order of presentation, and tells what services show
// from then on.
func (d *Decoder) See(at int64, cc []byte, tell func(Text)) {
	if d.services == nil {
		d.fields, d.services = [2]*field608{newField608(0), newField608(1)}, map[int]*service708{}
	}
	triplets(cc, func(kind, a, b byte) {
		if kind < 2 {
			d.fields[kind].decodePair(at, a, b, tell)
			return
		}
		d.packets.decodePair(kind, a, b, func(number int, block []byte) {
			s := d.services[number]
			if s == nil && len(d.services) < maxServices {
				s = &service708{name: fmt.Sprintf("SERVICE%d", number)}
				d.services[number] = s
			}
			if s != nil {
				s.block(at, block, tell)
			}
		})
	})
}
