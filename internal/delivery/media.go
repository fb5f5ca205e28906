package delivery

import (
	"errors"
	"net/http"
	"strconv"
	"strings"
	"time"

	"metaplasis/internal/core/media"
	"metaplasis/internal/core/segment"
	"metaplasis/internal/origin"
)

// media answers for headers, segments, parts and other wrappings of segments.
func (q *request) media(rend *origin.Rendition, v *origin.View) {
	q.seen("", true)
	if h := findHeader(v.Snapshot, q.file); h != nil {
		q.kind = "header"
		q.send(contentType(q.file, h.Track.Kind == media.Audio), immutable, `"`+h.Name+`"`, v.Changed, h.Bytes)
		return
	}
	number, rest, _ := strings.Cut(q.file, ".")
	msn, err := strconv.ParseUint(number, 10, 63)
	if err != nil {
		q.fail(http.StatusNotFound, "There is nothing at this address.")
		return
	}
	switch rest {
	case "m4s":
		q.segment(rend, v, msn)
	case "ts", "aac", "key.m4s":
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
		q.seen("ll-hls", false)
		q.part(rend, v, msn, int(part))
	}
}

// lookup finds a segment among those in memory, or says why not.
func (q *request) lookup(v *origin.View, msn uint64) (seg *segment.Segment, answered bool) {
	seg, gone := v.Snapshot.Find(msn)
	switch {
	case gone:
		q.fail(http.StatusGone, "The segment has left the window.")
		return nil, true
	case seg != nil && seg.Gap:
		q.fail(http.StatusNotFound, "There is no such segment: nothing was coded for its time.")
		return nil, true
	}
	return seg, false
}

// isNext reports whether a segment is the one that comes next, so that it pays to wait for it.
func isNext(v *origin.View, msn uint64) bool {
	n := len(v.Snapshot.All)
	return n > 0 && !v.Retired && msn == v.Snapshot.All[n-1].MSN+1
}

// segment sends a whole segment, or one that is being made, part by part as they come.
func (q *request) segment(rend *origin.Rendition, v *origin.View, msn uint64) {
	seg, answered := q.lookup(v, msn)
	if answered {
		return
	}
	if seg == nil && isNext(v, msn) && !v.Ended() {
		q.kind = "segment-early"
		v = q.await(rend, v, v.TargetDuration()+time.Second, func(v *origin.View) bool {
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
	if seg.Open {
		q.kind = "segment-open"
		q.follow(rend, v, seg)
		return
	}
	q.sendSegment(seg)
}

func (q *request) sendSegment(seg *segment.Segment) {
	q.send(contentType(q.file, seg.Header.Track.Kind == media.Audio), immutable, seg.ETag, seg.Arrived, seg.Pieces...)
}

// follow sends an open segment with chunked transfer coding, each part when it is there. A
// segment that does not become whole breaks the connection off, so that no cache keeps a torso.
func (q *request) follow(rend *origin.Rendition, v *origin.View, seg *segment.Segment) {
	h := q.w.Header()
	h.Set("Content-Type", contentType(q.file, seg.Header.Track.Kind == media.Audio))
	h.Set("Cache-Control", immutable)
	h.Set("ETag", seg.ETag)
	first := q.s.now().Sub(q.begun)
	c := &counted{ResponseWriter: q.w, status: http.StatusOK}
	out := http.NewResponseController(q.w)
	late := time.NewTimer(waitSpans * v.TargetDuration())
	defer late.Stop()
	q.s.meter.Waiting(1)
	defer func() {
		q.s.meter.Waiting(-1)
		q.s.meter.Answered(q.kind, c.status, c.bytes, first)
	}()
	if q.r.Method == http.MethodHead {
		return // how long it will be is not known yet
	}
	sent := 0
	for {
		for ; sent < len(seg.Parts); sent++ {
			if _, err := c.Write(seg.Parts[sent].Bytes); err != nil {
				return
			}
		}
		if !seg.Open {
			return
		}
		if out.Flush() != nil {
			return
		}
		select {
		case <-v.Next():
		case <-late.C:
			panic(http.ErrAbortHandler)
		case <-q.r.Context().Done():
			return
		}
		if r := q.channel.Rendition(rend.Name); r != nil {
			rend = r
		}
		v = rend.View()
		if v.Ended() || q.s.stopping.Load() {
			panic(http.ErrAbortHandler)
		}
		next, _ := v.Snapshot.Find(seg.MSN)
		if next == nil {
			panic(http.ErrAbortHandler)
		}
		seg = next
	}
}

// part sends a part, waiting for it when it is the next one, as the playlist hints.
func (q *request) part(rend *origin.Rendition, v *origin.View, msn uint64, part int) {
	seg, answered := q.lookup(v, msn)
	if answered {
		return
	}
	expected := seg == nil && part == 0 && isNext(v, msn) || seg != nil && seg.Open && part == len(seg.Parts)
	if expected && !v.Ended() {
		q.kind = "part-hinted"
		v = q.await(rend, v, waitSpans*v.TargetDuration(), func(v *origin.View) bool {
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
		p.ETag, p.Arrived, p.Bytes)
}

// wrapped sends a segment in another container. It is made at its first request.
func (q *request) wrapped(rend *origin.Rendition, v *origin.View, msn uint64) {
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
	case errors.Is(err, origin.ErrNoWrapping):
		q.fail(http.StatusNotFound, err.Error())
	case err != nil:
		q.fail(http.StatusServiceUnavailable, "The segment could not be wrapped: "+err.Error())
	default:
		q.send(contentType(q.file, seg.Header.Track.Kind == media.Audio), immutable, seg.ETag, seg.Arrived, b)
	}
}

// findHeader returns the header of a name among those that the window's segments need.
func findHeader(s *segment.Snapshot, name string) *segment.Header {
	if !strings.HasPrefix(name, "header-") {
		return nil
	}
	for i := len(s.All) - 1; i >= 0; i-- {
		if h := s.All[i].Header; h.Name == name {
			return h
		}
	}
	return nil
}
