package operations

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"metaplasis/internal/settings"
)

func TestWaysBack(t *testing.T) {
	feeds := map[string][]string{"a": {"b"}, "b": {"c", "d"}, "c": {"c"}, "d": {"e", "f"}, "f": {"d", "goal"}}
	assert.Equal(t, []string{"b", "d", "f", "goal"}, wayBack(feeds, "a", "goal"), "past a channel that feeds itself, and a circle of others")
	assert.Equal(t, []string{"goal"}, wayBack(feeds, "f", "goal"))
	assert.Nil(t, wayBack(feeds, "c", "goal"))
	assert.Nil(t, wayBack(feeds, "e", "goal"))
	assert.Nil(t, wayBack(nil, "a", "a"))
	assert.Equal(t, []string{"c"}, wayBack(feeds, "c", "c"), "one that feeds itself")
}

func TestWhatFeedsAChannel(t *testing.T) {
	list := []settings.Input{{Kind: settings.InputSender}, {Kind: settings.InputChannel, Channel: "pier"}, {Kind: settings.InputProgramme, Channel: "truck"}, {Kind: settings.InputChannel, Channel: "harbour"}}
	assert.Equal(t, []string{"pier", "harbour"}, feedersOf(list))
	assert.Empty(t, feedersOf(nil))
}
