package e2e

import (
	"context"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/demo"
	"metaplasis/internal/camera"
	"metaplasis/internal/settings"
)

// TestRecordingStandsIn: a file is on air while nobody sends, a sender takes over, and the file comes back.
func TestRecordingStandsIn(t *testing.T) {
	t.Parallel()
	s := start(t)
	const file = "standby.flv"
	set := settings.Settings{Inputs: []settings.Input{{Kind: settings.InputSender}, {Kind: settings.InputFile, File: file}}}
	url := s.channel("line", set, sourceOnly)
	onAir := func(kind string) func() bool {
		return func() bool {
			for _, in := range s.status("line").Inputs {
				if in.OnAir {
					return in.Kind == kind
				}
			}
			return false
		}
	}
	eventually(t, "the missing file is told of", func() bool { return s.status("line").Inputs[1].Problem != "" })
	out, _ := s.command("channels", "show", "line")
	assert.Contains(t, out, "there is no file")

	require.NoError(t, os.WriteFile(filepath.Join(s.data, "files", file), demo.Others[0].FLV, 0o600))
	eventually(t, "the file on air", onAir(settings.InputFile))
	eventually(t, "segments of the file", func() bool { return s.newest("line", "source") >= 2 })
	tracks := s.status("line").Feed.Tracks
	require.Len(t, tracks, 2)
	assert.Equal(t, []string{"VP9", "Opus"}, []string{tracks[0].Label, tracks[1].Label})

	stop := s.sendLoop(&demo.Others[2], camera.Options{URL: url})
	eventually(t, "the sender on air", onAir(settings.InputSender))
	before := s.newest("line", "source")
	eventually(t, "segments of the sender", func() bool { return s.newest("line", "source") > before+1 })
	// By hand, the sender standing by, and back.
	out, code := s.command("channels", "switch", "line", "file:"+file)
	assert.Zero(t, code, out)
	eventually(t, "the file on air by hand", onAir(settings.InputFile))
	eventually(t, "segments of it", func() bool { return s.newest("line", "source") > before+3 })
	out, _ = s.command("channels", "show", "line")
	assert.Regexp(t, `sender, stands by`, out)
	assert.Regexp(t, `file:standby.flv, on air, chosen by hand`, out)
	out, code = s.command("channels", "switch", "line", "order")
	assert.Zero(t, code, out)
	eventually(t, "the sender that stood by", onAir(settings.InputSender))
	before = s.newest("line", "source")
	eventually(t, "segments of the sender again", func() bool { return s.newest("line", "source") > before+1 })
	out, code = s.command("channels", "switch", "line", "file:other.flv")
	assert.NotZero(t, code)
	assert.Contains(t, out, "has no input")
	stop()
	eventually(t, "the file back on air", onAir(settings.InputFile))
	before = s.newest("line", "source")
	eventually(t, "segments of the file again", func() bool { return s.newest("line", "source") > before+1 })
	breaks := 0
	list := s.playlist("line", "source")
	for _, e := range list.Entries {
		if e.Discontinuity {
			breaks++
		}
	}
	assert.EqualValues(t, 4, int(list.DiscontinuitySequence)+breaks, "one for each change of feeds")

	out, code = s.command("channels", "change", "line", "--inputs", "sender")
	assert.Zero(t, code, out)
	eventually(t, "nobody on air", func() bool { return s.status("line").Feed == nil })
	_, err := s.api.Channel(context.Background(), "line")
	require.NoError(t, err)
	out, code = s.command("channels", "change", "line", "--inputs", "sender,file:../etc/passwd")
	assert.NotZero(t, code)
	assert.Contains(t, out, "expected the name of an FLV, CMAF or TS file")
}

// TestWhatWasOnAirStandsIn: the CMAF that one channel made is the file input of another, track by track, in
// the tracks' own timescales, and plays.
func TestWhatWasOnAirStandsIn(t *testing.T) {
	t.Parallel() // it waits more than it works
	s := start(t)
	loop := demo.Loops[0]
	stop := s.sendLoop(&loop, camera.Options{URL: s.channel(loop.Name, settings.Settings{Packaging: settings.Packaging{Window: 10}}, sourceOnly)})
	eventually(t, "four segments", func() bool { return s.newest(loop.Name, "source") >= 5 && s.newest(loop.Name, "audio") >= 5 })
	folder := filepath.Join(s.data, "files")
	for rendition, file := range map[string]string{"source": "again.mp4", "audio": "again.en.mp4"} {
		list := s.playlist(loop.Name, rendition).Whole()[:4]
		_, all, _ := s.get("/media/" + loop.Name + "/" + rendition + "/" + list[0].Header)
		for _, e := range list {
			_, b, _ := s.get("/media/" + loop.Name + "/" + rendition + "/" + e.URI)
			all = append(all, b...)
		}
		require.NoError(t, os.WriteFile(filepath.Join(folder, file), all, 0o600))
	}
	stop()
	again := loop
	again.Name = "again"
	s.channel(again.Name, settings.Settings{Inputs: []settings.Input{{Kind: settings.InputFile, File: "again.mp4"}}}, sourceOnly)
	eventually(t, "the file on air, round once", func() bool { return s.newest("again", "source") >= 6 })
	st := s.status("again")
	require.Len(t, st.Feed.Tracks, 2)
	assert.Equal(t, []string{"H.264", "AAC", "en"}, []string{st.Feed.Tracks[0].Label, st.Feed.Tracks[1].Label, st.Feed.Tracks[1].Language})
	breaks := 0
	for _, e := range s.playlist("again", "source").Entries {
		if e.Discontinuity {
			breaks++
		}
	}
	assert.Zero(t, breaks, "a turn follows the one before on the same line")
	// The file's sound is two frames shorter than its pictures: where a turn ends, the part that was hinted at does not come.
	s.inspectBut("hint-wrong", "again", "index.m3u8", "index.mpd", "low.mpd")
	p := open(t)
	defer p.stop()
	s.playsInOrder(p, &again, "hls", "ll-hls")

	require.NoError(t, os.WriteFile(filepath.Join(folder, "broken.mp4"), []byte("nothing of the kind"), 0o600))
	s.channel("broken", settings.Settings{Inputs: []settings.Input{{Kind: settings.InputFile, File: "broken.mp4"}}}, sourceOnly)
	eventually(t, "what is wrong with the file", func() bool { return s.status("broken").Inputs[0].Problem != "" })
}

// TestTransportStreamStandsIn plays a file of transport packets, round and round on one line.
func TestTransportStreamStandsIn(t *testing.T) {
	t.Parallel()
	s := start(t)
	clip, err := camera.Load(demo.Others[2].FLV)
	require.NoError(t, err)
	var all []byte
	require.NoError(t, camera.Serve(context.Background(), clip, camera.Options{Loops: 1, Fast: true}, func(b []byte) error {
		all = append(all, b...)
		return nil
	}))
	require.NoError(t, os.WriteFile(filepath.Join(s.data, "files", "again.ts"), all, 0o600))
	s.channel("again", windowed("file:again.ts"), sourceOnly)
	eventually(t, "round once", func() bool { return s.newest("again", "source") >= 6 })
	out := s.made("again", &demo.Others[2])
	assert.Empty(t, out.wrong)
	assert.Less(t, out.apart.Abs().Milliseconds(), int64(40))
	for _, e := range s.playlist("again", "source").Entries {
		assert.False(t, e.Discontinuity)
	}
	require.Len(t, s.status("again").Feed.Tracks, 4)
}
