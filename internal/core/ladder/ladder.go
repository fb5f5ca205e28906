// Package ladder plans the renditions of a channel: a default ladder from what the source is,
// the checks of one that a person wrote, and the arithmetic of size, bitrate and memory.
package ladder

import (
	"fmt"
	"math"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"

	"metaplasis/internal/core/coding"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/timeline"
)

// Rung is one line of a ladder: the plan of one rendition.
type Rung struct {
	Name    string `json:"name"`             // part of the rendition's address
	On      bool   `json:"on"`               // false: kept in the ladder, not made
	Source  bool   `json:"source,omitempty"` // the source's video passes through untouched
	Width   int    `json:"width,omitempty"`  // luma samples; 0 follows from the height and the source's shape
	Height  int    `json:"height,omitempty"` // luma samples; 0 follows from the width
	Bitrate int64  `json:"bitrate,omitempty"`
	Peak    int64  `json:"peak,omitempty"`   // highest bits a second; 0 is 1.2 times the bitrate
	Buffer  int    `json:"buffer,omitempty"` // decoder buffer in milliseconds of the peak; 0 is 1000
	Effort  int    `json:"effort,omitempty"` // 1 (least processor time) to 9 (best picture); 0 is 2
	// Codec of the pictures, one that the workers encode; "" is the usual one, which every player reads.
	Codec media.Codec `json:"codec,omitempty"`
	// FrameRate is "" for the source's, "half" for every second picture, or pictures a second, such as 25, 29.97 or
	// 30000/1001: then they stand at even times. It is never more than the source's.
	FrameRate string `json:"frameRate,omitempty"`
	// AudioBitrate asks for sound that is coded anew, at bits a second; 0 passes the source's audio through.
	AudioBitrate  int64       `json:"audioBitrate,omitempty"`
	AudioCodec    media.Codec `json:"audioCodec,omitempty"`    // of that sound; "" is the usual one
	AudioChannels int         `json:"audioChannels,omitempty"` // 1 or 2; 0 is as many as the source has
}

// Ladder is the ordered plan of a channel. While Planned is set, it is made anew from each
// source; the first edit by a person clears it.
type Ladder struct {
	Planned bool   `json:"planned"`
	Rungs   []Rung `json:"rungs"`
	// Governor may change rungs while the machine is short, and back: "lower" lowers effort, then frame rate, then
	// turns the highest rung off; "raise" also raises the effort while there is room; "" leaves the ladder as it is.
	Governor Governor `json:"governor,omitempty"`
}

// Governor says what may be changed of a ladder while it runs.
type Governor string

// What a governor may do.
const (
	Ungoverned    Governor = ""
	GovernorLower Governor = "lower"
	GovernorRaise Governor = "raise"
)

// Bounds of a rung.
const (
	MaxRungs   = 12
	minSide    = 16
	maxSide    = 4096
	minBitrate = 50_000
	maxBitrate = 100_000_000
	minAudio   = 16_000
	maxAudio   = 320_000

	defaultEffort = 2
	defaultBuffer = 1000
)

var nameForm = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,30}$`)

// Problem is one thing wrong with a setting, in words for the person who wrote it.
type Problem struct {
	Field string `json:"field"` // such as rungs[2].bitrate
	Text  string `json:"text"`
}

// CheckGovernor says what is wrong with what a governor may do, nil when nothing is.
func CheckGovernor(g Governor) *Problem {
	switch g {
	case Ungoverned, GovernorLower, GovernorRaise:
		return nil
	}
	return &Problem{"governor", fmt.Sprintf("found %q, expected %s, %s, or nothing", g, GovernorLower, GovernorRaise)}
}

// CheckText says what is wrong with a short text for people, nil when nothing is: most is in characters.
func CheckText(field, s string, most int) *Problem {
	switch n := utf8.RuneCountInString(s); {
	case !utf8.ValidString(s):
		return &Problem{field, "found bytes that are not UTF-8, expected text"}
	case n > most:
		return &Problem{field, fmt.Sprintf("found %d characters, expected %d at most", n, most)}
	}
	for _, r := range s {
		if unicode.IsControl(r) || r == '\u2028' || r == '\u2029' {
			return &Problem{field, fmt.Sprintf("found the control character U+%04X, expected one line of text", r)}
		}
	}
	return nil
}

func (p Problem) String() string { return p.Field + ": " + p.Text }

// WithDefaults fills in what was left out.
func (r Rung) WithDefaults() Rung {
	if r.Source {
		return r
	}
	if r.Effort == 0 {
		r.Effort = defaultEffort
	}
	if r.Peak == 0 {
		r.Peak = r.Bitrate * 6 / 5
	}
	if r.Buffer == 0 {
		r.Buffer = defaultBuffer
	}
	return r
}

// Limits are what an encoder keeps to so that a rung's segments do.
type Limits struct {
	Bitrate int64 // bits a second on average
	Rate    int64 // bits a second at which the decoder's buffer fills
	Buffer  int   // milliseconds of Rate
}

const (
	shortestBuffer = 100 // milliseconds
	// boxes is what the container adds at most, bits a second, of parts of a fifth of a second.
	boxes = 12_000
)

// Limits returns what the rung's encoder keeps to so that no segment of a length in milliseconds takes more than the
// peak. A segment may hold what comes at the rate in its time, and a whole buffer beside; so the rate is as much below
// the peak, and where that is less than the bitrate the buffer is shorter than was asked for.
func (r Rung) Limits(segmentMillis int64) Limits {
	r = r.WithDefaults()
	peak := r.Peak - min(boxes, r.Peak/10)
	l := Limits{r.Bitrate, peak * segmentMillis / (segmentMillis + int64(r.Buffer)), r.Buffer}
	if l.Rate >= l.Bitrate {
		return l
	}
	l.Buffer = int(max(segmentMillis*(peak-l.Bitrate)/l.Bitrate, shortestBuffer))
	l.Rate = peak * segmentMillis / (segmentMillis + int64(l.Buffer))
	l.Bitrate = min(l.Bitrate, l.Rate)
	return l
}

// Check lists everything that is wrong with a ladder. An empty list means that it can be applied.
func Check(rungs []Rung) []Problem {
	var out []Problem
	add := func(i int, field, text string, args ...any) {
		out = append(out, Problem{fmt.Sprintf("rungs[%d].%s", i, field), fmt.Sprintf(text, args...)})
	}
	if len(rungs) > MaxRungs {
		out = append(out, Problem{"rungs", fmt.Sprintf("found %d rungs, expected %d at most", len(rungs), MaxRungs)})
	}
	names := map[string]bool{}
	on, source := 0, 0
	for i, r := range rungs {
		if !nameForm.MatchString(r.Name) {
			add(i, "name", "found %q, expected lower-case letters, digits and hyphens, 31 at most", r.Name)
		}
		if IsAudioName(r.Name) {
			add(i, "name", "%q is taken by the channel's audio; choose another", r.Name)
		}
		if names[r.Name] {
			add(i, "name", "%q stands twice in the ladder; each rung needs its own name", r.Name)
		}
		names[r.Name] = true
		if r.On {
			on++
		}
		if r.AudioBitrate != 0 && (r.AudioBitrate < minAudio || r.AudioBitrate > maxAudio) {
			add(i, "audioBitrate", "found %d bit/s, expected 0 (pass the source through) or %d to %d", r.AudioBitrate,
				minAudio, maxAudio)
		}
		if codecs := coding.Encoded(media.Audio); r.AudioCodec != "" && !slices.Contains(codecs, r.AudioCodec) {
			add(i, "audioCodec", "found %q, expected one of %v, or nothing for the usual one", r.AudioCodec, codecs)
		}
		if r.AudioChannels < 0 || r.AudioChannels > 2 {
			add(i, "audioChannels", "found %d, expected 1, 2, or 0 for as many as the source has", r.AudioChannels)
		}
		if r.AudioBitrate == 0 && (r.AudioCodec != "" || r.AudioChannels != 0) {
			add(i, "audioBitrate", "found none, expected %d to %d, since sound that passes through keeps its codec and channels", minAudio, maxAudio)
		}
		if r.Source {
			if source++; source > 1 {
				add(i, "source", "only one rung can pass the source through; %q does already", rungs[0].Name)
			}
			continue
		}
		if r.Width == 0 && r.Height == 0 {
			add(i, "height", "found no size, expected a height, a width, or both")
		}
		for _, side := range []struct {
			name  string
			value int
		}{{"width", r.Width}, {"height", r.Height}} {
			if side.value != 0 && (side.value < minSide || side.value > maxSide) {
				add(i, side.name, "found %d, expected %d to %d", side.value, minSide, maxSide)
			} else if side.value%2 != 0 {
				add(i, side.name, "found %d, expected an even number: 4:2:0 pictures have two lines of luma for one of chroma", side.value)
			}
		}
		if r.Bitrate < minBitrate || r.Bitrate > maxBitrate {
			add(i, "bitrate", "found %d bit/s, expected %d to %d", r.Bitrate, minBitrate, maxBitrate)
		}
		if r.Peak != 0 && r.Peak < r.Bitrate {
			add(i, "peak", "found %d bit/s, expected at least the bitrate, %d", r.Peak, r.Bitrate)
		}
		if r.Peak > 2*maxBitrate {
			add(i, "peak", "found %d bit/s, expected %d at most", r.Peak, 2*maxBitrate)
		}
		if r.Buffer != 0 && (r.Buffer < 100 || r.Buffer > 10_000) {
			add(i, "buffer", "found %d ms, expected 100 to 10000", r.Buffer)
		}
		if codecs := coding.Encoded(media.Video); r.Codec != "" && !slices.Contains(codecs, r.Codec) {
			add(i, "codec", "found %q, expected one of %v, or nothing for the usual one", r.Codec, codecs)
		}
		if _, err := ParseRate(r.FrameRate); err != nil {
			add(i, "frameRate", "%s", err)
		}
		if r.Effort < 0 || r.Effort > 9 {
			add(i, "effort", "found %d, expected 1 (least processor time) to 9 (best picture)", r.Effort)
		}
	}
	if len(rungs) > 0 && on == 0 {
		out = append(out, Problem{"rungs", "every rung is off; leave at least one on"})
	}
	return out
}

// SourceAudio is the address of the source's sound.
const SourceAudio = "audio"

// AudioName is the address of a rung's rendition of sound: the source's, or one that says how it is coded.
func (r Rung) AudioName() string {
	if r.AudioBitrate == 0 {
		return SourceAudio
	}
	name := SourceAudio
	if r.AudioCodec != "" && r.AudioCodec != coding.Usual(media.Audio) {
		name += "-" + strings.ReplaceAll(string(r.AudioCodec), "-", "")
	}
	name += fmt.Sprintf("-%dk", r.AudioBitrate/1000)
	switch r.AudioChannels {
	case 1:
		name += "-mono"
	case 2:
		name += "-stereo"
	}
	return name
}

// Rate is a frame rate as a rung asks for it. The zero value is the source's.
type Rate struct {
	Half   bool
	Number media.Rational // invalid for none
}

// Of returns what it makes of a source's rate, which may be unknown or vary (an invalid one). It is never more.
func (r Rate) Of(source media.Rational) media.Rational {
	switch {
	case r.Half && source.Valid():
		return media.Rational{Num: source.Num, Den: 2 * source.Den}.Reduce()
	case r.Number.Valid() && (!source.Valid() || r.Number.Less(source)):
		return r.Number
	}
	return source
}

// Other reports whether it makes another rate of a source's.
func (r Rate) Other(source media.Rational) bool {
	return r.Half || r.Number.Valid() && (!source.Valid() || r.Number.Less(source))
}

const (
	lowestRate  = 1
	highestRate = 120
)

// ParseRate reads a frame rate: nothing, "half", a number, or a fraction of two whole ones.
func ParseRate(text string) (r Rate, err error) {
	wrong := fmt.Errorf("found %q, expected nothing for the source's rate, half, or %d to %d pictures a second such as 25, 29.97 or 30000/1001", text, lowestRate, highestRate)
	switch {
	case text == "":
		return r, nil
	case text == "half":
		return Rate{Half: true}, nil
	}
	if num, den, ok := strings.Cut(text, "/"); ok {
		n, err := strconv.ParseInt(num, 10, 32)
		d, err2 := strconv.ParseInt(den, 10, 32)
		if err != nil || err2 != nil || n <= 0 || d <= 0 {
			return r, wrong
		}
		r.Number = media.Rational{Num: n, Den: d}.Reduce()
	} else {
		v, err := strconv.ParseFloat(text, 64)
		if err != nil || v < lowestRate || v > highestRate {
			return r, wrong
		}
		r.Number = timeline.SnapRate(int64(v*1000 + 0.5))
	}
	if r.Number.Num < lowestRate*r.Number.Den || r.Number.Num > highestRate*r.Number.Den {
		return r, wrong
	}
	return r, nil
}

var audioNameForm = regexp.MustCompile(`^audio(-[A-Za-z0-9-]+)?$`)

// IsAudioName reports whether a name belongs to an audio rendition: audio, audio-64k, audio-fr.
func IsAudioName(name string) bool { return audioNameForm.MatchString(name) }

// shortSides are the sizes of a default ladder, by the picture's shorter side.
var shortSides = []int{2160, 1440, 1080, 720, 480, 360, 240}

// maxPlanned is how many encoded rungs a default ladder has.
const maxPlanned = 3

// Plan makes the default ladder of a source: the source itself on top, then up to three smaller
// pictures. It never enlarges. Without video it has one rung that carries the audio.
func Plan(video *media.Track) []Rung {
	out := []Rung{{Name: "source", On: true, Source: true}}
	if video == nil {
		return out
	}
	w, h := Display(video)
	short := min(w, h)
	for _, side := range shortSides {
		if side >= short || len(out) > maxPlanned {
			continue
		}
		if side < short/5 {
			break
		}
		r := Rung{Name: fmt.Sprintf("%dp", side), On: true, Effort: defaultEffort}
		if w >= h {
			r.Height = side
		} else {
			r.Width = side
		}
		rw, rh := r.Size(video)
		r.Width, r.Height = rw, rh
		r.Bitrate = Bitrate(rw, rh, video.FrameRate)
		out = append(out, r.WithDefaults())
	}
	return out
}

// Display is the size of a picture when its samples are drawn square.
func Display(t *media.Track) (width, height int) {
	if t.SAR.Valid() && t.SAR.Num != t.SAR.Den {
		return int(media.Rescale(int64(t.Width), t.SAR.Den, t.SAR.Num)), t.Height
	}
	return t.Width, t.Height
}

// Size returns the coded size of an encoded rung for a source: both sides even, the source's
// shape kept where only one side was given, and never larger than the source.
func (r Rung) Size(t *media.Track) (width, height int) {
	w, h := Display(t)
	if w == 0 || h == 0 {
		return r.Width, r.Height
	}
	width, height = r.Width, r.Height
	if width == 0 {
		width = even(int(media.Rescale(int64(height), int64(h), int64(w))))
	} else if height == 0 {
		height = even(int(media.Rescale(int64(width), int64(w), int64(h))))
	}
	if width > even(w) || height > even(h) { // shrink by the side that is too large by more
		if width*h > height*w {
			return even(w), even(int(media.Rescale(int64(height), int64(width), int64(w))))
		}
		return even(int(media.Rescale(int64(width), int64(height), int64(h)))), even(h)
	}
	return width, height
}

// SAR returns the sample aspect ratio that gives a coded size the source's shape.
func (r Rung) SAR(t *media.Track) media.Rational {
	w, h := Display(t)
	rw, rh := r.Size(t)
	num, den := int64(w)*int64(rh), int64(h)*int64(rw)
	if d := num - den; d*100 < den && -d*100 < den { // within 1 %, the rounding to even sides
		return media.Rational{Num: 1, Den: 1}
	}
	sar := media.Rational{Num: num, Den: den}.Reduce()
	for sar.Num > math.MaxUint16 || sar.Den > math.MaxUint16 {
		sar.Num, sar.Den = max(sar.Num/2, 1), max(sar.Den/2, 1)
	}
	return sar
}

func even(n int) int { return max((n+1)&^1, 2) }

// Bitrate is what a picture of a size needs for a decent look at low effort, rounded to 50
// kbit/s: 6.4 times the three-quarter power of its samples a second, so that 1080p30 gets
// 4.5 Mbit/s and 360p30 0.85.
func Bitrate(width, height int, rate media.Rational) int64 {
	if !rate.Valid() {
		rate = media.Rational{Num: 30, Den: 1}
	}
	samples := float64(width) * float64(height) * float64(rate.Num) / float64(rate.Den)
	return max(int64(6.4*math.Pow(samples, 0.75))/50_000*50_000, 100_000)
}

// Equal reports whether two rungs make the same bytes.
func (r Rung) Equal(o Rung) bool { return r.WithDefaults() == o.WithDefaults() }

// Memory is the most that a channel's media can hold, in bytes: for each rendition the retained
// segments and the open one at the peak bitrate, and the feed's backlog.
func Memory(rungs []Rung, sourceBitrate, stepMillis int64, retained int, backlog int64) int64 {
	total := backlog
	audio := map[string]bool{}
	for _, r := range rungs {
		if !r.On {
			continue
		}
		r = r.WithDefaults()
		bits := sourceBitrate
		if !r.Source {
			bits = r.Peak
		}
		total += bits / 8 * stepMillis / 1000 * int64(retained+1)
		if name := r.AudioName(); !audio[name] {
			audio[name] = true
			total += max(r.AudioBitrate, maxAudio) / 8 * stepMillis / 1000 * int64(retained+1)
		}
	}
	return total
}
