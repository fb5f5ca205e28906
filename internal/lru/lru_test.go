package lru_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"metaplasis/internal/lru"
)

func TestTheOneThatWasUsedLongestAgoGoes(t *testing.T) {
	c := lru.New[string, int](100)
	assert.Empty(t, c.Put("a", 1, 40))
	assert.Empty(t, c.Put("b", 2, 40))
	_, ok := c.Get("a")
	assert.True(t, ok)
	assert.Equal(t, []int{2}, c.Put("c", 3, 40), "a was used since")
	assert.EqualValues(t, 80, c.Bytes())
	assert.Equal(t, []int{1, 3}, c.Put("d", 4, 500), "the newest stays, however large")
	assert.EqualValues(t, 500, c.Bytes())
	assert.Equal(t, []int{4}, c.Put("e", 5, 10))
	assert.Empty(t, c.Put("e", 6, 20), "one value a key")
	assert.EqualValues(t, 20, c.Bytes())
	v, ok := c.Remove("e")
	assert.True(t, ok)
	assert.Equal(t, 6, v)
	assert.Zero(t, c.Bytes())
}

func TestAValueIsMadeOnce(t *testing.T) {
	c := lru.New[string, *int](100)
	made := 0
	get := func() *int { return c.GetOrPut("a", func() *int { made++; return new(int) }, 10) }
	assert.Same(t, get(), get())
	assert.Equal(t, 1, made)
}
