package hevc

import (
	"fmt"

	bitstring "metaplasis/internal/core/bits"
	"metaplasis/internal/core/media"
)

// SPS is what a sequence parameter set (7.3.2.2.1) tells a packager, with annex E.
type SPS struct {
	Width, Height int // luma samples inside the conformance window
	ChromaFormat  uint32
	BitDepth      uint32
	ID            int
	Reordered     bool // pictures may be output in another order than they are decoded
	Reorder       int  // how many pictures may be decoded before one and output behind it
	OrderBits     int  // of slice_pic_order_cnt_lsb
	planes        bool // separate_colour_plane_flag
	SAR           media.Rational
	FrameRate     media.Rational // invalid when the set does not say
	Colour        media.Colour
}

// Bounds of what a set may say.
const (
	//limit:samples of a picture's side | each parameter set | the set is refused
	maxSide = 16384
	//limit:reference picture sets | each parameter set | the set is refused
	maxRefSets = 64 // num_short_term_ref_pic_sets
	//limit:pictures in one of them | each parameter set | the set is refused
	maxPictures = 16 // in one set
)

// ParseSPS reads a sequence parameter set.
func ParseSPS(nal []byte) (*SPS, error) {
	if t := NALType(nal); t != TypeSPS {
		return nil, &media.FormatError{Format: "HEVC SPS", Found: fmt.Sprintf("NAL unit type %d", t), Want: "33"}
	}
	r := bitstring.NewReader(bitstring.Unescape(nal[2:]))
	s := &SPS{SAR: media.Rational{Num: 1, Den: 1}}
	r.U(4)
	layers := int(r.U(3)) + 1
	r.Flag()
	skipProfileTierLevel(r, layers)
	s.ID = int(r.UE())
	if err := s.size(r); err != nil {
		return nil, err
	}
	s.BitDepth = 8 + r.UE()
	r.UE()              // bit_depth_chroma_minus8
	orderBits := r.UE() // log2_max_pic_order_cnt_lsb_minus4 (7.4.3.2.1)
	if orderBits > 12 {
		return nil, &media.FormatError{Format: "HEVC SPS", Found: fmt.Sprintf("order counts of 2^%d", uint64(orderBits)+4), Want: "2^16 at most"}
	}
	s.OrderBits = int(orderBits) + 4
	first := layers - 1
	if r.Flag() { // sps_sub_layer_ordering_info_present_flag
		first = 0
	}
	for range layers - first {
		r.UE()
		s.Reorder = int(min(r.UE(), maxPictures)) // sps_max_num_reorder_pics, that of all layers last
		s.Reordered = s.Reorder > 0 || s.Reordered
		r.UE()
	}
	for range 6 { // block and transform sizes
		r.UE()
	}
	if r.Flag() { // scaling_list_enabled_flag
		if r.Flag() { // sps_scaling_list_data_present_flag
			skipScalingLists(r)
		}
	}
	r.U(2)        // asymmetric partitions, sample adaptive offset
	if r.Flag() { // pcm_enabled_flag
		r.U(8)
		r.UE()
		r.UE()
		r.Flag()
	}
	if err := skipReferenceSets(r); err != nil {
		return nil, err
	}
	if r.Flag() { // long_term_ref_pics_present_flag
		n := r.UE()
		if n > 32 {
			return nil, &media.FormatError{Format: "HEVC SPS", Found: fmt.Sprintf("%d long-term pictures", n),
				Want: "32 at most"}
		}
		for range n {
			r.Skip(int(orderBits) + 5)
		}
	}
	r.U(2) // temporal motion vectors, strong smoothing
	if r.Err() == nil && r.Flag() {
		s.usability(r)
	}
	if err := r.Err(); err != nil {
		return nil, fmt.Errorf("HEVC SPS of %d bytes: %w", len(nal), err)
	}
	return s, nil
}

func (s *SPS) size(r *bitstring.Reader) error {
	separate := false
	if s.ChromaFormat = r.UE(); s.ChromaFormat == 3 {
		separate = r.Flag()
	}
	s.planes = separate
	width, height := int(r.UE()), int(r.UE())
	if width < 1 || height < 1 || width > maxSide || height > maxSide {
		if err := r.Err(); err != nil {
			return fmt.Errorf("HEVC SPS: %w", err)
		}
		return &media.FormatError{Format: "HEVC SPS", Found: fmt.Sprintf("a picture of %d by %d", width, height),
			Want: fmt.Sprintf("sides of 1 to %d samples", maxSide)}
	}
	s.Width, s.Height = width, height
	if !r.Flag() { // conformance_window_flag, units by table 6-1
		return nil
	}
	unitX, unitY := 1, 1
	if !separate && (s.ChromaFormat == 1 || s.ChromaFormat == 2) {
		unitX = 2
	}
	if !separate && s.ChromaFormat == 1 {
		unitY = 2
	}
	left, right, top, bottom := int(r.UE()), int(r.UE()), int(r.UE()), int(r.UE())
	if left > maxSide || right > maxSide || top > maxSide || bottom > maxSide || (left+right)*unitX >= width ||
		(top+bottom)*unitY >= height {
		return &media.FormatError{Format: "HEVC SPS", Found: "a conformance window that leaves nothing", Want: "a picture"}
	}
	s.Width -= (left + right) * unitX
	s.Height -= (top + bottom) * unitY
	return nil
}

// skipProfileTierLevel passes over 7.3.3.
func skipProfileTierLevel(r *bitstring.Reader, layers int) {
	r.Skip(96)
	var profile, level [8]bool
	for i := range layers - 1 {
		profile[i], level[i] = r.Flag(), r.Flag()
	}
	if layers > 1 {
		r.Skip(2 * (8 - (layers - 1)))
	}
	for i := range layers - 1 {
		if profile[i] {
			r.Skip(88)
		}
		if level[i] {
			r.Skip(8)
		}
	}
}

// skipScalingLists passes over 7.3.4.
func skipScalingLists(r *bitstring.Reader) {
	for size := range 4 {
		step := 1
		if size == 3 {
			step = 3
		}
		for list := 0; list < 6; list += step {
			if !r.Flag() {
				r.UE()
				continue
			}
			if size > 1 {
				r.SE()
			}
			for range min(64, 1<<(4+size<<1)) {
				r.SE()
			}
		}
	}
}

// skipReferenceSets passes over the short-term reference picture sets (7.3.7), whose lengths depend on
// one another.
func skipReferenceSets(r *bitstring.Reader) error {
	count := r.UE()
	if count > maxRefSets {
		return &media.FormatError{Format: "HEVC SPS", Found: fmt.Sprintf("%d reference picture sets", count),
			Want: fmt.Sprintf("%d at most", maxRefSets)}
	}
	var set referenceSet
	for i := range count {
		if i > 0 && r.Flag() { // inter_ref_pic_set_prediction_flag
			sign, distance := r.Flag(), int64(r.UE())+1
			if sign {
				distance = -distance
			}
			used := make([]bool, set.len()+1)
			for k := range used {
				if used[k] = r.Flag(); !used[k] { // used_by_curr_pic_flag
					used[k] = r.Flag() // use_delta_flag
				}
			}
			if set = set.predict(distance, used); set.len() > 2*maxPictures {
				return &media.FormatError{Format: "HEVC SPS", Found: fmt.Sprintf("%d reference pictures", set.len()),
					Want: fmt.Sprintf("%d at most", 2*maxPictures)}
			}
			continue
		}
		negative, positive := r.UE(), r.UE()
		if negative > maxPictures || positive > maxPictures {
			return &media.FormatError{Format: "HEVC SPS", Found: fmt.Sprintf("%d and %d reference pictures", negative,
				positive), Want: fmt.Sprintf("%d at most", maxPictures)}
		}
		set = referenceSet{}
		for at, k := int64(0), uint32(0); k < negative; k++ {
			at -= int64(r.UE()) + 1
			r.Flag()
			set.before = append(set.before, at)
		}
		for at, k := int64(0), uint32(0); k < positive; k++ {
			at += int64(r.UE()) + 1
			r.Flag()
			set.after = append(set.after, at)
		}
	}
	return nil
}

// referenceSet holds how far the pictures of a set lie before and after, nearest first.
type referenceSet struct{ before, after []int64 }

func (s *referenceSet) len() int { return len(s.before) + len(s.after) }

// predict makes a set from the one before it (equations 7-61 and 7-62).
func (s *referenceSet) predict(distance int64, used []bool) (out referenceSet) {
	n := len(s.before)
	for i := len(s.after) - 1; i >= 0; i-- {
		if d := s.after[i] + distance; d < 0 && used[n+i] {
			out.before = append(out.before, d)
		}
	}
	if distance < 0 && used[s.len()] {
		out.before = append(out.before, distance)
	}
	for i, at := range s.before {
		if d := at + distance; d < 0 && used[i] {
			out.before = append(out.before, d)
		}
	}
	for i := n - 1; i >= 0; i-- {
		if d := s.before[i] + distance; d > 0 && used[i] {
			out.after = append(out.after, d)
		}
	}
	if distance > 0 && used[s.len()] {
		out.after = append(out.after, distance)
	}
	for i, at := range s.after {
		if d := at + distance; d > 0 && used[n+i] {
			out.after = append(out.after, d)
		}
	}
	return out
}

// usability reads annex E.2.1 up to the timing.
func (s *SPS) usability(r *bitstring.Reader) {
	d := bitstring.ReadDisplay(r)
	s.SAR, s.Colour = d.SAR, d.Colour
	r.U(3)        // neutral chroma, fields
	if r.Flag() { // default_display_window_flag
		for range 4 {
			r.UE()
		}
	}
	if r.Flag() { // vui_timing_info_present_flag
		tick, scale := int64(r.U(32)), int64(r.U(32))
		if rate := (media.Rational{Num: scale, Den: tick}); tick > 0 && scale > 0 && scale/tick < 1000 {
			s.FrameRate = rate.Reduce()
		}
	}
}
