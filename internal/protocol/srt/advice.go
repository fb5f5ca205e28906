package srt

import (
	"fmt"
	"time"
)

// adviceSpan is over how many seconds loss and round trip are looked at.
const adviceSpan = 60

// loss is what a second tells of a line: counts from the begin on, and the round trip.
type loss struct {
	received, lost int64
	dropped        int64 // of them, those that came too late or never
	rtt            time.Duration
}

// advise recommends a latency. A packet that is lost is sent again after a round trip or so; so many turns make it
// unlikely that it is lost each time: the more, the more the line loses.
func advise(list []loss, latency time.Duration) string {
	if len(list) < 10 {
		return ""
	}
	first, last := list[0], list[len(list)-1]
	received, lost := last.received-first.received, last.lost-first.lost
	if received <= 0 {
		return ""
	}
	var worst time.Duration
	for _, l := range list {
		worst = max(worst, l.rtt)
	}
	thousandths := lost * 1000 / (received + lost)
	turns := time.Duration(3)
	switch {
	case thousandths > 100:
		turns = 7
	case thousandths > 50:
		turns = 6
	case thousandths > 30:
		turns = 5
	case thousandths > 10:
		turns = 4
	}
	wanted := max(turns*worst, 120*time.Millisecond).Round(10 * time.Millisecond)
	line := fmt.Sprintf("The line takes %d ms there and back at most, and loses %d.%d %%.", worst.Milliseconds(), thousandths/10, thousandths%10)
	late := last.dropped - first.dropped
	if late > 0 { // whatever the round trip says, it was too short
		wanted = max(wanted, (latency + latency/2).Round(10*time.Millisecond))
		line += fmt.Sprintf(" In the last minute %d packets did not come in time.", late)
	}
	switch {
	case latency < wanted:
		return fmt.Sprintf("%s The latency of %d ms is short: set the sender to %d ms.", line, latency.Milliseconds(), wanted.Milliseconds())
	case latency > 3*wanted:
		return fmt.Sprintf("%s The latency of %d ms is long: %d ms would do.", line, latency.Milliseconds(), wanted.Milliseconds())
	}
	return fmt.Sprintf("%s The latency of %d ms fits.", line, latency.Milliseconds())
}
