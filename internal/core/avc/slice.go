package avc

import "metaplasis/internal/core/bits"

// Slice is what the head of a slice says of its picture (7.3.3).
type Slice struct {
	First   bool // it holds the first macroblock
	IDR     bool
	Field   bool // the picture is one field of a frame
	Bottom  bool
	Frame   uint32 // frame_num
	Ordered bool   // Order is told: pic_order_cnt_type is 0
	Order   uint32 // pic_order_cnt_lsb, of SPS.OrderBits bits
}

const sliceHead = 40 // bytes that hold the head as far as it is read

// SlicePPS returns the number of the picture parameter set of a slice, -1 when it cannot be read, and whether the slice
// is the first of its picture. That needs no parameter set.
func SlicePPS(nal []byte) (pps int, first bool) {
	if len(nal) < 2 {
		return -1, false
	}
	r := bits.NewReader(bits.Unescape(nal[1:min(len(nal), sliceHead)]))
	first = r.UE() == 0
	r.UE()
	if pps = int(r.UE()); r.Err() != nil || pps > 255 {
		return -1, first
	}
	return pps, first
}

// PPSOf returns the numbers of a picture parameter set and of the sequence parameter set that it is for (7.3.2.2).
func PPSOf(nal []byte) (pps, sps int, ok bool) {
	if NALType(nal) != TypePPS {
		return 0, 0, false
	}
	r := bits.NewReader(bits.Unescape(nal[1:min(len(nal), sliceHead)]))
	pps, sps = int(r.UE()), int(r.UE())
	return pps, sps, r.Err() == nil && pps <= 255 && sps <= 31
}

// ReadSlice reads the head of a slice by its sequence parameter set.
func (s *SPS) ReadSlice(nal []byte) (h Slice, ok bool) {
	if len(nal) < 2 {
		return h, false
	}
	r := bits.NewReader(bits.Unescape(nal[1:min(len(nal), sliceHead)]))
	h.First = r.UE() == 0
	r.UE() // slice_type
	r.UE() // pic_parameter_set_id
	if s.planes {
		r.U(2)
	}
	h.Frame = r.U(s.frameBits)
	if !s.Progressive {
		if h.Field = r.Flag(); h.Field {
			h.Bottom = r.Flag()
		}
	}
	if h.IDR = NALType(nal) == TypeIDR; h.IDR {
		r.UE() // idr_pic_id
	}
	if h.Ordered = s.OrderBits > 0; h.Ordered {
		h.Order = r.U(s.OrderBits)
	}
	return h, r.Err() == nil
}

// Pairs reports whether a field is the second of the frame of which another one is the first (3.30): of the other parity,
// with the same number, and not an IDR picture of its own.
func (h *Slice) Pairs(first *Slice) bool {
	return first.Field && h.Field && h.Bottom != first.Bottom && h.Frame == first.Frame && !h.IDR
}
