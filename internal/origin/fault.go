package origin

import (
	"fmt"
	"time"

	"metaplasis/internal/events"
)

// A feed may be faulty though something comes of it: its picture stands still or is black, or its sound is silent, which
// is seen where it is decoded, or its line loses packets again and again. It is told; where the settings say so, another live input takes over. One that was taken off
// the air for a fault comes back by the order of the inputs only after a while, since nobody sees it meanwhile.

const (
	// faultShown is after what time a fault is a problem.
	faultShown = 20 * time.Second
	// faultRest is for how long a faulty feed is not preferred, at first; twice as long each further time.
	faultRest = time.Minute
	//limit:rest before a worker is tried again | each channel | it does not grow further
	maxFaultRest = 30 * time.Minute
	// silenceLevel is below what sound is silent, in hundredths of LUFS.
	silenceLevel = -6000
)

// fault is one kind of it.
type fault struct {
	lasts time.Duration
	after time.Duration // another input takes over then; 0 never
	text  string
	do    string
}

// What to do about what is wrong.
const (
	lookAtCamera = "Look at the camera and its encoder."
	lookAtLine   = "Look at the line, or send over SRT with a longer latency."
)

// lossApart is how long nothing may be lost until the line counts as right again.
const lossApart = 3 * time.Second

// losses follows what the line of a feed loses.
type losses struct {
	count    int64
	since    time.Time // when it began to lose again and again
	at       time.Time // when it lost something last
	measured bool
}

// lasts is for how long the line of a feed has lost packets again and again.
func (f *Feed) lossy(now time.Time) time.Duration {
	line := f.line.Load()
	if line == nil {
		return 0
	}
	var count int64
	switch {
	case line.SRT != nil: // what is sent again in time is no loss
		count = line.SRT.Dropped
	case line.RTP != nil:
		count = line.RTP.Lost
	case line.TS != nil:
		count = line.TS.Continuity
	}
	l := &f.losses
	if count > l.count && l.measured {
		if now.Sub(l.at) > lossApart {
			l.since = now
		}
		l.at = now
	}
	l.count, l.measured = count, true
	if l.at.IsZero() || now.Sub(l.at) > lossApart {
		return 0
	}
	return l.at.Sub(l.since)
}

// faults lists what is wrong with what the feed on air shows. It needs the channel's lock.
func (c *Channel) faults() []fault {
	f := c.air.feed
	if f == nil || f.input.Plays() || c.session == nil {
		return nil
	}
	now := c.now()
	seconds := func(n int64) time.Duration { return time.Duration(n) * time.Second }
	lossy := fault{f.lossy(now), seconds(c.settings.LossySeconds), "The line has lost packets again and again", lookAtLine}
	l := c.load.read()
	if !l.known {
		return []fault{lossy}
	}
	if v := l.now.Loudness; v == nil || v.Momentary > silenceLevel {
		f.loud = now
	}
	return []fault{
		lossy,
		{time.Duration(l.now.BlackMillis) * time.Millisecond, seconds(c.settings.BlackSeconds), "The picture has been black", lookAtCamera},
		{time.Duration(l.now.FrozenMillis) * time.Millisecond, seconds(c.settings.FrozenSeconds), "The picture has not changed", lookAtCamera},
		{now.Sub(f.loud), seconds(c.settings.SilentSeconds), "The sound has been silent", lookAtCamera},
	}
}

// faulty returns the first fault that is to be told, "" when there is none. It needs the channel's lock.
func (c *Channel) faulty() string {
	for _, f := range c.faults() {
		if f.lasts >= faultShown || f.after > 0 && f.lasts >= f.after {
			return fmt.Sprintf("%s for %d s. %s", f.text, int(f.lasts.Seconds()), f.do)
		}
	}
	return ""
}

// avoidFaults lets another live input take over from a faulty feed. It needs the channel's lock.
func (c *Channel) avoidFaults() {
	on := c.air.feed
	for _, f := range c.faults() {
		if f.after == 0 || f.lasts < f.after || on.input == c.air.chosen {
			continue
		}
		best := c.bestStandby()
		if best == nil {
			return
		}
		on.rest = min(max(2*on.rest, faultRest), maxFaultRest)
		on.avoidedUntil = c.now().Add(on.rest)
		c.event(events.Warning, "feed-faulty", fmt.Sprintf("%s for %d s, so another input takes over from the %s for %v.", f.text, int(f.lasts.Seconds()), on.words(), on.rest),
			f.do+" Take the input by hand when it is right.")
		c.exchange(best, "it was faulty")
		return
	}
}
