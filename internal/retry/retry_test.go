package retry_test

import (
	"context"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"

	"metaplasis/internal/retry"
)

func TestPausesGrowToTheirBound(t *testing.T) {
	p := retry.New(time.Second, 5*time.Second)
	var took []time.Duration
	for range 5 {
		assert.Equal(t, p.Next(), p.Take())
		took = append(took, p.Next())
	}
	assert.Equal(t, []time.Duration{2 * time.Second, 4 * time.Second, 5 * time.Second, 5 * time.Second, 5 * time.Second}, took)
	p.Reset()
	assert.Equal(t, time.Second, p.Next())
}

func TestWaitingEndsWithItsContext(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		p := retry.New(time.Second, time.Minute)
		begun := time.Now()
		assert.True(t, p.Wait(t.Context()))
		assert.True(t, p.Wait(t.Context()))
		assert.Equal(t, 3*time.Second, time.Since(begun))
		ctx, cancel := context.WithCancel(t.Context())
		cancel()
		assert.False(t, p.Wait(ctx))
		assert.Equal(t, 3*time.Second, time.Since(begun))
	})
}
