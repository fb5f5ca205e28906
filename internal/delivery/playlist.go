package delivery

import (
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"time"

	"metaplasis/internal/core/hls"
	"metaplasis/internal/origin/publish"
	"metaplasis/internal/present"
)

// wrappings are the media playlists of a rendition.
var wrappings = map[string]hls.Wrapping{"index.m3u8": hls.CMAF, "ts.m3u8": hls.TS, "aac.m3u8": hls.Packed,
	"keys.m3u8": hls.Keys}

// renditionFile answers for what belongs to one rendition.
func (s *Server) renditionFile(q *request) {
	w, list := wrappings[q.file]
	if list {
		q.kind = "playlist"
	} else {
		q.kind = "segment"
	}
	if list && q.wantsRetained() {
		q.kind = "past"
		q.retainedPlaylist(w)
		return
	}
	if s.o.Channel(q.name) == nil && !list && q.retainedFile() {
		return
	}
	if !q.find() {
		return
	}
	rend := q.channel.Rendition(q.rendition)
	if (rend == nil || rend.View() == nil) && !list && q.retainedFile() {
		return
	}
	if rend == nil {
		q.fail(http.StatusNotFound, "The channel has no such rendition.")
		return
	}
	v := rend.View()
	if v == nil {
		q.fail(http.StatusServiceUnavailable, "The rendition has no segment yet. "+q.channel.StartsIn())
		return
	}
	if !list {
		q.media(rend, v)
		return
	}
	if (w == hls.TS || w == hls.Packed) && !q.channel.Transport() {
		q.fail(http.StatusNotFound, "The channel does not offer transport streams. Turn them on in its packaging.")
		return
	}
	if ok, codec := v.Transportable(); !ok && (w == hls.TS || w == hls.Packed) {
		q.fail(http.StatusNotFound, "Transport streams here do not hold "+codec+": take index.m3u8.")
		return
	}
	q.playlist(rend, v, w)
}

// wanted is what a request says of the playlist that it waits for (draft, 6.2.5).
type wanted struct {
	msn     uint64
	part    int
	blocks  bool
	skip    bool
	problem string
}

func readDirectives(query string) (d wanted) {
	get := func(name string) (string, bool) {
		for pair := range strings.SplitSeq(query, "&") {
			if v, ok := strings.CutPrefix(pair, name); ok && strings.HasPrefix(v, "=") {
				return v[1:], true
			}
		}
		return "", false
	}
	d.part = -1
	if v, ok := get("_HLS_msn"); ok {
		n, err := strconv.ParseUint(v, 10, 63)
		if err != nil {
			d.problem = fmt.Sprintf("Found _HLS_msn=%q, expected a whole number.", clipped(v))
		}
		d.msn, d.blocks = n, true
	}
	if v, ok := get("_HLS_part"); ok {
		n, err := strconv.ParseUint(v, 10, 31)
		switch {
		case err != nil:
			d.problem = fmt.Sprintf("Found _HLS_part=%q, expected a whole number.", clipped(v))
		case !d.blocks:
			d.problem = "Found _HLS_part without _HLS_msn, expected both."
		}
		d.part = int(n)
	}
	if v, ok := get("_HLS_skip"); ok {
		d.skip = v == "YES" || v == "v2"
		if !d.skip {
			d.problem = fmt.Sprintf("Found _HLS_skip=%q, expected YES or v2.", clipped(v))
		}
	}
	return d
}

func clipped(s string) string { return s[:min(len(s), 40)] }

// shortLife is how long a cache may keep a playlist that grows with each part.
const shortLife = "public, max-age=1"

// The bounds of a blocking request: how far ahead it may ask (draft, 6.2.5.2), and for how many
// target durations it waits.
const (
	//limit:segments by which a request may be ahead | each request | 400
	maxAhead  = 2
	waitSpans = 3
	// holdAtStart is how long a first playlist waits for the first segment: below the ten seconds that
	// common players wait for an answer.
	holdAtStart = 8 * time.Second
)

func (q *request) playlist(rend *publish.Rendition, v *present.View, w hls.Wrapping) {
	d := wanted{part: -1}
	if q.r.URL.RawQuery != "" && w == hls.CMAF {
		d = readDirectives(q.r.URL.RawQuery)
	}
	if d.problem != "" {
		q.fail(http.StatusBadRequest, d.problem)
		return
	}
	cache := shortLife
	if w != hls.CMAF {
		cache = halfLife(q.channel)
	}
	if d.blocks {
		q.kind = "playlist-blocking"
		newest, part := v.Newest()
		if limit := newest + maxAhead; d.msn > limit {
			q.fail(http.StatusBadRequest, fmt.Sprintf("Found _HLS_msn=%d, expected %d at most: the newest segment is %d, part %d.", d.msn, limit, newest, part))
			return
		}
		if ahead := int(3*time.Second/max(v.PartTarget(), 50*time.Millisecond)) + 1; d.msn == newest && part >= 0 &&
			d.part > part+ahead {
			q.fail(http.StatusBadRequest, fmt.Sprintf("Found _HLS_part=%d, expected %d at most: the newest part of segment %d is %d.", d.part, part+ahead, newest, part))
			return
		}
		target := v.TargetDuration()
		if v = q.await(rend, v, waitSpans*target, func(v *present.View) bool {
			return v.Ended() ||
				v.Has(d.msn, d.part)
		}); v == nil {
			return
		}
		// The address names a state: a cache may keep the answer (draft, 6.2.5.2).
		cache = v.BlockedLife()
	}
	// The first answer comes with the first parts, since who plays parts asks for the list without saying so. In containers
	// without parts it comes with a whole segment and a little more, so that the next one is there in time.
	enough := (*present.View).Shows
	if w != hls.CMAF {
		enough = (*present.View).ShowsWhole
	}
	if q.r.Header.Get("Range") != "" {
		// Who reads a playlist by ranges of bytes, as media elements do, reads it as any file and knows
		// nothing of parts. Such players lose their place in a list that is shorter than the hold-back.
		enough = (*present.View).HoldsBack
	}
	if !d.blocks && !enough(v) {
		q.kind = "playlist-early"
		if v = q.await(rend, v, holdAtStart, func(v *present.View) bool { return v.Ended() || enough(v) }); v == nil {
			return
		}
	}
	switch {
	case w == hls.TS || w == hls.Packed:
		q.here("hls-ts", false)
	default:
		q.here("hls", true) // a player of parts shows itself by fetching them
	}
	q.sendDoc(v.Playlist(w, d.skip), typePlaylist, cache, v.Changed)
}

// await returns the first view that a condition holds for. When none comes in time, or too many
// wait already, it answers 503 and returns nil.
func (q *request) await(rend *publish.Rendition, v *present.View, limit time.Duration,
	ok func(*present.View) bool) *present.View {
	if ok(v) {
		return v
	}
	release, room := q.s.waiting.Take(q.r.RemoteAddr)
	if !room {
		q.fail(http.StatusServiceUnavailable, "Too many requests are waiting. Try again in a moment.")
		return nil
	}
	q.s.meter.Waiting(1)
	for until := q.begun.Add(limit); ; {
		// A receive from one channel: a timer and the request's context beside it would be paid for by
		// each of a crowd when it wakes. The origin nudges views that do not change, so that the bound
		// is looked at, and a viewer who is gone is noticed, once a second.
		<-v.Next()
		// A rung that was off and is on again has another rendition under its name.
		if r := q.channel.Rendition(rend.Name); r != nil {
			rend = r
		}
		v = rend.View()
		switch {
		case ok(v):
		case q.r.Context().Err() != nil:
			v = nil
		case v.Ended(), q.s.stopping.Load():
			q.fail(http.StatusNotFound, "The requested media will not arrive: the channel has ended.")
			v = nil
		case q.s.now().After(until):
			q.fail(http.StatusServiceUnavailable, "The requested media did not arrive in time. The sender may have disconnected.")
			v = nil
		default:
			continue
		}
		release()
		q.s.meter.Waiting(-1)
		return v
	}
}

// contentType names the type of a file by its ending and what it carries.
func contentType(file string, sound bool) string {
	switch {
	case strings.HasSuffix(file, ".ts"):
		return typeTransport
	case strings.HasSuffix(file, ".aac"):
		return typePacked
	case strings.HasSuffix(file, ".vtt"):
		return "text/vtt; charset=utf-8"
	case sound:
		return typeAudio
	}
	return typeVideo
}
