package origin_test

import (
	"os/exec"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/internal/contribution"
	"metaplasis/internal/origin"
	"metaplasis/internal/origin/publish"
	"metaplasis/internal/settings"
)

// TestSeveralSenders lets two come, the second to stand by, and a key lead to one input.
func TestSeveralSenders(t *testing.T) {
	clock := &handClock{now: time.Now()}
	keep := &memory{}
	o := origin.New(origin.Options{Keeper: keep, Gate: keep, Now: clock.Now, Worker: func() *exec.Cmd { return exec.Command("false") }})
	defer o.Close()
	ch, err := o.Add(settings.Settings{Slug: "line", Inputs: []settings.Input{{Kind: "sender"}, {Kind: "sender", Name: "backup"}}, Access: settings.Access{SenderNetworks: "192.0.2.0/24, 2001:db8::1"}}, clock.now, publish.Position{})
	require.NoError(t, err)
	open := func(key, remote string) (*origin.Feed, error) {
		return o.Open(contribution.Sender{Channel: "line", Key: key, Protocol: "TEST", Remote: remote})
	}
	_, err = open("right", "198.51.100.1:9")
	require.ErrorIs(t, err, origin.ErrNotAllowed)
	first, err := open("right", "192.0.2.1:1")
	require.NoError(t, err)
	second, err := open("right", "[2001:db8::1]:1")
	require.NoError(t, err, "to the input that is free")
	_, err = open("right", "192.0.2.3:1")
	require.ErrorIs(t, err, origin.ErrTaken)
	assert.ErrorIs(t, o.May(contribution.Sender{Channel: "line", Key: "backup", Protocol: "TEST", Remote: "192.0.2.4:1"}), origin.ErrTaken)
	in := ch.Status().Inputs
	assert.Equal(t, []any{true, false, 0, 1}, []any{in[0].OnAir, in[1].OnAir, in[0].Standby, in[1].Standby})
	first.End("test")
	in = ch.Status().Inputs
	assert.True(t, in[1].OnAir, "the one that stood by")
	second.End("test")
	_, err = open("backup", "192.0.2.4:1")
	require.NoError(t, err)
	assert.True(t, ch.Status().Inputs[1].OnAir, "the key leads there")
	require.NoError(t, ch.Apply(settings.Settings{Slug: "line", Inputs: []settings.Input{{Kind: "sender"}}}))
	_, err = open("backup", "192.0.2.4:1")
	assert.ErrorIs(t, err, origin.ErrNoInput)
}
