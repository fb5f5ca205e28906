// Package avc reads the syntax of H.264 (ITU-T H.264, ISO/IEC 14496-10) as far as an origin
// needs it: NAL units, sequence parameter sets, and the configuration record of
// ISO/IEC 14496-15. Coded slices pass through unread, but for their first header fields.
package avc

import (
	"encoding/binary"
	"fmt"

	"metaplasis/internal/core/bits"
	"metaplasis/internal/core/media"
)

// NAL unit types (ITU-T H.264, table 7-1).
const (
	TypeSlice         = 1
	TypePartitionA    = 2
	TypeIDR           = 5
	TypeSEI           = 6
	TypeSPS           = 7
	TypePPS           = 8
	TypeAUD           = 9
	TypeFiller        = 12
	TypeReservedFirst = 15
	TypeReservedLast  = 18
	startCodeLen      = 4
)

// NALType returns nal_unit_type, or 0 for an empty unit.
func NALType(nal []byte) int {
	if len(nal) == 0 {
		return 0
	}
	return int(nal[0] & 31)
}

// Split walks length-prefixed NAL units: each behind its size in lengthSize bytes, big-endian.
// The returned slices share data.
func Split(data []byte, lengthSize int) ([][]byte, error) {
	var out [][]byte
	for len(data) > 0 {
		if len(data) < lengthSize {
			return nil, &media.FormatError{Format: "NAL unit length", Found: fmt.Sprintf("%d bytes", len(data)),
				Want: fmt.Sprintf("%d", lengthSize)}
		}
		n := 0
		for _, b := range data[:lengthSize] {
			n = n<<8 | int(b)
		}
		data = data[lengthSize:]
		if n > len(data) {
			return nil, &media.FormatError{Format: "NAL unit", Found: fmt.Sprintf("a length of %d", n),
				Want: fmt.Sprintf("%d at most", len(data))}
		}
		if n > 0 {
			out = append(out, data[:n])
		}
		data = data[n:]
	}
	return out, nil
}

// SplitAnnexB walks NAL units behind start codes (ITU-T H.264, annex B). The returned slices
// share data.
func SplitAnnexB(data []byte) [][]byte {
	var out [][]byte
	start := -1
	emit := func(end int) {
		if start < 0 {
			return
		}
		nal := data[start:end]
		for len(nal) > 0 && nal[len(nal)-1] == 0 {
			nal = nal[:len(nal)-1]
		}
		if len(nal) > 0 {
			out = append(out, nal)
		}
	}
	for i := 0; i+2 < len(data); {
		switch {
		case data[i+2] > 1:
			i += 3
		case data[i] == 0 && data[i+1] == 0 && data[i+2] == 1:
			emit(i)
			start = i + 3
			i += 3
		default:
			i++
		}
	}
	emit(len(data))
	return out
}

// AppendAnnexB rewrites NAL units that stand behind four-byte lengths as a byte stream.
func AppendAnnexB(dst, data []byte) []byte {
	for len(data) >= 4 {
		n := int(binary.BigEndian.Uint32(data))
		data = data[4:]
		if n > len(data) {
			return dst
		}
		dst = append(dst, 0, 0, 0, 1)
		dst = append(dst, data[:n]...)
		data = data[n:]
	}
	return dst
}

// AppendNAL appends one NAL unit behind its four-byte length.
func AppendNAL(dst, nal []byte) []byte {
	dst = binary.BigEndian.AppendUint32(dst, uint32(len(nal)))
	return append(dst, nal...)
}

// HasIDR reports whether one of the units is a slice of an IDR picture.
func HasIDR(nals [][]byte) bool {
	for _, n := range nals {
		if NALType(n) == TypeIDR {
			return true
		}
	}
	return false
}

// SPS is a sequence parameter set, as specified in section 7.3.2.1.1, with what annex E adds.
type SPS struct {
	Profile, Constraints, Level uint8 // profile_idc, the constraint flags' byte, level_idc
	ID                          uint32
	ChromaFormat                uint32 // chroma_format_idc, 1 is 4:2:0
	BitDepth                    uint32 // of luma
	ChromaDepth                 uint32 // bit depth of chroma
	Lossless                    bool   // qpprime_y_zero_transform_bypass_flag
	Progressive                 bool   // frame_mbs_only_flag
	Reordered                   bool   // pictures may be presented in another order than they are decoded
	Reorder                     int    // how many pictures may be decoded before one and presented behind it; -1: it does not say
	OrderBits                   int    // of pic_order_cnt_lsb, 0 where slices do not tell their order
	frameBits                   int    // of frame_num
	planes                      bool   // separate_colour_plane_flag
	Colour                      media.Colour
	Width, Height               int // luma samples after cropping
	SAR                         media.Rational
	FrameRate                   media.Rational // invalid when timing info is absent
}

// maxSide bounds a picture's width and height: level 6.2 allows 16,864 samples at most.
//
//limit:samples of a picture's side | each parameter set | the set is refused
const maxSide = 16864

// ParseSPS reads a sequence parameter set NAL unit.
//
//large:follows the syntax table of the standard, element by element
func ParseSPS(nal []byte) (*SPS, error) {
	if NALType(nal) != TypeSPS {
		return nil, &media.FormatError{Format: "SPS", Found: fmt.Sprintf("NAL unit type %d", NALType(nal)), Want: "7"}
	}
	r := bits.NewReader(bits.Unescape(nal[1:]))
	s := &SPS{Profile: uint8(r.U(8)), Constraints: uint8(r.U(8)), Level: uint8(r.U(8))}
	s.ID = r.UE()
	s.ChromaFormat, s.BitDepth, s.ChromaDepth = 1, 8, 8
	separatePlanes := false
	switch s.Profile {
	case 100, 110, 122, 244, 44, 83, 86, 118, 128, 138, 139, 134, 135:
		if s.ChromaFormat = r.UE(); s.ChromaFormat == 3 {
			separatePlanes = r.Flag()
		}
		s.BitDepth = 8 + r.UE()
		s.ChromaDepth = 8 + r.UE()
		s.Lossless = r.Flag()
		if r.Flag() { // seq_scaling_matrix_present_flag
			lists := 8
			if s.ChromaFormat == 3 {
				lists = 12
			}
			for i := range lists {
				if r.Flag() {
					skipScalingList(r, i)
				}
			}
		}
	}
	s.planes = separatePlanes
	s.frameBits = int(min(r.UE(), countBits)) + 4
	order := r.UE()
	s.Reordered, s.Reorder = order != 2 && s.Profile != 66, -1
	switch order {
	case 0:
		s.OrderBits = int(min(r.UE(), countBits)) + 4
	case 1:
		r.Flag()
		r.SE()
		r.SE()
		cycle := r.UE()
		if cycle > 255 {
			return nil, &media.FormatError{Format: "SPS", Found: fmt.Sprintf("%d frames in the order count cycle", cycle),
				Want: "255 at most"}
		}
		for range cycle {
			r.SE()
		}
	}
	references := r.UE() // max_num_ref_frames
	r.Flag()
	mbWidth, mapHeight := int(r.UE())+1, int(r.UE())+1
	s.Progressive = r.Flag()
	fields := 1
	if !s.Progressive {
		fields = 2
		r.Flag()
	}
	r.Flag() // direct_8x8_inference_flag
	if mbWidth*16 > maxSide+16 || mapHeight*16*fields > maxSide+16 {
		return nil, &media.FormatError{Format: "SPS", Found: fmt.Sprintf("a picture of %d by %d macroblocks", mbWidth,
			mapHeight), Want: fmt.Sprintf("sides of at most %d samples", maxSide)}
	}
	s.Width, s.Height = mbWidth*16, mapHeight*16*fields
	if r.Flag() { // frame_cropping_flag, units by table 6-1
		unitX, unitY := 1, fields
		if s.ChromaFormat != 0 && !separatePlanes {
			if s.ChromaFormat < 3 {
				unitX = 2
			}
			if s.ChromaFormat == 1 {
				unitY = 2 * fields
			}
		}
		left, right, top, bottom := int(r.UE()), int(r.UE()), int(r.UE()), int(r.UE())
		if left > maxSide || right > maxSide || top > maxSide || bottom > maxSide ||
			(left+right)*unitX >= s.Width || (top+bottom)*unitY >= s.Height {
			return nil, &media.FormatError{Format: "SPS", Found: "a cropping rectangle that leaves nothing",
				Want: "a picture"}
		}
		s.Width -= (left + right) * unitX
		s.Height -= (top + bottom) * unitY
	}
	s.SAR = media.Rational{Num: 1, Den: 1}
	if r.Flag() {
		s.parseVUI(r)
	}
	if err := r.Err(); err != nil {
		return nil, fmt.Errorf("SPS of %d bytes: %w", len(nal), err)
	}
	intra := s.Constraints&0x10 != 0 && (s.Profile == 44 || s.Profile == 86 || s.Profile == 100 || s.Profile == 110 || s.Profile == 122 || s.Profile == 244)
	switch { // what E.2.1 infers where the set does not say
	case !s.Reordered || references == 0 || s.Reorder < 0 && intra:
		s.Reorder = 0
	}
	return s, nil
}

// countBits bounds the numbers that slices tell (7.4.2.1.1): log2 minus 4.
const countBits = 12

// parseVUI reads annex E.1.1 up to the timing information.
func (s *SPS) parseVUI(r *bits.Reader) {
	d := bits.ReadDisplay(r)
	s.SAR, s.Colour = d.SAR, d.Colour
	if r.Flag() { // timing_info_present_flag: two ticks a frame
		tick, scale := int64(r.U(32)), int64(r.U(32))
		if rate := (media.Rational{Num: scale, Den: 2 * tick}); tick > 0 && scale > 0 && scale/tick < 1000 {
			s.FrameRate = rate.Reduce()
		}
		r.Flag() // fixed_frame_rate_flag
	}
	s.parseRestriction(r)
}

// parseRestriction reads on to how far pictures are reordered. A set that ends before it says nothing of that, and is as good.
func (s *SPS) parseRestriction(of *bits.Reader) {
	r := *of
	conforms := false
	for range 2 { // for NAL units, and for slices
		if r.Flag() {
			conforms = true
			skipHRD(&r)
		}
	}
	if conforms {
		r.Flag() // low_delay_hrd_flag
	}
	r.Flag()       // pic_struct_present_flag
	if !r.Flag() { // bitstream_restriction_flag
		return
	}
	r.Flag()
	for range 4 { // bytes, bits and vectors
		r.UE()
	}
	if depth := r.UE(); r.Err() == nil && depth <= mostReordered {
		s.Reorder = int(depth)
	}
}

// mostReordered is how far pictures may be reordered (A.3.1).
const mostReordered = 16

// skipHRD passes over the parameters of a reference decoder (E.1.2).
func skipHRD(r *bits.Reader) {
	count := r.UE()
	if count > 31 {
		r.Skip(-1)
		return
	}
	r.U(8)
	for range count + 1 {
		r.UE()
		r.UE()
		r.Flag()
	}
	r.U(20)
}

func skipScalingList(r *bits.Reader, i int) {
	size := 16
	if i >= 6 {
		size = 64
	}
	last, next := int32(8), int32(8)
	for range size {
		if next != 0 {
			next = (last + r.SE()) & 255
		}
		if next != 0 {
			last = next
		}
	}
}

// Undecodable says what keeps the decoder here from reading what the set describes, "" when nothing
// does: it reads Baseline, Main and High profile, progressive, 8 bits, 4:2:0.
func (s *SPS) Undecodable() string {
	switch {
	case s.Lossless:
		return "lossless coding"
	case s.BitDepth != 8 || s.ChromaDepth != 8:
		return fmt.Sprintf("a bit depth of %d", max(s.BitDepth, s.ChromaDepth))
	case s.ChromaFormat != 1:
		return "chroma of " + chromaNames[min(s.ChromaFormat, 3)]
	case !s.Progressive:
		return "interlaced coding"
	case s.Profile != 66 && s.Profile != 77 && s.Profile != 100:
		return fmt.Sprintf("profile %d", s.Profile)
	}
	return ""
}

var chromaNames = [...]string{"4:0:0", "4:2:0", "4:2:2", "4:4:4"}

// CodecName returns the name of RFC 6381, 3.3, such as avc1.64001f.
func (s *SPS) CodecName() string {
	return fmt.Sprintf("avc1.%02x%02x%02x", s.Profile, s.Constraints, s.Level)
}
