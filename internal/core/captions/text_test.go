package captions

import (
	"math/bits"
	"testing"

	"github.com/stretchr/testify/assert"
)

// frame is how long a picture lasts, ticks of media.VideoTimescale.
const frame = 3003

// show feeds pairs of the first field, one a picture, and collects what is told.
func show(d *Decoder, at *int64, out *[]Text, pairs ...[2]byte) {
	for _, p := range pairs {
		d.See(*at, Pair608(p[0], p[1]), func(t Text) { *out = append(*out, t) })
		*at += frame
	}
}

func twice(a, b byte) [][2]byte { return [][2]byte{{a, b}, {a, b}} }

func letters(text string) (out [][2]byte) {
	b := append([]byte(text), 0)
	for i := 0; i+1 < len(b); i += 2 {
		out = append(out, [2]byte{b[i], b[i+1]})
	}
	return out
}

func texts(list []Text) (out []string) {
	for _, t := range list {
		out = append(out, t.Service+": "+t.Text)
	}
	return out
}

func TestPopOnCaptions(t *testing.T) {
	var d Decoder
	var got []Text
	var at int64
	send := func(pairs ...[2]byte) { show(&d, &at, &got, pairs...) }
	send(twice(0x14, 0x20)...)
	send(twice(0x14, 0x2e)...)
	send(twice(0x13, 0x60)...) // row 13
	send(letters("GATE 2 CL")...)
	send(twice(0x11, 0x39)...) // special: a transparent space
	send(letters("OSES")...)
	send(twice(0x14, 0x60)...) // row 14... 15
	send(letters("CAFe")...)
	send(twice(0x12, 0x21)...) // extended: É in place of e
	assert.Empty(t, got, "nothing is shown before its end")
	shown := at
	send(twice(0x14, 0x2f)...)
	assert.Equal(t, []string{"CC1: GATE 2 CL OSES\nCAFÉ"}, texts(got))
	assert.Equal(t, shown, got[0].At)
	assert.False(t, got[0].Top)
	send(twice(0x14, 0x2c)...)
	assert.Equal(t, "CC1: ", texts(got)[1])
	send(twice(0x14, 0x20)...)
	send(twice(0x11, 0x40)...) // row 1
	send(letters("UP THERE")...)
	send(twice(0x14, 0x2f)...)
	assert.Equal(t, "CC1: UP THERE", texts(got)[2])
	assert.True(t, got[2].Top)
	send(twice(0x1c, 0x2f)...) // another channel's
	assert.Len(t, got, 3)
}

func TestRollUpAndPaintOnCaptions(t *testing.T) {
	var d Decoder
	var got []Text
	var at int64
	for _, line := range []string{"WIND 14 KNOTS", "GUSTS 20", "THIRD LINE"} {
		show(&d, &at, &got, RollUp608(line)...)
		show(&d, &at, &got, make([][2]byte, 40)...)
	}
	assert.Equal(t, "CC1: WIND 14 KNOTS\nGUSTS 20", texts(got)[len(got)-3], "%q", texts(got))
	assert.Equal(t, "CC1: GUSTS 20\nTHIRD LINE", texts(got)[len(got)-1])
	for i := 1; i < len(got); i++ {
		assert.GreaterOrEqual(t, got[i].At-got[i-1].At, int64(frame))
	}
	assert.Less(t, len(got), 12, "not a text for each character")

	got = nil
	show(&d, &at, &got, twice(0x14, 0x2c)...)
	show(&d, &at, &got, twice(0x14, 0x29)...)
	show(&d, &at, &got, twice(0x14, 0x70)...)
	show(&d, &at, &got, letters("PAINTED")...)
	show(&d, &at, &got, twice(0x14, 0x21)...) // one back
	show(&d, &at, &got, make([][2]byte, 30)...)
	assert.Equal(t, "CC1: PAINTE", texts(got)[len(got)-1])
	before := len(got)
	d.See(at, []byte{0xc2, 0xff, 0xfd, 0x01, 0x03, 0xfd, 'x', 'y', 0xff}, func(x Text) { got = append(got, x) }) // data of another service
	show(&d, &at, &got, twice(0x14, 0x2a)...)
	show(&d, &at, &got, letters("NOT FOR CAPTIONS")...)
	assert.Len(t, got, before)
}

// packet708 wraps a service block into cc_data of a picture each.
func packet708(service byte, block ...byte) (list [][]byte) {
	b := append([]byte{service<<5 | byte(len(block))}, block...)
	size := 1 + len(b)
	size += size % 2
	b = append(append([]byte{byte(size / 2)}, b...), 0)
	for i := 0; i < size; i += 2 {
		kind := byte(0xfe)
		if i == 0 {
			kind = 0xff
		}
		list = append(list, []byte{0xc1, 0xff, kind, b[i], b[i+1], 0xff})
	}
	return list
}

func TestWindowsOfDigitalCaptions(t *testing.T) {
	var d Decoder
	var got []Text
	at := int64(0)
	send := func(block ...byte) {
		for _, cc := range packet708(1, block...) {
			d.See(at, cc, func(t Text) { got = append(got, t) })
			at += frame
		}
	}
	define := func(id, visible, vertical byte) []byte {
		return []byte{0x98 | id, visible << 5, vertical, 40, 1, 31, 0}
	}
	send(append(define(0, 0, 60), "BOATS"...)...)
	assert.Empty(t, got, "a hidden window")
	send(append([]byte{0x0d}, "AWAY \x10\x34"...)...)
	send(0x89, 1)
	assert.Equal(t, []string{"SERVICE1: BOATS\nAWAY ”"}, texts(got))
	send(append(define(1, 0, 5), 'T', 0xe9, 0x7f)...)
	send(0x8b, 2)
	assert.Equal(t, "SERVICE1: BOATS\nAWAY ”\nTé♪", texts(got)[1])
	send(0x8a, 1)
	assert.Equal(t, "SERVICE1: Té♪", texts(got)[2])
	assert.True(t, got[2].Top)
	send(0x8f)
	assert.Equal(t, "SERVICE1: ", texts(got)[3])
	send(append(append(define(2, 1, 60), []byte{0x97, 0, 0, 0, 0, 0x90, 0, 0, 0x91, 0, 0, 0, 0x92, 0, 0}...), "ON AIR"...)...)
	at += 2 * writingEach
	send(0x03)
	assert.Equal(t, "SERVICE1: ON AIR", texts(got)[len(got)-1])
	send(0x88, 0xff)
	assert.Equal(t, "SERVICE1: ", texts(got)[len(got)-1])
}

// ttPacket makes a data unit of teletext.
func ttPacket(magazine, row int, body []byte) []byte {
	b := make([]byte, 42)
	b[0], b[1] = hammingCodes[magazine&7|row&1<<3], hammingCodes[row>>1]
	copy(b[2:], body)
	out := []byte{3, 44, 0xe7, 0xe4}
	for _, v := range b {
		out = append(out, bits.Reverse8(v))
	}
	return out
}

func ttHeader(magazine, page int, erase bool, set byte) []byte {
	h := make([]byte, 40)
	for i, n := range []int{page % 10, page / 10, 0, 0, 0, 8, 0, int(set) << 1} {
		if erase && i == 3 {
			n = 8
		}
		h[i] = hammingCodes[n]
	}
	for i := 8; i < 40; i++ {
		h[i] = parity(' ')
	}
	return ttPacket(magazine, 0, h)
}

func ttRow(magazine, row int, text string) []byte {
	b := []byte{parity(0x0d), parity(0x0b), parity(0x0b)} // double height, and a box
	for i := range len(text) {
		b = append(b, parity(text[i]))
	}
	b = append(b, parity(0x0a), parity(0x0a))
	for len(b) < 40 {
		b = append(b, parity('x')) // outside of the box
	}
	return ttPacket(magazine, row, b)
}

func TestTeletextSubtitles(t *testing.T) {
	for _, c := range []byte{0, 3, 9, 15} {
		for bit := range 8 {
			assert.EqualValues(t, c, hamming(hammingCodes[c]^1<<bit), "one bit is mended")
		}
	}
	assert.Equal(t, -1, hamming(hammingCodes[5]^3))
	tt := NewTeletext([]Page{{Number: 888}, {Number: 150, Language: "deu"}})
	var got []Text
	see := func(at int64, units ...[]byte) {
		pes := []byte{0x10}
		for _, u := range units {
			pes = append(pes, u...)
		}
		tt.See(at, pes, func(x Text) { got = append(got, x) })
	}
	see(100, ttHeader(8, 88, true, 0), ttRow(8, 20, "BOATS AT"), ttRow(8, 22, "THE GATE #"), ttHeader(8, 99, true, 0))
	assert.Equal(t, []string{"TT888: BOATS AT\nTHE GATE £"}, texts(got))
	assert.EqualValues(t, 100, got[0].At)
	see(200, ttHeader(1, 50, true, 4), ttRow(1, 3, "B|GEN {[")) // German letters
	assert.Equal(t, "TT150: BöGEN äÄ", texts(got)[1])
	assert.True(t, got[1].Top)
	see(300, ttRow(1, 4, "MEHR")) // the page goes on in another packet
	assert.Equal(t, "TT150: BöGEN äÄ\nMEHR", texts(got)[2])
	see(400, ttHeader(8, 12, true, 0), ttRow(8, 5, "NEWS"))
	assert.Len(t, got, 3, "a page that nobody asked for")
	see(500, ttHeader(8, 88, true, 0))
	see(600, ttHeader(8, 88, false, 0))
	assert.Equal(t, "TT888: ", texts(got)[3], "an empty page ends it")
	broken := ttRow(1, 6, "HELLO")
	broken[4+2+3] ^= 1 // a character of the wrong parity
	see(700, ttHeader(1, 50, true, 4), broken)
	assert.Equal(t, "TT150: ELLO", texts(got)[4])
}

func FuzzText(f *testing.F) {
	f.Add(Pair608(0x14, 0x2f), append([]byte{0x10}, ttRow(8, 20, "BOATS")...))
	f.Fuzz(func(_ *testing.T, cc, pes []byte) {
		var d Decoder
		tt := NewTeletext([]Page{{Number: 888}})
		for at := range int64(3) {
			d.See(at*90000, cc, func(Text) {})
			tt.See(at*90000, pes, func(Text) {})
		}
	})
}
