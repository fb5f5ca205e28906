package ladder

import (
	"fmt"
	"regexp"
	"slices"
	"unicode"
	"unicode/utf8"

	"metaplasis/internal/core/coding"
	"metaplasis/internal/core/media"
)

// Bounds of a rung.
const (
	//limit:rungs | each ladder | 422
	MaxRungs = 12
	minSide  = 16
	//limit:samples of a picture's side | each rung | 422
	maxSide    = 4096
	minBitrate = 50_000
	//limit:bits per second | each rung | 422
	maxBitrate = 100_000_000
	minAudio   = 16_000
	//limit:bits per second of sound | each rung | 422
	maxAudio = 320_000

	quietest = -40 // LUFS
	//limit:audio tracks | each ladder | 422
	maxAudioTracks = 8
	loudest        = -5

	defaultEffort = 2
	defaultBuffer = 1000
)

// audioRates are the samples per second that sound can be encoded at.
var audioRates = []int{16000, 22050, 24000, 32000, 44100, 48000}

var languageForm = regexp.MustCompile(`^[A-Za-z]{2,8}(-[A-Za-z0-9]{1,8})*$`)

var nameForm = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,30}$`)

// Problem is one thing wrong with a setting, in words for the person who wrote it.
type Problem struct {
	Field string `json:"field"` // such as rungs[2].bitrate
	Text  string `json:"text"`
}

// Check lists everything that is wrong with a ladder. An empty list means that it can be applied.
func (l Ladder) Check() (out []Problem) {
	switch l.Governor {
	case Ungoverned, GovernorLower, GovernorRaise:
	default:
		out = append(out, Problem{"governor", fmt.Sprintf("found %.40q, expected %s, %s, or nothing", string(l.Governor), GovernorLower, GovernorRaise)})
	}
	if l.Priority < 0 || l.Priority > 9 {
		out = append(out, Problem{"priority", fmt.Sprintf("found %d, expected 1 (gives way first) to 9", l.Priority)})
	}
	switch l.Interlaced {
	case FieldsAdaptive, FramesAdaptive, FieldsBob, Weave:
	default:
		out = append(out, Problem{"interlaced", fmt.Sprintf("found %.40q, expected %s, %s, %s, or nothing", string(l.Interlaced), FramesAdaptive, FieldsBob, Weave)})
	}
	return append(out, Check(l.Rungs)...)
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

// Check lists everything that is wrong with rungs.
func Check(rungs []Rung) []Problem {
	var out []Problem
	add := func(i int, field, text string, args ...any) {
		out = append(out, Problem{fmt.Sprintf("rungs[%d].%s", i, field), fmt.Sprintf(text, args...)})
	}
	if len(rungs) > MaxRungs {
		out = append(out, Problem{"rungs", fmt.Sprintf("found %d rungs, expected %d at most", len(rungs), MaxRungs)})
	}
	names := map[string]bool{}
	on, source := 0, "" // how many are made, and the rung that passes the source through
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
		own := func(field, text string, args ...any) { add(i, field, text, args...) }
		r.checkSound(own)
		r.checkPicture(own)
		if r.Source {
			if source != "" {
				add(i, "source", "only one rung can pass the source through; %q does already", source)
			}
			source = r.Name
			if r.Ready {
				add(i, "ready", "found it with a rung that passes the source through, expected a size of its own")
			}
			continue
		}
		if r.SoundOnly() {
			if r.Ready {
				add(i, "ready", "found it with a rung of audio only, expected a size")
			}
			continue
		}
		r.checkCoding(own)
	}
	if len(rungs) > 0 && on == 0 {
		out = append(out, Problem{"rungs", "every rung is off; leave at least one on"})
	}
	return out
}

// checkSound says what is wrong with the sound of a rung.
func (r Rung) checkSound(add func(field, text string, args ...any)) {
	if r.AudioBitrate != 0 && (r.AudioBitrate < minAudio || r.AudioBitrate > maxAudio) {
		add("audioBitrate", "found %d bit/s, expected 0 (pass the source through) or %d to %d", r.AudioBitrate,
			minAudio, maxAudio)
	}
	if codecs := coding.Encoded(media.Audio); r.AudioCodec != "" && !slices.Contains(codecs, r.AudioCodec) {
		add("audioCodec", "found %q, expected one of %v, or nothing for the usual one", r.AudioCodec, codecs)
	}
	if r.AudioChannels < 0 || r.AudioChannels > 2 {
		add("audioChannels", "found %d, expected 1, 2, or 0 for as many as the source has", r.AudioChannels)
	}
	if r.AudioRate != 0 && !slices.Contains(audioRates, r.AudioRate) {
		add("audioRate", "found %d Hz, expected one of %v, or 0 for the source's", r.AudioRate, audioRates)
	} else if c := coding.Find(r.AudioCodec); c != nil && c.FixedRate != 0 && r.AudioRate != 0 && r.AudioRate != c.FixedRate {
		add("audioRate", "found %d Hz, expected %d or 0: %s has no other", r.AudioRate, c.FixedRate, c.Label)
	}
	if r.Loudness != 0 && (r.Loudness < quietest || r.Loudness > loudest) {
		add("loudness", "found %d LUFS, expected %d to %d, such as -23, or 0 to leave it as it is", r.Loudness, quietest, loudest)
	}
	if r.AudioTrack < 0 || r.AudioTrack > maxAudioTracks {
		add("audioTrack", "found %d, expected 1 to %d, or 0 for the main one", r.AudioTrack, maxAudioTracks)
	}
	if r.AudioLanguage != "" && !languageForm.MatchString(r.AudioLanguage) {
		add("audioLanguage", "found %.40q, expected a language tag such as en or de-CH", r.AudioLanguage)
	}
	if r.AudioBitrate == 0 && (r.AudioRate != 0 || r.Loudness != 0 || r.AudioLanguage != "" || r.AudioCodec != "" || r.AudioChannels != 0) {
		add("audioBitrate", "found none, expected %d to %d, since sound that passes through keeps its codec, channels, rate, language and loudness", minAudio, maxAudio)
	}
}

// checkCoding says what is wrong with how the pictures of a rung are encoded.
func (r Rung) checkCoding(add func(field, text string, args ...any)) {
	if r.Width == 0 && r.Height == 0 {
		add("height", "found no size, expected a height, a width, or both; or no bitrate, for a rung of audio only")
	}
	for _, side := range []struct {
		name  string
		value int
	}{{"width", r.Width}, {"height", r.Height}} {
		if side.value != 0 && (side.value < minSide || side.value > maxSide) {
			add(side.name, "found %d, expected %d to %d", side.value, minSide, maxSide)
		} else if side.value%2 != 0 {
			add(side.name, "found %d, expected an even number: 4:2:0 pictures have two lines of luma for one of chroma", side.value)
		}
	}
	if r.Bitrate < minBitrate || r.Bitrate > maxBitrate {
		add("bitrate", "found %d bit/s, expected %d to %d", r.Bitrate, minBitrate, maxBitrate)
	}
	if r.Peak != 0 && r.Peak < r.Bitrate {
		add("peak", "found %d bit/s, expected at least the bitrate, %d", r.Peak, r.Bitrate)
	}
	if r.Peak > 2*maxBitrate {
		add("peak", "found %d bit/s, expected %d at most", r.Peak, 2*maxBitrate)
	}
	if r.Buffer != 0 && (r.Buffer < 100 || r.Buffer > 10_000) {
		add("buffer", "found %d ms, expected 100 to 10000", r.Buffer)
	}
	if codecs := coding.Encoded(media.Video); r.Codec != "" && !slices.Contains(codecs, r.Codec) {
		add("codec", "found %q, expected one of %v, or nothing for the usual one", r.Codec, codecs)
	}
	if _, err := ParseRate(r.FrameRate); err != nil {
		add("frameRate", "%s", err)
	}
	r.checkLevel(add)
	if r.Quality < 0 || r.Quality > 100 {
		add("quality", "found %d, expected 1 (least) to 100 (best), or 0 to keep to the bitrate", r.Quality)
	}
	switch r.Content {
	case Camera, "camera", Screen, Drawn:
	default:
		add("content", "found %.40q, expected camera, %s or %s", string(r.Content), Screen, Drawn)
	}
	switch {
	case r.BFrames < -1 || r.BFrames > 4:
		add("bFrames", "found %d, expected 1 to 4, 0 for as the effort says, or -1 for none", r.BFrames)
	case r.BFrames > 0 && r.Profile == "baseline":
		add("bFrames", "found %d, expected 0 or -1: the profile baseline has none", r.BFrames)
	}
	if r.Effort < 0 || r.Effort > 9 {
		add("effort", "found %d, expected 1 (least processor time) to 9 (best picture)", r.Effort)
	}
}
