package ts

import (
	"slices"
	"time"

	"metaplasis/internal/core/media"
)

// StreamHealth counts what ETSI TR 101 290, 5.2, asks to watch in its first two priorities, and measures what goes
// with it. Counters only rise; the rest is of the last whole second, or of the longest interval lately.
//
//large:one figure for each measurement of ETSI TR 101 290
type StreamHealth struct {
	// First priority: the stream cannot be read.
	SyncLoss   int64 `json:"syncLoss"`   // 1.1
	SyncByte   int64 `json:"syncByte"`   // 1.2
	PAT        int64 `json:"pat"`        // 1.3: later than 0.5 s, or another table in its place
	Continuity int64 `json:"continuity"` // 1.4
	PMT        int64 `json:"pmt"`        // 1.5: later than 0.5 s
	PID        int64 `json:"pid"`        // 1.6: a track of a programme of which nothing comes
	// Second priority.
	Transport        int64 `json:"transport"`        // 2.1: marked as broken by a receiver before us
	CRC              int64 `json:"crc"`              // 2.2
	PCRRepetition    int64 `json:"pcrRepetition"`    // 2.3a: later than 100 ms
	PCRDiscontinuity int64 `json:"pcrDiscontinuity"` // 2.3b: a jump that is not announced
	PCRAccuracy      int64 `json:"pcrAccuracy"`      // 2.4: more than 500 ns beside the place in the stream
	PTS              int64 `json:"pts"`              // 2.5: later than 700 ms
	CAT              int64 `json:"cat"`              // 2.6: scrambled without a conditional access table

	Bitrate     int64       `json:"bitrate"`     // bits per second
	NullBitrate int64       `json:"nullBitrate"` // of it, stuffing
	PATInterval int64       `json:"patInterval"` // milliseconds, the longest of the last seconds
	PMTInterval int64       `json:"pmtInterval"`
	PCRInterval int64       `json:"pcrInterval"`
	Jitter      int64       `json:"jitter"`   // how far PCRs come from when they are due, at most, in microseconds
	Accuracy    int64       `json:"accuracy"` // how far PCRs lie from their place in the stream, at most, in nanoseconds; -1: not known, the rate varies
	PIDs        []PIDHealth `json:"pids,omitempty"`

	bytes, packets int64
	scrambled      bool
	cat            time.Duration // when it came last
	pat            tableTime
	pmts           map[int]*tableTime
	second         time.Duration // when the second at hand began
	before         time.Duration
	secondBytes    int64
	recent         [spans]span // of the last seconds, the newest first
	tracks         map[int]bool
	clocks         map[int]bool
}

// spans is over how many seconds the longest intervals are told.
const spans = 10

type span struct{ pat, pmt, pcr, jitter, accuracy time.Duration }

type tableTime struct {
	last  time.Duration
	begun bool
	late  bool
}

// PIDHealth is what is measured of one PID.
type PIDHealth struct {
	PID        int    `json:"pid"`
	Label      string `json:"label"`
	Programme  int    `json:"programme,omitempty"`
	Bitrate    int64  `json:"bitrate"` // bits per second
	Continuity int64  `json:"continuity"`
	Scrambled  bool   `json:"scrambled,omitempty"`
}

type pidHealth struct {
	packets    int64
	shown      int64 // packets at the begin of the second
	bitrate    int64
	continuity int64
	scrambled  bool
	last       time.Duration
	missing    bool

	// Of a clock: the newest, when it came, where it lay, and the line that it is measured against.
	pcr      int64
	pcrAt    time.Duration
	pcrPlace int64 // packets of the stream before it
	pcrSet   bool
	even     int   // intervals in a row with one rate
	stride   int64 // ticks of 27 MHz a thousand packets of the stream, of the interval before
	first    int64 // PCR and arrival at the begin of the line
	firstAt  time.Duration
	earliest time.Duration

	pts    time.Duration
	ptsSet bool
}

// Limits of TR 101 290, 5.2.
const (
	tableLimit    = 500 * time.Millisecond
	pcrLimit      = 100 * time.Millisecond
	ptsLimit      = 700 * time.Millisecond
	accuracyLimit = 500 * time.Nanosecond
	pidLimit      = 5 * time.Second // the document leaves it to the user
	// jitterLine is how long a line is that arrivals are measured against: drift over it is no jitter.
	jitterLine = 10 * time.Second
	// constantRate is by how much, in thousandths, the rate may differ between two intervals and count as constant.
	constantRate = 20
	// constantFor is how many intervals in a row have one rate until the stream is taken for one of constant rate.
	constantFor = 20
)

func (h *StreamHealth) begin(now time.Duration) {
	h.before = now
}

// watch notes which PIDs programmes name.
func (h *StreamHealth) watch(list []Programme) {
	tracks, clocks := map[int]bool{}, map[int]bool{}
	pmts := map[int]*tableTime{}
	for _, p := range list {
		for _, t := range p.Tracks {
			tracks[t.PID] = t.Kind == media.Video || t.Kind == media.Audio
		}
		clocks[p.Clock] = true
		if pmts[p.Number] = h.pmts[p.Number]; pmts[p.Number] == nil {
			pmts[p.Number] = &tableTime{}
		}
	}
	h.tracks, h.clocks, h.pmts = tracks, clocks, pmts
}

// table notes that a table came, and returns how long after the one before.
func (h *StreamHealth) table(t *tableTime, now time.Duration) {
	if t.begun {
		h.recent[0].pat = max(h.recent[0].pat, now-t.last)
	}
	t.last, t.begun, t.late = now, true, false
}

func (h *StreamHealth) pmt(number int, now time.Duration) {
	t := h.pmts[number]
	if t == nil {
		return
	}
	if t.begun {
		h.recent[0].pmt = max(h.recent[0].pmt, now-t.last)
	}
	t.last, t.begun, t.late = now, true, false
}

func pcrTime(ticks int64) time.Duration { return media.Duration(ticks, systemClock) }

// clock judges a programme clock reference, in ticks of 27 MHz.
func (h *StreamHealth) clock(pid int, s *pidState, pcr int64, jump bool, now time.Duration) {
	const turn = 300 << 33
	p := &s.health
	if !h.clocks[pid] {
		return
	}
	if p.pcrSet && !jump {
		d := pcr - p.pcr
		if d < -turn/2 {
			d += turn
		}
		h.recent[0].pcr = max(h.recent[0].pcr, now-p.pcrAt)
		switch {
		case d < 0 || pcrTime(d) > pcrLimit && now-p.pcrAt <= pcrLimit:
			h.PCRDiscontinuity++
			p.pcrSet = false
		case pcrTime(d) > pcrLimit:
			h.PCRRepetition++
		}
		if p.pcrSet {
			h.accurate(p, d)
		}
	}
	if !p.pcrSet || jump || now-p.firstAt > jitterLine {
		p.first, p.firstAt, p.earliest, p.stride = pcr, now, 0, 0
		if jump {
			p.stride = 0
		}
	}
	late := now - p.firstAt - pcrTime(pcr-p.first)
	p.earliest = min(p.earliest, late)
	h.recent[0].jitter = max(h.recent[0].jitter, late-p.earliest)
	p.pcr, p.pcrAt, p.pcrPlace, p.pcrSet = pcr, now, h.packets, true
}

// accurate compares an interval of the clock with the one before it by the packets that lie in them, as long as
// the rate of the stream seems to be constant.
func (h *StreamHealth) accurate(p *pidHealth, d int64) {
	places := h.packets - p.pcrPlace
	if places <= 0 {
		return
	}
	stride := d * 1000 / places
	if p.stride == 0 || abs(stride-p.stride)*1000 > p.stride*constantRate {
		p.even = 0
	} else if p.even++; p.even > constantFor {
		off := pcrTime(abs(d - p.stride*places/1000))
		h.recent[0].accuracy = max(h.recent[0].accuracy, off, 1)
		if off > accuracyLimit {
			h.PCRAccuracy++
		}
	}
	p.stride = stride
}

func abs(v int64) int64 { return max(v, -v) }

// stamp notes a presentation time stamp.
func (h *StreamHealth) stamp(s *pidState, now time.Duration) {
	p := &s.health
	if p.ptsSet && now-p.pts > ptsLimit {
		h.PTS++
	}
	p.pts, p.ptsSet = now, true
}

// Look brings the figures up to date, once a second or so: what is missing shows only when time passes. now is the
// time since the stream began.
func (d *Demuxer) Look(now time.Duration) StreamHealth {
	h := &d.Health
	if late := now - h.pat.last; late > tableLimit && !h.pat.late {
		h.pat.late = true
		h.PAT++
	}
	for _, t := range h.pmts {
		if now-t.last > tableLimit && !t.late {
			t.late = true
			h.PMT++
		}
	}
	if h.scrambled && (h.cat == 0 || now-h.cat > pidLimit) {
		h.CAT++
	}
	h.scrambled = false
	passed := now - h.second
	if passed < 500*time.Millisecond {
		return d.health()
	}
	rate := func(n int64) int64 { return int64(float64(n*8) / passed.Seconds()) }
	h.Bitrate = rate(h.bytes - h.secondBytes)
	h.second, h.secondBytes = now, h.bytes
	for number, s := range d.pids {
		if s == nil {
			continue
		}
		p := &s.health
		p.bitrate = rate((p.packets - p.shown) * PacketSize)
		p.shown = p.packets
		if h.tracks[number] {
			if missing := now-p.last > pidLimit; missing && !p.missing {
				h.PID++
				p.missing = true
			} else if !missing {
				p.missing = false
			}
		}
	}
	longest := h.recent[0]
	for _, r := range h.recent {
		longest.pat, longest.pmt, longest.pcr = max(longest.pat, r.pat), max(longest.pmt, r.pmt), max(longest.pcr, r.pcr)
		longest.jitter, longest.accuracy = max(longest.jitter, r.jitter), max(longest.accuracy, r.accuracy)
	}
	h.PATInterval, h.PMTInterval, h.PCRInterval = longest.pat.Milliseconds(), longest.pmt.Milliseconds(), longest.pcr.Milliseconds()
	h.Jitter, h.Accuracy = longest.jitter.Microseconds(), int64(longest.accuracy)
	if longest.accuracy == 0 {
		h.Accuracy = -1
	}
	copy(h.recent[1:], h.recent[:])
	h.recent[0] = span{}
	return d.health()
}

// maxShown is how many PIDs are listed.
//
//limit:packet identifiers (PIDs) that are listed | each stream | further ones are not listed
const maxShown = 200

// health is a copy of the figures that nobody changes any more.
func (d *Demuxer) health() StreamHealth {
	out := d.Health
	out.pmts, out.tracks, out.clocks = nil, nil, nil
	out.PIDs = nil
	for number, s := range d.pids {
		if s == nil || s.health.packets == 0 || len(out.PIDs) >= maxShown {
			continue
		}
		p := PIDHealth{PID: number, Bitrate: s.health.bitrate, Continuity: s.health.continuity, Scrambled: s.health.scrambled}
		p.Label, p.Programme = d.describe(number)
		if number == pidNull {
			out.NullBitrate = p.Bitrate
		}
		out.PIDs = append(out.PIDs, p)
	}
	return out
}

// describe says what a PID carries.
func (d *Demuxer) describe(pid int) (label string, programme int) {
	switch pid {
	case pidPAT:
		return "PAT", 0
	case pidCAT:
		return "CAT", 0
	case pidSDT:
		return "SDT", 0
	case pidNull:
		return "stuffing", 0
	}
	for _, p := range d.programmes {
		if p.PMT == pid {
			return "PMT", p.Number
		}
		if i := slices.IndexFunc(p.Tracks, func(t StreamTrack) bool { return t.PID == pid }); i >= 0 {
			return p.Tracks[i].Label, p.Number
		}
		if p.Clock == pid {
			return "PCR", p.Number
		}
	}
	return "not in any programme", 0
}
