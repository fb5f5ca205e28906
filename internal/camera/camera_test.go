package camera

import (
	"context"
	"net"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/demo"
	"metaplasis/internal/core/flv"
)

func TestDemoLoopsEndOnTheBeat(t *testing.T) {
	for _, l := range demo.Loops {
		c, err := Load(l.FLV)
		require.NoError(t, err, l.Name)
		assert.Equal(t, 8*time.Second, c.Length(), l.Name)
		assert.Len(t, c.configs, 2)
		pictures, last := 0, uint32(0)
		for _, tag := range c.tags {
			assert.GreaterOrEqual(t, tag.Timestamp, last, "tags stand in the order of time")
			last = tag.Timestamp
			if tag.Type == flv.TagVideo {
				pictures++
			}
		}
		assert.Equal(t, l.Frames, pictures, l.Name)
		assert.Less(t, last, uint32(8000))
	}
}

func TestBrokenFilesAreRefused(t *testing.T) {
	_, err := Load([]byte("not a recording"))
	assert.ErrorContains(t, err, "FLV")
	_, err = Load(flv.AppendHeader(nil))
	assert.ErrorContains(t, err, "no media")
	_, err = Load(demo.Loops[0].FLV[:5000])
	assert.Error(t, err)
}

func TestCameraTriesAgainUntilItIsTold(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	address := l.Addr().String()
	require.NoError(t, l.Close())
	c, err := Load(demo.Loops[0].FLV)
	require.NoError(t, err)
	assert.ErrorContains(t, Run(context.Background(), c, Options{URL: "rtmp://" + address + "/in/a/b"}), "connecting to")
	ctx, cancel := context.WithCancel(context.Background())
	tries := 0
	err = Run(ctx, c, Options{URL: "rtmp://" + address + "/in/a/b", Retry: time.Millisecond, OnChange: func(string) {
		if tries++; tries == 3 {
			cancel()
		}
	}})
	assert.ErrorIs(t, err, context.Canceled)
	assert.Equal(t, 3, tries)
}
