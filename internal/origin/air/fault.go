package air

import (
	"fmt"
	"time"

	"metaplasis/internal/settings"
)

// A feed may be faulty though something comes of it: its picture stands still or is black, or its sound is silent, which is seen
// where it is decoded, or its line loses packets again and again. It is told; where the settings say so, another live input takes
// over. One that was taken off the air for a fault comes back by the order of the inputs only after a while, since nobody sees it
// meanwhile.

const (
	// faultShown is after what time a fault is a problem.
	faultShown = 20 * time.Second
	// faultRest is for how long a faulty feed is not preferred, at first; twice as long each further time.
	faultRest = time.Minute
	//limit:how long a faulty feed is not preferred | each channel | it does not grow further
	maxFaultRest = 30 * time.Minute
	// silenceLevel is below what sound is silent, in hundredths of LUFS.
	silenceLevel = -6000
	// lossApart is how long nothing may be lost until the line counts as right again.
	lossApart = 3 * time.Second
)

// Figures are what was measured of the feed on air.
type Figures struct {
	Decoded       bool          // the worker has looked at its video and audio; the next three count only then
	Black, Frozen time.Duration // for how long the picture has been so
	Loudness      *int64        // momentary, in hundredths of LUFS; nil when no sound is decoded
	Lost          int64         // packets that the line has lost so far
	Measured      bool          // Lost is
}

// faults is what is known of a feed's faults.
type faults struct {
	loud         time.Time // when its sound was last heard
	lost         int64
	losingSince  time.Time // when it began to lose again and again
	lostAt       time.Time // when it lost something last
	measured     bool
	avoidedUntil time.Time // it is not preferred before this time
	rest         time.Duration
}

// Fault is one thing that is wrong with a feed.
type Fault struct {
	Lasts time.Duration
	After time.Duration // another input takes over then; 0 never
	Text  string
	Do    string
}

// What to do about what is wrong.
const (
	lookAtCamera = "Check the camera and its encoder."
	lookAtLine   = "Check the connection, or send over SRT with a longer latency."
)

// lossy is for how long the line of a feed has lost packets again and again.
func (f *faults) lossy(now time.Time, lost int64) time.Duration {
	if lost > f.lost && f.measured {
		if now.Sub(f.lostAt) > lossApart {
			f.losingSince = now
		}
		f.lostAt = now
	}
	f.lost, f.measured = lost, true
	if f.lostAt.IsZero() || now.Sub(f.lostAt) > lossApart {
		return 0
	}
	return f.lostAt.Sub(f.losingSince)
}

// Faults lists what is wrong with what a feed shows, of which figures were measured.
func (f *Feed) Faults(m Figures, set settings.Switching, now time.Time) []Fault {
	seconds := func(n int64) time.Duration { return time.Duration(n) * time.Second }
	lossy := Fault{0, seconds(set.LossySeconds), "The line has lost packets again and again", lookAtLine}
	if m.Measured {
		lossy.Lasts = f.faults.lossy(now, m.Lost)
	}
	if !m.Decoded {
		return []Fault{lossy}
	}
	if m.Loudness == nil || *m.Loudness > silenceLevel {
		f.faults.loud = now
	}
	return []Fault{
		lossy,
		{m.Black, seconds(set.BlackSeconds), "The picture has been black", lookAtCamera},
		{m.Frozen, seconds(set.FrozenSeconds), "The picture has not changed", lookAtCamera},
		{now.Sub(f.faults.loud), seconds(set.SilentSeconds), "The sound has been silent", lookAtCamera},
	}
}

// Shown returns the first fault that is to be told, "" when there is none.
func Shown(list []Fault) string {
	for _, f := range list {
		if f.Lasts >= faultShown || f.After > 0 && f.Lasts >= f.After {
			return fmt.Sprintf("%s for %d s. %s", f.Text, int(f.Lasts.Seconds()), f.Do)
		}
	}
	return ""
}

// Avoid lets another live input take over from the feed on air, if that is faulty for so long that the settings say so. It returns
// the fault, nil when nothing changes, and for how long the feed is not preferred.
func (s *Switch) Avoid(list []Fault, now time.Time) (fault *Fault, rest time.Duration, out []Decision) {
	on := s.on
	for i, f := range list {
		if on == nil || f.After == 0 || f.Lasts < f.After || on.Input == s.chosen {
			continue
		}
		best := s.best(now)
		if best == nil {
			return nil, 0, nil
		}
		on.faults.rest = min(max(2*on.faults.rest, faultRest), maxFaultRest)
		on.faults.avoidedUntil = now.Add(on.faults.rest)
		s.exchange(best, "it was faulty", now)
		return &list[i], on.faults.rest, s.takeDecisions()
	}
	return nil, 0, nil
}
