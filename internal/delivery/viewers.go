package delivery

import (
	"net"
	"strings"
	"sync"
	"time"
)

// A viewer counts for so long after its last request: the longest pause between two of a player
// that has a full buffer.
const viewerLife = 20 * time.Second

// maxViewers bounds the table. Past it new viewers are served but not counted.
const maxViewers = 200_000

type viewerKey struct{ channel, session string }

type viewer struct {
	protocol string
	last     time.Time
	once     bool // it was here once, without a session id: it may be known by one from now on
}

// viewers counts players by their sessions: the session id that a player tells (CMCD, CTA-5004),
// else its address and program.
type viewers struct {
	mu    sync.Mutex
	seen  map[viewerKey]*viewer
	swept time.Time
}

// seen books that a viewer was here. Segments are the same for all protocols, so their requests,
// with protocol "", only keep a session alive; a weak protocol does not change a known one.
func (q *request) seen(protocol string, weak bool) {
	v := &q.s.viewers
	session, told := sessionOf(q)
	key := viewerKey{q.channel.Slug(), session}
	// Players of DASH read their first manifest before they tell their session.
	first := protocol == "dash" && !told
	weak = weak || first
	v.mu.Lock()
	defer v.mu.Unlock()
	if q.begun.Sub(v.swept) > viewerLife/4 {
		v.sweep(q.begun)
	}
	known := v.seen[key]
	switch {
	case known != nil:
		known.last = q.begun
		if protocol != "" && (!weak || known.once) {
			known.protocol = protocol
		}
		known.once = false
	case protocol != "" && len(v.seen) < maxViewers:
		v.seen[key] = &viewer{protocol, q.begun, first}
	}
}

func (v *viewers) sweep(now time.Time) {
	v.swept = now
	for k, seen := range v.seen {
		if now.Sub(seen.last) > viewerLife {
			delete(v.seen, k)
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

// Viewers counts the viewers of each channel by protocol: hls, ll-hls, hls-ts or dash.
func (s *Server) Viewers() map[string]map[string]int {
	out := map[string]map[string]int{}
	v := &s.viewers
	v.mu.Lock()
	defer v.mu.Unlock()
	v.sweep(s.now())
	for k, seen := range v.seen {
		if seen.once {
			continue
		}
		if out[k.channel] == nil {
			out[k.channel] = map[string]int{}
		}
		out[k.channel][seen.protocol]++
	}
	return out
}
