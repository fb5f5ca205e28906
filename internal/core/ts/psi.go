package ts

import (
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"

	"metaplasis/internal/core/bits"
	"metaplasis/internal/core/captions"
	"metaplasis/internal/core/coding"
	"metaplasis/internal/core/media"
)

// Programme specific information (ISO/IEC 13818-1, 2.4.4) and the names of services (ETSI EN 300 468, 5.2.3) lie in
// sections:
//
//	table(8) syntax(1) private(1) reserved(2) length(12) number(16) reserved(2) version(5) current(1)
//	section(8) lastSection(8) … crc(32)

// Programme is one programme of a transport stream.
type Programme struct {
	Number    int           `json:"number"`
	Name      string        `json:"name,omitempty"`     // of its service
	Provider  string        `json:"provider,omitempty"` // of its service
	PMT       int           `json:"-"`                  // PID of its map
	Clock     int           `json:"-"`                  // PID of its clock
	Scrambled bool          `json:"scrambled,omitempty"`
	Tracks    []StreamTrack `json:"tracks"`

	section []byte // of the map, as it was read last
}

// StreamTrack is an elementary stream of a programme.
type StreamTrack struct {
	PID      int             `json:"pid"`
	Type     uint8           `json:"type"`            // stream_type
	Codec    media.Codec     `json:"codec,omitempty"` // "" of what is not known
	Label    string          `json:"label"`           // for people
	Kind     media.Kind      `json:"kind,omitempty"`
	Language string          `json:"language,omitempty"` // ISO 639-2
	Role     media.Role      `json:"role,omitempty"`
	Private  []Description   `json:"-"` // descriptors
	Pages    []captions.Page `json:"-"` // of teletext: those with subtitles
}

// Description is a descriptor of a track.
type Description struct {
	Tag  uint8
	Data []byte
}

// Bounds of what is held of the tables.
const (
	//limit:programmes | each stream | further ones are left out
	maxProgrammes = 128
	//limit:tracks | each programme | further ones are left out
	maxTracks = 64
	//limit:bytes of a section | each PID | the section is dropped
	maxSectionSize = 4096 // of private sections (2.4.4.11), the longest there are
	//limit:bytes of a programme's name | each programme | the name is cut
	maxNameBytes = 80
)

// sections puts the sections of one PID together.
type sections struct {
	buf  []byte
	open bool
}

// add takes the payload of a packet and hands over each section that is whole.
func (s *sections) add(body []byte, start bool, take func(section []byte), bad func()) {
	if start {
		if len(body) < 1 || int(body[0]) > len(body)-1 {
			s.open = false
			bad()
			return
		}
		pointer := int(body[0])
		if s.open {
			s.buf = append(s.buf, body[1:1+pointer]...)
			s.flush(take, bad)
		}
		s.buf, s.open = append(s.buf[:0], body[1+pointer:]...), true
	} else if s.open {
		s.buf = append(s.buf, body...)
	}
	s.flush(take, bad)
}

func (s *sections) flush(take func([]byte), bad func()) {
	for s.open && len(s.buf) >= 3 {
		if s.buf[0] == 0xff { // stuffing up to the end of the packet
			s.open = false
			return
		}
		n := 3 + (int(s.buf[1]&0x0f)<<8 | int(s.buf[2]))
		if n > maxSectionSize {
			s.open = false
			bad()
			return
		}
		if len(s.buf) < n {
			return
		}
		section := s.buf[:n]
		switch {
		case s.buf[1]&0x80 == 0: // the short form has no CRC
			take(section)
		case n < 12 || bits.CRC32(section) != 0:
			bad()
		default:
			take(section)
		}
		s.buf = append(s.buf[:0], s.buf[n:]...)
	}
}

// descriptors walks a list of descriptors: tag(8) length(8) data.
func descriptors(b []byte, see func(tag uint8, data []byte)) {
	for len(b) >= 2 {
		n := int(b[1])
		if n > len(b)-2 {
			return
		}
		see(b[0], b[2:2+n])
		b = b[2+n:]
	}
}

// readPMT reads a programme map (2.4.4.8) without its header.
func (p *Programme) readPMT(b []byte) error {
	if len(b) < 12 {
		return broken(fmt.Sprintf("a programme map of %d bytes", len(b)), "at least 12")
	}
	p.Clock = int(b[8]&0x1f)<<8 | int(b[9])
	info := int(b[10]&0x0f)<<8 | int(b[11])
	if info > len(b)-12 {
		return broken("a programme map whose descriptors do not fit", "shorter ones")
	}
	p.Tracks = nil
	for b = b[12+info:]; len(b) >= 5 && len(p.Tracks) < maxTracks; {
		n := int(b[3]&0x0f)<<8 | int(b[4])
		if n > len(b)-5 {
			return broken("a programme map whose tracks do not fit", "shorter descriptors")
		}
		p.Tracks = append(p.Tracks, readTrack(b[0], int(b[1]&0x1f)<<8|int(b[2]), b[5:5+n]))
		b = b[5+n:]
	}
	return nil
}

func readTrack(kind uint8, pid int, info []byte) StreamTrack {
	t := StreamTrack{PID: pid, Type: kind}
	var private coding.Private
	descriptors(info, func(tag uint8, data []byte) {
		t.Private = append(t.Private, Description{tag, slices.Clone(data)})
		switch {
		case tag == 0x05 && len(data) >= 4: // registration (2.6.8)
			private.Registration = string(data[:4])
		case tag == 0x0a && len(data) >= 4: // ISO 639 language (2.6.18)
			t.Language = languageCode(data[:3])
			t.Role = audioRole(data[3])
		case tag == 0x56 && len(data) >= 3: // teletext
			t.Language, t.Pages = languageCode(data[:3]), subtitlePages(data)
		case tag == 0x59 && len(data) >= 3: // subtitles
			t.Language = languageCode(data[:3])
		case tag == 0x7f && len(data) >= 1: // extension
			private.Descriptors = append(private.Descriptors, 0x100|uint16(data[0]))
			return
		}
		private.Descriptors = append(private.Descriptors, uint16(tag))
	})
	t.Label = fmt.Sprintf("stream type %#02x", kind)
	if c := coding.ByStream(kind, private); c != nil {
		t.Codec, t.Label, t.Kind = c.ID, c.Label, c.Kind
	}
	return t
}

// maxPages bounds the subtitle pages of a track of teletext.
//
//limit:teletext pages | each track | further ones are left out
const maxPages = 8

// subtitlePages lists those of a teletext descriptor (ETSI EN 300 468, 6.2.43): language(24) type(5) magazine(3)
// page(8), the page in two decimal digits.
func subtitlePages(data []byte) (out []captions.Page) {
	const subtitles, impaired = 2, 5
	for ; len(data) >= 5 && len(out) < maxPages; data = data[5:] {
		kind, magazine, page := data[3]>>3, int(data[3]&7), int(data[4]>>4)*10+int(data[4]&15)
		if magazine == 0 {
			magazine = 8
		}
		if kind == subtitles || kind == impaired {
			out = append(out, captions.Page{Number: magazine*100 + page, Language: languageCode(data[:3]), Impaired: kind == impaired})
		}
	}
	return out
}

// languageCode takes three letters, "" for anything else and for the code of an unknown language.
func languageCode(b []byte) string {
	s := strings.ToLower(string(b))
	if strings.ContainsFunc(s, func(r rune) bool { return r < 'a' || r > 'z' }) || s == "und" {
		return ""
	}
	return s
}

// audioRole reads an audio type (2.6.19, table 2-60).
func audioRole(v byte) media.Role {
	if v == 3 { // visual impaired commentary
		return media.RoleDescription
	}
	return ""
}

// readSDT reads a service description section, without its header, into names by programme number.
func readSDT(b []byte, name func(number int, provider, name string)) {
	for b = b[min(11, len(b)):]; len(b) >= 5; {
		n := int(b[3]&0x0f)<<8 | int(b[4])
		if n > len(b)-5 {
			return
		}
		number := int(b[0])<<8 | int(b[1])
		descriptors(b[5:5+n], func(tag uint8, data []byte) {
			if tag != 0x48 || len(data) < 2 || int(data[1]) > len(data)-3 { // service descriptor (6.2.33)
				return
			}
			provider := data[2 : 2+int(data[1])]
			rest := data[2+len(provider):]
			if int(rest[0]) > len(rest)-1 {
				return
			}
			name(number, serviceText(provider), serviceText(rest[1:1+int(rest[0])]))
		})
		b = b[5+n:]
	}
}

func printable(s string) string {
	s = strings.Map(func(r rune) rune {
		if r < 0x20 || r >= 0x7f && r < 0xa0 || r == '\ufffd' {
			return -1
		}
		return r
	}, s)
	for len(s) > maxNameBytes {
		_, size := utf8.DecodeLastRuneInString(s)
		s = s[:len(s)-size]
	}
	return strings.TrimSpace(s)
}
