package origin_test

import (
	"context"
	"fmt"
	"os/exec"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/demo/feeds"
	"metaplasis/internal/contribution"
	"metaplasis/internal/core/avc"
	"metaplasis/internal/core/flv"
	"metaplasis/internal/core/ladder"
	"metaplasis/internal/core/media"
	"metaplasis/internal/origin"
	"metaplasis/internal/origin/publish"
	"metaplasis/internal/protocol/rtmp"
	"metaplasis/internal/settings"
)

// make1 makes one kind of feed by its name.
func make1(t *testing.T, name string) *feeds.Feed {
	for _, k := range feeds.Kinds() {
		if k.Name == name {
			f, err := feeds.Make(k)
			require.NoError(t, err)
			return f
		}
	}
	t.Fatalf("there is no kind %q", name)
	return nil
}

// pour sends messages as fast as they go, and leaves the sender connected.
func (r *rig) pour(slug string, list ...[]feeds.Message) *rtmp.Conn {
	conn, err := rtmp.Dial(context.Background(), r.rtmp+"/in/"+slug+"/right", rtmp.Options{})
	require.NoError(r.t, err)
	r.t.Cleanup(conn.Cut)
	for _, messages := range list {
		for _, m := range messages {
			require.NoError(r.t, conn.Media(m.Type, uint32(m.Stamp), m.Body))
		}
	}
	require.NoError(r.t, conn.Flush())
	return conn
}

// play sends a feed at its own pace. What is poured instead comes faster than a busy machine codes, and
// pictures are left out.
func (r *rig) play(slug string, f *feeds.Feed) {
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan error, 1)
	go func() { done <- f.Send(ctx, r.rtmp+"/in/"+slug+"/right", 1) }()
	r.t.Cleanup(func() {
		cancel()
		assert.NoError(r.t, <-done)
	})
}

var sourceAndLow = ladder.Ladder{Rungs: []ladder.Rung{{Name: "source", On: true, Source: true}, {Name: "low", On: true, Height: 144, Bitrate: 250_000, Effort: 1}}}

func problems(c *origin.Channel) string {
	var out []string
	for _, p := range c.Status().Problems {
		out = append(out, p.Text)
	}
	return strings.Join(out, "\n")
}

func segments(c *origin.Channel, rendition string) int {
	if r := c.Rendition(rendition); r != nil && r.View() != nil {
		return len(r.View().Snapshot.All())
	}
	return 0
}

func TestSourceThatNobodyDecodesPassesThrough(t *testing.T) {
	r := newRig(t)
	c := r.channel(settings.Settings{Slug: "start-line", Ladder: sourceAndLow})
	f := make1(t, "lossless")
	r.pour("start-line", f.Configs, f.Media)
	r.eventually("segments of the source", func() bool { return segments(c, "source") > 2 })
	assert.Contains(t, problems(c), "The rung low is not made: the source cannot be re-encoded, since no decoder here reads lossless coding")
	assert.Zero(t, segments(c, "low"))
	r.eventually("a playlist without it", func() bool {
		code, b := r.get("/start-line/index.m3u8")
		return code == 200 && strings.Contains(string(b), "source/index.m3u8") && !strings.Contains(string(b), "low/")
	})
}

func TestSourceWithoutIDRPicturesIsTold(t *testing.T) {
	for name, advice := range map[string]string{"periodic intra refresh": "Turn intra refresh off", "open GOP": "closed GOP"} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			r := newRig(t)
			c := r.channel(settings.Settings{Slug: "start-line", Ladder: sourceAndLow})
			r.play("start-line", make1(t, name))
			r.eventually("an event", func() bool { return r.keep.has("source-without-idr") })
			r.eventually("the advice", func() bool {
				return strings.Contains(problems(c), advice) && strings.Contains(problems(c), "2000 ms (60 frames)")
			})
			r.eventually("the encoded rung", func() bool { return segments(c, "low") > 2 })
		})
	}
}

// A configuration that says the same in other words is no discontinuity; one that comes in band with
// another size is one.
func TestConfigurations(t *testing.T) {
	r := newRig(t)
	c := r.channel(settings.Settings{Slug: "start-line", Ladder: sourceAndLow})
	f := make1(t, "configuration that differs each 2 s")
	r.pour("start-line", f.Configs, f.Media)
	r.eventually("segments", func() bool { return segments(c, "source") > 3 && segments(c, "low") > 2 })
	for _, s := range c.Rendition("source").View().Snapshot.All() {
		assert.False(t, s.Discontinuity)
	}
	assert.False(t, r.keep.has("feed-changed"))

	r = newRig(t)
	c = r.channel(settings.Settings{Slug: "start-line", Ladder: sourceAndLow})
	first, second := make1(t, "30 fps"), make1(t, "wide samples")
	for i := range second.Media {
		m := &second.Media[i]
		m.Stamp += first.Length
		var v flv.VideoBody
		if m.Type == flv.TagVideo && v.Unmarshal(m.Body) == nil && v.Key {
			v.Data = avc.WithSets(second.Record.Marshal(), v.Data)
			m.Body = v.Marshal()
		}
	}
	r.pour("start-line", first.Configs, first.Media, second.Media)
	r.eventually("the change", func() bool { return r.keep.has("feed-changed") })
	r.eventually("both sizes", func() bool {
		widths := map[int]bool{}
		for _, s := range c.Rendition("source").View().Snapshot.All() {
			widths[s.Header.Track.Width] = true
		}
		return widths[320] && widths[240]
	})
}

func TestWhatTheDecoderCannotReadIsAProblem(t *testing.T) {
	r := newRig(t)
	c := r.channel(settings.Settings{Slug: "start-line", Ladder: sourceAndLow})
	f := make1(t, "baseline")
	for i := range f.Media {
		var v flv.VideoBody
		if m := &f.Media[i]; m.Type == flv.TagVideo && v.Unmarshal(m.Body) == nil {
			for k := 12; k < len(v.Data); k++ {
				v.Data[k] = byte(k * 37) // lost on the way
			}
			m.Body = v.Marshal()
		}
	}
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan struct{})
	go func() {
		defer close(done)
		_ = f.Send(ctx, r.rtmp+"/in/start-line/right", 4)
	}()
	defer func() { cancel(); <-done }()
	r.eventually("a problem", func() bool { return strings.Contains(problems(c), "The decoder cannot decode") })
}

// A feed that is sent as fast as it goes is held near the clock, and nothing of it outlives it by long.
func TestFeedFasterThanRealTimeIsHeld(t *testing.T) {
	keep := &memory{}
	now := &handClock{now: time.Now()}
	o := origin.New(origin.Options{Keeper: keep, Gate: keep, Worker: func() *exec.Cmd { return exec.Command("false") }, Now: now.Now})
	defer o.Close()
	c, err := o.Add(settings.Settings{Slug: "booth"}, now.Now(), publish.Position{})
	require.NoError(t, err)
	config := []byte{0x11, 0x90}
	frames := func(f *origin.Feed, from int64) (sent int64, paced time.Duration) {
		for n := from; n < from+48000*3600/1024; n++ { // an hour of sound
			f.Unit(media.TrackID(media.Audio), int64(n*1024/48), 0, true, make([]byte, 300))
			if paced = f.Pace(); paced > 0 {
				return n*1024/48 - from*1024/48, paced
			}
		}
		return 3_600_000, 0
	}
	begin := func() *origin.Feed {
		f, err := o.Open(contribution.Sender{Channel: "booth", Key: "right", Protocol: "TEST", Remote: "192.0.2.7:1"})
		require.NoError(t, err)
		track, err := flv.Track(media.AAC, config)
		require.NoError(t, err)
		f.Track(track)
		return f
	}
	f := begin()
	sent, paced := frames(f, 0)
	assert.InDelta(t, origin.DefaultBurst.Milliseconds(), sent, 100)
	assert.Positive(t, paced)
	assert.True(t, keep.has("feed-too-fast"))
	assert.Contains(t, problems(c), "faster than real time")
	now.pass(5 * time.Second)
	sent, _ = frames(f, 600)
	assert.LessOrEqual(t, sent, int64(5100), "it goes on as the clock does")
	f.End("test")
	now.pass(time.Minute)
	f = begin()
	frames(f, 0)
	f.End("test")
	all := c.Rendition("audio").View().Snapshot.All()
	last := all[len(all)-1]
	ahead := time.Duration(last.Start+last.Duration)*time.Second/media.VideoTimescale - now.Now().Sub(c.Created())
	assert.Less(t, ahead, origin.DefaultBurst+time.Second, "the clock of the channel does not run away")
}

// A key that cannot be checked is not called wrong.
func TestKeysThatCannotBeChecked(t *testing.T) {
	r := newRig(t)
	r.channel(settings.Settings{Slug: "start-line"})
	_, err := r.o.Open(contribution.Sender{Channel: "start-line", Key: "unknown", Protocol: "TEST", Remote: "192.0.2.7:1"})
	require.ErrorIs(t, err, origin.ErrUnchecked)
	assert.NotErrorIs(t, err, origin.ErrBadKey)
	assert.Contains(t, err.Error(), "cannot be checked now")
}

// Small backward steps are put in order; large ones are a discontinuity with an event.
func TestStampsThatGoBack(t *testing.T) {
	for back, jumps := range map[int64]bool{200: false, 1500: true, 9000: true} {
		r := newRig(t)
		c := r.channel(settings.Settings{Slug: "start-line", Ladder: ladder.Ladder{Rungs: sourceAndLow.Rungs[:1]}})
		f := make1(t, "keyframes each half second")
		for i := range f.Media {
			if m := &f.Media[i]; m.At > 4000 && (jumps || m.At < 4100) {
				m.Stamp -= back
			}
		}
		r.pour("start-line", f.Configs, f.Media)
		r.eventually("segments", func() bool { return segments(c, "source") > 2 })
		if jumps {
			r.eventually("an event", func() bool { return r.keep.has("timestamps-jumped") })
		} else {
			assert.False(t, r.keep.has("timestamps-jumped"), fmt.Sprint(back))
		}
		end := int64(-1)
		for _, s := range c.Rendition("source").View().Snapshot.All() {
			assert.GreaterOrEqual(t, s.Start, end, "media time goes on")
			end = s.Start
		}
	}
}
