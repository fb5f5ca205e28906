// Package lru is a cache that is bounded in bytes: what was used longest ago goes first. It has a lock of its own; anybody may
// call it from any goroutine.
package lru

import (
	"math"
	"sync"

	"github.com/hashicorp/golang-lru/v2/simplelru"
)

// Cache holds values by their keys.
type Cache[K comparable, V any] struct {
	mu   sync.Mutex
	most int64
	held int64
	list *simplelru.LRU[K, entry[V]]
}

type entry[V any] struct {
	value V
	bytes int64
}

// New returns a cache of so many bytes. The newest value is held even if it is larger.
func New[K comparable, V any](most int64) *Cache[K, V] {
	list, _ := simplelru.NewLRU[K, entry[V]](math.MaxInt, nil) // fails for no size alone
	return &Cache[K, V]{most: most, list: list}
}

// Get returns a value, which counts as used.
func (c *Cache[K, V]) Get(key K) (v V, ok bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	e, ok := c.list.Get(key)
	return e.value, ok
}

// Put holds a value of so many bytes in place of the one before, and returns those that had to go for it.
func (c *Cache[K, V]) Put(key K, v V, bytes int64) (gone []V) {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.put(key, v, bytes)
}

// put needs the lock.
func (c *Cache[K, V]) put(key K, v V, bytes int64) (gone []V) {
	c.remove(key)
	c.list.Add(key, entry[V]{v, bytes})
	c.held += bytes
	for c.held > c.most && c.list.Len() > 1 {
		_, e, _ := c.list.RemoveOldest()
		c.held -= e.bytes
		gone = append(gone, e.value)
	}
	return gone
}

// GetOrPut returns the value of a key; where there is none it holds a new one of so many bytes. make must not call the cache.
func (c *Cache[K, V]) GetOrPut(key K, make func() V, bytes int64) V {
	c.mu.Lock()
	defer c.mu.Unlock()
	if e, ok := c.list.Get(key); ok {
		return e.value
	}
	v := make()
	c.put(key, v, bytes)
	return v
}

// Remove lets a value go, and reports whether it was held.
func (c *Cache[K, V]) Remove(key K) (v V, ok bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.remove(key)
}

// remove needs the lock.
func (c *Cache[K, V]) remove(key K) (v V, ok bool) {
	e, ok := c.list.Peek(key)
	if ok {
		c.list.Remove(key)
		c.held -= e.bytes
	}
	return e.value, ok
}

// Bytes is how much is held.
func (c *Cache[K, V]) Bytes() int64 {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.held
}

// Len is how many values are held.
func (c *Cache[K, V]) Len() int {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.list.Len()
}

// Limit sets another bound, in bytes, for what is put from now on.
func (c *Cache[K, V]) Limit(most int64) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.most = most
}
