package rtpmedia

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"metaplasis/internal/core/rtpmap"
)

// A packet that is missing is asked for a few times; one that comes, late or again, is asked for no more; and a line that loses most of
// what is sent is asked for a share of what comes.
func TestMissingPacketsAreAskedForWithinABudget(t *testing.T) {
	begun := time.Now()
	run := func(lost func(n int) bool, after func(seq uint16, at time.Duration) (arrives bool)) (asked map[uint16]int, sent int) {
		q := rtpmap.NewQueue(90000, 300*time.Millisecond)
		var r requests
		asked = map[uint16]int{}
		take := func(*rtpmap.Packet, int) {}
		for n := range 5000 {
			at := time.Duration(n) * time.Millisecond
			if !lost(n) {
				q.Put(&rtpmap.Packet{Sequence: uint16(n)}, at, take)
				sent++
			}
			if n%20 == 0 {
				q.Look(at, take)
				for _, seq := range r.next(q, begun.Add(at)) {
					asked[seq]++
					if after != nil && after(seq, at) {
						q.Put(&rtpmap.Packet{Sequence: seq}, at, take)
					}
				}
			}
		}
		return asked, sent
	}
	total := func(m map[uint16]int) (n int) {
		for _, k := range m {
			n += k
		}
		return n
	}
	asked, _ := run(func(n int) bool { return n%100 == 50 }, func(uint16, time.Duration) bool { return true })
	assert.Len(t, asked, 50)
	assert.Equal(t, 50, total(asked), "each once, since it came")

	asked, _ = run(func(n int) bool { return n%100 == 50 }, nil)
	for seq, times := range asked {
		assert.LessOrEqual(t, times, maxRequests, "%d", seq)
	}
	assert.Len(t, asked, 50)

	asked, sent := run(func(n int) bool { return n%2 == 1 }, nil)
	assert.LessOrEqual(t, total(asked), sent/4+5*requestRate+requestRate, "half of it is lost")

	asked, _ = run(func(int) bool { return false }, nil)
	assert.Empty(t, asked)
}
