package hevc

import bitstring "metaplasis/internal/core/bits"

// Kinds of pictures by their NAL unit types (table 7-1).
const (
	typeRADLN = 6
	typeRASLN = 8
	typeRASLR = 9
	typeIDRW  = 19
	typeIDRN  = 20
	typeCRA   = 21
	// Of NAL units in front of the slices of a picture (7.4.2.4.4).
	typePrefixSEI     = 39
	typeReservedFirst = 41
	typeReservedLast  = 44
	typeOtherFirst    = 48
	typeOtherLast     = 55
)

// Slice is what the head of a slice segment says of its picture (7.3.6.1).
type Slice struct {
	First   bool // first_slice_segment_in_pic_flag
	IDR     bool
	Ordered bool   // Order is told; of an IDR picture it is 0
	Order   uint32 // slice_pic_order_cnt_lsb, of SPS.OrderBits bits
}

// PPS is what reading the heads of slices needs of a picture parameter set (7.3.2.3.1).
type PPS struct {
	ID, SPS int
	output  bool // output_flag_present_flag
	extra   int  // num_extra_slice_header_bits
}

const sliceHead = 24 // bytes that hold the head as far as it is read

// ParsePPS reads a picture parameter set as far as heads of slices need it.
func ParsePPS(nal []byte) (p PPS, ok bool) {
	if NALType(nal) != TypePPS || len(nal) < 3 {
		return p, false
	}
	r := bitstring.NewReader(bitstring.Unescape(nal[2:min(len(nal), sliceHead)]))
	p.ID, p.SPS = int(r.UE()), int(r.UE())
	r.Flag() // dependent_slice_segments_enabled_flag
	p.output, p.extra = r.Flag(), int(r.U(3))
	return p, r.Err() == nil && p.ID <= 63 && p.SPS <= 15
}

// FirstSlice reports whether a slice segment is the first of its picture.
func FirstSlice(nal []byte) bool { return len(nal) > 2 && nal[2]&0x80 != 0 }

// SlicePPS returns the number of the picture parameter set of a slice segment, -1 when it cannot be read.
func SlicePPS(nal []byte) int {
	if len(nal) < 4 {
		return -1
	}
	r := sliceReader(nal)
	n := int(r.UE())
	if r.Err() != nil || n > 63 {
		return -1
	}
	return n
}

// sliceReader stands at the number of the picture parameter set.
func sliceReader(nal []byte) *bitstring.Reader {
	r := bitstring.NewReader(bitstring.Unescape(nal[2:min(len(nal), sliceHead)]))
	r.Flag()
	if t := NALType(nal); t >= typeIRAPFirst && t <= typeIRAPLast {
		r.Flag() // no_output_of_prior_pics_flag
	}
	return r
}

// ReadSlice reads the head of the first slice segment of a picture by its parameter sets.
func (s *SPS) ReadSlice(nal []byte, p *PPS) (h Slice, ok bool) {
	if len(nal) < 4 || !FirstSlice(nal) {
		return h, false
	}
	h.First = true
	t := NALType(nal)
	if h.IDR = t == typeIDRW || t == typeIDRN; h.IDR {
		h.Ordered = true
		return h, true
	}
	r := sliceReader(nal)
	r.UE() // slice_pic_parameter_set_id
	r.Skip(p.extra)
	r.UE() // slice_type
	if p.output {
		r.Flag()
	}
	if s.planes {
		r.U(2)
	}
	h.Ordered, h.Order = true, r.U(s.OrderBits)
	return h, r.Err() == nil
}

// Begins reports whether a NAL unit that is no slice begins an access unit behind the slices of another one (7.4.2.4.4).
func Begins(nal []byte) bool {
	switch t := NALType(nal); {
	case t >= TypeVPS && t <= TypeAUD, t == typePrefixSEI, t >= typeReservedFirst && t <= typeReservedLast, t >= typeOtherFirst && t <= typeOtherLast:
		return true
	}
	return false
}

// HasSkipped reports whether an access unit, its NAL units behind lengths of four bytes, is a picture that is decoded only
// together with what stands before the random access point that it belongs to (RASL, 3.115).
func HasSkipped(data []byte) bool {
	return has(data, func(t int) bool { return t == typeRASLN || t == typeRASLR })
}
