package hevc

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// TestPredictedReferences: a set that is told by another one has as many pictures as follow from it, since
// what comes behind in the bits depends on that.
func TestPredictedReferences(t *testing.T) {
	set := referenceSet{before: []int64{-1, -3}, after: []int64{2}}
	all := []bool{true, true, true, true}
	got := set.predict(1, all)
	assert.Equal(t, referenceSet{before: []int64{-2}, after: []int64{1, 3}}, got, "the picture before now lies at 0, and is none")
	got = set.predict(-2, all)
	assert.Equal(t, referenceSet{before: []int64{-2, -3, -5}}, got)
	got = set.predict(-2, []bool{false, true, true, false})
	assert.Equal(t, referenceSet{before: []int64{-5}}, got)
}
