package transcode

import (
	"math"
	"sync"

	"metaplasis/internal/codec/loudness"
)

// Leveled is how loud a rendition of sound is that is brought to a loudness.
type Leveled struct {
	Rendition string `json:"rendition"`
	Target    int    `json:"target"` // LUFS
	Loudness
}

// meter measures how loud sound is, and is read once a second. The zero value is ready; read may be called from any
// goroutine, the others from one.
type meter struct {
	m      *loudness.Meter
	format [2]int // rate and channels
	unread int    // samples of each channel since it was read

	mu     sync.Mutex
	newest *Loudness
}

// add shows samples to the meter.
func (m *meter) add(pcm []int16, rate, channels int) {
	if format := [2]int{rate, channels}; m.format != format {
		m.close()
		m.format = format
		m.m, _ = loudness.New(rate, channels) // without one nothing is told
	}
	if m.m == nil {
		return
	}
	m.m.Add(pcm)
	if m.unread += len(pcm) / channels; m.unread < rate {
		return
	}
	m.unread = 0
	v := m.m.Read()
	hundredths := func(f float64) int64 { return int64(math.Round(f * 100)) }
	m.mu.Lock()
	m.newest = &Loudness{hundredths(v.Momentary), hundredths(v.ShortTerm), hundredths(v.Integrated), hundredths(v.Peak)}
	m.mu.Unlock()
}

// read returns the newest values, nil while there are none.
func (m *meter) read() *Loudness {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.newest
}

func (m *meter) close() {
	if m.m != nil {
		m.m.Close()
	}
	m.m, m.format, m.unread = nil, [2]int{}, 0
	m.mu.Lock()
	m.newest = nil
	m.mu.Unlock()
}
