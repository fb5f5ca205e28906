package origin_test

import (
	"fmt"
	"os/exec"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/internal/contribution"
	"metaplasis/internal/core/ladder"
	"metaplasis/internal/core/media"
	"metaplasis/internal/events"
	"metaplasis/internal/origin"
	"metaplasis/internal/origin/publish"
	"metaplasis/internal/settings"
)

// handClock is a clock that a test turns.
type handClock struct {
	mu  sync.Mutex
	now time.Time
}

func (c *handClock) Now() time.Time {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.now
}

func (c *handClock) pass(d time.Duration) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.now = c.now.Add(d)
}

// TestSwitch goes through every pair of who is on air and who comes, with either input preferred.
func TestSwitch(t *testing.T) {
	sender, file := settings.Input{Kind: settings.InputSender}, settings.Input{Kind: settings.InputFile, File: "standby.flv"}
	const taken, admitted = false, true
	for _, c := range []struct {
		name          string
		first, second settings.Input // by preference
		onAir, comes  settings.Input
		silent        bool // who is on air
		want          bool
	}{
		{"a sender follows nobody", sender, file, settings.Input{}, sender, false, admitted},
		{"a file follows nobody", sender, file, settings.Input{}, file, false, admitted},
		{"a sender meets a sender", sender, file, sender, sender, false, taken},
		{"a sender meets a silent sender", sender, file, sender, sender, true, admitted},
		{"a file meets a sender", sender, file, sender, file, false, taken},
		{"a file meets a silent sender", sender, file, sender, file, true, admitted},
		{"a sender meets a file", sender, file, file, sender, false, admitted},
		{"a file meets itself", sender, file, file, file, false, taken},
		{"a sender meets a preferred file that is silent", file, sender, file, sender, true, admitted},
		{"a preferred file meets a sender", file, sender, sender, file, false, admitted},
	} {
		t.Run(c.name, func(t *testing.T) {
			clock := &handClock{now: time.Now()}
			keep := &memory{}
			o := origin.New(origin.Options{Keeper: keep, Gate: keep, Now: clock.Now,
				Worker: func() *exec.Cmd { return exec.Command("false") }})
			defer o.Close()
			ch, err := o.Add(settings.Settings{Slug: "line", Inputs: []settings.Input{c.first, c.second}}, clock.now, publish.Position{})
			require.NoError(t, err)
			open := func(in settings.Input) (*origin.Feed, error) {
				if in.Kind == settings.InputFile {
					return o.OpenPlayer("line", in)
				}
				return o.Open(contribution.Sender{Channel: "line", Key: "right", Protocol: "TEST", Remote: "192.0.2.1:1"})
			}
			var before *origin.Feed
			if c.onAir.Kind != "" {
				before, err = open(c.onAir)
				require.NoError(t, err)
			}
			if c.silent {
				clock.pass(3 * time.Second)
			}
			_, err = open(c.comes)
			if c.want == taken {
				require.ErrorIs(t, err, origin.ErrTaken)
				assert.Empty(t, before.Kicked())
				return
			}
			require.NoError(t, err)
			if c.onAir == sender && c.comes != sender {
				assert.Empty(t, before.Kicked(), "it stands by")
				before.End("late")
			} else if before != nil {
				assert.Contains(t, <-before.Kicked(), "took over")
				before.End("late") // is too late to take the new one off the air
			}
			for _, in := range ch.Status().Inputs {
				assert.Equal(t, in.Input == c.comes, in.OnAir, "%+v", in)
			}
		})
	}
}

// TestALiveFeedStandsBy: a sender that meets a preferred file stands by, and is on air once the file ends.
func TestALiveFeedStandsBy(t *testing.T) {
	clock := &handClock{now: time.Now()}
	keep := &memory{}
	o := origin.New(origin.Options{Keeper: keep, Gate: keep, Now: clock.Now, Worker: func() *exec.Cmd { return exec.Command("false") }})
	defer o.Close()
	file := settings.Input{Kind: settings.InputFile, File: "a.flv"}
	ch, err := o.Add(settings.Settings{Slug: "line", Inputs: []settings.Input{file, {Kind: settings.InputSender}}}, clock.now, publish.Position{})
	require.NoError(t, err)
	playing, err := o.OpenPlayer("line", file)
	require.NoError(t, err)
	_, err = o.Open(contribution.Sender{Channel: "line", Key: "right", Protocol: "TEST", Remote: "192.0.2.1:1"})
	require.NoError(t, err)
	assert.Equal(t, 1, ch.Status().Inputs[1].Standby)
	playing.End("test")
	assert.True(t, ch.Status().Inputs[1].OnAir)
}

// TestFilesWait: a file comes back when a sender has been away for a second, and not when its input is gone.
func TestFilesWait(t *testing.T) {
	clock := &handClock{now: time.Now()}
	keep := &memory{}
	o := origin.New(origin.Options{Keeper: keep, Gate: keep, Now: clock.Now,
		Worker: func() *exec.Cmd { return exec.Command("false") }})
	defer o.Close()
	set := settings.Settings{Slug: "line", Inputs: []settings.Input{{Kind: settings.InputSender}, {Kind: settings.InputFile, File: "a.flv"}}}
	ch, err := o.Add(set, clock.now, publish.Position{})
	require.NoError(t, err)
	assert.True(t, ch.Vacant(settings.Input{Kind: settings.InputFile, File: "a.flv"}), "nobody was ever here")
	f, err := o.Open(contribution.Sender{Channel: "line", Key: "right", Protocol: "TEST", Remote: "192.0.2.1:1"})
	require.NoError(t, err)
	assert.False(t, ch.Vacant(settings.Input{Kind: settings.InputFile, File: "a.flv"}))
	f.End("test")
	assert.False(t, ch.Vacant(settings.Input{Kind: settings.InputFile, File: "a.flv"}), "the sender may come back")
	clock.pass(1100 * time.Millisecond)
	assert.True(t, ch.Vacant(settings.Input{Kind: settings.InputFile, File: "a.flv"}))
	playing, err := o.OpenPlayer("line", settings.Input{Kind: settings.InputFile, File: "a.flv"})
	require.NoError(t, err)

	set.Inputs = set.Inputs[:1]
	require.NoError(t, ch.Apply(set))
	assert.Equal(t, "its input was removed", <-playing.Kicked())
	assert.False(t, ch.Vacant(settings.Input{Kind: settings.InputFile, File: "a.flv"}))
	_, err = o.OpenPlayer("line", settings.Input{Kind: settings.InputFile, File: "a.flv"})
	assert.ErrorIs(t, err, origin.ErrNoInput)

	set.Inputs = []settings.Input{{Kind: settings.InputFile, File: "a.flv"}}
	require.NoError(t, ch.Apply(set))
	_, err = o.Open(contribution.Sender{Channel: "line", Key: "right", Protocol: "TEST", Remote: "192.0.2.1:1"})
	assert.ErrorIs(t, err, origin.ErrNoInput)

	var invalid *settings.InvalidError
	for _, in := range [][]settings.Input{{{Kind: "tape"}}, {{Kind: settings.InputFile, File: "../a.flv"}},
		{{Kind: settings.InputSender}, {Kind: settings.InputSender}}, make([]settings.Input, 5)} {
		set.Inputs = in
		assert.ErrorAs(t, ch.Apply(set), &invalid, "%v", in)
	}
}

// TestSwitchByHand: whatever their order is, an input that is chosen goes on air; the sender whose place it
// takes stands by, and comes back by hand, by the order, or when who took its place leaves.
func TestSwitchByHand(t *testing.T) {
	clock := &handClock{now: time.Now()}
	keep := &memory{}
	o := origin.New(origin.Options{Keeper: keep, Gate: keep, Now: clock.Now,
		Worker: func() *exec.Cmd { return exec.Command("false") }})
	defer o.Close()
	sender, file := settings.Input{Kind: settings.InputSender}, settings.Input{Kind: settings.InputFile, File: "a.flv"}
	ch, err := o.Add(settings.Settings{Slug: "line", Inputs: []settings.Input{sender, file}}, clock.now, publish.Position{})
	require.NoError(t, err)
	onAir := func() string {
		for _, in := range ch.Status().Inputs {
			if in.OnAir {
				return in.Kind
			}
		}
		return ""
	}
	f, err := o.Open(contribution.Sender{Channel: "line", Key: "right", Protocol: "TEST", Remote: "192.0.2.1:1"})
	require.NoError(t, err)
	assert.False(t, ch.Vacant(settings.Input{Kind: settings.InputFile, File: "a.flv"}))
	assert.ErrorIs(t, ch.Choose(settings.Input{Kind: settings.InputFile, File: "b.flv"}), origin.ErrNoInput)
	require.NoError(t, ch.Choose(file))
	assert.Equal(t, "sender", onAir(), "the file has nothing yet")
	require.True(t, ch.Vacant(settings.Input{Kind: settings.InputFile, File: "a.flv"}))
	for _, back := range []func(playing *origin.Feed){
		func(*origin.Feed) { require.NoError(t, ch.Choose(sender)) },
		func(*origin.Feed) { require.NoError(t, ch.Choose(settings.Input{})) },
		func(playing *origin.Feed) { playing.End("its end") },
	} {
		require.NoError(t, ch.Choose(file))
		playing, err := o.OpenPlayer("line", settings.Input{Kind: settings.InputFile, File: "a.flv"})
		require.NoError(t, err)
		assert.Equal(t, "file", onAir())
		assert.Empty(t, f.Kicked(), "the sender stays connected")
		assert.Equal(t, 1, ch.Status().Inputs[0].Standby)
		back(playing)
		assert.Equal(t, "sender", onAir())
		assert.Zero(t, ch.Status().Inputs[0].Standby)
	}
	require.NoError(t, ch.Choose(file))
	_, err = o.OpenPlayer("line", settings.Input{Kind: settings.InputFile, File: "a.flv"})
	require.NoError(t, err)
	clock.pass(3 * time.Second)
	require.NoError(t, ch.Choose(sender))
	assert.Equal(t, "file", onAir(), "a sender that is silent does not come back")
	f.End("gone")
	assert.Equal(t, "file", onAir())
	assert.Zero(t, ch.Status().Inputs[0].Standby)
}

// sendFor sends pictures each 40 ms of a clock that is turned by hand.
func sendFor(o *origin.Origin, clock *handClock, f *origin.Feed, d time.Duration, tick func()) {
	for range d / (40 * time.Millisecond) {
		clock.pass(40 * time.Millisecond)
		f.Unit(1, clock.Now().UnixMilli(), 0, true, []byte{0, 0, 0, 2, 0x65, 0x88})
		tick()
	}
}

// TestASilentSenderLosesItsPlace: how long silence may last is up to the protocol. Who is preferred comes back by
// itself once it is steady, whether its connection lasted or not.
func TestASilentSenderLosesItsPlace(t *testing.T) {
	clock := &handClock{now: time.Now()}
	keep := &memory{}
	o := origin.New(origin.Options{Keeper: keep, Gate: keep, Now: clock.Now,
		Worker: func() *exec.Cmd { return exec.Command("false") }})
	defer o.Close()
	sender, file := settings.Input{Kind: settings.InputSender}, settings.Input{Kind: settings.InputFile, File: "a.flv"}
	ch, err := o.Add(settings.Settings{Slug: "line", Inputs: []settings.Input{sender, file}}, clock.now, publish.Position{})
	require.NoError(t, err)
	onAir := func() string {
		for _, in := range ch.Status().Inputs {
			if in.OnAir {
				return in.Kind
			}
		}
		return ""
	}
	picture := media.Track{ID: 1, Kind: media.Video, Codec: media.H264, Timescale: 90_000, Width: 320, Height: 180, Config: []byte{1}, Undecodable: "this test"}
	open := func(silence time.Duration) *origin.Feed {
		f, err := o.Open(contribution.Sender{Channel: "line", Key: "right", Protocol: "TEST", Remote: "192.0.2.1:1", Silence: silence})
		require.NoError(t, err)
		f.Track(picture)
		return f
	}
	f := open(500 * time.Millisecond)
	sendFor(o, clock, f, 2*time.Second, func() {})
	clock.pass(400 * time.Millisecond)
	assert.False(t, ch.Vacant(settings.Input{Kind: settings.InputFile, File: "a.flv"}), "its protocol may be silent for so long")
	clock.pass(200 * time.Millisecond)
	require.True(t, ch.Vacant(settings.Input{Kind: settings.InputFile, File: "a.flv"}))
	play := func() *origin.Feed {
		playing, err := o.OpenPlayer("line", settings.Input{Kind: settings.InputFile, File: "a.flv"})
		require.NoError(t, err)
		playing.Track(picture)
		return playing
	}
	playing := play()
	assert.Equal(t, "file", onAir())
	assert.Empty(t, f.Kicked(), "it stands by")
	back := func(f *origin.Feed) {
		begun := clock.Now()
		sendFor(o, clock, f, 4*time.Second, func() {
			playing.Unit(1, clock.Now().UnixMilli(), 0, true, []byte{0, 0, 0, 2, 0x65, 0x88})
			ch.Watch()
			if clock.Now().Sub(begun) < 2900*time.Millisecond {
				assert.Equal(t, "file", onAir(), "it is not trusted yet")
			}
		})
		assert.Equal(t, "sender", onAir())
		assert.Contains(t, <-playing.Kicked(), "preferred")
		playing.End("over")
	}
	back(f)

	// A new connection is not trusted either, when one was lost a moment ago.
	f.End("lost")
	clock.pass(1100 * time.Millisecond)
	playing = play()
	f = open(0)
	assert.Equal(t, "file", onAir())
	back(f)

	// One that comes later is.
	f.End("lost")
	clock.pass(20 * time.Second)
	playing = play()
	f = open(0)
	assert.Equal(t, "sender", onAir())
	sendFor(o, clock, f, time.Second, func() {})
	clock.pass(4 * time.Second)
	text := ""
	for _, p := range ch.Status().Problems {
		text += p.Text
	}
	assert.Contains(t, text, "Nothing has arrived from the sender for 4 s")
}

// TestAPreferredSenderWaitsForItsPicture: who is on air stays there until a preferred sender has something to show.
func TestAPreferredSenderWaitsForItsPicture(t *testing.T) {
	clock := &handClock{now: time.Now()}
	keep := &memory{}
	o := origin.New(origin.Options{Keeper: keep, Gate: keep, Now: clock.Now, Worker: func() *exec.Cmd { return exec.Command("false") }})
	defer o.Close()
	ch, err := o.Add(settings.Settings{Slug: "line", Inputs: []settings.Input{{Kind: settings.InputAddress, Address: "srt://192.0.2.7:7000"}, {Kind: settings.InputSender}},
		Ladder: ladder.Ladder{Rungs: []ladder.Rung{{Name: "source", On: true, Source: true}}}}, clock.now, publish.Position{})
	require.NoError(t, err)
	onAir := func() []bool {
		list := ch.Status().Inputs
		return []bool{list[0].OnAir, list[1].OnAir}
	}
	video := media.Track{ID: 1, Kind: media.Video, Codec: media.H264, CodecName: "avc1.42c01e", Timescale: 90000, Config: []byte{1}, Width: 640, Height: 360, FrameRate: media.Rational{Num: 30, Den: 1}}
	sound := media.Track{ID: 2, Kind: media.Audio, Codec: media.AAC, CodecName: "mp4a.40.2", Timescale: 48000, Config: []byte{0x11, 0x90}, SampleRate: 48000, Channels: 2, FrameSamples: 1024}
	idr, later := []byte{0, 0, 0, 2, 0x65, 0x88}, []byte{0, 0, 0, 2, 0x41, 0x9a}
	backup, err := o.Open(contribution.Sender{Channel: "line", Key: "right", Protocol: "TEST", Remote: "192.0.2.1:1"})
	require.NoError(t, err)
	backup.Track(video)
	backup.Track(sound)
	send := func(f *origin.Feed, from, n int) {
		for i := from; i < from+n; i++ {
			clock.pass(33 * time.Millisecond)
			data := later
			if i%30 == 0 {
				data = idr
			}
			f.Unit(1, int64(i)*33, 0, i%30 == 0, slices.Clone(data))
			f.Unit(2, int64(i)*33, 0, true, []byte{1, 2, 3})
		}
	}
	send(backup, 0, 60)
	require.Equal(t, []bool{false, true}, onAir())
	main, err := o.OpenSource("line", settings.Input{Kind: settings.InputAddress, Address: "srt://192.0.2.7:7000"}, "SRT", "192.0.2.7:7000", 0)
	require.NoError(t, err)
	main.Track(video)
	main.Track(sound)
	send(backup, 60, 5)
	assert.Equal(t, []bool{false, true}, onAir(), "it only connected")
	send(main, 5, 20)
	assert.Equal(t, []bool{false, true}, onAir(), "nothing that a decoder may begin with came")
	send(main, 30, 1)
	assert.Equal(t, []bool{true, false}, onAir())
	assert.Empty(t, backup.Kicked(), "it stands by")
	main.End("over")
	assert.Equal(t, []bool{false, true}, onAir())
}

// TestEveryPairOfStates: whatever two inputs do, whoever came first, the one that sends is on air, the preferred one of
// two that send, and a feed that is on air and sends stays there while nothing of the other comes.
func TestEveryPairOfStates(t *testing.T) {
	const absent, connected, silent, late, sending = "absent", "connected", "silent", "comes later", "sends"
	states := []string{absent, connected, silent, late, sending}
	inputs := [2]settings.Input{{Kind: settings.InputAddress, Address: "srt://192.0.2.7:7000"}, {Kind: settings.InputAddress, Address: "rtsp://192.0.2.8/1"}}
	video := media.Track{ID: 1, Kind: media.Video, Codec: media.H264, CodecName: "avc1.42c01e", Timescale: 90000, Config: []byte{1}, Width: 640, Height: 360, FrameRate: media.Rational{Num: 30, Den: 1}, Undecodable: "this test"}
	for _, one := range states {
		for _, other := range states {
			for first := range 2 {
				t.Run(fmt.Sprintf("%s, %s, %d first", one, other, first+1), func(t *testing.T) {
					clock := &handClock{now: time.Now()}
					keep := &memory{}
					o := origin.New(origin.Options{Keeper: keep, Gate: keep, Now: clock.Now, Worker: func() *exec.Cmd { return exec.Command("false") }})
					defer o.Close()
					ch, err := o.Add(settings.Settings{Slug: "line", Inputs: inputs[:], Ladder: ladder.Ladder{Rungs: []ladder.Rung{{Name: "source", On: true, Source: true}}}}, clock.now, publish.Position{})
					require.NoError(t, err)
					state := [2]string{one, other}
					var feeds [2]*origin.Feed
					open := func(i int) {
						f, err := o.OpenSource("line", inputs[i], "TEST", "192.0.2.7:7000", 2*time.Second)
						require.NoError(t, err)
						feeds[i] = f
						if state[i] != connected {
							f.Track(video)
						}
					}
					count := 0
					pass := func(d time.Duration, sends func(i int) bool) {
						for end := clock.Now().Add(d); clock.Now().Before(end); count++ {
							clock.pass(33 * time.Millisecond)
							for i, f := range feeds {
								if f == nil || !sends(i) {
									continue
								}
								data := []byte{0, 0, 0, 2, 0x41, 0x9a}
								if count%30 == 0 {
									data = []byte{0, 0, 0, 2, 0x65, 0x88}
								}
								f.Unit(1, clock.Now().UnixMilli()&0xffffffff, 0, count%30 == 0, data)
							}
							ch.Watch()
						}
					}
					for _, i := range []int{first, 1 - first} {
						if state[i] != absent && state[i] != late {
							open(i)
						}
						pass(2*time.Second, func(i int) bool { return state[i] == sending || state[i] == silent })
					}
					pass(4*time.Second, func(i int) bool { return state[i] == sending })
					for i := range 2 {
						if state[i] == late {
							open(i)
						}
					}
					pass(8*time.Second, func(i int) bool { return state[i] == sending || state[i] == late })
					want := -1
					for _, i := range []int{1, 0} {
						if state[i] == sending || state[i] == late {
							want = i
						}
					}
					list := ch.Status().Inputs
					if want >= 0 {
						assert.True(t, list[want].OnAir, "input %d is on air", want+1)
					}
					assert.False(t, list[0].OnAir && list[1].OnAir)
					for _, f := range feeds {
						if f != nil {
							f.End("over")
						}
					}
					assert.False(t, ch.Status().Inputs[0].OnAir || ch.Status().Inputs[1].OnAir)
				})
			}
		}
	}
}

// TestALossyLineLosesItsPlace: another input takes over from one whose line loses packets again and again, and not from
// one that lost some once.
func TestALossyLineLosesItsPlace(t *testing.T) {
	clock := &handClock{now: time.Now()}
	keep := &memory{}
	o := origin.New(origin.Options{Keeper: keep, Gate: keep, Now: clock.Now, Worker: func() *exec.Cmd { return exec.Command("false") }})
	defer o.Close()
	inputs := []settings.Input{{Kind: settings.InputAddress, Address: "rtp://0.0.0.0:5004"}, {Kind: settings.InputAddress, Address: "rtp://0.0.0.0:5006"}}
	ch, err := o.Add(settings.Settings{Slug: "line", Inputs: inputs, Switching: settings.Switching{LossySeconds: 5}, Ladder: ladder.Ladder{Rungs: []ladder.Rung{{Name: "source", On: true, Source: true}}}}, clock.now, publish.Position{})
	require.NoError(t, err)
	video := media.Track{ID: 1, Kind: media.Video, Codec: media.H264, CodecName: "avc1.42c01e", Timescale: 90000, Config: []byte{1}, Width: 640, Height: 360, FrameRate: media.Rational{Num: 30, Den: 1}, Undecodable: "this test"}
	var feeds [2]*origin.Feed
	for i := range feeds {
		feeds[i], err = o.OpenSource("line", inputs[i], "RTP", "192.0.2.7:5004", 0)
		require.NoError(t, err)
		feeds[i].Track(video)
	}
	var lost int64
	count := 0
	pass := func(seconds int, losesEach int) {
		for n := range 30 * seconds {
			clock.pass(33 * time.Millisecond)
			for _, f := range feeds {
				data := []byte{0, 0, 0, 2, 0x41, 0x9a}
				if count%30 == 0 {
					data = []byte{0, 0, 0, 2, 0x65, 0x88}
				}
				f.Unit(1, clock.Now().UnixMilli()&0xffffffff, 0, count%30 == 0, data)
			}
			if losesEach > 0 && n%losesEach == 0 {
				lost++
			}
			feeds[0].Line(contribution.Line{RTP: &contribution.RTP{Lost: lost}})
			count++
			ch.Watch()
		}
	}
	pass(3, 0)
	require.True(t, ch.Status().Inputs[0].OnAir)
	pass(4, 30)
	pass(10, 0)
	assert.True(t, ch.Status().Inputs[0].OnAir, "it lost some, and was right again")
	pass(7, 30)
	assert.True(t, ch.Status().Inputs[1].OnAir)
	pass(30, 0)
	assert.True(t, ch.Status().Inputs[1].OnAir, "it is not preferred for a while")
	keep.mu.Lock()
	defer keep.mu.Unlock()
	assert.True(t, slices.ContainsFunc(keep.events, func(e events.Event) bool {
		return e.Kind == "feed-faulty" && strings.Contains(e.Text, "The line has lost packets again and again")
	}))
}
