package onward

import "sync"

// Audience counts who receives channels, by the way in which they do.
type Audience struct {
	mu     sync.Mutex
	counts map[string]map[string]int // by channel and way
	total  int
}

// maxAudience bounds those who receive in ways that hold a connection each.
const maxAudience = 4096

// Join counts one in, until the function that it returns is called; false when there are too many.
func (a *Audience) Join(channel, way string) (leave func(), ok bool) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.total >= maxAudience {
		return nil, false
	}
	if a.counts == nil {
		a.counts = map[string]map[string]int{}
	}
	if a.counts[channel] == nil {
		a.counts[channel] = map[string]int{}
	}
	a.counts[channel][way]++
	a.total++
	var once sync.Once
	return func() {
		once.Do(func() {
			a.mu.Lock()
			defer a.mu.Unlock()
			a.total--
			if a.counts[channel][way]--; a.counts[channel][way] == 0 {
				delete(a.counts[channel], way)
			}
			if len(a.counts[channel]) == 0 {
				delete(a.counts, channel)
			}
		})
	}, true
}

// Counts are those of now, by channel and way.
func (a *Audience) Counts() map[string]map[string]int {
	a.mu.Lock()
	defer a.mu.Unlock()
	out := map[string]map[string]int{}
	for channel, by := range a.counts {
		out[channel] = map[string]int{}
		for way, n := range by {
			out[channel][way] = n
		}
	}
	return out
}
