package delivery

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

// The table's clock turns after 49.7 days. Viewers go on being counted, and leave.
func TestViewersAfterManyDays(t *testing.T) {
	begun := time.Unix(1_800_000_000, 0)
	for _, age := range []time.Duration{0, 1<<32*time.Millisecond - 3*time.Second, 1<<32*time.Millisecond + time.Hour, 120 * 24 * time.Hour} {
		v := newViewers(begun)
		channel := v.index("booth", 2*time.Second)
		v.sweep(v.clock(begun.Add(age - time.Second)))
		e := viewer{last: v.clock(begun.Add(age)), channel: channel}
		v.seen[v.key(channel, "a")] = e
		v.count(e, 1)
		v.sweep(v.clock(begun.Add(age + leastLife - time.Second)))
		assert.Equal(t, 1, v.counts[channel][protocolHLS], "after %v", age)
		v.sweep(v.clock(begun.Add(age + leastLife + time.Second)))
		assert.Zero(t, v.counts[channel][protocolHLS], "after %v", age)
		assert.Empty(t, v.seen)
	}
}
