package e2e

import (
	"encoding/json"
	"fmt"
	"os/exec"
	"path"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/internal/core/hls"
)

// opinion is what a parser of others saw.
type opinion struct {
	Warnings                             []string
	Variants                             []struct{ URI, Codecs, Audio string }
	Groups                               []string
	TargetDuration, PartTarget           float64
	MediaSequence, DiscontinuitySequence uint64
	Durations                            []float64
	URIs                                 []string
	Parts                                int
	Hints                                []string
	Reports                              int
	CanBlock                             bool
	Ended                                bool
	Ranges                               int
	Videos                               []struct {
		Name     string
		Segments []struct {
			URI      string
			Duration float64
			Number   uint64
		}
	}
	Audios []struct{ Segments int }
}

// parsersOfOthers shows every kind of playlist and manifest to parsers that others
// wrote, and holds what they saw against our own reader and against what is served.
func parsersOfOthers(t *testing.T, s *service) {
	_, code := s.command("channels", "mark", "start-line", "Starting signal")
	require.Zero(t, code)
	args := []string{filepath.Join("..", "web", "second-opinion.mjs")}
	for _, file := range []string{"start-line/index.m3u8", "start-line/phones.m3u8", "start-line/radio.m3u8", "start-line/ts.m3u8", "start-line/240p/index.m3u8", "start-line/audio/index.m3u8", "start-line/240p/keys.m3u8", "start-line/240p/ts.m3u8", "start-line/audio/aac.m3u8", "start-line/index.mpd", "start-line/low.mpd", "start-line/phones.mpd", "booth/index.mpd"} {
		args = append(args, s.http+"/media/"+file)
	}
	b, err := exec.Command("node", args...).CombinedOutput()
	require.NoError(t, err, string(b))
	var all map[string]opinion
	require.NoError(t, json.Unmarshal(b, &all), string(b))
	of := func(file string) opinion { return all[s.http+"/media/"+file] }
	for _, url := range args[1:] {
		o := all[url]
		assert.Empty(t, o.Warnings, url)
		if !strings.HasSuffix(url, ".mpd") { // that parser tells nothing of it
			assert.False(t, o.Ended, url)
		}
		for _, v := range o.Videos {
			assert.NotEmpty(t, v.Segments, url)
			for _, seg := range v.Segments[:min(2, len(v.Segments))] {
				code, _, _ := s.get(strings.TrimPrefix(seg.URI, s.http))
				assert.Equal(t, 200, code, seg.URI)
			}
		}
	}
	master := of("start-line/index.m3u8")
	assert.Len(t, master.Variants, 3)
	assert.ElementsMatch(t, []string{"audio", "audio-64k"}, master.Groups)
	for _, v := range master.Variants {
		assert.True(t, strings.HasPrefix(v.Codecs, "avc1.") && strings.Contains(v.Codecs, "mp4a.40.2"), v.Codecs)
		assert.Contains(t, master.Groups, v.Audio)
	}
	assert.Len(t, of("start-line/phones.m3u8").Variants, 1)
	low := of("start-line/240p/index.m3u8")
	_, text, _ := s.get("/media/start-line/240p/index.m3u8")
	ours, err := hls.ReadMedia(text)
	require.NoError(t, err)
	assert.InDelta(t, ours.PartTarget.Seconds(), low.PartTarget, 0.001)
	assert.Equal(t, ours.TargetDuration.Seconds(), low.TargetDuration)
	assert.Positive(t, low.Parts)
	assert.Len(t, low.Hints, 1)
	assert.Equal(t, 4, low.Reports)
	assert.True(t, low.CanBlock)
	assert.Positive(t, low.Ranges)
	for i, d := range low.Durations {
		assert.InDelta(t, 2, d, 0.05)
		assert.Regexp(t, fmt.Sprintf(`^[a-z2-7]{8}-%d\.m4s$`, low.MediaSequence+uint64(i)), low.URIs[i])
	}
	assert.Len(t, of("start-line/index.mpd").Videos, 3)
	assert.Len(t, of("start-line/index.mpd").Audios, 2)
	assert.Len(t, of("start-line/low.mpd").Videos, 3)
	assert.Len(t, of("start-line/phones.mpd").Videos, 1)
	for _, v := range of("start-line/index.mpd").Videos {
		first, err := strconv.ParseUint(strings.TrimSuffix(path.Base(v.Segments[0].URI)[len("incarnat-"):], ".m4s"), 10, 64)
		require.NoError(t, err)
		for _, seg := range v.Segments { // the parser counts from 0
			assert.InDelta(t, 2, seg.Duration, 0.05)
			assert.Regexp(t, fmt.Sprintf(`^[a-z2-7]{8}-%d\.m4s$`, first+seg.Number), path.Base(seg.URI))
		}
	}
}
