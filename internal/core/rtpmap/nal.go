package rtpmap

import (
	"bytes"

	"metaplasis/internal/core/coding"
)

// nalUnits puts NAL units of H.264 (RFC 6184) and HEVC (RFC 7798) together to access units behind start codes.
type nalUnits struct {
	form  func(u *nalUnits, b []byte)
	codec *coding.Codec

	stamp    uint32
	data     []byte
	open     bool
	broken   bool // a packet of the access unit is missing
	fragment bool // the last NAL unit goes on
	doubt    bool // packets are missing before the access unit: its head may be among them
}

func (u *nalUnits) Packet(p *Packet, lost bool, take func(Unit)) {
	if u.open && p.Timestamp != u.stamp {
		if !lost { // else who knows what else it had
			u.flush(take)
		}
		u.data, u.open, u.broken, u.fragment = nil, false, false, false
	} else if lost && u.open {
		u.broken = true
	}
	if !u.open {
		u.doubt = lost
	}
	u.open, u.stamp = true, p.Timestamp
	if lost {
		u.fragment = false
	}
	u.form(u, p.Payload)
	if p.Marker {
		u.flush(take)
		u.data, u.open, u.broken, u.fragment = nil, false, false, false
	}
}

func (u *nalUnits) flush(take func(Unit)) {
	if len(u.data) > 0 && !u.broken && !u.fragment && (!u.doubt || u.begins()) {
		take(Unit{u.stamp, u.data})
	}
}

// begins reports whether the first slice is the first of its picture.
func (u *nalUnits) begins() bool {
	const code = 4 // 00 00 00 01
	for at := 0; ; {
		next := bytes.Index(u.data[at+code:], []byte{0, 0, 1})
		nal := u.data[at+code:]
		if next >= 0 {
			nal = nal[:next]
		}
		if slice, first := u.codec.FirstSlice(nal); slice || next < 0 {
			return first
		}
		at += code + next - 1
	}
}

func (u *nalUnits) add(nal []byte) {
	if len(nal) == 0 {
		return
	}
	if len(u.data)+len(nal) > maxUnit {
		u.broken = true
		return
	}
	u.data = append(append(u.data, 0, 0, 0, 1), nal...)
}

// part adds a fragment; head is the NAL unit's header, of the first one.
func (u *nalUnits) part(first, last bool, head, body []byte) {
	switch {
	case first:
		u.add(append(append([]byte(nil), head...), body...))
		u.fragment = !last
	case !u.fragment || len(u.data)+len(body) > maxUnit:
		u.broken = true
	default:
		u.data = append(u.data, body...)
		u.fragment = !last
	}
}

// several adds NAL units behind their lengths of two bytes.
func (u *nalUnits) several(b []byte) {
	for len(b) >= 2 {
		n := int(b[0])<<8 | int(b[1])
		if b = b[2:]; n > len(b) {
			u.broken = true
			return
		}
		u.add(b[:n])
		b = b[n:]
	}
}

// avcPayload reads a payload of H.264 (RFC 6184, 5.4): one NAL unit, several (5.7), or a fragment of one (5.8).
func avcPayload(u *nalUnits, b []byte) {
	const stapA, stapB, fuA, fuB = 24, 25, 28, 29
	if len(b) < 1 {
		return
	}
	switch kind := b[0] & 31; {
	case kind >= 1 && kind <= 23:
		u.add(b)
	case kind == stapA:
		u.several(b[1:])
	case kind == stapB && len(b) > 3:
		u.several(b[3:])
	case (kind == fuA || kind == fuB) && len(b) > 2:
		body := b[2:]
		if kind == fuB && len(b) > 4 {
			body = b[4:]
		}
		u.part(b[1]&0x80 != 0, b[1]&0x40 != 0, []byte{b[0]&0xe0 | b[1]&31}, body)
	}
}

// hevcPayload reads a payload of HEVC (RFC 7798, 4.4), without decoding order numbers.
func hevcPayload(u *nalUnits, b []byte) {
	const aggregation, fragmentation = 48, 49
	if len(b) < 3 {
		return
	}
	switch kind := b[0] >> 1 & 63; {
	case kind == aggregation:
		u.several(b[2:])
	case kind == fragmentation:
		u.part(b[2]&0x80 != 0, b[2]&0x40 != 0, []byte{b[0]&0x81 | b[2]&63<<1, b[1]}, b[3:])
	case kind < aggregation:
		u.add(b)
	}
}
