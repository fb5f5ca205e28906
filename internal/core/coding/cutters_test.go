package coding

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
)

// TestSetsThatAreCountedUpAreHeld: an encoder that gives each keyframe a parameter set of a new number has the newest ones held, however
// many there were; one that it sends again and again stays, and what is too large is left out.
func TestSetsThatAreCountedUpAreHeld(t *testing.T) {
	const kind, other = 7, 8
	var p parameterSets
	for n := range 1000 {
		p.add(kind, 0, []byte("always sent"))
		p.add(kind, 1+n%256, fmt.Appendf(nil, "set %d", n))
		p.add(other, n%200, fmt.Appendf(nil, "other %d", n))
		assert.True(t, p.changed)
		p.changed = false
		at, found := p.find(kind, 1+n%256)
		if assert.True(t, found, "the newest set is held") {
			assert.Equal(t, fmt.Sprintf("set %d", n), string(p.list[at].nal))
		}
	}
	assert.Len(t, p.of(kind), maxSetsOfKind)
	assert.Len(t, p.of(other), maxSetsOfKind)
	assert.Equal(t, "always sent", string(p.of(kind)[0]))
	p.add(kind, 0, []byte("always sent"))
	assert.False(t, p.changed, "nothing new")
	for n := range 3 * maxSets {
		p.add(100+n, 0, []byte("of a kind of its own"))
	}
	assert.LessOrEqual(t, len(p.list), maxSets)
	p.changed = false
	p.add(kind, 5, make([]byte, maxSetBytes+1))
	assert.False(t, p.changed)
}
