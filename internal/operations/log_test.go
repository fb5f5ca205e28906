package operations

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"metaplasis/internal/events"
)

var noon = time.Date(2026, 6, 6, 12, 0, 0, 0, time.UTC)

// numbers hands out 1, 2, 3 …
func numbers() func() int64 {
	n := int64(0)
	return func() int64 { n++; return n }
}

func TestLikeEventsAreMerged(t *testing.T) {
	var l merging
	id := numbers()
	refused := func(after time.Duration, text string) events.Event {
		return events.Event{At: noon.Add(after), Channel: "pier", Kind: "feed-refused", Like: "wrong key", Text: text}
	}
	first, isNew := l.add(refused(0, "from one"), id)
	assert.True(t, isNew)
	second, isNew := l.add(refused(time.Minute, "from another"), id)
	assert.False(t, isNew)
	assert.Equal(t, first.ID, second.ID)
	assert.EqualValues(t, 2, second.Count)
	assert.Equal(t, "from another", second.Text, "the newest of them")
	assert.Equal(t, noon, second.At)
	assert.Equal(t, noon.Add(time.Minute), second.Last)
	// The span counts from the newest one, so a trickle stays one event.
	for n := 2; n < 40; n++ {
		_, isNew = l.add(refused(time.Minute+time.Duration(n-1)*9*time.Minute, "again"), id)
		assert.False(t, isNew, n)
	}
	_, isNew = l.add(refused(40*9*time.Minute+2*mergeSpan, "much later"), id)
	assert.True(t, isNew, "after a pause it is another one")
	for name, e := range map[string]events.Event{
		"another channel":   {At: noon, Channel: "harbour", Kind: "feed-refused", Like: "wrong key"},
		"another reason":    {At: noon, Channel: "pier", Kind: "feed-refused", Like: "no channel"},
		"another kind":      {At: noon, Channel: "pier", Kind: "feed-ended", Like: "wrong key"},
		"a text of its own": {At: noon, Channel: "pier", Kind: "feed-refused", Text: "something else"},
	} {
		_, isNew := l.add(e, id)
		assert.True(t, isNew, name)
	}
}

func TestCountsAreStoredOnceInAWhile(t *testing.T) {
	var l merging
	id := numbers()
	e := events.Event{At: noon, Kind: "k", Text: "x"}
	l.add(e, id)
	assert.Empty(t, l.due(noon), "one that happened once is stored when it happens")
	for range 5 {
		l.add(e, id)
	}
	due := l.due(noon)
	assert.Len(t, due, 1)
	assert.EqualValues(t, 6, due[0].Count)
	assert.Empty(t, l.due(noon), "nothing was counted since")
	assert.Len(t, l.recent, 1)
	l.due(noon.Add(mergeSpan + time.Second))
	assert.Empty(t, l.recent, "what is over is forgotten")
}

// TestAFloodOfKindsIsBounded: past the bound, what is new becomes one event of its kind, whoever caused it.
func TestAFloodOfKindsIsBounded(t *testing.T) {
	var l merging
	id := numbers()
	fresh := 0
	for n := range 3 * mergeKinds {
		_, isNew := l.add(events.Event{At: noon, Channel: fmt.Sprintf("stranger-%d", n), Kind: "feed-refused", Text: fmt.Sprint(n)}, id)
		if isNew {
			fresh++
		}
	}
	assert.Equal(t, mergeKinds+1, fresh)
	assert.LessOrEqual(t, len(l.recent), mergeKinds+1)
	out, isNew := l.add(events.Event{At: noon, Channel: "one-more", Kind: "feed-refused", Text: "again"}, id)
	assert.False(t, isNew)
	assert.Greater(t, out.Count, int64(mergeKinds))
}
