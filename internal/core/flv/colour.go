package flv

import (
	"metaplasis/internal/core/amf"
	"metaplasis/internal/core/media"
)

// colourInfo reads the colour metadata of a video packet (Enhanced RTMP, version 2, "Metadata Frame"): a
// name and an object. What is not there or cannot be is left out.
func colourInfo(b []byte) (*media.Colour, *media.Light) {
	values, err := amf.DecodeAll(b)
	if err != nil || len(values) < 2 || values[0] != "colorInfo" {
		return nil, nil
	}
	info, ok := values[1].(amf.Object)
	if !ok {
		return nil, nil
	}
	var colour *media.Colour
	if c := info.Object("colorConfig"); len(c) > 0 {
		colour = &media.Colour{Primaries: point(c, "colorPrimaries"), Transfer: point(c, "transferCharacteristics"),
			Matrix: point(c, "matrixCoefficients")}
	}
	light := media.Light{
		MaxContent: scaled(info.Object("hdrCll"), "maxCLL", 1), MaxAverage: scaled(info.Object("hdrCll"), "maxFall", 1),
	}
	display := info.Object("hdrMdcv")
	const chromaticity, luminance = 50_000, 10_000 // units a whole
	for i, name := range []string{"redX", "redY", "greenX", "greenY", "blueX", "blueY", "whitePointX", "whitePointY"} {
		light.Display[i] = scaled(display, name, chromaticity)
	}
	light.Brightest, light.Darkest = scaled(display, "maxLuminance", luminance), scaled(display, "minLuminance", luminance)
	if light == (media.Light{}) {
		return colour, nil
	}
	return colour, &light
}

// point is a code point of ITU-T H.273, 0 when none is told.
func point(o amf.Object, name string) uint8 {
	if v, ok := o.Number(name); ok && v >= 0 && v <= 255 {
		return media.Described(uint32(v))
	}
	return 0
}

// scaled is a number in so many units a whole, 0 when it is not there or cannot be.
func scaled(o amf.Object, name string, units float64) int {
	if v, ok := o.Number(name); ok && v > 0 && v*units < 1<<31 {
		return int(v*units + 0.5)
	}
	return 0
}
