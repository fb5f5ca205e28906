package network

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

// One network takes its share, and leaves the rest to others.
func TestOneNetworkLeavesRoomForOthers(t *testing.T) {
	q := &Quota{Total: 100, EachNetwork: 25}
	var releases []func()
	for i := range 200 {
		if release, ok := q.Take(fmt.Sprintf("192.0.2.%d:%d", i%250, 1000+i)); ok {
			releases = append(releases, release)
		}
	}
	assert.Len(t, releases, 25)
	for i := range 200 {
		if release, ok := q.Take(fmt.Sprintf("[2001:db8:0:%x::1]:80", i)); ok {
			releases = append(releases, release)
		}
	}
	assert.Len(t, releases, 100)
	for _, release := range releases {
		release()
		release()
	}
	assert.Zero(t, q.Taken())
	assert.Empty(t, q.networks)
	_, ok := q.Take("192.0.2.1:1")
	assert.True(t, ok)
}

func TestRatesOfStrangers(t *testing.T) {
	r, now := &Rate{Total: 50, EachNetwork: 10}, time.Now()
	allowed := 0
	for i := range 1000 {
		if r.Allow(fmt.Sprintf("192.0.2.%d:80", i%200), now) {
			allowed++
		}
	}
	assert.Equal(t, 10, allowed)
	for i := range 1000 {
		if r.Allow(fmt.Sprintf("10.%d.%d.1:80", i/250, i%250), now) {
			allowed++
		}
	}
	assert.Equal(t, 50, allowed)
	assert.LessOrEqual(t, len(r.networks), 50)
	assert.True(t, r.Allow("192.0.2.1:80", now.Add(time.Second)))
	assert.True(t, r.Allow("192.0.2.1:80", now.Add(-time.Hour)), "the clock was set back")
}
