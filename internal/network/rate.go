package network

import (
	"sync"
	"time"
)

// Rate bounds how often strangers may have something done within a second: all of them together, and those of one
// network. What it holds is bounded by Total. It is set before the first use.
type Rate struct {
	Total       int
	EachNetwork int

	mu       sync.Mutex
	since    time.Time
	taken    int
	networks map[string]int
}

// Allow counts one for an address at a time, and reports whether it may be done.
func (r *Rate) Allow(remote string, now time.Time) bool {
	of := Of(remote)
	r.mu.Lock()
	defer r.mu.Unlock()
	if d := now.Sub(r.since); d >= time.Second || d < 0 {
		r.since, r.taken, r.networks = now, 0, map[string]int{}
	}
	if r.taken >= r.Total || r.networks[of] >= r.EachNetwork {
		return false
	}
	r.taken++
	r.networks[of]++
	return true
}
