package delivery

import (
	"encoding/binary"
	"hash/maphash"
	"net"
	"strings"
	"sync"
	"time"
)

// A viewer counts until it has not asked for anything for longer than a player of its protocol pauses:
// players of parts ask several times per second, others once a segment or so.
const (
	partsLife   = 4 * time.Second
	segmentSpan = 5 // half segments
	leastLife   = 5 * time.Second
	longestLife = 30 * time.Second
	sweepEvery  = time.Second
)

// maxViewers bounds the table, at about 50 bytes each. Past it new viewers are served but not counted.
//
//limit:viewers that are counted | all | further ones are served but not counted
const maxViewers = 200_000

// protocols are what viewers are counted by.
var protocols = [...]string{"hls", "ll-hls", "hls-ts", "dash"}

const (
	protocolHLS = iota
	protocolLowHLS
	protocolTS
	protocolDASH
)

// viewer is one entry of the table. Its key is a digest of channel and session, so that what a
// stranger writes into his headers takes no room.
type viewer struct {
	last     uint32 // milliseconds since the table began, modulo 2^32: 49.7 days
	channel  uint16 // index of names
	protocol uint8
	once     bool // it was here once, without a session id: it may be known by one from now on
}

// viewers counts players by their sessions: the session id that a player tells (CMCD, CTA-5004),
// else its address and program.
type viewers struct {
	mu      sync.Mutex
	seed    maphash.Seed
	since   time.Time
	seen    map[uint64]viewer
	names   []string // of channels, by index
	lives   []time.Duration
	counts  [][len(protocols)]int // of each channel: kept as viewers come and go, so that asking costs little
	indices map[string]uint16
	swept   uint32
}

func newViewers(now time.Time) viewers {
	return viewers{seed: maphash.MakeSeed(), since: now, seen: map[uint64]viewer{}, indices: map[string]uint16{}}
}

// clock returns a time in milliseconds since the table began, modulo 2^32.
func (v *viewers) clock(at time.Time) uint32 { return uint32(at.Sub(v.since) / time.Millisecond) }

// since returns the time between two readings of the clock that lie within 24 days of each other, less than 0 when the
// second is the earlier one.
func since(from, to uint32) time.Duration { return time.Duration(int32(to-from)) * time.Millisecond }

// index numbers a channel. Only channels that exist get here, so that the names are few.
func (v *viewers) index(channel string, life time.Duration) uint16 {
	i, ok := v.indices[channel]
	if !ok {
		if len(v.names) > 1<<15 { // of removed channels, most of them
			v.names, v.lives, v.counts, v.indices, v.seen = nil, nil, nil, map[string]uint16{}, map[uint64]viewer{}
		}
		i = uint16(len(v.names))
		v.indices[channel] = i
		v.names, v.lives, v.counts = append(v.names, channel), append(v.lives, life), append(v.counts, [len(protocols)]int{})
	}
	v.lives[i] = life
	return i
}

// grows books that a viewer reads a segment while it is made: one who reads playlists reads parts then.
// Segments are the same for all protocols, so that this alone makes nobody a viewer.
func (q *request) grows() { q.seen("", true, true) }

// here books that a viewer was here. Segments are the same for all protocols, so their requests,
// with protocol "", only keep a session alive; a weak protocol does not change a known one.
func (q *request) here(protocol string, weak bool) { q.seen(protocol, weak, false) }

func (q *request) seen(protocol string, weak, grows bool) {
	if q.channel == nil { // what was retained of a channel that there is no more, or an item
		return
	}
	v := &q.s.viewers
	session, told := sessionOf(q)
	// Players of DASH read their first manifest before they tell their session.
	first := protocol == "dash" && !told
	weak = weak || first
	v.mu.Lock()
	defer v.mu.Unlock()
	channel := v.index(q.channel.Slug(), q.channel.Life())
	now := v.clock(q.begun)
	if since(v.swept, now) > sweepEvery {
		v.sweep(now)
	}
	key := v.key(channel, session)
	known, ok := v.seen[key]
	before := known
	number := protocolNumber(protocol)
	switch {
	case ok:
		known.last = now
		if protocol != "" && (!weak || known.once) {
			known.protocol = number
		}
		if grows && known.protocol == protocolHLS {
			known.protocol = protocolLowHLS
		}
		known.once = false
	case protocol != "" && len(v.seen) < maxViewers:
		known = viewer{last: now, channel: channel, protocol: number, once: first}
	default:
		return
	}
	v.seen[key] = known
	if ok {
		v.count(before, -1)
	}
	v.count(known, 1)
}

// count books a viewer of a channel and protocol, or with -1 that it is none any more.
func (v *viewers) count(e viewer, n int) {
	if !e.once {
		v.counts[e.channel][e.protocol] += n
	}
}

func protocolNumber(name string) uint8 {
	for i, p := range protocols {
		if p == name {
			return uint8(i)
		}
	}
	return protocolHLS
}

func (v *viewers) key(channel uint16, session string) uint64 {
	var h maphash.Hash
	h.SetSeed(v.seed)
	var c [2]byte
	binary.BigEndian.PutUint16(c[:], channel)
	_, _ = h.Write(c[:]) // never fails
	_, _ = h.WriteString(session)
	return h.Sum64()
}

// life is how long a viewer counts after its last request.
func (v *viewers) life(e viewer) time.Duration {
	life := min(max(v.lives[e.channel]*segmentSpan/2, leastLife), longestLife)
	if e.protocol == protocolLowHLS {
		life = partsLife
	}
	return life
}

func (v *viewers) sweep(now uint32) {
	v.swept = now
	for key, e := range v.seen {
		if since(e.last, now) > v.life(e) {
			delete(v.seen, key)
			v.count(e, -1)
		}
	}
}

// sessionOf names the session that a request belongs to, and reports whether the viewer told it.
func sessionOf(q *request) (session string, told bool) {
	text := q.r.Header.Get("CMCD-Session")
	if text == "" && strings.Contains(q.r.URL.RawQuery, "CMCD=") {
		text = q.r.URL.Query().Get("CMCD")
	}
	if _, rest, ok := strings.Cut(text, `sid="`); ok {
		if id, _, ok := strings.Cut(rest, `"`); ok && id != "" && len(id) <= 64 {
			return "sid " + id, true
		}
	}
	host, _, err := net.SplitHostPort(q.r.RemoteAddr)
	if err != nil {
		host = q.r.RemoteAddr
	}
	return host + " " + q.r.UserAgent(), false
}

// Viewers counts the viewers of each channel by protocol: hls, ll-hls, hls-ts or dash. What it costs does not
// depend on how many there are, but for who has left within the last second.
func (s *Server) Viewers() map[string]map[string]int {
	out := map[string]map[string]int{}
	v := &s.viewers
	v.mu.Lock()
	defer v.mu.Unlock()
	if now := v.clock(s.now()); since(v.swept, now) > sweepEvery {
		v.sweep(now)
	}
	for i, by := range v.counts {
		for protocol, n := range by {
			if n == 0 {
				continue
			}
			if out[v.names[i]] == nil {
				out[v.names[i]] = map[string]int{}
			}
			out[v.names[i]][protocols[protocol]] = n
		}
	}
	return out
}
