package publish

import (
	"crypto/rand"
	"encoding/base32"
	"slices"
	"strings"
	"sync"

	"metaplasis/internal/core/segment"
)

const (
	// lease is how many numbers are reserved ahead: two hours of usual segments, so that a database
	// that is away for long does no harm. So many breaks are reserved too.
	lease      = 4096
	breakLease = 64
)

// Numbering is where a channel's segments stand: their numbers, the discontinuities among them, and what
// tells their addresses from those of before. It is guarded by the channel's lock, but for what is stored.
type Numbering struct {
	slug        string
	keeper      Reserver
	Position    Position
	asked       Position // what the keeper was asked to store last
	Incarnation string   // of the addresses: bytes of another one never have the same
	breaks      []uint64 // numbers of the newest segments that carry a discontinuity, in order
	base        uint64   // discontinuities before those

	mu       sync.Mutex
	reserved Position // what is below is safe after a crash
}

// Reserver makes numbers safe.
type Reserver interface {
	// Reserve makes sure that after a crash numbering goes on at p or later, and calls stored when that is so. It does not wait.
	Reserve(channel string, p Position, stored func())
}

// NewNumbering goes on at a position.
func NewNumbering(slug string, keeper Reserver, at Position) *Numbering {
	n := &Numbering{slug: slug, keeper: keeper, Position: at, asked: at, base: at.Discontinuities, reserved: at}
	n.reserve(at)
	return n
}

// Before implements segment.Runs.
func (n *Numbering) Before(msn uint64) uint64 {
	i, _ := slices.BinarySearch(n.breaks, msn)
	return n.base + uint64(i)
}

// Begins implements segment.Runs.
func (n *Numbering) Begins(msn uint64) bool {
	_, found := slices.BinarySearch(n.breaks, msn)
	return found
}

// Now is where the numbering stands when no number below next is free any more.
func (n *Numbering) Now(next uint64) Position {
	return Position{NextMSN: max(n.Position.NextMSN, next), Discontinuities: n.base + uint64(len(n.breaks))}
}

// Boundary books a boundary: the discontinuity that it carries, and numbers reserved ahead.
func (n *Numbering) Boundary(b segment.Boundary) {
	if b.Discontinuity {
		n.note(b.MSN)
	}
	n.reserve(Position{NextMSN: b.MSN, Discontinuities: n.base + uint64(len(n.breaks))})
}

// maxBreaks is how many discontinuities are known one by one: more than the longest window has segments.
//
//limit:discontinuities that are known one by one | each rendition | older ones are known by their number alone
const maxBreaks = 1 << 10

// note takes the number of a segment that carries a discontinuity.
func (n *Numbering) note(msn uint64) {
	if i := len(n.breaks); i > 0 && n.breaks[i-1] >= msn {
		return
	}
	if len(n.breaks) >= 2*maxBreaks { // half are forgotten at a time
		n.base += maxBreaks
		n.breaks = append(make([]uint64, 0, 2*maxBreaks), n.breaks[maxBreaks:]...)
	}
	n.breaks = append(n.breaks, msn)
}

// reserve lets the keeper store numbers far ahead of those in use. Media does not wait for it: bytes
// are told apart by the incarnation in their addresses even should it never come to that.
func (n *Numbering) reserve(used Position) {
	if used.NextMSN+lease/2 < n.asked.NextMSN && used.Discontinuities+breakLease/2 < n.asked.Discontinuities {
		return
	}
	p := Position{NextMSN: used.NextMSN + lease, Discontinuities: used.Discontinuities + breakLease}
	n.asked = p
	n.keeper.Reserve(n.slug, p, func() {
		n.mu.Lock()
		defer n.mu.Unlock()
		n.reserved.NextMSN = max(n.reserved.NextMSN, p.NextMSN)
		n.reserved.Discontinuities = max(n.reserved.Discontinuities, p.Discontinuities)
	})
}

// Stored reports whether numbers up to one are safe after a crash.
func (n *Numbering) Stored(next uint64) bool {
	n.mu.Lock()
	defer n.mu.Unlock()
	return max(n.Position.NextMSN, next) <= n.reserved.NextMSN
}

// Reincarnate begins addresses that no bytes ever had. Aligned channels do without: there two origins
// have the same bytes under the same names, numbered by the wall clock.
func (n *Numbering) Reincarnate(aligned bool) {
	n.Incarnation = ""
	if !aligned {
		var b [5]byte
		_, _ = rand.Read(b[:]) // never fails
		n.Incarnation = strings.ToLower(base32.StdEncoding.EncodeToString(b[:])) + "-"
	}
}

// Position is where a channel's numbering stands. It survives restarts.
type Position struct {
	NextMSN         uint64 // no segment below it may be made any more
	Discontinuities uint64 // before that segment
}
