package onward

import (
	"sync"

	"metaplasis/internal/network"
)

// Audience counts who receives channels, by the way in which they do.
type Audience struct {
	once   sync.Once
	quota  network.Quota
	mu     sync.Mutex
	counts map[string]map[string]int // by channel and way
}

// Bounds of those who receive in ways that hold a connection each: of all, and of one network.
const (
	//limit:receivers over RTMP, RTSP, SRT and TS | all | the receiver is refused
	maxAudience = 2048
	//limit:receivers | each network | the receiver is refused
	maxAudienceEach = 512
)

// Join counts one at an address in, until the function that it returns is called; false when there are too many.
func (a *Audience) Join(channel, way, remote string) (leave func(), ok bool) {
	a.once.Do(func() { a.quota.Total, a.quota.EachNetwork = maxAudience, maxAudienceEach })
	release, ok := a.quota.Take(remote)
	if !ok {
		return nil, false
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.counts == nil {
		a.counts = map[string]map[string]int{}
	}
	if a.counts[channel] == nil {
		a.counts[channel] = map[string]int{}
	}
	a.counts[channel][way]++
	var once sync.Once
	return func() {
		once.Do(func() {
			release()
			a.mu.Lock()
			defer a.mu.Unlock()
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
