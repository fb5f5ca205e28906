package delivery

import (
	"errors"
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"time"

	"metaplasis/internal/core/media"
	"metaplasis/internal/core/segment"
	"metaplasis/internal/core/wrap"
	"metaplasis/internal/origin/publish"
	"metaplasis/internal/present"
)

// media answers for headers, segments, parts and other wrappings of segments.
func (q *request) media(rend *publish.Rendition, v *present.View) {
	q.here("", true)
	if h := findHeader(v.Snapshot, q.file); h != nil {
		q.kind = "header"
		q.send(contentType(q.file, h.Track.Kind == media.Audio), immutable, `"`+h.Name+`"`, v.Changed, segment.Memory{h.Bytes})
		return
	}
	if strings.HasPrefix(q.file, headerPrefix) {
		if q.retainedFile() {
			return
		}
		q.fail(http.StatusNotFound, "No segment in memory has this header.")
		return
	}
	name, rest, _ := strings.Cut(q.file, ".")
	cut := strings.LastIndexByte(name, '-') + 1
	prefix, number := name[:cut], name[cut:]
	msn, err := strconv.ParseUint(number, 10, 63)
	if err != nil {
		q.fail(http.StatusNotFound, "There is nothing at this address.")
		return
	}
	if now := prefixOf(v); prefix != now {
		if prefix == "" {
			q.redirect(now)
			return
		}
		if q.retainedFile() {
			return
		}
		q.fail(http.StatusGone, "The segment is of an earlier incarnation of the channel, and is no longer available.")
		return
	}
	switch rest {
	case "m4s":
		q.segment(rend, v, msn)
	case "ts", "aac", "key.m4s", "vtt":
		q.kind = rest
		q.wrapped(rend, v, msn)
	default:
		text, ok := strings.CutSuffix(rest, ".m4s")
		part, err := strconv.ParseUint(text, 10, 31)
		if !ok || err != nil {
			q.fail(http.StatusNotFound, "There is nothing at this address.")
			return
		}
		q.kind = "part"
		q.here("ll-hls", false)
		q.part(rend, v, msn, int(part))
	}
}

// prefixOf is what the names of a view's segments begin with.
func prefixOf(v *present.View) string {
	if s := v.Snapshot.Newest(); s != nil {
		return s.Prefix
	}
	return ""
}

// redirect leads from a bare number to the name that it has in this incarnation. Nothing but the
// number is known of what is asked for, so the answer is for now only.
func (q *request) redirect(prefix string) {
	h := q.w.Header()
	h.Set("Cache-Control", "no-store")
	to := prefix + q.file
	if query := q.r.URL.RawQuery; query != "" {
		to += "?" + query
	}
	h.Set("Location", to)
	q.w.WriteHeader(http.StatusTemporaryRedirect)
	q.s.meter.Answered(q.kind, http.StatusTemporaryRedirect, 0, q.s.now().Sub(q.begun))
}

// lookup finds a segment among those in memory, or says why not.
func (q *request) lookup(v *present.View, msn uint64) (seg *segment.Segment, answered bool) {
	seg, gone := v.Snapshot.Find(msn)
	switch {
	case (gone || seg == nil && msn < newestNumber(v)) && q.retainedFile():
		return nil, true
	case gone:
		q.fail(http.StatusGone, "The segment has left the window.")
		return nil, true
	case seg != nil && seg.Gap:
		q.fail(http.StatusNotFound, "There is no such segment: it is a gap in the playlist.")
		return nil, true
	}
	return seg, false
}

// newestNumber is that of the newest segment in memory.
func newestNumber(v *present.View) uint64 {
	if s := v.Snapshot.Newest(); s != nil {
		return s.MSN
	}
	return 0
}

// isNext reports whether a segment is the one that comes next, so that it pays to wait for it.
func isNext(v *present.View, msn uint64) bool {
	s := v.Snapshot.Newest()
	return s != nil && !v.Retired && msn == s.MSN+1
}

// segment sends a whole segment, or one that is being made, part by part as they come.
func (q *request) segment(rend *publish.Rendition, v *present.View, msn uint64) {
	seg, answered := q.lookup(v, msn)
	if answered {
		return
	}
	if seg == nil && isNext(v, msn) && !v.Ended() {
		q.kind = "segment-early"
		v = q.await(rend, v, v.TargetDuration()+time.Second, func(v *present.View) bool {
			s, _ := v.Snapshot.Find(msn)
			return s != nil
		})
		if v == nil {
			return
		}
		if seg, answered = q.lookup(v, msn); answered {
			return
		}
	}
	if seg == nil {
		q.fail(http.StatusNotFound, "There is no such segment.")
		return
	}
	from, to, ranged, ok := readRange(q.r.Header.Get("Range"))
	switch {
	case ranged && ok && isPart(seg, from, to):
		q.here("ll-hls", false)
	case seg.Open:
		q.grows()
	}
	if seg.Open && (!ranged || !ok || to >= seg.Size) {
		q.kind = "segment-open"
		q.follow(rend, v, seg, from, to, ranged && ok)
		return
	}
	if seg.Open { // what is asked for is there already
		q.sendRange(seg, from, to)
		return
	}
	q.sendSegment(seg)
}

// unbounded is the last byte of a range without an end: the greatest whole number that scripts have,
// with which clients ask for live content (RFC 8673, 2).
const unbounded = 1<<53 - 1

// readRange reads a range of bytes (RFC 9110, 14.1.2) with a begin. ok is false for other forms and
// for several ranges, which are answered with the whole.
func readRange(text string) (from, to int64, ranged, ok bool) {
	spec, found := strings.CutPrefix(text, "bytes=")
	if !found {
		return 0, unbounded, false, false
	}
	a, b, _ := strings.Cut(spec, "-")
	from, err := strconv.ParseInt(a, 10, 63)
	if err != nil {
		return 0, unbounded, true, false
	}
	to = unbounded
	if b != "" {
		if to, err = strconv.ParseInt(b, 10, 63); err != nil || to < from {
			return 0, unbounded, true, false
		}
	}
	return from, min(to, unbounded), true, true
}

// isPart reports whether a range is that of a part, or of what comes behind the parts that there are, as
// only players of parts ask for.
func isPart(seg *segment.Segment, from, to int64) bool {
	at := int64(0)
	for _, p := range seg.Parts {
		next := at + int64(len(p.Bytes))
		if from == at {
			return to == next-1
		}
		at = next
	}
	return seg.Open && from == at
}

// sendRange sends a range of an open segment that is there. How long the segment will be is not known.
func (q *request) sendRange(seg *segment.Segment, from, to int64) {
	h := q.w.Header()
	h.Set("Content-Type", contentType(q.file, seg.Header.Track.Kind == media.Audio))
	h["Cache-Control"] = cacheAlways
	h.Set("ETag", seg.ETag)
	h.Set("Content-Range", fmt.Sprintf("bytes %d-%d/*", from, to))
	h.Set("Content-Length", strconv.FormatInt(to-from+1, 10))
	first := q.s.now().Sub(q.begun)
	c := &counted{ResponseWriter: q.w, status: http.StatusOK}
	c.WriteHeader(http.StatusPartialContent)
	if q.r.Method != http.MethodHead {
		at := int64(0)
		for _, p := range seg.Blob.Pieces() {
			if !c.writeWithin(p, at, from, to) {
				break
			}
			at += int64(len(p))
		}
	}
	q.s.meter.Answered(q.kind, c.status, c.bytes, first)
}

// writeWithin writes what a piece, which lies at an offset, has of a range, and reports whether that went well.
func (c *counted) writeWithin(piece []byte, at, from, to int64) bool {
	begin, end := max(from-at, 0), min(to-at+1, int64(len(piece)))
	if begin >= end {
		return true
	}
	_, err := c.Write(piece[begin:end])
	return err == nil
}

func (q *request) sendSegment(seg *segment.Segment) {
	q.send(contentType(q.file, seg.Header.Track.Kind == media.Audio), immutable, seg.ETag, seg.Arrived, seg.Blob)
}

// follow sends an open segment, or a range that reaches into what is still to come, as it grows
// (RFC 8673). A segment that does not become whole breaks the connection off, so that no cache keeps a
// torso.
//
//large:one answer that goes on, with what may end it
func (q *request) follow(rend *publish.Rendition, v *present.View, seg *segment.Segment, from, to int64, ranged bool) {
	h := q.w.Header()
	h.Set("Content-Type", contentType(q.file, seg.Header.Track.Kind == media.Audio))
	h["Cache-Control"] = cacheAlways
	h.Set("ETag", seg.ETag)
	c := &counted{ResponseWriter: q.w, status: http.StatusOK}
	first := time.Duration(-1)
	out := http.NewResponseController(q.w)
	late := time.NewTimer(waitSpans * v.TargetDuration()) // without anything new
	defer late.Stop()
	q.s.meter.Waiting(1)
	defer func() {
		q.s.meter.Waiting(-1)
		if first >= 0 {
			q.s.meter.Answered(q.kind, c.status, c.bytes, first)
		}
	}()
	begin := func() {
		first = q.s.now().Sub(q.begun)
		if ranged {
			h.Set("Content-Range", fmt.Sprintf("bytes %d-%d/*", from, to))
			c.WriteHeader(http.StatusPartialContent)
		}
	}
	if q.r.Method == http.MethodHead {
		begin()
		return // how long it will be is not known yet
	}
	at := int64(0) // where the next part begins
	for sent := 0; ; {
		for ; sent < len(seg.Parts); sent++ {
			piece := seg.Parts[sent].Bytes
			if at+int64(len(piece)) > from && first < 0 {
				begin()
			}
			if !c.writeWithin(piece, at, from, to) {
				return
			}
			at += int64(len(piece))
			late.Reset(waitSpans * v.TargetDuration())
		}
		switch {
		case !seg.Open && first < 0:
			// The range begins where the segment ends: what was hinted at did not come.
			h.Del("Cache-Control")
			h.Set("Content-Range", fmt.Sprintf("bytes */%d", seg.Size))
			q.fail(http.StatusRequestedRangeNotSatisfiable, "The segment has ended before this range.")
			return
		case !seg.Open || at > to:
			return
		}
		if first >= 0 && out.Flush() != nil {
			return
		}
		select {
		case <-v.Next():
		case <-late.C:
			q.breakOff(first < 0)
			return
		case <-q.r.Context().Done():
			return
		}
		if r := q.channel.Rendition(rend.Name); r != nil {
			rend = r
		}
		v = rend.View()
		next, _ := v.Snapshot.Find(seg.MSN)
		if v.Ended() || q.s.stopping.Load() || next == nil {
			q.breakOff(first < 0)
			return
		}
		seg = next
	}
}

// breakOff ends an answer that cannot become whole: with a status, or when that is out already, with
// the connection.
func (q *request) breakOff(clean bool) {
	if !clean {
		panic(http.ErrAbortHandler)
	}
	h := q.w.Header()
	h.Del("Content-Range")
	h.Del("Etag")
	q.fail(http.StatusServiceUnavailable, "The requested media did not arrive in time. The sender may have disconnected.")
}

// part sends a part, waiting for it when it is the next one, as the playlist hints.
func (q *request) part(rend *publish.Rendition, v *present.View, msn uint64, part int) {
	seg, answered := q.lookup(v, msn)
	if answered {
		return
	}
	expected := seg == nil && part == 0 && isNext(v, msn) || seg != nil && seg.Open && part == len(seg.Parts)
	if expected && !v.Ended() {
		q.kind = "part-hinted"
		v = q.await(rend, v, waitSpans*v.TargetDuration(), func(v *present.View) bool {
			s, gone := v.Snapshot.Find(msn)
			return gone || s != nil && (len(s.Parts) > part || !s.Open) || v.Ended()
		})
		if v == nil {
			return
		}
		if seg, answered = q.lookup(v, msn); answered {
			return
		}
	}
	if seg == nil || part >= len(seg.Parts) {
		q.fail(http.StatusNotFound, "There is no such part.")
		return
	}
	p := seg.Parts[part]
	q.send(contentType(q.file, seg.Header.Track.Kind == media.Audio), immutable,
		p.ETag, p.Arrived, segment.Memory{p.Bytes})
}

// wrapped sends a segment in another container. It is made at its first request.
func (q *request) wrapped(rend *publish.Rendition, v *present.View, msn uint64) {
	seg, answered := q.lookup(v, msn)
	if answered {
		return
	}
	if seg == nil || seg.Open {
		q.fail(http.StatusNotFound, "There is no such segment.")
		return
	}
	b, err := q.channel.Wrap(q.r.Context(), rend, seg, q.kind)
	switch {
	case errors.Is(err, wrap.ErrNotOffered):
		q.fail(http.StatusNotFound, err.Error())
	case err != nil:
		q.fail(http.StatusServiceUnavailable, "The segment could not be wrapped: "+err.Error())
	default:
		q.send(contentType(q.file, seg.Header.Track.Kind == media.Audio), immutable, seg.ETag, seg.Arrived, segment.Memory{b})
	}
}

const headerPrefix = "header-"

// findHeader returns the header of a name among those that the window's segments need.
func findHeader(s *segment.Snapshot, name string) *segment.Header {
	if !strings.HasPrefix(name, headerPrefix) {
		return nil
	}
	if s.Open != nil && s.Open.Header.Name == name {
		return s.Open.Header
	}
	for i := len(s.Held) - 1; i >= 0; i-- {
		if h := s.Held[i].Header; h.Name == name {
			return h
		}
	}
	return nil
}
