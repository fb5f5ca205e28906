package ladder

// Limits are what an encoder keeps to so that a rung's segments do.
type Limits struct {
	Bitrate int64 // bits per second on average
	Rate    int64 // bits per second at which the decoder's buffer fills
	Buffer  int   // milliseconds of Rate
}

const (
	shortestBuffer = 100 // milliseconds
	// boxes is what the container adds at most, bits per second, of parts of a fifth of a second.
	boxes = 12_000
)

// Limits returns what the rung's encoder keeps to so that no segment of a length in milliseconds takes more than the
// peak. A segment may hold what comes at the rate in its time, and a whole buffer beside; so the rate is as much below
// the peak, and where that is less than the bitrate the buffer is shorter than was asked for.
func (r Rung) Limits(segmentMillis int64) Limits {
	r = r.WithDefaults()
	peak := r.Peak - min(boxes, r.Peak/10)
	l := Limits{r.Bitrate, peak * segmentMillis / (segmentMillis + int64(r.Buffer)), r.Buffer}
	if l.Rate >= l.Bitrate {
		return l
	}
	l.Buffer = int(max(segmentMillis*(peak-l.Bitrate)/l.Bitrate, shortestBuffer))
	l.Rate = peak * segmentMillis / (segmentMillis + int64(l.Buffer))
	l.Bitrate = min(l.Bitrate, l.Rate)
	return l
}

// memoryOf is the most that a channel's media can hold, in bytes: for each rendition the retained
// segments and the open one at the peak bitrate, and the feed's backlog.
func memoryOf(rungs []Rung, sourceBitrate, stepMillis int64, retained int, backlog int64) int64 {
	total := backlog
	audio := map[string]bool{}
	for _, r := range rungs {
		if !r.On {
			continue
		}
		r = r.WithDefaults()
		bits := sourceBitrate
		if !r.Source {
			bits = r.Most()
		}
		total += bits / 8 * stepMillis / 1000 * int64(retained+1)
		if name := r.AudioName(); !audio[name] {
			audio[name] = true
			total += max(r.AudioBitrate, maxAudio) / 8 * stepMillis / 1000 * int64(retained+1)
		}
	}
	return total
}
