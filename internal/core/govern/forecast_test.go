package govern

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"metaplasis/internal/core/ladder"
	"metaplasis/internal/core/media"
)

var hd = &media.Track{Kind: media.Video, Width: 1280, Height: 720, FrameRate: media.Rational{Num: 30, Den: 1}}

func TestAForecastGoesByWhatRuns(t *testing.T) {
	now := []ladder.Rung{{Name: "480p", On: true, Height: 480, Bitrate: 1_200_000, Effort: 2}}
	told := table(now[0], hd)
	assert.InDelta(t, 110, told, 40, "854x480 at 30 a second")
	l := Load{Encoding: map[string]int64{"480p": told}}
	free := Machine{Cores: 2, Idle: 700}

	o := Forecast(free, l, now, now, hd)
	assert.True(t, o.KeepsUp)
	assert.Zero(t, o.More)
	more := []ladder.Rung{now[0], {Name: "720p", On: true, Height: 720, Bitrate: 3_000_000, Effort: 3}}
	o = Forecast(free, l, now, more, hd)
	assert.True(t, o.KeepsUp, o.Text)
	assert.Greater(t, o.More, int64(200))
	assert.Len(t, o.Loads, 2)
	o = Forecast(Machine{Cores: 2, Idle: 200}, l, now, more, hd)
	assert.False(t, o.KeepsUp)
	assert.Contains(t, o.Text, "more than now")
	more[1].Effort = 9
	o = Forecast(free, l, now, more, hd)
	assert.False(t, o.KeepsUp)
	assert.Contains(t, o.Text, "720p would take")
	more[1].FrameRate, more[1].Effort = "half", 5
	assert.Less(t, Forecast(free, l, now, more, hd).More, int64(600))

	// The machine is half as fast as the table says: so is what comes.
	slow := Forecast(free, Load{Encoding: map[string]int64{"480p": 2 * told}}, now, more, hd)
	assert.InDelta(t, 2*Forecast(free, l, now, more, hd).Loads[1].Load, slow.Loads[1].Load, 5)
	assert.True(t, Forecast(free, l, now, nil, nil).KeepsUp)
	less := Forecast(free, l, now, []ladder.Rung{{Name: "source", On: true, Source: true}}, hd)
	assert.True(t, less.KeepsUp)
	assert.Equal(t, -told, less.More)
	assert.Contains(t, Forecast(Machine{Cores: 2, Idle: -1}, l, now, more, hd).Text, "not known")
}

func TestAdviceFillsTheRoomThereIs(t *testing.T) {
	now := []ladder.Rung{
		{Name: "source", On: true, Source: true}, {Name: "480p", On: true, Height: 480, Bitrate: 1_200_000, Effort: 2},
		{Name: "360p", On: true, Height: 360, Bitrate: 700_000, Effort: 2}, {Name: "off", Height: 240, Bitrate: 300_000},
	}
	l := Load{Encoding: map[string]int64{"480p": table(now[1], hd), "360p": table(now[2], hd)}}
	roomy := Advise(Machine{Cores: 2, Idle: 700}, l, now, hd)
	assert.Len(t, roomy, 2)
	assert.Greater(t, roomy["480p"], 3)
	assert.GreaterOrEqual(t, roomy["360p"], roomy["480p"])
	tight := Advise(Machine{Cores: 2, Idle: 50}, l, now, hd)
	assert.Less(t, tight["480p"], 3)
	assert.Nil(t, Advise(Machine{Cores: 2, Idle: -1}, l, now, hd))
	for name, effort := range roomy {
		r := now[1]
		if name == "360p" {
			r = now[2]
		}
		r.Effort = effort
		assert.LessOrEqual(t, table(r, hd), int64(calmBusy), name)
	}
}

func TestTheLowerPriorityGivesWayFirst(t *testing.T) {
	var order Order
	busy := Load{Dropping: 100, Lag: 500, Busiest: 990}
	calm := Load{Busiest: 300, Idle: 20}
	order.Begin()
	order.See("final", 8, busy, true)
	order.See("practice", 3, calm, true)
	order.End()
	assert.Equal(t, Turn{Wait: true}, order.Turn("final"))
	assert.Equal(t, Turn{Yield: true}, order.Turn("practice"))
	order.Begin()
	order.See("final", 8, busy, true)
	order.See("practice", 3, calm, false) // it has nothing left to give
	order.End()
	assert.Equal(t, Turn{}, order.Turn("final"))
	assert.Equal(t, Turn{}, order.Turn("practice"))
	order.Begin()
	order.See("final", 8, calm, true)
	order.See("practice", 3, busy, true)
	order.End()
	assert.Equal(t, Turn{}, order.Turn("practice"), "the short one is the lowest")
	assert.Equal(t, Turn{}, order.Turn("final"))
	order.Begin()
	order.See("a", 5, busy, true)
	order.See("b", 5, calm, true)
	order.End()
	assert.Equal(t, Turn{}, order.Turn("a"), "equals keep to themselves")

	// What yields takes a step though it is calm itself; what waits takes none.
	g := &Governor{}
	yielding := machine(asked, 2000)
	yielding.Yield = true
	steps := 0
	for s := range 20 {
		if step, _ := g.Look(second(s), yielding, asked); step != nil {
			steps++
		}
	}
	assert.Greater(t, steps, 2)
	g = &Governor{}
	waiting := machine(asked, 300)
	waiting.Wait = true
	for s := range 20 {
		step, _ := g.Look(second(s), waiting, asked)
		assert.Nil(t, step)
	}
}
