package network

import "sync"

// Quota bounds what strangers may hold of something at a time: all of them together, and those of one network (a /24 of
// IPv4, a /64 of IPv6). The zero value allows nothing. It is set before the first use.
type Quota struct {
	Total       int
	EachNetwork int

	mu       sync.Mutex
	taken    int
	networks map[string]int
}

// Take books one for an address, host:port or a host. release gives it back, and may be called more than once. Without
// room ok is false.
func (q *Quota) Take(remote string) (release func(), ok bool) {
	of := Of(remote)
	q.mu.Lock()
	defer q.mu.Unlock()
	if q.taken >= q.Total || q.networks[of] >= q.EachNetwork {
		return func() {}, false
	}
	if q.networks == nil {
		q.networks = map[string]int{}
	}
	q.taken++
	q.networks[of]++
	var once sync.Once
	return func() { once.Do(func() { q.give(of) }) }, true
}

func (q *Quota) give(of string) {
	q.mu.Lock()
	defer q.mu.Unlock()
	q.taken--
	if q.networks[of]--; q.networks[of] == 0 {
		delete(q.networks, of)
	}
}

// Taken returns how many are held now.
func (q *Quota) Taken() int {
	q.mu.Lock()
	defer q.mu.Unlock()
	return q.taken
}
