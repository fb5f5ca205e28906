package ladder

import (
	"fmt"
	"regexp"
)

// Picture is what is done to a rung's pictures, in this order: cropped, turned, scaled, padded, and drawn upon.
type Picture struct {
	Crop   Crop   `json:"crop,omitzero"`
	Rotate int    `json:"rotate,omitempty" flag:"rotate" help:"rotate clockwise by 90, 180 or 270 degrees"`
	Filter Filter `json:"filter,omitempty" flag:"filter" help:"scaling filter: nearest, bilinear or box; default: halve as often as possible, then interpolate"`
	// Pad keeps the source's shape within the rung's width and height, with black bars.
	Pad   bool  `json:"pad,omitempty" flag:"pad" help:"keep the source's aspect ratio within width and height, with black bars"`
	Logo  Logo  `json:"logo,omitzero"`
	Label bool  `json:"label,omitempty" flag:"burn-in-name" was:"label" help:"burn the rung's name into the picture, so that a switch is visible"`
	Clock Clock `json:"clock,omitempty" flag:"burn-in-clock" was:"clock" help:"burn the time of day and the frame number into the picture: top or bottom"`
}

// Crop is what is cut off, in luma samples of the source.
type Crop struct {
	Left   int `json:"left,omitempty" flag:"crop-left" help:"pixels to crop on the left of the source"`
	Top    int `json:"top,omitempty" flag:"crop-top" help:"lines to crop at the top"`
	Right  int `json:"right,omitempty" flag:"crop-right" help:"pixels to crop on the right"`
	Bottom int `json:"bottom,omitempty" flag:"crop-bottom" help:"lines to crop at the bottom"`
}

// Filter is how pictures are scaled.
type Filter string

// The filters. The usual one halves pictures while that is possible and interpolates the rest.
const (
	UsualFilter    Filter = ""
	NearestFilter  Filter = "nearest"
	BilinearFilter Filter = "bilinear"
	BoxFilter      Filter = "box"
)

// Logo is an image upon the pictures.
type Logo struct {
	Image   string `json:"image,omitempty" flag:"logo" help:"name of an image to overlay; see images"`
	Place   Place  `json:"place,omitempty" flag:"logo-place" help:"position of the logo: top-left, top-right, bottom-left, bottom-right or centre; default: top-right"`
	Opacity int    `json:"opacity,omitempty" flag:"logo-opacity" help:"opacity of the logo in percent; 0: 100"`
	Width   int    `json:"width,omitempty" flag:"logo-width" help:"width of the logo in percent of the picture; 0: 10"`
}

// Place is where something lies on a picture.
type Place string

// The places.
const (
	TopRight    Place = ""
	TopLeft     Place = "top-left"
	BottomLeft  Place = "bottom-left"
	BottomRight Place = "bottom-right"
	Centre      Place = "centre"
)

// Clock is where a clock is drawn.
type Clock string

// The places of a clock.
const (
	NoClock     Clock = ""
	ClockTop    Clock = "top"
	ClockBottom Clock = "bottom"
)

// Draws reports whether something is drawn upon the pictures.
func (p Picture) Draws() bool { return p.Label || p.Clock != NoClock || p.Logo.Image != "" }

var imageForm = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,30}$`)

// CheckImageName says what is wrong with the name of an image, "" when nothing is.
func CheckImageName(name string) string {
	if imageForm.MatchString(name) {
		return ""
	}
	return fmt.Sprintf("found %.40q, expected lower-case letters, digits and hyphens, 31 at most, such as club-burgee", name)
}

// check says what is wrong with the work on a rung's pictures.
func (r Rung) checkPicture(add func(field, text string, args ...any)) {
	p := r.Picture
	if r.Source || r.SoundOnly() {
		if p != (Picture{}) {
			add("picture", "found work on pictures that are not encoded here, expected none; a rung with a size of its own can have it")
		}
		return
	}
	for _, side := range []struct {
		name  string
		value int
	}{{"left", p.Crop.Left}, {"top", p.Crop.Top}, {"right", p.Crop.Right}, {"bottom", p.Crop.Bottom}} {
		if side.value < 0 || side.value > maxSide || side.value%2 != 0 {
			add("picture.crop."+side.name, "found %d, expected an even number, 0 to %d", side.value, maxSide)
		}
	}
	if p.Rotate != 0 && p.Rotate != 90 && p.Rotate != 180 && p.Rotate != 270 {
		add("picture.rotate", "found %d, expected 0, 90, 180 or 270 degrees", p.Rotate)
	}
	switch p.Filter {
	case UsualFilter, NearestFilter, BilinearFilter, BoxFilter:
	default:
		add("picture.filter", "found %.40q, expected %s, %s, %s, or nothing", string(p.Filter), NearestFilter, BilinearFilter, BoxFilter)
	}
	if p.Pad && (r.Width == 0 || r.Height == 0) {
		add("picture.pad", "found only one side of the size, expected width and height to pad to")
	}
	switch p.Clock {
	case NoClock, ClockTop, ClockBottom:
	default:
		add("picture.clock", "found %.40q, expected %s, %s, or nothing", string(p.Clock), ClockTop, ClockBottom)
	}
	if p.Logo.Image == "" {
		if p.Logo != (Logo{}) {
			add("picture.logo.image", "found none, expected the name of the image that place, opacity and width are for")
		}
		return
	}
	if text := CheckImageName(p.Logo.Image); text != "" {
		add("picture.logo.image", "%s", text)
	}
	switch p.Logo.Place {
	case TopRight, "top-right", TopLeft, BottomLeft, BottomRight, Centre:
	default:
		add("picture.logo.place", "found %.40q, expected top-left, top-right, bottom-left, bottom-right or centre", string(p.Logo.Place))
	}
	if p.Logo.Opacity < 0 || p.Logo.Opacity > 100 {
		add("picture.logo.opacity", "found %d %%, expected 1 to 100", p.Logo.Opacity)
	}
	if p.Logo.Width < 0 || p.Logo.Width > 100 {
		add("picture.logo.width", "found %d %%, expected 1 to 100", p.Logo.Width)
	}
}
