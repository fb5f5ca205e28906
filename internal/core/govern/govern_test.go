package govern

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/internal/core/ladder"
)

var asked = []ladder.Rung{
	{Name: "source", On: true, Source: true},
	{Name: "720p", On: true, Height: 720, Bitrate: 2_500_000, Effort: 4},
	{Name: "480p", On: true, Height: 480, Bitrate: 1_200_000, Effort: 3},
	{Name: "240p", On: true, Height: 240, Bitrate: 350_000, Effort: 2},
}

// machine is what a ladder costs on a simulated machine of so many thousandths of a processor.
func machine(rungs []ladder.Rung, capacity int64) Load {
	const decode = 150
	l := Load{Encoding: map[string]int64{}}
	total := int64(decode)
	for _, r := range rungs {
		if !r.On || r.Source {
			continue
		}
		cost := r.Bitrate / 10_000 * (2 + int64(r.WithDefaults().Effort)) / 5
		if r.FrameRate == "half" {
			cost /= 2
		}
		l.Encoding[r.Name] = cost
		total += cost
		l.Busiest = max(l.Busiest, cost)
	}
	if total > capacity {
		l.Dropping, l.Lag, l.Busiest = (total-capacity)*1000/total, 700, 1000
		return l
	}
	l.Idle = 1000 - total*1000/capacity
	return l
}

// run lets a governor look once a second, and returns what it did and for how many seconds pictures were dropped.
func run(g *Governor, from, seconds int, capacity func(second int) int64) (steps []string, dropped int) {
	for s := from; s < from+seconds; s++ {
		l := machine(g.Apply(asked), capacity(s))
		if l.Dropping > 0 {
			dropped++
		}
		if step, _ := g.Look(time.Duration(s)*time.Second, l, asked); step != nil {
			steps = append(steps, step.String())
		}
	}
	return steps, dropped
}

func second(n int) time.Duration { return time.Duration(n) * time.Second }

func always(v int64) func(int) int64 { return func(int) int64 { return v } }

func TestWithRoomNothingIsTouched(t *testing.T) {
	g := &Governor{}
	steps, dropped := run(g, 0, 3600, always(2000))
	assert.Empty(t, steps)
	assert.Zero(t, dropped)
}

func TestShortageTakesTheLeastNoticedStepsFirst(t *testing.T) {
	g := &Governor{}
	steps, dropped := run(g, 0, 60, always(220))
	require.NotEmpty(t, steps)
	assert.Equal(t, []string{"the effort of 720p is 2 instead of 4", "the effort of 720p is 1 instead of 4", "the effort of 480p is 1 instead of 3"}, steps[:3])
	assert.Contains(t, steps, "720p has every second picture")
	assert.Contains(t, steps, "720p is off")
	assert.Less(t, dropped, 50)
	// What fits now stays: what is tried again and fails is tried less and less often.
	first, _ := run(g, 60, 600, always(220))
	later, dropped := run(g, 660, 3600, always(220))
	assert.LessOrEqual(t, len(first), 12, first)
	assert.LessOrEqual(t, len(later), 14, later)
	assert.LessOrEqual(t, dropped, 50)
	// With room again, all of it is taken back.
	run(g, 4260, 3*3600, always(2000))
	assert.Empty(t, g.Steps())
	assert.Equal(t, asked, g.Apply(asked))
}

func TestOneRungStays(t *testing.T) {
	g := &Governor{}
	for s := range 600 {
		g.Look(time.Duration(s)*time.Second, Load{Dropping: 500}, asked[1:3])
	}
	on := 0
	for _, r := range g.Apply(asked[1:3]) {
		if r.On {
			on++
		}
	}
	assert.Equal(t, 1, on)
	g.Reset()
	assert.Empty(t, g.Steps())
	for s := range 600 {
		step, _ := g.Look(time.Duration(s)*time.Second, Load{Dropping: 500}, asked[:1])
		assert.Nil(t, step, "nothing is coded")
	}
}

func TestEffortRisesWhileThereIsRoom(t *testing.T) {
	g := &Governor{Raise: true}
	steps, dropped := run(g, 0, 3600, always(1500))
	assert.NotEmpty(t, steps)
	assert.Zero(t, dropped)
	raised := 0
	for i, r := range g.Apply(asked) {
		assert.GreaterOrEqual(t, r.Effort, asked[i].Effort)
		raised += r.Effort - asked[i].Effort
	}
	assert.Positive(t, raised)
	// A shortage takes that back first.
	steps, _ = run(g, 3600, 40, always(500))
	require.NotEmpty(t, steps)
	for _, r := range g.Apply(asked)[1:] {
		assert.True(t, r.On, r.Name)
	}
}

// A load that comes and goes does not make the governor follow it.
func TestMomentsOfShortageAreNoShortage(t *testing.T) {
	g := &Governor{}
	steps, _ := run(g, 0, 3600, func(s int) int64 {
		if s%10 == 0 {
			return 300
		}
		return 2000
	})
	assert.Empty(t, steps)
}

// TestDecodingDoesNotKeepALadderDown: a source that is dear to decode leaves room for encoders all the same.
func TestDecodingDoesNotKeepALadderDown(t *testing.T) {
	g := &Governor{}
	short := machine(asked, 300)
	for s := range 12 {
		g.Look(second(s), short, asked)
	}
	require.NotEmpty(t, g.Steps())
	calm := machine(g.Apply(asked), 3000)
	calm.Busiest = 850 // the decoder
	for s := 12; s < 600; s++ {
		g.Look(second(s), calm, asked)
	}
	assert.Empty(t, g.Steps())
}
