package air

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/internal/settings"
)

var (
	main   = settings.Input{Kind: settings.InputSender}
	backup = settings.Input{Kind: settings.InputSender, Name: "backup"}
	fetch  = settings.Input{Kind: settings.InputAddress, Address: "udp://239.1.1.1:5000"}
	file   = settings.Input{Kind: settings.InputFile, File: "standby.flv"}
	slate  = settings.Input{Kind: settings.InputSlate}
)

// script is a switch on a clock that the test moves, with feeds that are named after their inputs.
type script struct {
	t     *testing.T
	s     *Switch
	now   time.Time
	feeds map[string]*Feed
	did   []string
}

func newScript(t *testing.T, inputs ...settings.Input) *script {
	return &script{t: t, s: New(inputs, false), now: time.Date(2027, 3, 1, 12, 0, 0, 0, time.UTC), feeds: map[string]*Feed{}}
}

// note writes decisions down, and does what a channel does about runs.
func (x *script) note(list []Decision) {
	names := map[Act]string{Admit: "admit", PutOnAir: "on", TakeOff: "off", StandBy: "stand by", End: "end"}
	for _, d := range list {
		name := "?"
		for n, f := range x.feeds {
			if f == d.Feed {
				name = n
			}
		}
		d.Feed.Shows = d.Act == PutOnAir || d.Feed.Shows && d.Act != TakeOff && d.Act != End
		x.did = append(x.did, names[d.Act]+" "+name)
	}
}

// come lets a feed of an input come, under a name.
func (x *script) come(name string, in settings.Input) error {
	f := NewFeed(in, x.now)
	x.feeds[name] = f
	list, err := x.s.Admit(f, x.now)
	x.note(list)
	return err
}

// pass lets time pass second by second, while something comes of some feeds.
func (x *script) pass(d time.Duration, heard ...string) {
	for end := x.now.Add(d); x.now.Before(end); {
		x.now = x.now.Add(time.Second / 2)
		for _, name := range heard {
			x.feeds[name].Hear(x.now)
		}
		x.note(x.s.Watch(x.now))
	}
}

func (x *script) leave(name string) { x.note(x.s.End(x.feeds[name], "it left", x.now)) }

// expect compares what was done since the last time.
func (x *script) expect(did ...string) {
	x.t.Helper()
	if len(did) == 0 {
		assert.Empty(x.t, x.did)
	} else {
		assert.Equal(x.t, did, x.did)
	}
	x.did = nil
}

func TestAFeedGoesOnAirAndLeaves(t *testing.T) {
	x := newScript(t, main)
	require.NoError(t, x.come("a", main))
	x.expect("on a", "admit a")
	assert.ErrorIs(t, x.come("b", main), ErrTaken)
	assert.ErrorIs(t, x.come("c", backup), ErrNoInput)
	x.leave("a")
	x.leave("a")
	x.expect("end a")
	assert.Nil(t, x.s.On())
}

func TestASilentSenderLosesItsPlace(t *testing.T) {
	x := newScript(t, main)
	require.NoError(t, x.come("a", main))
	x.pass(time.Second, "a")
	x.pass(3 * time.Second)
	assert.NoError(t, x.s.WouldAdmit(main, x.now))
	x.did = nil
	require.NoError(t, x.come("b", main))
	x.expect("end a", "on b", "admit b")
}

func TestOneThatIsPreferredTakesOverWithItsFirstPicture(t *testing.T) {
	x := newScript(t, main, backup)
	require.NoError(t, x.come("b", backup))
	x.pass(time.Second, "b")
	x.did = nil
	require.NoError(t, x.come("m", main))
	x.expect("admit m", "stand by m")
	assert.True(t, x.feeds["m"].Eager())
	x.note(x.s.Shown(x.feeds["m"], x.now))
	x.expect("off b", "stand by b", "on m")
	assert.Equal(t, x.feeds["m"], x.s.On())
	x.pass(time.Second, "m", "b")
	x.leave("m")
	x.expect("end m", "on b")
}

func TestALineThatComesAndGoesDoesNotTakeItsChannelAlong(t *testing.T) {
	x := newScript(t, main, backup)
	require.NoError(t, x.come("m", main))
	require.NoError(t, x.come("b", backup))
	x.expect("on m", "admit m", "admit b", "stand by b")
	x.pass(time.Second, "m", "b")
	x.leave("m")
	x.expect("end m", "on b")
	require.NoError(t, x.come("m", main))
	x.expect("admit m", "stand by m")
	assert.False(t, x.feeds["m"].Eager(), "its input was lost a moment ago")
	x.pass(2*time.Second, "m", "b")
	x.expect()
	x.pass(2*time.Second, "m", "b")
	x.expect("off b", "stand by b", "on m")
}

func TestFilesAndSlatesComeBackByThemselves(t *testing.T) {
	x := newScript(t, main, file, slate)
	assert.True(t, x.s.Vacant(slate, x.now))
	require.NoError(t, x.come("s", slate))
	assert.True(t, x.s.Vacant(file, x.now), "it is preferred")
	assert.False(t, x.s.Vacant(settings.Input{Kind: "nothing"}, x.now))
	require.NoError(t, x.come("f", file))
	x.expect("on s", "admit s", "end s", "on f", "admit f")
	require.NoError(t, x.come("m", main))
	x.expect("admit m", "stand by m")
	x.note(x.s.Shown(x.feeds["m"], x.now))
	x.expect("end f", "on m")
	x.leave("m")
	assert.False(t, x.s.Vacant(file, x.now), "an encoder that lost its line comes back sooner")
	x.now = x.now.Add(2 * time.Second)
	assert.True(t, x.s.Vacant(file, x.now))
}

func TestAnInputIsChosenByHand(t *testing.T) {
	x := newScript(t, main, backup)
	require.NoError(t, x.come("m", main))
	require.NoError(t, x.come("b", backup))
	x.pass(time.Second, "m", "b")
	x.did = nil
	_, other, list, err := x.s.Choose(backup, x.now)
	require.NoError(t, err)
	assert.True(t, other)
	x.note(list)
	x.expect("off m", "stand by m", "on b")
	x.pass(20*time.Second, "m", "b")
	x.expect()
	_, other, _, _ = x.s.Choose(backup, x.now)
	assert.False(t, other, "it is chosen already")
	_, _, _, err = x.s.Choose(fetch, x.now)
	assert.ErrorIs(t, err, ErrNoInput)
	_, _, list, _ = x.s.Choose(settings.Input{}, x.now)
	x.note(list)
	x.expect("off b", "stand by b", "on m")
}

func TestSettingsSendFeedsAway(t *testing.T) {
	x := newScript(t, main, backup)
	require.NoError(t, x.come("m", main))
	require.NoError(t, x.come("b", backup))
	x.did = nil
	x.note(x.s.Apply([]settings.Input{backup}, false, x.now))
	x.expect("end m", "on b")
	x.note(x.s.Apply([]settings.Input{backup}, true, x.now))
	x.expect("end b")
	assert.ErrorIs(t, x.come("c", backup), ErrClosed)
	x.note(x.s.Apply([]settings.Input{backup}, false, x.now))
	require.NoError(t, x.come("d", backup))
	x.did = nil
	x.note(x.s.Remove("the channel was removed", x.now))
	x.expect("end d")
	assert.ErrorIs(t, x.come("e", backup), ErrRemoved)
}

func TestKeysExpire(t *testing.T) {
	x := newScript(t, main)
	require.NoError(t, x.come("m", main))
	x.feeds["m"].Expires = x.now.Add(2 * time.Second)
	x.did = nil
	x.pass(2*time.Second, "m")
	x.expect()
	x.pass(time.Second, "m")
	x.expect("end m")
}

func TestSoManyStandBy(t *testing.T) {
	inputs := []settings.Input{main}
	for n := range maxStandby + 2 {
		inputs = append(inputs, settings.Input{Kind: settings.InputSender, Name: fmt.Sprint(n)})
	}
	x := newScript(t, inputs...)
	require.NoError(t, x.come("m", main))
	for n := range maxStandby {
		require.NoError(t, x.come(fmt.Sprint(n), inputs[n+1]))
	}
	assert.ErrorIs(t, x.come("more", inputs[maxStandby+1]), ErrTaken)
	assert.Equal(t, inputs[maxStandby+1], x.s.SenderInput("", x.now), "the best that nobody uses")
	assert.Equal(t, 1, x.s.Waiting(inputs[1]))
}

func TestAFaultyFeedGivesWay(t *testing.T) {
	set := settings.Switching{BlackSeconds: 5, LossySeconds: 4}
	loud, quiet := int64(-2000), int64(-9000)
	for name, c := range map[string]struct {
		m    Figures
		told string
		goes bool
	}{
		"all is well":        {Figures{Decoded: true, Loudness: &loud}, "", false},
		"nobody has looked":  {Figures{Black: time.Minute}, "", false},
		"black for a moment": {Figures{Decoded: true, Loudness: &loud, Black: 4 * time.Second}, "", false},
		"black":              {Figures{Decoded: true, Loudness: &loud, Black: 6 * time.Second}, "The picture has been black for 6 s. " + lookAtCamera, true},
		"frozen, only told":  {Figures{Decoded: true, Loudness: &loud, Frozen: 30 * time.Second}, "The picture has not changed for 30 s. " + lookAtCamera, false},
		"silent, only told":  {Figures{Decoded: true, Loudness: &quiet}, "The sound has been silent for 25 s. " + lookAtCamera, false},
	} {
		t.Run(name, func(t *testing.T) {
			x := newScript(t, main, backup)
			require.NoError(t, x.come("m", main))
			require.NoError(t, x.come("b", backup))
			if c.m.Loudness == &quiet {
				x.pass(25*time.Second, "m", "b")
			}
			x.did = nil
			list := x.feeds["m"].Faults(c.m, set, x.now)
			assert.Equal(t, c.told, Shown(list))
			fault, rest, did := x.s.Avoid(list, x.now)
			x.note(did)
			if !c.goes {
				assert.Nil(t, fault)
				return
			}
			assert.Equal(t, faultRest, rest)
			x.expect("off m", "stand by m", "on b")
			x.pass(50*time.Second, "m", "b")
			x.expect()
			x.pass(15*time.Second, "m", "b")
			x.expect("off b", "stand by b", "on m")
		})
	}
}

func TestALineThatLosesAgainAndAgain(t *testing.T) {
	f := NewFeed(main, time.Date(2027, 3, 1, 12, 0, 0, 0, time.UTC))
	now, lost := f.Begun, int64(0)
	look := func(d time.Duration, loses bool) time.Duration {
		now = now.Add(d)
		if loses {
			lost++
		}
		return f.Faults(Figures{Measured: true, Lost: lost}, settings.Switching{}, now)[0].Lasts
	}
	look(time.Second, false)
	for range 8 {
		look(time.Second, true)
	}
	assert.Equal(t, 7*time.Second, look(time.Second, false), "since the first loss")
	assert.Zero(t, look(3*time.Second, false), "it is right again")
	assert.Zero(t, look(time.Second, true), "and starts over")
}
