package present

import (
	"strconv"
	"time"

	"metaplasis/internal/core/coding"
	"metaplasis/internal/core/hls"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/segment"
)

// View is an immutable picture of a rendition: what a viewer can fetch now. Its playlists are
// made at their first request, once for all who ask.
type View struct {
	Snapshot *segment.Snapshot
	List     hls.Media // what the playlists are made of, but for wrapping, skip and reports
	Retired  bool      // the rung was turned off: another rendition stands in for it
	Peak     int64
	Average  int64
	KeyPeak  int64 // of its keyframes alone
	Changed  time.Time

	docs [5]*Doc
	next chan struct{} // closed when another view has taken the place of this one
	peer func() []hls.Report
	life string
}

// The documents of a view.
const (
	docFull = iota
	docDelta
	docTS
	docPacked
	docKeys
)

// NewView makes a view. peer tells of the newest parts of the other renditions when a playlist is made.
func NewView(list hls.Media, snap *segment.Snapshot, peer func() []hls.Report) *View {
	v := &View{Snapshot: snap, Changed: time.Now(), List: list, next: make(chan struct{}), peer: peer}
	v.life = "public, max-age=" + strconv.FormatInt(6*list.TargetDuration, 10)
	for i := range v.docs {
		v.docs[i] = NewDoc(func() []byte { return v.marshal(i) })
	}
	return v
}

// Again returns the same view for who waits for the next one, its playlists shared.
func (v *View) Again() *View {
	again := *v
	again.next = make(chan struct{})
	return &again
}

// Over returns the view as it is when nothing will follow.
func (v *View) Over() *View {
	list := v.List
	list.Ended = true
	end := NewView(list, v.Snapshot, v.peer)
	end.Retired = v.Retired
	return end
}

// Gone returns the view of a rendition that was turned off.
func (v *View) Gone() *View {
	gone := NewView(v.List, v.Snapshot, v.peer)
	gone.Retired = true
	return gone
}

// Replace wakes who waits for the next view. It is called once.
func (v *View) Replace() { close(v.next) }

func (v *View) marshal(doc int) []byte {
	m := v.List
	if t, _ := v.Track(); t.Kind == media.Data {
		m.Wrapping, m.PartTarget, m.Open = hls.VTT, 0, nil
		return m.Marshal()
	}
	switch doc {
	case docFull, docDelta:
		m.Skip = doc == docDelta
		m.Reports = v.peer()
		return m.Marshal()
	case docTS:
		m.Wrapping = hls.TS
	case docPacked:
		m.Wrapping = hls.Packed
	case docKeys:
		m.Wrapping = hls.Keys
	}
	m.PartTarget = 0
	m.Open = nil
	return m.Marshal()
}

// Transportable reports whether transport streams and packed audio can hold what is in the view, and
// what its codec is called.
func (v *View) Transportable() (ok bool, codec string) {
	t, known := v.Track()
	if !known {
		return true, ""
	}
	return coding.Transportable(&t), coding.Label(t.Codec)
}

// Playlist returns a playlist of the view. skip asks for a delta update.
func (v *View) Playlist(w hls.Wrapping, skip bool) *Doc {
	switch {
	case w == hls.TS:
		return v.docs[docTS]
	case w == hls.Packed:
		return v.docs[docPacked]
	case w == hls.Keys:
		return v.docs[docKeys]
	case skip:
		return v.docs[docDelta]
	}
	return v.docs[docFull]
}

// Next is closed when the view is not the current one any more.
func (v *View) Next() <-chan struct{} { return v.next }

// BlockedLife is how long a cache may keep the answer to a request that waited for this view: six
// target durations, since its address names the state (draft, B.1).
func (v *View) BlockedLife() string { return v.life }

// Track returns the track of the newest segment, and whether there is one.
func (v *View) Track() (media.Track, bool) {
	if s := v.Snapshot.Newest(); s != nil {
		return s.Header.Track, true
	}
	return media.Track{}, false
}

// What there must be before a channel shows itself, so that who begins with it does not stall: to players
// of parts so much media, and to players of whole segments one segment and so much more.
const (
	startMedia = media.VideoTimescale
	startSlack = media.VideoTimescale * 3 / 4
)

// Shows reports whether there is enough to begin with for players of parts.
func (v *View) Shows() bool { return v.holds(startMedia, true) || len(v.List.Whole) > 1 }

// ShowsWhole reports the same for players of whole segments.
func (v *View) ShowsWhole() bool {
	w := v.List.Whole
	return len(w) > 1 || len(w) == 1 && (v.holds(w[0].Duration+startSlack, true) || v.List.Idle)
}

// HoldsBack reports whether the whole segments reach as far back as a player without parts has to stay
// behind the end (RFC 8216, 6.3.3: three target durations).
func (v *View) HoldsBack() bool {
	return v.List.Idle || v.Ended() || v.holds(holdBack*v.List.TargetDuration*media.VideoTimescale-slackOfRounding, false)
}

const (
	holdBack = 3
	// slackOfRounding is what three segments may lack of three target durations, which are whole seconds.
	slackOfRounding = media.VideoTimescale / 10
)

// holds reports whether the playlist shows so much media, in ticks of media.VideoTimescale.
func (v *View) holds(least int64, open bool) bool {
	if s := v.List.Open; open && s != nil {
		least -= s.Duration
	}
	for i := len(v.List.Whole) - 1; i >= 0 && least > 0; i-- {
		least -= v.List.Whole[i].Duration
	}
	return least <= 0
}

// Ended reports whether nothing will follow for good.
func (v *View) Ended() bool { return v.List.Ended }

// TargetDuration returns the playlist's target duration.
func (v *View) TargetDuration() time.Duration {
	return time.Duration(v.List.TargetDuration) * time.Second
}

// PartTarget returns the playlist's part target duration, 0 without parts.
func (v *View) PartTarget() time.Duration { return Ticks(v.List.PartTarget) }

// Newest returns the newest segment that the playlist shows and its newest part; part is -1 when
// the segment is whole.
func (v *View) Newest() (msn uint64, part int) {
	s := v.List.Newest()
	switch {
	case s == nil:
		return 0, -1
	case s.Open:
		return s.MSN, len(s.Parts) - 1
	}
	return s.MSN, -1
}

// Has reports whether the playlist holds a segment, or a part of it when part is not negative. A
// part behind the last of its segment is the first of the next one (draft, 6.2.5.2).
func (v *View) Has(msn uint64, part int) bool {
	last := v.List.Newest()
	switch {
	case last == nil:
		return false
	case last.MSN > msn:
		return true
	case last.MSN < msn:
		return false
	case last.Open:
		return part >= 0 && len(last.Parts) > part
	}
	return part < 0 || len(last.Parts) > part
}
