package av1

import (
	"fmt"

	"metaplasis/internal/core/bits"
	"metaplasis/internal/core/media"
)

// Sequence is a sequence header (5.5).
type Sequence struct {
	Profile, Level, Tier     uint8
	Width, Height            int
	Depth                    uint8 // bits of a sample
	Mono                     bool
	SubsampledX, SubsampledY bool
	Position                 uint8 // of chroma samples
	Colour                   media.Colour
	FrameRate                media.Rational // invalid when the header does not say

	payload []byte
}

// Name returns the RFC 6381 name (binding, 5).
func (s *Sequence) Name() string {
	tier := "M"
	if s.Tier == 1 {
		tier = "H"
	}
	name := fmt.Sprintf("av01.%d.%02d%s.%02d", s.Profile, s.Level, tier, s.Depth)
	plain := s.SubsampledX && s.SubsampledY && !s.Mono
	if s.Colour == (media.Colour{}) && plain {
		return name
	}
	digit := func(on bool) int {
		if on {
			return 1
		}
		return 0
	}
	code := func(v uint8) uint8 {
		if v == 0 {
			return 2
		}
		return v
	}
	position := s.Position
	return fmt.Sprintf("%s.%d.%d%d%d.%02d.%02d.%02d.%d", name, digit(s.Mono), digit(s.SubsampledX), digit(s.SubsampledY),
		position,
		code(s.Colour.Primaries), code(s.Colour.Transfer), code(s.Colour.Matrix), digit(s.Colour.FullRange))
}

func parseSequence(payload []byte) (*Sequence, error) {
	r := bits.NewReader(payload)
	s := &Sequence{payload: payload}
	s.Profile = uint8(r.U(3))
	r.Flag() // still_picture
	reduced := r.Flag()
	if reduced {
		s.Level = uint8(r.U(5))
	} else {
		s.points(r)
	}
	widthBits, heightBits := int(r.U(4))+1, int(r.U(4))+1
	s.Width, s.Height = int(r.U(widthBits))+1, int(r.U(heightBits))+1
	if !reduced && r.Flag() { // frame_id_numbers_present_flag
		r.U(7)
	}
	r.U(3) // superblock size, filter intra, intra edge filter
	if !reduced {
		s.tools(r)
	}
	r.U(3) // superres, cdef, restoration
	s.colour(r)
	if err := r.Err(); err != nil {
		return nil, fmt.Errorf("AV1 sequence header of %d bytes: %w", len(payload), err)
	}
	return s, nil
}

// points reads timing and operating points; the first one counts.
func (s *Sequence) points(r *bits.Reader) {
	var delayBits int
	model := false
	if r.Flag() { // timing_info_present_flag
		tick, scale := int64(r.U(32)), int64(r.U(32))
		if r.Flag() { // equal_picture_interval
			tick = media.Rescale(tick, 1, int64(r.UE())+1) // uvlc() has the form of ue(v)
			if rate := (media.Rational{Num: scale, Den: tick}); rate.Valid() && scale/tick < 1000 {
				s.FrameRate = rate.Reduce()
			}
		}
		if model = r.Flag(); model {
			delayBits = int(r.U(5)) + 1
			r.U(32)
			r.U(10)
		}
	}
	delays := r.Flag() // initial_display_delay_present_flag
	for i := range r.U(5) + 1 {
		r.U(12)
		level, tier := uint8(r.U(5)), uint8(0)
		if level > 7 {
			tier = uint8(r.U(1))
		}
		if i == 0 {
			s.Level, s.Tier = level, tier
		}
		if model && r.Flag() {
			r.Skip(2*delayBits + 1)
		}
		if delays && r.Flag() {
			r.U(4)
		}
	}
}

// tools passes over the coding tools.
func (s *Sequence) tools(r *bits.Reader) {
	r.U(4)              // compound and warped prediction, dual filter
	ordered := r.Flag() // enable_order_hint
	if ordered {
		r.U(2)
	}
	screen := uint32(2)
	if !r.Flag() { // seq_choose_screen_content_tools
		screen = r.U(1)
	}
	if screen > 0 && !r.Flag() { // seq_choose_integer_mv
		r.U(1)
	}
	if ordered {
		r.U(3)
	}
}

// colour reads color_config (5.5.2).
func (s *Sequence) colour(r *bits.Reader) {
	s.Depth = 8
	if r.Flag() {
		s.Depth = 10
		if s.Profile == 2 && r.Flag() {
			s.Depth = 12
		}
	}
	if s.Profile != 1 {
		s.Mono = r.Flag()
	}
	const srgb, identity = 13, 0
	primaries, transfer, matrix := uint32(2), uint32(2), uint32(2)
	if r.Flag() {
		primaries, transfer, matrix = r.U(8), r.U(8), r.U(8)
	}
	s.Colour = media.Colour{Primaries: media.Described(primaries), Transfer: media.Described(transfer),
		Matrix: media.Described(matrix)}
	switch {
	case s.Mono:
		s.Colour.FullRange = r.Flag()
		s.SubsampledX, s.SubsampledY = true, true
		return
	case primaries == 1 && transfer == srgb && matrix == identity:
		s.Colour.FullRange = true
		return
	}
	s.Colour.FullRange = r.Flag()
	switch {
	case s.Profile == 0:
		s.SubsampledX, s.SubsampledY = true, true
	case s.Profile == 2 && s.Depth == 12:
		if s.SubsampledX = r.Flag(); s.SubsampledX {
			s.SubsampledY = r.Flag()
		}
	case s.Profile == 2:
		s.SubsampledX = true
	}
	if s.SubsampledX && s.SubsampledY {
		s.Position = uint8(r.U(2))
	}
}
