package captions

import (
	"fmt"
	"math/bits"
	"strings"
)

// Subtitles of teletext (ETSI EN 300 706, level 1) are pages of 24 rows that follow one another. In transport streams
// they lie in PES packets as ETSI EN 300 472, 4.3, has it:
//
//	data_identifier(8) { unit(8)=2 or 3 length(8)=44 field, line(8) framing(8)=0xe4 packet(42 bytes, lowest bit first) }
//
// A packet begins with its magazine and row, each bit of them protected (8.2); row 0 has the page and what is to be done
// with it.

// Page is a page of teletext: 100 to 899.
type Page struct {
	Number   int
	Language string // ISO 639-2
	Impaired bool   // for the hard of hearing
}

// Service is what the page is called among services.
func (p Page) Service() string { return fmt.Sprintf("TT%d", p.Number) }

const (
	teletextRows    = 25
	teletextColumns = 40
	unitLength      = 44
)

// ttPage is a page as far as it has come.
type ttPage struct {
	service string
	rows    [teletextRows][]rune
	set     int  // the national set
	touched bool // since it was told
	told    string
}

// Teletext reads the text of subtitle pages. It is not safe for concurrent use.
type Teletext struct {
	pages map[int]*ttPage // those that are wanted
	now   [9]*ttPage      // by magazine
}

// NewTeletext reads some pages.
func NewTeletext(pages []Page) *Teletext {
	t := &Teletext{pages: map[int]*ttPage{}}
	for _, p := range pages {
		t.pages[p.Number] = &ttPage{service: p.Service()}
	}
	return t
}

// See reads the payload of a PES packet that is shown at a time, and tells what pages show from then on.
func (t *Teletext) See(at int64, pes []byte, tell func(Text)) {
	if len(pes) < 1 || pes[0] < 0x10 || pes[0] > 0x1f {
		return
	}
	for b := pes[1:]; len(b) >= 2; {
		unit, length := b[0], int(b[1])
		if len(b) < 2+length {
			break
		}
		if (unit == 2 || unit == 3) && length == unitLength && b[3] == 0xe4 {
			t.packet(at, b[4:2+length], tell)
		}
		b = b[2+length:]
	}
	for _, p := range t.now {
		if p != nil && p.touched {
			p.tell(at, tell)
		}
	}
}

// hamming reads four bits that are protected by four more (8.2), -1 when they cannot be told.
func hamming(b byte) int {
	for n := range 16 {
		if d := bits.OnesCount8(hammingCodes[n] ^ b); d <= 1 {
			return n
		}
	}
	return -1
}

// hammingCodes are the bytes for 0 to 15, lowest bit first as it is sent (table 2 of 8.2).
var hammingCodes = [16]byte{0x15, 0x02, 0x49, 0x5e, 0x64, 0x73, 0x38, 0x2f, 0xd0, 0xc7, 0x8c, 0x9b, 0xa1, 0xb6, 0xfd, 0xea}

func (t *Teletext) packet(at int64, sent []byte, tell func(Text)) {
	b := make([]byte, len(sent))
	for i, v := range sent {
		b[i] = bits.Reverse8(v)
	}
	low, high := hamming(b[0]), hamming(b[1])
	if low < 0 || high < 0 {
		return
	}
	magazine, row := low&7, low>>3|high<<1
	if magazine == 0 {
		magazine = 8
	}
	switch {
	case row == 0:
		t.header(at, magazine, b[2:], tell)
	case row < teletextRows && t.now[magazine] != nil:
		p := t.now[magazine]
		p.rows[row] = characters(b[2:], p.set)
		p.touched = true
	}
}

// header reads row 0 (9.3.1): the page, whether its rows are to be erased, and its national set.
func (t *Teletext) header(at int64, magazine int, b []byte, tell func(Text)) {
	var n [8]int
	for i := range n {
		if n[i] = hamming(b[i]); n[i] < 0 {
			return
		}
	}
	serial := n[7]&1 != 0
	for m, p := range t.now { // its page is whole
		if p != nil && (m == magazine || serial) {
			if p.touched {
				p.tell(at, tell)
			}
			t.now[m] = nil
		}
	}
	if n[0] > 9 || n[1] > 9 {
		return // no page that people choose, such as filling
	}
	p := t.pages[magazine*100+n[1]*10+n[0]]
	if p == nil {
		return
	}
	if n[3]&8 != 0 { // C4: erase
		p.rows = [teletextRows][]rune{}
		p.touched = true
	}
	p.set = n[7] >> 1
	t.now[magazine] = p
}

// tell says what the page shows, if that is other than before.
func (p *ttPage) tell(at int64, tell func(Text)) {
	p.touched = false
	var lines []string
	last := 0
	for i, row := range p.rows {
		if t := strings.Join(strings.Fields(string(row)), " "); t != "" {
			lines, last = append(lines, t), i
		}
	}
	text := strings.Join(lines, "\n")
	if text == p.told {
		return
	}
	p.told = text
	tell(Text{Service: p.service, At: at, Text: text, Top: text != "" && last < teletextRows/2})
}

// characters reads a row (12.2): codes below 0x20 are for colours, boxes and sizes, and take the room of a space.
// Subtitles stand in boxes: what lies outside of them is not for people, where a row has any.
func characters(b []byte, set int) []rune {
	const startBox, endBox = 0x0b, 0x0a
	out := make([]rune, 0, teletextColumns)
	boxed, boxes, mosaics := false, false, false
	for _, v := range b {
		c := v & 0x7f
		if bits.OnesCount8(v)%2 == 0 {
			c = ' ' // not as it was sent
		}
		r := ' '
		switch {
		case c == startBox:
			if !boxes {
				clear(out) // what stood before the first box
				for i := range out {
					out[i] = ' '
				}
			}
			boxed, boxes = true, true
		case c == endBox:
			boxed = false
		case c < 8:
			mosaics = false
		case c >= 0x10 && c < 0x18:
			mosaics = true
		case c >= 0x20 && (boxed || !boxes) && !(mosaics && c&0x20 != 0):
			r = national(c, set)
		}
		out = append(out, r)
	}
	return out
}

// national is a character of a national set of Latin letters (15.6.2, table 36), by the three bits of the page header.
func national(c byte, set int) rune {
	if i := strings.IndexByte("#$@[\\]^_`{|}~", c); i >= 0 && set < len(nationals) {
		return nationals[set][i]
	}
	if c == 0x7f {
		return '■'
	}
	return rune(c)
}

// The bits are C12, C13, C14 with C12 lowest, as they are sent: English, French, Swedish, Czech, German, Portuguese and
// Spanish, Italian.
var nationals = [7][]rune{
	[]rune("£$@←½→↑#—¼‖¾÷"),
	[]rune("éïàëêùî#èâôûç"),
	[]rune("#¤ÉÄÖÅÜ_éäöåü"),
	[]rune("#ůčťžýířéáěúš"),
	[]rune("#$§ÄÖÜ^_°äöüß"),
	[]rune("ç$¡áéíóú¿üñèà"),
	[]rune("£$é°ç→↑#ùàòèì"),
}
