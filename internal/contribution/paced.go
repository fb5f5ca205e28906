package contribution

import (
	"metaplasis/internal/safely"

	"context"
	"slices"
	"sync"
	"time"

	"metaplasis/internal/core/media"
)

// Paced hands units on when their time has come, as those of segments that are fetched whole are not to come all at
// once. Units of all tracks are held within a bound of bytes; past it who fetches has to wait.
type Paced struct {
	Feed

	mu     sync.Mutex
	tracks map[media.TrackID]media.Clock
	told   map[media.TrackID]*media.Track // announced with their next unit
	queue  []pacedUnit                    // by when they are due
	bytes  int
	lines  map[lineID]*pacedLine
	on     map[media.TrackID]lineID    // the line that each track is on
	due    map[media.TrackID]time.Time // of the newest unit of each track
	turns  map[media.TrackID]int64     // the newest stamp, unwrapped, of each track
	births int                         // lines that began
	expect int                         // tracks that are waited for before anything is handed on
	begun  time.Time                   // when the first unit came
	wake   chan struct{}
	done   chan struct{}
	once   sync.Once
}

// lineID tells lines apart: by the number that who fetches gives them, and how often stamps jumped on it.
type lineID struct{ number, jumps int }

// pacedLine is a stretch whose stamps go on: a discontinuity begins another one.
type pacedLine struct {
	base   time.Time // when time 0 of the line is due
	newest int64     // ticks of media.VideoTimescale
	born   int
}

type pacedUnit struct {
	id                 media.TrackID
	stamp, composition int64
	key                bool
	data               []byte
	due                time.Time
	line               *pacedLine
	track              *media.Track // announced before it
	do                 func()       // instead of handing a unit on
}

const (
	//limit:bytes that wait for their time | each fetched source | fetching waits
	maxPaced = 64 << 20
	// pacedCost is what a unit takes beside its data, in bytes.
	pacedCost = 128
	// pacedLead is how much media is held back, so that what is fetched a little late is still in time.
	pacedLead = 500 * time.Millisecond
	// pacedAhead is how much media is held at most.
	pacedAhead = 8 * time.Second
	// pacedJump is how far the stamps of a track may lie apart and be taken for one line.
	pacedJump = 20 * time.Second
	// tracksWait is for how long tracks are waited for that are announced.
	tracksWait = 6 * time.Second
	// maxLines is how many lines are remembered.
	//limit:lines of times that are remembered | each fetched source | the oldest are forgotten
	maxLines = 8
)

// NewPaced paces what a feed takes.
func NewPaced(f Feed) *Paced {
	p := &Paced{Feed: f, tracks: map[media.TrackID]media.Clock{}, told: map[media.TrackID]*media.Track{}, lines: map[lineID]*pacedLine{}, on: map[media.TrackID]lineID{}, due: map[media.TrackID]time.Time{}, turns: map[media.TrackID]int64{}, wake: make(chan struct{}, 1), done: make(chan struct{})}
	// A fault ends the feed: nothing would hand its units on any more.
	go safely.Do(nil, p.run, func(err error) { p.Feed.End(err.Error()) })
	return p
}

// Expect says how many tracks come: none is handed on before all are there, or were waited for.
func (p *Paced) Expect(tracks int) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.expect = tracks
}

// waits reports whether tracks are still waited for. It needs the lock.
func (p *Paced) waits() bool {
	return len(p.tracks) < p.expect && time.Since(p.begun) < tracksWait
}

// GoOn says that a track goes on with another line from here on, which tracks of the same number share.
func (p *Paced) GoOn(id media.TrackID, number int) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.on[id].number != number {
		p.on[id] = lineID{number: number}
		delete(p.turns, id)
	}
}

// Track implements Feed: it is announced with its next unit.
func (p *Paced) Track(t media.Track) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.tracks[t.ID], p.told[t.ID] = t.Stamps(), &t
}

// Unit implements Feed.
func (p *Paced) Unit(id media.TrackID, stamp, composition int64, key bool, data []byte) {
	p.mu.Lock()
	defer p.mu.Unlock()
	clock := p.tracks[id]
	if clock.Scale == 0 {
		return
	}
	l := p.lines[p.on[id]]
	whole, known := p.turns[id]
	if known && l != nil && p.jumped(l, clock, whole, stamp) { // nobody said so
		p.on[id] = lineID{p.on[id].number, p.on[id].jumps + 1}
		l, known = p.lines[p.on[id]], false
	}
	switch {
	case known:
		whole += clock.Between(whole, stamp)
	case l != nil && clock.Turn > 0:
		near := media.Rescale(l.newest, media.VideoTimescale, clock.Scale)
		whole = near + clock.Between(near, stamp)
	default:
		whole = stamp
	}
	p.turns[id] = whole
	at := clock.Ticks(whole)
	if p.begun.IsZero() {
		p.begun = time.Now()
	}
	if l == nil { // it begins behind what waits
		begin := time.Now().Add(pacedLead)
		if n := len(p.queue); n > 0 && p.queue[n-1].due.After(begin) {
			begin = p.queue[n-1].due
		}
		l = &pacedLine{base: begin.Add(-ticksOf(at)), newest: at}
		if len(p.lines) >= maxLines {
			p.forget()
		}
		l.born = p.births
		p.births++
		p.lines[p.on[id]] = l
	}
	l.newest = max(l.newest, at)
	due := l.base.Add(ticksOf(at))
	if before := p.due[id]; !known && due.Before(before) {
		// Another track began the line before all of this one's had come that lies before it.
		p.delay(l, before.Sub(due))
		due = before
	}
	p.due[id] = due
	p.put(pacedUnit{id: id, stamp: stamp, composition: composition, key: key, data: data, due: due, line: l, track: p.told[id]})
	delete(p.told, id)
}

// delay moves a line, with what waits of it. It needs the lock.
func (p *Paced) delay(l *pacedLine, by time.Duration) {
	l.base = l.base.Add(by)
	for i := range p.queue {
		if p.queue[i].line == l {
			p.queue[i].due = p.queue[i].due.Add(by)
		}
	}
	slices.SortStableFunc(p.queue, func(a, b pacedUnit) int { return a.due.Compare(b.due) })
	for id, on := range p.on {
		if due, some := p.due[id]; some && p.lines[on] == l {
			p.due[id] = due.Add(by)
		}
	}
}

// jumped reports whether a stamp lies far from the one before, and far from what is due now.
func (p *Paced) jumped(l *pacedLine, clock media.Clock, before, stamp int64) bool {
	step := clock.Between(before, stamp)
	if ticksOf(clock.Ticks(step)).Abs() <= pacedJump {
		return false
	}
	return time.Until(l.base.Add(ticksOf(clock.Ticks(before+step)))).Abs() > pacedJump
}

// forget lets the oldest line go that no track is on.
func (p *Paced) forget() {
	used := map[lineID]bool{}
	for _, on := range p.on {
		used[on] = true
	}
	var oldest *lineID
	for id, l := range p.lines {
		if !used[id] && (oldest == nil || l.born < p.lines[*oldest].born) {
			oldest = &id
		}
	}
	if oldest != nil {
		delete(p.lines, *oldest)
	}
}

func ticksOf(v int64) time.Duration { return media.Duration(v, media.VideoTimescale) }

// Splice implements Feed.
func (p *Paced) Splice(clock media.Clock, stamp int64, section []byte) {
	p.behind(section, func() { p.Feed.Splice(clock, stamp, section) })
}

// Caption implements Feed.
func (p *Paced) Caption(c Caption) { p.behind([]byte(c.Text), func() { p.Feed.Caption(c) }) }

// behind does something with data once what waits is handed on.
func (p *Paced) behind(data []byte, do func()) {
	p.mu.Lock()
	defer p.mu.Unlock()
	due := time.Now()
	if n := len(p.queue); n > 0 {
		due = p.queue[n-1].due
	}
	p.put(pacedUnit{data: data, do: do, due: due})
}

// put queues what is to be handed on. It needs the lock.
func (p *Paced) put(u pacedUnit) {
	p.bytes += len(u.data) + pacedCost
	i := len(p.queue)
	for i > 0 && p.queue[i-1].due.After(u.due) {
		i--
	}
	p.queue = slices.Insert(p.queue, i, u)
	select {
	case p.wake <- struct{}{}:
	default:
	}
}

// Pace implements Feed: it says how long to fetch nothing more.
func (p *Paced) Pace() time.Duration { return p.PaceOf(nil) }

// PaceOf says how long to fetch nothing more of some tracks; nil: of any. One that lies behind the others is fetched on,
// since who waits for it are they.
func (p *Paced) PaceOf(tracks map[media.TrackID]bool) time.Duration {
	p.mu.Lock()
	defer p.mu.Unlock()
	ahead := p.bytes > maxPaced
	for id, due := range p.due {
		ahead = ahead || (tracks == nil || tracks[id]) && time.Until(due) > pacedAhead
	}
	if ahead {
		return 100 * time.Millisecond
	}
	return 0
}

// run hands units on. When what is fetched comes too late, all lines move, so that they are even again from there on.
func (p *Paced) run() {
	timer := time.NewTimer(0)
	defer timer.Stop()
	for {
		p.mu.Lock()
		var now []pacedUnit
		wait := time.Second
		for len(p.queue) > 0 {
			if p.waits() {
				wait = 50 * time.Millisecond
				break
			}
			u := p.queue[0]
			if left := time.Until(u.due); left > 0 {
				wait = left
				break
			}
			if late := time.Since(u.due); late > pacedLead && u.do == nil {
				for _, l := range p.lines {
					l.base = l.base.Add(late)
				}
				for i := range p.queue {
					p.queue[i].due = p.queue[i].due.Add(late)
				}
				for id := range p.due {
					p.due[id] = p.due[id].Add(late)
				}
			}
			now = append(now, u)
			p.queue = p.queue[1:]
			p.bytes -= len(u.data) + pacedCost
		}
		p.mu.Unlock()
		for _, u := range now {
			if u.do != nil {
				u.do()
				continue
			}
			if u.track != nil {
				p.Feed.Track(*u.track)
			}
			p.Feed.Unit(u.id, u.stamp, u.composition, u.key, u.data)
		}
		timer.Reset(wait)
		select {
		case <-p.done:
			return
		case <-p.wake:
		case <-timer.C:
		}
	}
}

// Drain waits until all that waits has been handed on.
func (p *Paced) Drain(ctx context.Context) {
	look := time.NewTicker(drainLook)
	defer look.Stop()
	for {
		p.mu.Lock()
		left := len(p.queue)
		p.mu.Unlock()
		if left == 0 {
			return
		}
		select {
		case <-ctx.Done():
			return
		case <-p.done:
			return
		case <-look.C:
		}
	}
}

const drainLook = 20 * time.Millisecond

// End implements Feed. What waits is dropped.
func (p *Paced) End(reason string) {
	p.once.Do(func() { close(p.done) })
	p.Feed.End(reason)
}
