package store

import (
	"cmp"
	"fmt"
	"slices"
	"time"
)

// What is kept is deleted only because a rule or a person said so about that very thing. A bundle that the ledger does
// not know, whose channel nobody has decided about, or that the rules of a channel of the same name would remove at
// once though they were not made for it, is put into quarantine: it stays, is told, and is removed or adopted by hand.

// provenance says how the store came to know a bundle.
type provenance uint8

const (
	written   provenance = iota // by this process, or the ledger knows it
	found                       // it lay in the place, and the ledger did not know it
	setAside                    // it is in quarantine
	unclaimed                   // a recording held it, and its channel is gone: it goes
)

// Quarantine is what is kept of a channel though nobody has decided about it.
type Quarantine struct {
	Channel string    `json:"channel"`
	Why     string    `json:"why"`
	Bundles int       `json:"bundles"`
	Bytes   int64     `json:"bytes"`
	Oldest  time.Time `json:"oldest"`
	Newest  time.Time `json:"newest"`
}

// Why something is in quarantine.
const (
	whyUnknownChannel = "the records have no such channel"
	whyUnrecorded     = "the records do not know these files, and they are older than what the channel keeps"
)

// Settled says that all channels of the records have been told by Set: what is kept of others is in quarantine.
func (s *Store) Settled() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.settled = true
}

// Quarantined lists what is in quarantine, by channel.
func (s *Store) Quarantined() []Quarantine {
	s.mu.Lock()
	settled := s.settled
	s.mu.Unlock()
	out := []Quarantine{}
	if !settled {
		return out
	}
	for _, sh := range s.allShelves() {
		if q := sh.quarantine(); q.Bundles > 0 {
			out = append(out, q)
		}
	}
	slices.SortFunc(out, func(a, b Quarantine) int { return cmp.Compare(a.Channel, b.Channel) })
	return out
}

func (sh *channelMedia) quarantine() Quarantine {
	sh.mu.Lock()
	defer sh.mu.Unlock()
	q := Quarantine{Channel: sh.slug, Why: whyUnrecorded}
	if !sh.decided {
		q.Why = whyUnknownChannel
	}
	sh.eachQuarantined(func(_ *renditionMedia, b *Bundle) {
		q.Bundles++
		q.Bytes += b.Bytes
		if q.Oldest.IsZero() || b.Begin.Before(q.Oldest) {
			q.Oldest = b.Begin
		}
		if b.End.After(q.Newest) {
			q.Newest = b.End
		}
	})
	return q
}

// eachQuarantined hands out the bundles in quarantine. The lock is held.
func (sh *channelMedia) eachQuarantined(do func(*renditionMedia, *Bundle)) {
	for _, st := range sh.strips {
		for _, b := range st.bundles {
			if b.from == setAside || !sh.decided && !sh.held(b) {
				do(st, b)
			}
		}
	}
}

// RemoveQuarantined removes what is in quarantine of a channel, and returns what that was.
func (s *Store) RemoveQuarantined(channel string) (Quarantine, error) {
	return s.release(channel, func(sh *channelMedia) {
		var list []removable
		sh.mu.Lock()
		sh.eachQuarantined(func(st *renditionMedia, b *Bundle) { list = append(list, removable{sh, st, b}) })
		sh.mu.Unlock()
		s.remove(sh, list)
	})
}

// AdoptQuarantined takes what is in quarantine of a channel into the ledger: the channel's rules are for it from now
// on. Who wants it to stay has a recording hold it before.
func (s *Store) AdoptQuarantined(channel string) (Quarantine, error) {
	return s.release(channel, func(sh *channelMedia) {
		var list []Bundle
		sh.mu.Lock()
		sh.eachQuarantined(func(_ *renditionMedia, b *Bundle) {
			b.from = written
			list = append(list, *b)
		})
		sh.changed = true
		sh.mu.Unlock()
		for _, b := range list {
			s.ledger.Closed(b)
		}
	})
}

func (s *Store) release(channel string, do func(*channelMedia)) (q Quarantine, err error) {
	sh := s.known(channel)
	if sh == nil {
		return q, fmt.Errorf("nothing is kept of %s", channel)
	}
	if q = sh.quarantine(); q.Bundles == 0 {
		return q, fmt.Errorf("nothing of %s is in quarantine", channel)
	}
	do(sh)
	return q, nil
}

// Release says that what a recording held of a channel that is gone may go, but for what others hold.
func (s *Store) Release(channel string, h Hold) {
	sh := s.known(channel)
	if sh == nil {
		return
	}
	sh.mu.Lock()
	defer sh.mu.Unlock()
	if !sh.keeping.Undecided {
		return
	}
	for _, st := range sh.strips {
		for _, b := range st.bundles {
			if h.covers(st.name, b.Begin, b.End) && !sh.held(b) {
				b.from = unclaimed
			}
		}
	}
}

// judge decides about a bundle that the ledger did not know, now that its channel's rules are known. It reports whether
// it is the channel's own. The lock is held.
func (sh *channelMedia) judge(b *Bundle) bool {
	oldest := sh.s.now().Add(-sh.keeping.TimeShift)
	return sh.held(b) || !b.Begin.Before(sh.keeping.Since) && !b.End.Before(oldest)
}

// judgeFound decides about all such bundles, and returns those that are the channel's own. The lock is held.
func (sh *channelMedia) judgeFound() (own []Bundle) {
	if !sh.decided || sh.keeping.Undecided {
		return nil
	}
	for _, st := range sh.strips {
		for _, b := range st.bundles {
			if b.from != found {
				continue
			}
			if b.from = setAside; sh.judge(b) {
				b.from = written
				own = append(own, *b)
			}
		}
	}
	return own
}

// follow takes bundles for the channel's own that go on where the ledger's newest ends: a process that was killed left
// them behind. The list is sorted.
func follow(list []*Bundle) (own []*Bundle) {
	var last *Bundle
	for _, b := range list {
		if b.from == found && last != nil && b.Ordinal == last.end() {
			b.from = written
			own = append(own, b)
		}
		if b.from == written {
			last = b
		}
	}
	return own
}

// end is the ordinal behind the last segment.
func (b *Bundle) end() uint64 { return b.Ordinal + b.LastMSN - b.FirstMSN + 1 }

// interval is a stretch of time; to is zero while it goes on.
type interval struct{ from, to time.Time }

// intervals are those that holds cover of a rendition, in order and apart.
func intervals(holds []Hold, rendition string) (out []interval) {
	for i := range holds {
		if h := &holds[i]; len(h.Renditions) == 0 || slices.Contains(h.Renditions, rendition) {
			out = append(out, interval{h.From, h.To})
		}
	}
	slices.SortFunc(out, func(a, b interval) int { return a.from.Compare(b.from) })
	merged := out[:0]
	for _, v := range out {
		if n := len(merged); n > 0 && (merged[n-1].to.IsZero() || !v.from.After(merged[n-1].to)) {
			if last := &merged[n-1]; !last.to.IsZero() && (v.to.IsZero() || v.to.After(last.to)) {
				last.to = v.to
			}
			continue
		}
		merged = append(merged, v)
	}
	return merged
}

// held reports whether a recording holds a bundle, at a cost that hardly depends on how many there are. The lock is held.
func (sh *channelMedia) held(b *Bundle) bool {
	list, known := sh.covered[b.Rendition]
	if !known {
		list = intervals(sh.keeping.Holds, b.Rendition)
		if sh.covered == nil {
			sh.covered = map[string][]interval{}
		}
		sh.covered[b.Rendition] = list
	}
	i, _ := slices.BinarySearchFunc(list, b.Begin, func(v interval, at time.Time) int {
		if v.to.IsZero() || v.to.After(at) {
			return 1
		}
		return -1
	})
	return i < len(list) && list[i].from.Before(b.End)
}
