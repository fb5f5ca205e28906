package delivery

import (
	"errors"
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"time"

	"metaplasis/internal/core/bmff"
	"metaplasis/internal/core/clip"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/segment"
	"metaplasis/internal/present"
)

// How many files are written at a time: for all who ask, and for one network.
const (
	//limit:downloads | all | 503
	maxExports = 16
	//limit:downloads | each network | 503
	maxExportsEach = 4
)

// exportForms are the files that a stretch is written as.
var exportForms = map[string]string{".mp4": "video/mp4", ".ts": typeTransport, ".m4s": "video/mp4"}

// exportName reads {rendition}.mp4, .ts and .m4s, the last a fragmented MP4.
func exportName(file string) (rendition, ending string, ok bool) {
	for e := range exportForms {
		if name, found := strings.CutSuffix(file, e); found && name != "" {
			return name, e, true
		}
	}
	return "", "", false
}

// deadlineWriter gives each write its own time, however long the whole takes.
type deadlineWriter struct {
	http.ResponseWriter
	rc   *http.ResponseController
	last time.Time
}

const (
	writeWait = 30 * time.Second
	renewEach = 5 * time.Second
)

func (d *deadlineWriter) Write(b []byte) (int, error) {
	if now := time.Now(); now.Sub(d.last) > renewEach {
		d.last = now
		_ = d.rc.SetWriteDeadline(now.Add(writeWait))
	}
	return d.ResponseWriter.Write(b)
}

// export answers with a stretch as one file.
//
//large:one answer, whose status depends on what went wrong
func (q *request) export() {
	name, ending, _ := exportName(q.file)
	a, ok := q.stretch()
	if !ok {
		return
	}
	if !a.ended {
		a.to = q.s.now() // what there is so far
	}
	past := q.described(&a)
	if past == nil {
		return
	}
	strip, src := q.source(past, name)
	if strip == nil {
		q.fail(http.StatusNotFound, "No media of that time is stored for this rendition.")
		return
	}
	if a.cut {
		src.From, src.To = media.TicksSince(past.Epoch, a.from), media.TicksSince(past.Epoch, a.to)
	}
	release, ok := q.s.exports.Take(q.r.RemoteAddr)
	if !ok {
		q.fail(http.StatusServiceUnavailable, "Too many downloads are in progress. Try again when one is done.")
		return
	}
	defer release()
	h := q.w.Header()
	h.Set("Content-Type", exportForms[ending])
	h.Set("Cache-Control", "no-store")
	extension := ending
	if ending == ".m4s" {
		extension = ".mp4"
	}
	h.Set("Content-Disposition", fmt.Sprintf("attachment; filename=%q", q.name+"-"+media.WallClock(past.Epoch, strip.List[0].Start).UTC().Format("20060102-150405")+"-"+name+extension))
	c := &counted{ResponseWriter: &deadlineWriter{ResponseWriter: q.w, rc: http.NewResponseController(q.w)}, status: http.StatusOK}
	first := q.s.now().Sub(q.begun)
	var err error
	if q.r.URL.Query().Get("edges") == "coded" && q.r.Method != http.MethodHead {
		if q.s.recode == nil || !a.cut {
			q.fail(http.StatusBadRequest, "Found edges=coded, expected it for a clip with from and to.")
			return
		}
		err = src.Exact(q.r.Context(), q.s.recode, segment.NewHeader)
	}
	switch {
	case err != nil:
	case q.r.Method == http.MethodHead: // how long the file is shows when it is made
	case ending == ".mp4":
		var m *clip.Movie
		if m, err = src.Movie(q.r.Context()); err == nil {
			h.Set("Content-Length", strconv.FormatInt(m.Size, 10))
			err = m.Write(q.r.Context(), c)
		}
	case ending == ".ts":
		err = src.Transport(q.r.Context(), c, q.name)
	default:
		err = src.Fragmented(q.r.Context(), c)
	}
	if err != nil && c.bytes == 0 {
		h.Del("Content-Disposition")
		h.Del("Content-Length")
		switch {
		case errors.Is(err, bmff.ErrMovieTooLong):
			q.fail(http.StatusUnprocessableEntity, "The stretch is too long for one MP4: take .m4s, a fragmented one, or a shorter stretch.")
		case errors.Is(err, clip.ErrNothing):
			q.fail(http.StatusNotFound, "No media of that time is stored for this rendition.")
		case errors.Is(err, clip.ErrEdges):
			q.fail(http.StatusUnprocessableEntity, err.Error()+". Leave out edges=coded: an MP4 is exact without it too, by its edit list.")
		case media.IsFormat(err):
			q.fail(http.StatusUnprocessableEntity, "The stretch cannot be written as this file: "+err.Error())
		default:
			q.fail(http.StatusServiceUnavailable, "What is kept cannot be read now: "+err.Error())
		}
		return
	}
	q.s.meter.Answered(q.kind, c.status, c.bytes, first)
	if err != nil {
		// The rest does not come: the connection is broken off, so that nobody takes it for the whole.
		panic(http.ErrAbortHandler)
	}
}

// source is what a file of a rendition is made of: its pictures with a sound, or audio only; nil when nothing of it is kept.
func (q *request) source(past *present.Past, name string) (strip *present.RetainedRendition, src clip.Source) {
	src.Turn = func() (func(), error) { return q.s.turns.take(q.r.Context(), q.r.RemoteAddr) }
	var sound *present.RetainedRendition
	for i := range past.Renditions {
		if past.Renditions[i].Name == name {
			strip = &past.Renditions[i]
		}
	}
	if strip == nil {
		return nil, src
	}
	wanted := q.r.URL.Query().Get("sound")
	if wanted == "" {
		wanted = strip.Sound
	}
	for i := range past.Renditions {
		if past.Renditions[i].Name == wanted && past.Renditions[i].Name != name {
			sound = &past.Renditions[i]
		}
	}
	if strip.Track().Kind == media.Video {
		src.Video = strip.List
		if sound != nil {
			src.Sound = sound.List
		}
	} else {
		src.Sound = strip.List
	}
	return strip, src
}

func isExport(file string) bool {
	_, _, ok := exportName(file)
	return ok
}
