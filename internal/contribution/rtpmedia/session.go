// Package rtpmedia turns streams of RTP, whatever carries them, into the tracks and access units of a feed.
package rtpmedia

import (
	"slices"
	"sync"
	"time"

	"github.com/pion/rtcp"
	"github.com/pion/rtp"

	"metaplasis/internal/contribution"
	"metaplasis/internal/core/coding"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/rtpmap"
)

// Session is the streams of one sender. Its methods may be called from several goroutines.
type Session struct {
	mu     sync.Mutex
	open   func() (contribution.Feed, error)
	feed   contribution.Feed
	tracks []*Track
	begun  time.Time // when the first packet came
	ready  bool      // the tracks' clocks are set beside each other
	told   bool      // by the sender's own word, not by when they came
	// ahead is how far the sender's wall clock is before ours, when it told it after units had gone on by ours.
	ahead  time.Duration
	early  map[uint32]anchorPoint // what was reported of streams before their first packet, by SSRC
	clock  *time.Duration         // of the sender's streams before ours, of those that have one in common
	err    error
	looked time.Time
	gate   contribution.Opening
	expect int // streams that will be added, as far as is known
}

// clocksWait is for how long a sender is listened to until it has told by RTCP how the clocks of its streams lie to
// each other; one that does not is taken to send at once what belongs together.
const clocksWait = 1200 * time.Millisecond

// NewSession hands what it finds to the feed that open returns once the first unit is there.
func NewSession(open func() (contribution.Feed, error)) *Session { return &Session{open: open} }

// Track is one stream.
//
//large:what SDP says of a track, and the state of its stream in the packets' order
type Track struct {
	s        *Session
	id       media.TrackID
	m        *Media
	queue    *rtpmap.Queue
	requests requests
	form     rtpmap.Depacketizer
	es       *coding.Elementary
	order    *rtpmap.Order
	ordered  bool // parameter sets told the order of pictures, or it is too late for them
	waiting  *opening
	ssrc     uint32
	bound    bool      // to ssrc
	left     bool      // ssrc said that it goes
	heard    time.Time // when a packet of it came last
	other    int64
	stamp    uint32 // the newest timestamp
	whole    int64  // the same, unwrapped
	stamped  bool
	told     *media.Track // waits for the clocks, or for pictures
	arrived  *anchorPoint // when the first packet came, or was to come
	aligned  bool         // arrived is by the answer to PLAY
	report   *anchorPoint // the newest word of the sender
	sent     bool         // the track was handed to the feed

	received contribution.Socket // figures of the socket that it comes over, if it has one of its own

	key     func()
	damaged bool // a picture was lost since the last keyframe
	asked   time.Time
}

type anchorPoint struct {
	stamp uint32
	at    time.Time
}

// maxEarly is of how many streams reports are kept before their first packet.
//
//limit:streams whose reports come before their first packet | each session | further reports are dropped
const maxEarly = 16

// ssrcSilence is how long nothing may come of a stream until packets with another SSRC are taken for it: packets of
// others beside it change nothing.
const ssrcSilence = 400 * time.Millisecond

// keyframeEach is how often a keyframe may be asked for.
const keyframeEach = 500 * time.Millisecond

// Add adds a stream as its description says. wait is for how long a missing packet is waited for.
func (s *Session) Add(m *Media, wait time.Duration) (*Track, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if err := m.Format.Check(); err != nil {
		return nil, err
	}
	form, err := rtpmap.New(&m.Format)
	if err != nil {
		return nil, err
	}
	t := &Track{s: s, id: media.TrackID(len(s.tracks) + 1), m: m, queue: rtpmap.NewQueue(m.Format.Clock, wait), form: form}
	es, err := coding.OpenElementary(m.Codec, m.Config, t)
	if err != nil {
		return nil, err
	}
	t.es = es
	if m.Codec.Kind == media.Video {
		t.order = &rtpmap.Order{}
		s.gate.Pictures = true
	}
	s.tracks = append(s.tracks, t)
	return t, nil
}

// Expect says how many streams will be added, and whether pictures are among them.
func (s *Session) Expect(streams int, pictures bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.expect, s.gate.Pictures = streams, pictures
}

// Feed is the one that takes the session, nil before it.
func (s *Session) Feed() contribution.Feed {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.feed
}

// Use gives the session its feed before anything comes.
func (s *Session) Use(f contribution.Feed) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.feed = f
}

// fault ends the feed, since nothing more is read of a stream of it.
func (s *Session) fault(err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.err == nil {
		s.err = err
	}
	if s.feed != nil {
		s.feed.End(err.Error())
	}
}

// Err is why no feed could be opened, nil while there was no reason.
func (s *Session) Err() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.err
}

// RTP takes a packet of the stream. Its payload is the session's from now on.
func (t *Track) RTP(p *rtp.Packet, now time.Time) {
	s := t.s
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.begun.IsZero() {
		s.begun, s.gate.Begun = now, now
	}
	if t.m.PayloadType >= 0 && p.PayloadType != uint8(t.m.PayloadType) {
		t.other++
		return
	}
	if !t.bound {
		t.ssrc, t.bound = p.SSRC, true
	} else if p.SSRC != t.ssrc {
		if !t.left && now.Sub(t.heard) <= ssrcSilence {
			t.other++
			return
		}
		t.another(p, now)
	}
	t.heard = now
	if t.arrived == nil {
		t.arrived = &anchorPoint{p.Timestamp, now}
		if t.m.Direct {
			t.arrived.at, t.aligned = s.onSharedClock(t.m, p.Timestamp, now), true
		}
	}
	if a, ok := s.early[t.ssrc]; ok {
		t.report = &a
		delete(s.early, t.ssrc)
	}
	q := &rtpmap.Packet{Sequence: p.SequenceNumber, Timestamp: p.Timestamp, Marker: p.Marker, Payload: p.Payload}
	t.queue.Put(q, now.Sub(s.begun), t.packet)
	s.clocks(now)
}

// another goes on with another SSRC (RFC 3550, 8.2): its packets and its clock count from anywhere. The stream's line goes on by the
// time that has passed, until the sender tells where it is.
func (t *Track) another(p *rtp.Packet, now time.Time) {
	t.queue.Restart(t.packet)
	t.es.Lost()
	if form, err := rtpmap.New(&t.m.Format); err == nil {
		t.form = form
	}
	t.ssrc, t.report, t.left = p.SSRC, nil, false
	if t.stamped {
		t.stamp = p.Timestamp - uint32(media.Ticks(now.Sub(t.heard), t.m.Format.Clock))
	}
	if t.arrived != nil {
		t.arrived = &anchorPoint{p.Timestamp, now}
	}
	t.damaged = t.order != nil
	t.want(now)
}

// Bye says that a source has left (RFC 3550, 6.6): packets of another one are taken for its stream at once.
func (s *Session) Bye(sources []uint32) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, t := range s.tracks {
		if t.bound && slices.Contains(sources, t.ssrc) {
			t.left = true
		}
	}
}

// Look gives up what was waited for, and measures. It is to be called some times per second.
func (s *Session) Look(now time.Time) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, t := range s.tracks {
		t.queue.Look(now.Sub(s.begun), t.packet)
		t.want(now)
	}
	if s.feed == nil || now.Sub(s.looked) < time.Second {
		return
	}
	s.looked = now
	var sum contribution.RTP
	for _, t := range s.tracks {
		q := t.queue
		sum.Packets, sum.Lost, sum.Late, sum.Reordered = sum.Packets+q.Packets, sum.Lost+q.Lost, sum.Late+q.Late, sum.Reordered+q.Reordered
		sum.Jitter, sum.Other = max(sum.Jitter, q.JitterMicros()), sum.Other+t.other
	}
	line := contribution.Line{RTP: &sum}
	for _, t := range s.tracks {
		if t.received.Buffer > 0 {
			if line.Socket == nil {
				line.Socket = &contribution.Socket{}
			}
			line.Socket.Packets += t.received.Packets
			line.Socket.Overruns += t.received.Overruns
			line.Socket.Buffer = max(line.Socket.Buffer, t.received.Buffer)
		}
	}
	s.feed.Line(line)
}

func (t *Track) socket(of contribution.Socket) {
	t.s.mu.Lock()
	defer t.s.mu.Unlock()
	t.received = of
}

// onSharedClock is the time of a stamp whose clock is that of all streams of the sender (RFC 7273, 5.2), as near to the time at
// which the first of them came as the turns of 32 bits let it be.
func (s *Session) onSharedClock(m *Media, stamp uint32, now time.Time) time.Time {
	turn := time.Duration(float64(1<<32) / float64(m.Format.Clock) * float64(time.Second))
	phase := time.Duration(media.Rescale(int64(stamp-m.Offset), m.Format.Clock, int64(time.Second)))
	near := func(at time.Duration) time.Duration { // the time with that phase
		d := (at - phase) % turn
		if d > turn/2 {
			d -= turn
		} else if d < -turn/2 {
			d += turn
		}
		return at - d
	}
	at := now.Sub(time.Unix(0, 0))
	if s.clock == nil {
		off := near(at) - at
		s.clock = &off
	}
	return time.Unix(0, 0).Add(near(at+*s.clock) - *s.clock)
}

// want asks for a keyframe when pictures are damaged, once in a while.
func (t *Track) want(now time.Time) {
	if t.damaged && t.key != nil && now.Sub(t.asked) >= keyframeEach {
		t.asked = now
		t.key()
	}
}

// SetKey says how a keyframe is asked for, which is done when packets of pictures are missing.
func (t *Track) SetKey(ask func()) {
	t.s.mu.Lock()
	defer t.s.mu.Unlock()
	t.key = ask
}

// ReceiverReport writes one for the stream (RFC 3550, 6.4.2).
func (t *Track) ReceiverReport() ([]byte, error) {
	t.s.mu.Lock()
	defer t.s.mu.Unlock()
	r := &rtcp.ReceiverReport{SSRC: 1}
	if t.bound {
		q := t.queue
		r.Reports = []rtcp.ReceptionReport{{SSRC: t.ssrc, TotalLost: uint32(min(q.Lost, 1<<23-1)), LastSequenceNumber: uint32(q.Newest()), Jitter: uint32(q.Jitter >> 4)}}
	}
	return r.Marshal()
}

// Report takes what the sender says of its clocks (RFC 3550, 6.4.1).
func (s *Session) Report(r *rtcp.SenderReport) {
	s.mu.Lock()
	defer s.mu.Unlock()
	said, found := anchorPoint{r.RTPTime, ntp(r.NTPTime)}, false
	for _, t := range s.tracks {
		if t.bound && t.ssrc == r.SSRC {
			t.report, found = &said, true
			s.reported(t)
		}
	}
	if !found && len(s.early) < maxEarly {
		if s.early == nil {
			s.early = map[uint32]anchorPoint{}
		}
		s.early[r.SSRC] = said
	}
	s.clocks(time.Now())
}

// reported hands on what the sender said of a stream whose units go on already. When they went on by their arrival, the
// line of the pictures stays where it is once all streams are reported, and the others are set beside it.
func (s *Session) reported(t *Track) {
	if !s.ready || s.feed == nil || len(s.tracks) < 2 {
		return
	}
	if s.told {
		if t.sent {
			s.feed.Anchor(t.id, t.ticks(t.near(t.report.stamp)), t.report.at.Add(-s.ahead))
		}
		return
	}
	stays := s.tracks[0]
	for _, o := range s.tracks {
		if o.report == nil || o.arrived == nil || !o.sent {
			return
		}
		if o.order != nil {
			stays = o
		}
	}
	passed := media.Duration(stays.near(stays.report.stamp)-stays.near(stays.arrived.stamp), int64(stays.m.Format.Clock))
	s.told, s.ahead = true, stays.report.at.Sub(stays.arrived.at.Add(passed))
	for _, o := range s.tracks {
		s.feed.Anchor(o.id, o.ticks(o.near(o.report.stamp)), o.report.at.Add(-s.ahead))
	}
}

// ntp converts a time of NTP (RFC 5905, 6): seconds since 1900 in 32 bits, and a fraction.
func ntp(v uint64) time.Time {
	const since1900 = 2208988800
	return time.Unix(int64(v>>32)-since1900, int64((v&0xffffffff)*1_000_000_000>>32))
}

// Align says at which time of its clock each stream is at one moment, as an answer to PLAY tells (RFC 2326, 12.33).
func (t *Track) Align(stamp uint32, at time.Time) {
	t.s.mu.Lock()
	defer t.s.mu.Unlock()
	t.arrived, t.aligned = &anchorPoint{stamp, at}, true
}

// clocks reports whether units may go on: the clocks are known, or were waited for.
func (s *Session) clocks(now time.Time) bool {
	if s.ready {
		return true
	}
	known, aligned := 0, 0
	for _, t := range s.tracks {
		if t.report != nil {
			known++
		}
		if t.aligned {
			aligned++
		}
	}
	all := max(len(s.tracks), s.expect)
	s.told = known == all // by their arrival all of them, or none
	s.ready = all == 1 || s.told || aligned == all || !s.begun.IsZero() && now.Sub(s.begun) >= clocksWait
	if s.ready {
		for _, t := range s.tracks { // what came meanwhile began without a keyframe, as far as anybody knows
			if t.order != nil && t.key != nil {
				t.damaged = true
				t.want(now)
			}
		}
	}
	return s.ready
}

func (t *Track) packet(p *rtpmap.Packet, lost int) {
	if lost > 0 {
		t.es.Lost()
		if t.order != nil {
			t.damaged = true
		}
	}
	t.form.Packet(p, lost > 0, t.unit)
}

// unit takes what a depacketizer put together.
func (t *Track) unit(u rtpmap.Unit) {
	pts := t.ticks(t.unwrap(u.Timestamp))
	if t.order != nil && !t.ordered {
		depth, period, known := coding.Reordering(t.m.Codec, t.m.Config, u.Data)
		if known {
			t.order.Expect(depth, period)
		}
		t.ordered = known || t.sent
		if known && depth > 0 && period == 0 {
			t.waiting = &opening{depth: depth}
		}
	}
	if w := t.waiting; w != nil {
		if w.add(pts, u.Data) {
			return
		}
		t.waiting = nil
		t.order.Expect(w.depth, w.period())
		for i, data := range w.pictures {
			t.feed(w.times[i], data)
		}
		return
	}
	t.feed(pts, u.Data)
}

func (t *Track) feed(pts int64, data []byte) {
	dts := pts
	if t.order != nil {
		dts = t.order.Decode(pts)
	}
	const turn = 1<<33 - 1
	if err := t.es.Feed(dts&turn, pts-dts, data); err != nil {
		t.s.err = err
	}
}

// unwrap extends a timestamp to 64 bits.
func (t *Track) unwrap(v uint32) int64 {
	if !t.stamped {
		t.stamped, t.whole = true, int64(v)
	} else {
		t.whole += int64(int32(v - t.stamp))
	}
	t.stamp = v
	return t.whole
}

// near is the same without moving on.
func (t *Track) near(v uint32) int64 {
	if !t.stamped {
		return int64(v)
	}
	return t.whole + int64(int32(v-t.stamp))
}

// ticks converts a timestamp to ticks of media.VideoTimescale.
func (t *Track) ticks(v int64) int64 {
	return media.Rescale(v, t.m.Format.Clock, media.VideoTimescale)
}

// Track implements coding.ElementarySink.
func (t *Track) Track(m media.Track) {
	m.ID, m.Language = t.id, t.m.Language
	t.told = &m
	t.hand(time.Now())
}

// hand gives the track to the feed once it may.
func (t *Track) hand(now time.Time) bool {
	s := t.s
	if t.told == nil {
		return t.sent
	}
	if !s.clocks(now) || s.gate.Holds(t.told.Kind, now) {
		return false
	}
	if s.feed == nil {
		feed, err := s.open()
		if err != nil {
			s.err = err
			return false
		}
		s.feed = feed
	}
	m := *t.told
	t.told = nil
	s.feed.Track(m)
	t.sent = true
	from := t.arrived
	if s.told && t.report != nil {
		from = &anchorPoint{t.report.stamp, t.report.at.Add(-s.ahead)}
	}
	if from != nil && len(s.tracks) > 1 {
		s.feed.Anchor(t.id, t.ticks(t.near(from.stamp)), from.at)
	}
	return true
}

// Unit implements coding.ElementarySink.
func (t *Track) Unit(stamp, composition int64, key bool, data []byte) {
	if t.order != nil && key {
		t.damaged = false
	}
	if t.hand(time.Now()) {
		t.s.feed.Unit(t.id, stamp, composition, key, data)
	}
}
