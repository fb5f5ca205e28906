package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"image"
	"image/png"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/demo"
	"metaplasis/internal/api"
	"metaplasis/internal/camera"
	"metaplasis/internal/client"
	"metaplasis/internal/hooks"
	"metaplasis/internal/service"
)

// TestMain stands in for the binary where the service starts processes of its own.
func TestMain(m *testing.M) {
	if len(os.Args) > 1 && slices.Contains([]string{workerName, srtHostName, forwardName}, os.Args[1]) {
		os.Exit(Main(os.Args[1:], os.Stdin, os.Stdout, os.Stderr))
	}
	os.Exit(m.Run())
}

// desk is a service within this process, and who runs commands against it.
type desk struct {
	t *testing.T
	s *service.Service
}

func newDesk(t *testing.T) *desk {
	data := t.TempDir()
	t.Setenv("XDG_CONFIG_HOME", t.TempDir())
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Minute)
	defer cancel()
	s, err := service.Start(ctx, service.Config{Data: data, HTTP: "127.0.0.1:0", RTMP: "127.0.0.1:0", WebTransport: service.NoWebTransport, Outbound: []string{"127.0.0.0/8"},
		Logger: slog.New(slog.DiscardHandler), Worker: workerProcess, Forward: forwardProcess, SRTHost: func() *exec.Cmd { return ownProcess(srtHostName) }})
	require.NoError(t, err)
	t.Cleanup(s.Stop)
	return &desk{t, s}
}

// run runs a command, and returns what it prints and its exit code.
func (d *desk) run(in string, args ...string) (string, int) {
	var out bytes.Buffer
	code := Main(append(args, "--server", "http://"+d.s.HTTP, "--token", d.s.Operator), strings.NewReader(in), &out, &out)
	return out.String(), code
}

// do runs a command that must go well.
func (d *desk) do(args ...string) string {
	d.t.Helper()
	out, code := d.run("", args...)
	require.Zero(d.t, code, "%v: %s", args, out)
	return out
}

// refused runs a command that must not go well, and returns why.
func (d *desk) refused(args ...string) string {
	d.t.Helper()
	out, code := d.run("", args...)
	require.NotZero(d.t, code, "%v: %s", args, out)
	return out
}

// read runs a command with --json into a value.
func (d *desk) read(to any, args ...string) {
	d.t.Helper()
	require.NoError(d.t, json.Unmarshal([]byte(d.do(append(args, "--json")...)), to), args)
}

func (d *desk) eventually(what string, ok func() bool) {
	d.t.Helper()
	require.Eventually(d.t, ok, 2*time.Minute, 20*time.Millisecond, what)
}

func numberIn(t *testing.T, text string) string {
	n := regexp.MustCompile(`\d+`).FindString(text)
	require.NotEmpty(t, n, text)
	return n
}

// TestCommandsWithoutAFeed runs the commands for what people set, against a real service.
func TestCommandsWithoutAFeed(t *testing.T) {
	d := newDesk(t)
	assert.Contains(t, d.do("channels", "list"), "There are no channels. Create one")
	out := d.do("channels", "create", "pier", "--title", "Pier", "--segment", "4s", "--part", "500ms", "--inputs", "sender,slate")
	assert.Contains(t, out, "Created pier.")
	assert.Contains(t, out, "Next: metaplasis keys create pier")
	assert.Contains(t, d.refused("channels", "create", "pier"), "the name is taken")
	assert.Contains(t, d.refused("channels", "create", "Not A Name"), "found")
	assert.Contains(t, d.do("channels", "show", "pier"), "Segments    4 s in parts of 500 ms, 6 in the playlist")
	assert.Contains(t, d.refused("channels", "change", "pier", "--part", "4s"), "part")
	d.do("channels", "change", "pier", "--part", "1s", "--time-shift", "1 h 20 min", "--title", "Pier, day 2")
	var ch api.Channel
	d.read(&ch, "channels", "show", "pier")
	assert.EqualValues(t, 80, ch.Settings.TimeShiftMinutes)
	assert.EqualValues(t, 1000, ch.Settings.PartMillis)
	assert.Equal(t, "Pier, day 2", ch.Settings.Title)
	assert.Contains(t, d.do("channels", "mark", "pier", "Starting signal", "--class", "start"), "Marked pier")
	assert.Contains(t, d.do("channels", "playing", "pier", "Race 3", "--artist", "Kestrel Bay Regatta"), "pier says: Race 3")
	assert.Contains(t, d.do("channels", "playing", "pier"), "says nothing any more")
	assert.Contains(t, d.do("channels", "switch", "pier", "slate"), "slate")
	assert.Contains(t, d.refused("channels", "switch", "pier", "file:none.flv"), "file:none.flv")
	d.do("channels", "switch", "pier", "order")

	out = d.do("keys", "create", "pier", "--label", "camera 1", "--protocol", "RTMP", "--valid", "4h")
	assert.Contains(t, out, "rtmp://")
	list := d.do("keys", "list", "pier")
	assert.Contains(t, list, "camera 1")
	d.do("keys", "remove", "pier", numberIn(t, strings.SplitN(list, "\n", 2)[1]))
	assert.NotContains(t, d.do("keys", "list", "pier"), "camera 1")

	d.do("ladders", "rung", "pier", "source", "--source")
	d.do("ladders", "rung", "pier", "180p", "--height", "180", "--bitrate", "300k", "--effort", "1", "--audio-bitrate", "64k")
	assert.Contains(t, d.do("ladders", "show", "pier"), "180p")
	assert.Contains(t, d.refused("ladders", "rung", "pier", "180p", "--height", "181"), "expected an even number")
	file := filepath.Join(t.TempDir(), "ladder.json")
	require.NoError(t, os.WriteFile(file, []byte(d.do("ladders", "show", "pier", "--json")), 0o600))
	d.do("ladders", "drop", "pier", "180p")
	d.do("ladders", "set", "pier", "--file", file)
	assert.Contains(t, d.do("ladders", "show", "pier"), "180p")
	d.do("ladders", "govern", "pier", "lower")
	d.do("ladders", "priority", "pier", "7")
	d.do("ladders", "interlaced", "pier", "frames")
	assert.Contains(t, d.do("plans", "save", "regatta", "pier", "--title", "Small"), "regatta")
	assert.Contains(t, d.do("plans", "list"), "regatta")
	exported := filepath.Join(t.TempDir(), "plan.json")
	d.do("plans", "export", "regatta", "--file", exported)
	assert.Contains(t, d.do("plans", "import", "--file", exported, "--name", "second"), "second")
	d.do("ladders", "use", "pier", "second")
	assert.Contains(t, d.do("ladders", "show", "pier"), "uses the plan second, version 1")
	d.do("ladders", "reset", "pier")
	d.do("plans", "remove", "second")
	assert.Contains(t, d.refused("plans", "show", "second"), "second")

	var picture bytes.Buffer
	require.NoError(t, png.Encode(&picture, image.NewRGBA(image.Rect(0, 0, 32, 18))))
	burgee := filepath.Join(t.TempDir(), "burgee.png")
	require.NoError(t, os.WriteFile(burgee, picture.Bytes(), 0o600))
	d.do("images", "add", "club-burgee", burgee)
	assert.Contains(t, d.do("images", "list"), "club-burgee")
	d.do("images", "remove", "club-burgee")
	assert.Contains(t, d.refused("images", "remove", "club-burgee"), "there is nothing of this name")

	assert.Contains(t, d.do("relays", "add", "pier", "club", "srt://127.0.0.1:9", "--off"), "club")
	assert.Contains(t, d.do("relays", "list", "pier"), "club")
	assert.Contains(t, d.refused("relays", "add", "pier", "club", "gopher://127.0.0.1/"), "expected")
	d.do("relays", "remove", "pier", "club")

	out, code := d.run("a long pass phrase\n", "users", "add", "ana", "--role", "operate")
	require.Zero(t, code, out)
	assert.Contains(t, d.do("users", "list"), "ana")
	d.do("users", "remove", "ana")
	assert.Contains(t, d.refused("users", "remove", "ana"), "there is nothing of this name")

	d.eventually("the log has it", func() bool {
		return strings.Contains(d.do("events", "--channel", "pier", "--limit", "100"), "The channel was created by")
	})
	assert.Contains(t, d.do("export", "events", "--channel", "pier", "--from", "1 hour ago"), "channel-created")
	d.do("feeds", "list")
	assert.Contains(t, d.do("store", "show"), "Quarantine  empty")
	d.do("items", "list")
	assert.Contains(t, d.refused("channels", "remove", "pier"), "--yes")
	d.do("channels", "remove", "pier", "--yes")
	assert.Contains(t, d.refused("channels", "show", "pier"), "pier")
}

// TestHooksFromTheCommandLine adds a webhook, tries it, and sees what it was sent.
func TestHooksFromTheCommandLine(t *testing.T) {
	d := newDesk(t)
	got := make(chan string, 16)
	server := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		var h hooks.Happening
		if json.NewDecoder(r.Body).Decode(&h) == nil && r.Header.Get("Signature") != "" {
			got <- h.Event
		}
	}))
	defer server.Close()
	out := d.do("hooks", "add", "--url", server.URL, "--events", "channel-on-air", "--label", "desk")
	assert.Contains(t, out, "Secret")
	number := numberIn(t, out)
	assert.Contains(t, d.do("hooks", "list"), "desk")
	assert.Contains(t, d.do("hooks", "test", number), "200")
	select {
	case <-got:
	case <-time.After(time.Minute):
		t.Fatal("nothing came")
	}
	assert.Contains(t, d.refused("hooks", "add", "--url", "ftp://desk.example/"), "expected")
	assert.Contains(t, d.refused("hooks", "add", "--url", server.URL, "--events", "lunch"), "lunch")
	d.do("hooks", "remove", number)
	assert.NotContains(t, d.do("hooks", "list"), "desk")
}

// TestCommandsOnAir feeds a channel over RTMP and follows it from the command line: status, recording, download, and who is in the
// way of whom.
func TestCommandsOnAir(t *testing.T) {
	d := newDesk(t)
	d.do("channels", "create", "start-line", "--segment", "1s", "--time-shift", "1h")
	file := filepath.Join(t.TempDir(), "ladder.json")
	require.NoError(t, os.WriteFile(file, []byte(`{"planned": false, "rungs": [{"name": "source", "on": true, "source": true}]}`), 0o600))
	d.do("ladders", "set", "start-line", "--file", file)
	var key api.Key
	d.read(&key, "keys", "create", "start-line", "--label", "camera 1")
	clip, err := camera.Load(demo.Loops[0].FLV)
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(context.Background())
	sent := make(chan error, 1)
	go func() {
		sent <- camera.Run(ctx, clip, camera.Options{URL: "rtmp://" + d.s.RTMP + "/in/start-line/" + key.Secret})
	}()
	defer func() { cancel(); <-sent }()
	show := func() (ch api.Channel) { d.read(&ch, "channels", "show", "start-line"); return ch }
	d.eventually("segments", func() bool {
		for _, r := range show().Status.Renditions {
			if r.Name == "source" && r.Last >= 3 {
				return true
			}
		}
		return false
	})
	assert.Contains(t, d.do("channels", "list"), "live")
	out := d.do("channels", "show", "start-line")
	assert.Contains(t, out, "Feed        RTMP from 127.0.0.1")
	assert.Contains(t, out, "avc1")
	assert.Contains(t, d.do("feeds", "list"), "RTMP")
	assert.Contains(t, d.do("ladders", "plan", "start-line"), "source")
	assert.Contains(t, d.do("ladders", "forecast", "start-line", "--file", file), "RUNG")

	out = d.do("recordings", "begin", "start-line", "--title", "Race 3", "--from", "2s", "--days", "1")
	number := numberIn(t, out)
	var rec api.Recording
	d.read(&rec, "recordings", "show", number)
	assert.Equal(t, "Race 3", rec.Title)
	assert.Equal(t, api.Running, rec.State)
	d.eventually("something is kept", func() bool { d.read(&rec, "recordings", "show", number); return rec.Bytes > 0 })
	d.do("recordings", "stop", number)
	d.do("recordings", "set", number, "--title", "Race 3, first beat")
	assert.Contains(t, d.do("recordings", "list", "--channel", "start-line"), "Race 3, first beat")
	movie := filepath.Join(t.TempDir(), "race.mp4")
	d.do("recordings", "export", number, "--to", movie)
	b, err := os.ReadFile(movie)
	require.NoError(t, err)
	assert.Equal(t, "ftyp", string(b[4:8]))
	assert.Contains(t, d.do("recordings", "verify", number), "is whole")
	res, err := http.Get(rec.HLS)
	require.NoError(t, err)
	_ = res.Body.Close()
	assert.Equal(t, http.StatusOK, res.StatusCode, "anybody with the address plays it")
	d.do("recordings", "remove", number)
	assert.Contains(t, d.refused("recordings", "show", number), "there is no recording")

	// A client without a token is told what to do; the health of the service is for all who are signed in.
	_, err = (&client.Client{Server: "http://" + d.s.HTTP}).Channels(context.Background())
	assert.ErrorContains(t, err, "sign")
	assert.Contains(t, d.do("inspect", "http://"+d.s.HTTP+"/media/start-line/index.m3u8", "--for", "1s"), "source")
}
