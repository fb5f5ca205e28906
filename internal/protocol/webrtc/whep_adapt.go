package webrtc

import (
	"encoding/json"
	"io"
	"net/http"
	"slices"
	"time"

	"metaplasis/internal/core/media"
	"metaplasis/internal/onward"
	"metaplasis/internal/onward/fan"
)

// adaptation is how a viewer goes from rung to rung by what its line carries.
type adaptation struct {
	fan.Steps
	zero time.Time // wall clock at media time 0, as the viewer is told it
}

// firstBack is for how long a rung is kept before a better one is tried.
const firstBack = 5 * time.Second

// first is the rung that a viewer begins with: the one that it asked for, if it fits real time, else the best.
func (v *whepViewer) first() string {
	v.mu.Lock()
	defer v.mu.Unlock()
	v.rungs.Begin(time.Now(), firstBack)
	offers := v.offers()
	if len(offers) == 0 || offered(offers, v.wanted) {
		return v.wanted
	}
	v.byHand = false
	return offers[0].Rung
}

func offered(offers []onward.Offer, rung string) bool {
	return slices.ContainsFunc(offers, func(o onward.Offer) bool { return o.Rung == rung })
}

// offers are the rungs that the viewer can be sent, the best first.
func (v *whepViewer) offers() []onward.Offer {
	if v.video == nil {
		return nil
	}
	return v.s.pool.About(v.channel, v.video.t.codec).Offers
}

// adapt goes to a smaller rung when the line does not carry this one, and tries a better one when it does easily.
func (v *whepViewer) adapt(now time.Time) {
	l := v.video
	if l == nil {
		return
	}
	if l.reader.Changing() { // what it is sent may have ended
		v.send(l)
		return
	}
	v.mu.Lock()
	defer v.mu.Unlock()
	offers := v.offers()
	at := slices.IndexFunc(offers, func(o onward.Offer) bool { return o.Rung == l.reader.Stream().Rung })
	if v.byHand {
		if v.wanted != l.reader.Stream().Rung {
			v.change(v.wanted, now)
		}
		return
	}
	if at < 0 { // what it was sent is not made any more, or is what the origin encodes for it
		if len(offers) > 0 {
			v.change(offers[0].Rung, now)
		}
		return
	}
	estimate, rate := int64(v.estimator.GetTargetBitrate()), l.reader.Stream().Bitrate()
	if rate == 0 || !v.rungs.Settled(now) {
		return
	}
	switch {
	case estimate < rate*9/10 && at+1 < len(offers):
		v.rungs.Sink(now)
		next := at + 1
		for next+1 < len(offers) && offers[next].Bitrate > 0 && offers[next].Bitrate > estimate {
			next++
		}
		v.change(offers[next].Rung, now)
	case at > 0 && v.rungs.MayClimb(now) && estimate > rate*11/10:
		v.rungs.Climb(now)
		v.change(offers[at-1].Rung, now)
	}
}

// change goes to another rung at its next keyframe. It is called with the viewer's lock.
func (v *whepViewer) change(rung string, now time.Time) {
	l := v.video
	if rung == l.reader.Stream().Rung {
		return
	}
	v.rungs.Changed(now)
	l.reader.Change(fan.Name{Channel: v.channel, Kind: media.Video, Rung: rung, Codec: l.t.codec})
}

// state is what a viewer may ask of its session.
type state struct {
	Rung     string   `json:"rung"`     // that it is sent now
	ByHand   bool     `json:"byHand"`   // it was chosen, not found by the line
	Rungs    []string `json:"rungs"`    // that it may choose
	Estimate int      `json:"estimate"` // what its line carries, bits per second
	Changes  int      `json:"changes"`
}

// ServeHTTP answers at rung below the address of a session: GET tells the rung and those that can be had, POST chooses one
// by {"rung": "720p"}, or with "" by the line.
func (v *whepViewer) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if r.Method == http.MethodPost {
		var in struct {
			Rung string `json:"rung"`
		}
		if err := json.NewDecoder(io.LimitReader(r.Body, 4096)).Decode(&in); err != nil {
			http.Error(w, `Found no JSON such as {"rung": "720p"}.`, http.StatusBadRequest)
			return
		}
		v.mu.Lock()
		known := in.Rung == "" || offered(v.offers(), in.Rung)
		if known {
			v.wanted, v.byHand = in.Rung, in.Rung != ""
		}
		v.mu.Unlock()
		if !known {
			http.Error(w, "There is no such rung that fits this session's codec.", http.StatusBadRequest)
			return
		}
	} else if r.Method != http.MethodGet {
		http.Error(w, "GET tells the rung, POST chooses one.", http.StatusMethodNotAllowed)
		return
	}
	v.mu.Lock()
	out := state{ByHand: v.byHand, Rung: v.now, Changes: v.rungs.Changes, Rungs: []string{}}
	for _, o := range v.offers() {
		out.Rungs = append(out.Rungs, o.Rung)
	}
	if v.estimator != nil {
		out.Estimate = v.estimator.GetTargetBitrate()
	}
	v.mu.Unlock()
	w.Header().Set("Content-Type", "application/json")
	_ = json.NewEncoder(w).Encode(out)
}
