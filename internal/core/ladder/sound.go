package ladder

import (
	"fmt"
	"regexp"
	"strings"

	"metaplasis/internal/core/coding"
	"metaplasis/internal/core/media"
)

// SourceAudio is the address of the source's sound.
const SourceAudio = "audio"

// AudioName is the address of a rung's rendition of sound: the source's, or one that says how it is encoded.
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
	if r.AudioTrack > 1 {
		name += fmt.Sprintf("-track%d", r.AudioTrack)
	}
	if r.AudioLanguage != "" {
		name += "-" + r.AudioLanguage
	}
	if r.AudioRate != 0 {
		name += fmt.Sprintf("-%dhz", r.AudioRate)
	}
	if r.Loudness != 0 {
		name += fmt.Sprintf("-%dlufs", -r.Loudness)
	}
	return name
}

var audioNameForm = regexp.MustCompile(`^audio(-[A-Za-z0-9-]+)?$`)

// IsAudioName reports whether a name belongs to an audio rendition: audio, audio-64k, audio-fr.
func IsAudioName(name string) bool { return audioNameForm.MatchString(name) }
