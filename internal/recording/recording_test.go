package recording_test

import (
	"net/url"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/internal/recording"
)

func TestWhenItIsOver(t *testing.T) {
	end := time.Date(2026, 5, 1, 12, 0, 0, 0, time.UTC)
	r := recording.Recording{Ended: end}
	assert.False(t, r.EndedBefore(end.Add(-time.Second)))
	assert.True(t, r.EndedBefore(end))
	assert.True(t, r.EndedBefore(end.Add(time.Second)))
	assert.False(t, (&recording.Recording{}).EndedBefore(end), "it goes on")
}

func TestItsQueryLeadsBackToIt(t *testing.T) {
	r := recording.Recording{Name: "a&b=c"}
	v, err := url.ParseQuery(r.Query())
	require.NoError(t, err)
	assert.Equal(t, r.Name, v.Get(recording.Parameter))
}
