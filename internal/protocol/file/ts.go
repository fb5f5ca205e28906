package file

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"time"

	"metaplasis/internal/core/coding"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/ts"
)

// tsReader collects what the first programme of a transport stream holds.
type tsReader struct {
	d      *ts.Demuxer
	r      *cmafFile
	tracks map[int]*tsTrack
	wrong  error
}

// tsTrack is an elementary stream of a file.
type tsTrack struct {
	*coding.Elementary
	of     *tsReader
	info   ts.StreamTrack
	number int   // in the recording, -1 while the track is not known
	newest int64 // decode time, unwrapped
	set    bool
}

// loadTS reads a transport stream.
func loadTS(b []byte) (*cmafFile, error) {
	x := &tsReader{r: &cmafFile{}, tracks: map[int]*tsTrack{}}
	x.d = ts.NewDemuxer(x)
	x.d.Write(b, 0)
	x.d.Flush(0)
	r := x.r
	if len(r.units) == 0 {
		if x.wrong != nil {
			return nil, x.wrong
		}
		return nil, errors.New("found no media in the transport stream, expected video or sound that is read here")
	}
	begin := r.units[0].due
	for i := range r.units {
		begin = min(begin, r.units[i].due)
	}
	last := map[int][2]int64{} // of each track the newest two
	for i := range r.units {
		u := &r.units[i]
		u.due, u.at = u.due-begin, u.at-begin
		last[u.track] = [2]int64{u.due, max(u.due-last[u.track][0], 0)}
	}
	for _, l := range last {
		r.turn = max(r.turn, l[0]+l[1])
	}
	if r.turn <= 0 || r.turn > int64(maxTurn/time.Second)*media.VideoTimescale {
		return nil, fmt.Errorf("found times over %d s in the transport stream, expected 1 to %d s", r.turn/media.VideoTimescale, int(maxTurn.Seconds()))
	}
	slices.SortStableFunc(r.units, func(a, b cmafUnit) int { return cmp.Compare(a.due, b.due) })
	return r, nil
}

// maxTurn bounds the length of a recording.
//
//limit:length of a recording | each file input | the input is refused
const maxTurn = 24 * time.Hour

// Programmes implements ts.Handler.
func (x *tsReader) Programmes(list []ts.Programme) {
	for _, p := range list[:min(1, len(list))] {
		for _, info := range p.Tracks {
			c := coding.Find(info.Codec)
			if x.tracks[info.PID] != nil || c == nil || !c.HasElementary() || len(x.tracks) >= maxFiles {
				continue
			}
			t := &tsTrack{of: x, info: info, number: -1}
			e, err := coding.OpenElementary(c, nil, t)
			if err != nil {
				continue
			}
			t.Elementary = e
			x.tracks[info.PID] = t
			x.d.Follow(&info)
		}
	}
}

// PES implements ts.Handler.
func (x *tsReader) PES(pid int, p ts.PES) {
	t := x.tracks[pid]
	if t == nil {
		return
	}
	composition := int64(0)
	if p.PTS >= 0 {
		composition = ts.Stamps.Between(p.DTS, p.PTS)
	}
	if err := t.Feed(p.DTS, composition, p.Data); err != nil {
		x.wrong = err
	}
}

// Section implements ts.Handler.
func (x *tsReader) Section(int, []byte) {}

// Lost implements ts.Handler.
func (x *tsReader) Lost(pid int) {
	if t := x.tracks[pid]; t != nil {
		t.Elementary.Lost()
	}
}

// Track implements coding.ElementarySink. Other parameter sets than those of the begin come with their keyframe.
func (t *tsTrack) Track(m media.Track) {
	if t.number >= 0 {
		return
	}
	t.number = len(t.of.r.tracks)
	m.ID, m.Language = media.TrackID(t.number+1), t.info.Language
	m.Clock = media.Clock{Scale: media.VideoTimescale}
	if m.Kind == media.Audio && slices.ContainsFunc(t.of.r.tracks, func(o media.Track) bool { return o.Kind == media.Audio }) {
		m.Role = media.RoleAlternate
	}
	t.of.r.tracks = append(t.of.r.tracks, m)
}

// Unit implements coding.ElementarySink.
func (t *tsTrack) Unit(stamp, composition int64, key bool, data []byte) {
	near := t.newest
	if !t.set { // beside the other tracks
		for _, o := range t.of.tracks {
			if o.set {
				near = o.newest
			}
		}
	}
	at := near + ts.Stamps.Between(near, stamp)
	t.newest, t.set = at, true
	t.of.r.units = append(t.of.r.units, cmafUnit{track: t.number, at: at, due: at, AccessUnit: media.AccessUnit{DTS: at, PTS: at + composition, Key: key, Data: data}})
}
