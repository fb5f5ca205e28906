package ts

import (
	"unicode/utf16"

	"golang.org/x/text/encoding"
	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/korean"
	"golang.org/x/text/encoding/simplifiedchinese"
	"golang.org/x/text/encoding/traditionalchinese"
	"golang.org/x/text/unicode/norm"
)

// Tables of characters, by the first byte of a text (ETSI EN 300 468, table A.3).
const (
	tableByNumber = 0x10 // of ISO/IEC 8859, whose part follows in two bytes
	tableWide     = 0x11 // the basic plane of ISO/IEC 10646
	tableUTF8     = 0x15
)

var tables = map[byte]encoding.Encoding{
	0x01: charmap.ISO8859_5, 0x02: charmap.ISO8859_6, 0x03: charmap.ISO8859_7, 0x04: charmap.ISO8859_8, 0x05: charmap.ISO8859_9,
	0x06: charmap.ISO8859_10, 0x07: charmap.Windows874 /* with ISO/IEC 8859-11 in it */, 0x09: charmap.ISO8859_13, 0x0a: charmap.ISO8859_14, 0x0b: charmap.ISO8859_15,
	0x12: korean.EUCKR, 0x13: simplifiedchinese.GBK, 0x14: traditionalchinese.Big5,
}

// parts of ISO/IEC 8859 (table A.4).
var parts = map[byte]encoding.Encoding{
	1: charmap.ISO8859_1, 2: charmap.ISO8859_2, 3: charmap.ISO8859_3, 4: charmap.ISO8859_4, 5: charmap.ISO8859_5, 6: charmap.ISO8859_6, 7: charmap.ISO8859_7, 8: charmap.ISO8859_8,
	9: charmap.ISO8859_9, 10: charmap.ISO8859_10, 11: charmap.Windows874, 13: charmap.ISO8859_13, 14: charmap.ISO8859_14, 15: charmap.ISO8859_15,
}

// serviceText reads a text (annex A): a first byte below 0x20 names its table of characters, and without one it is that of
// ISO/IEC 6937 with the Euro sign. What no table knows is left out.
func serviceText(b []byte) string {
	if len(b) == 0 {
		return ""
	}
	first := b[0]
	switch {
	case first >= 0x20:
		return printable(latin(b))
	case first == tableUTF8:
		return printable(string(b[1:]))
	case first == tableWide:
		var units []uint16
		for b = b[1:]; len(b) >= 2; b = b[2:] {
			units = append(units, uint16(b[0])<<8|uint16(b[1]))
		}
		return printable(string(utf16.Decode(units)))
	case first == tableByNumber && len(b) >= 3 && b[1] == 0:
		return decoded(parts[b[2]], b[3:])
	case first == tableByNumber:
		return ""
	}
	return decoded(tables[first], b[1:])
}

func decoded(table encoding.Encoding, b []byte) string {
	if table == nil { // one of the future: its letters without accents lie where they always do
		return printable(latin(b))
	}
	out, err := table.NewDecoder().Bytes(b)
	if err != nil {
		return ""
	}
	return printable(string(out))
}

// accents stand before their letter in ISO/IEC 6937; Unicode has them behind it. 0 is none.
var accents = [16]rune{1: 0x300, 0x301, 0x302, 0x303, 0x304, 0x306, 0x307, 0x308, 0, 0x30a, 0x327, 0, 0x30b, 0x328, 0x30c}

// Characters from 0xa0 to 0xbf and from 0xd0 to 0xff of ISO/IEC 6937 with the Euro sign (figure A.1); a space is none.
var (
	signs   = []rune("\u00a0¡¢£€¥ §¤‘“«←↑→↓°±²³×µ¶·÷’”»¼½¾¿")
	letters = []rune("―¹®©™♪¬¦    ⅛⅜⅝⅞ΩÆĐªĦ ĲĿŁØŒºÞŦŊŉĸæđðħıĳŀłøœßþŧŋ\u00ad")
)

// latin reads ISO/IEC 6937 with the Euro sign.
func latin(b []byte) string {
	var out []rune
	accent := rune(0)
	for _, c := range b {
		r := rune(c)
		switch {
		case c >= 0xc0 && c < 0xd0:
			accent = accents[c-0xc0]
			continue
		case c >= 0xd0:
			r = letters[c-0xd0]
		case c >= 0xa0:
			r = signs[c-0xa0]
		}
		if out = append(out, r); accent != 0 {
			out = append(out, accent)
			accent = 0
		}
	}
	return norm.NFC.String(string(out))
}
