package cli

import (
	"fmt"
	"strconv"
	"strings"

	"metaplasis/internal/core/media"
)

func rate(bits int64) string {
	switch {
	case bits <= 0:
		return "-"
	case bits < 1_000_000:
		return fmt.Sprintf("%d kbit/s", (bits+500)/1000)
	}
	return fmt.Sprintf("%d.%02d Mbit/s", bits/1_000_000, bits%1_000_000/10_000)
}

func thousandths(v int64) string {
	if v%1000 == 0 {
		return strconv.FormatInt(v/1000, 10)
	}
	return strings.TrimRight(fmt.Sprintf("%d.%03d", v/1000, v%1000), "0")
}

func trackText(t *media.Track) string {
	label := or(t.Label, string(t.Codec))
	if t.Kind == media.Data {
		return strings.TrimSpace(label + " " + t.Name)
	}
	if t.Kind != media.Audio {
		return fmt.Sprintf("%s %dx%d", label, t.Width, t.Height)
	}
	text := fmt.Sprintf("%s %d Hz %d ch", label, t.SampleRate, t.Channels)
	if about := strings.TrimSpace(t.Language + " " + t.Name); about != "" {
		text += " (" + about + ")"
	}
	return text
}

// tracksBrief names the first two tracks and counts the others, for tables.
func tracksBrief(tracks []media.Track) string {
	const shown = 2
	if len(tracks) <= shown {
		return tracksText(tracks)
	}
	return fmt.Sprintf("%s, and %d more", tracksText(tracks[:shown]), len(tracks)-shown)
}

func tracksText(tracks []media.Track) string {
	var out []string
	for i := range tracks {
		out = append(out, trackText(&tracks[i]))
	}
	return strings.Join(out, ", ")
}

func or(s, other string) string {
	if s == "" {
		return other
	}
	return s
}
