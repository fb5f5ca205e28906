package avc

import (
	"bytes"
	"encoding/binary"

	"metaplasis/internal/core/bits"
)

// Closed captions travel in supplemental enhancement information: user data registered by ITU-T
// T.35 (ITU-T H.264, D.1.6), as ATSC A/53 part 4, 6.2.3 lays it out:
//
//	country(8)=0xb5 provider(16)=0x0031 "GA94" type(8)=3 cc_data()
//	cc_data: reserved(1) process(1) additional(1) count(5) 0xff { marker(5) valid(1) type(2) data(16) } 0xff

const seiRegistered = 4 // payloadType of user_data_registered_itu_t_t35

var captionMark = []byte{0xb5, 0x00, 0x31, 'G', 'A', '9', '4', 3}

// Captions returns the cc_data of a unit's captions, each as it stands in its message; the NAL
// units stand behind lengths of four bytes. The common case, none, costs a look at each NAL header.
func Captions(data []byte) (out [][]byte) {
	for len(data) >= 4 {
		n := int(binary.BigEndian.Uint32(data))
		data = data[4:]
		if n > len(data) || n == 0 {
			return out
		}
		if NALType(data[:n]) == TypeSEI {
			out = append(out, captionsOf(bits.Unescape(data[1:n]))...)
		}
		data = data[n:]
	}
	return out
}

// captionsOf walks the messages of one SEI unit (7.3.2.3.1).
func captionsOf(b []byte) (out [][]byte) {
	for len(b) > 2 {
		kind, rest, ok := seiNumber(b)
		if !ok {
			return out
		}
		size, rest, ok := seiNumber(rest)
		if !ok || size > len(rest) {
			return out
		}
		if kind == seiRegistered && bytes.HasPrefix(rest[:size], captionMark) {
			out = append(out, rest[len(captionMark):size])
		}
		b = rest[size:]
	}
	return out
}

// seiNumber reads a number written as bytes of 255 and a last one.
func seiNumber(b []byte) (n int, rest []byte, ok bool) {
	for i, v := range b {
		n += int(v)
		if v != 255 {
			return n, b[i+1:], true
		}
	}
	return 0, nil, false
}

// CaptionSEI makes a SEI unit that carries cc_data.
func CaptionSEI(ccData []byte) []byte {
	payload := append(append([]byte(nil), captionMark...), ccData...)
	b := []byte{TypeSEI, seiRegistered}
	n := len(payload)
	for ; n >= 255; n -= 255 {
		b = append(b, 255)
	}
	b = append(b, byte(n))
	b = append(b, payload...)
	b = append(b, 0x80)
	return escape(b)
}

// escape puts in emulation_prevention_three_byte (7.4.1).
func escape(nal []byte) []byte {
	out := make([]byte, 0, len(nal)+8)
	zeros := 0
	for _, v := range nal {
		if zeros >= 2 && v <= 3 {
			out = append(out, 3)
			zeros = 0
		}
		out = append(out, v)
		if v == 0 {
			zeros++
		} else {
			zeros = 0
		}
	}
	return out
}

// InsertSEI puts SEI units before the first slice of an access unit, behind its delimiter.
func InsertSEI(data []byte, seis ...[]byte) []byte {
	size := len(data)
	for _, s := range seis {
		size += len(s) + 4
	}
	out := make([]byte, 0, size)
	if len(data) >= 5 && NALType(data[4:]) == TypeAUD {
		n := 4 + int(binary.BigEndian.Uint32(data))
		if n <= len(data) {
			out = append(out, data[:n]...)
			data = data[n:]
		}
	}
	for _, s := range seis {
		out = AppendNAL(out, s)
	}
	return append(out, data...)
}
