package avc

import (
	"encoding/binary"

	"metaplasis/internal/core/bits"
)

// Picture is what the first bytes of an access unit's NAL units tell of its picture.
type Picture struct {
	IDR        bool
	Intra      bool // every slice is an I slice
	Recovery   bool // a recovery point SEI message: decoding may start here (D.1.8)
	After      int  // recovery_frame_cnt: the picture is right so many frames later
	SPS, PPS   [][]byte
	hasSlices  bool
	references bool
}

// Reference reports whether other pictures may refer to this one (nal_ref_idc, 7.4.1).
func (p *Picture) Reference() bool { return p.references }

const seiRecoveryPoint = 6

// Look reads the heads of a unit's NAL units, which stand behind lengths of four bytes.
func Look(data []byte) (p Picture) {
	p.Intra = true
	for len(data) >= 4 {
		n := int(binary.BigEndian.Uint32(data))
		data = data[4:]
		if n > len(data) || n == 0 {
			break
		}
		nal := data[:n]
		data = data[n:]
		switch NALType(nal) {
		case TypeIDR:
			p.IDR, p.hasSlices = true, true
			p.references = true
		case TypeSlice, TypePartitionA:
			p.hasSlices = true
			p.references = p.references || nal[0]&0x60 != 0
			p.Intra = p.Intra && isIntra(nal)
		case TypeSEI:
			p.recovery(nal)
		case TypeSPS:
			p.SPS = append(p.SPS, nal)
		case TypePPS:
			p.PPS = append(p.PPS, nal)
		}
	}
	p.Intra = p.Intra && p.hasSlices
	return p
}

// isIntra reads the slice type (7.3.3, table 7-6).
func isIntra(nal []byte) bool {
	const enough = 24 // bytes that hold the first two numbers
	r := bits.NewReader(bits.Unescape(nal[1:min(len(nal), enough)]))
	r.UE() // first_mb_in_slice
	t := r.UE()
	return r.Err() == nil && (t%5 == 2 || t%5 == 4)
}

func (p *Picture) recovery(nal []byte) {
	for b := bits.Unescape(nal[1:]); len(b) > 2; {
		kind, rest, ok := seiNumber(b)
		if !ok {
			return
		}
		size, rest, ok := seiNumber(rest)
		if !ok || size > len(rest) {
			return
		}
		if kind == seiRecoveryPoint {
			r := bits.NewReader(rest[:size])
			if n := r.UE(); r.Err() == nil {
				p.Recovery, p.After = true, int(n)
			}
		}
		b = rest[size:]
	}
}
