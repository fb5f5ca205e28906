package bits

import "metaplasis/internal/core/media"

// Display is what the video usability information says of showing pictures.
type Display struct {
	SAR    media.Rational // 1:1 when it does not say
	Colour media.Colour
}

// ReadDisplay reads the head of the video usability information, up to the location of chroma samples,
// which ITU-T H.264, E.1.1, and H.265, E.2.1, have in common.
func ReadDisplay(r *Reader) Display {
	d := Display{SAR: media.SampleAspect(0)}
	if r.Flag() { // aspect_ratio_info_present_flag
		const extended = 255
		if idc := r.U(8); idc != extended {
			d.SAR = media.SampleAspect(idc)
		} else if sar := (media.Rational{Num: int64(r.U(16)), Den: int64(r.U(16))}); sar.Valid() {
			d.SAR = sar.Reduce()
		}
	}
	if r.Flag() {
		r.Flag() // overscan
	}
	if r.Flag() { // video_signal_type_present_flag
		r.U(3)
		d.Colour.FullRange = r.Flag()
		if r.Flag() {
			d.Colour.Primaries = media.Described(r.U(8))
			d.Colour.Transfer = media.Described(r.U(8))
			d.Colour.Matrix = media.Described(r.U(8))
		}
	}
	if r.Flag() { // chroma_loc_info_present_flag
		r.UE()
		r.UE()
	}
	return d
}
