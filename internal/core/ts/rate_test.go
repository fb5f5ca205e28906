package ts

import (
	"encoding/binary"
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/internal/core/media"
)

// rates are what a decoder would see of a stream of constant rate, read from its packets alone.
type rates struct {
	clocks   map[int][]int64 // of a PID: position in bits of the byte with the clock's last bit, and the clock, in turn
	tables   map[int][]int64 // positions of PAT, SDT and PMT
	payloads map[int][]ratePacket
	counters map[int]byte
	wrong    []string
	packets  int
	nulls    int
}

type ratePacket struct {
	at    int64 // position in bits
	start bool
	size  int // of the payload
	dts   int64
}

func readRates(b []byte) *rates {
	r := &rates{clocks: map[int][]int64{}, tables: map[int][]int64{}, payloads: map[int][]ratePacket{}, counters: map[int]byte{}}
	for at := 0; at+PacketSize <= len(b); at += PacketSize {
		p := b[at : at+PacketSize]
		r.packets++
		if p[0] != syncByte {
			r.wrong = append(r.wrong, fmt.Sprintf("no sync byte at %d", at))
			return r
		}
		pid := int(p[1]&0x1f)<<8 | int(p[2])
		start, form := p[1]&0x40 != 0, p[3]>>4&3
		if pid == 0x1fff {
			r.nulls++
			continue
		}
		if form&1 != 0 {
			if last, ok := r.counters[pid]; ok && p[3]&15 != (last+1)&15 {
				r.wrong = append(r.wrong, fmt.Sprintf("counter of PID %d: %d behind %d", pid, p[3]&15, last))
			}
			r.counters[pid] = p[3] & 15
		}
		body := p[4:]
		if form&2 != 0 {
			n := int(body[0])
			if n >= 7 && body[1]&0x10 != 0 {
				base := int64(body[2])<<25 | int64(body[3])<<17 | int64(body[4])<<9 | int64(body[5])<<1 | int64(body[6])>>7
				r.clocks[pid] = append(r.clocks[pid], int64(at+10)*8, base*300+int64(body[6]&1)<<8+int64(body[7]))
			}
			body = body[1+n:]
		}
		if form&1 == 0 {
			continue
		}
		if pid == 0 || pid == 0x11 || pid&0xf == 0 {
			if start {
				r.tables[pid] = append(r.tables[pid], int64(at)*8)
			}
			continue
		}
		one := ratePacket{at: int64(at+PacketSize) * 8, start: start, size: len(body)}
		if start {
			one.dts = rateStamp(body[9:])
			if body[7]&0x40 != 0 {
				one.dts = rateStamp(body[14:])
			}
		}
		r.payloads[pid] = append(r.payloads[pid], one)
	}
	return r
}

func rateStamp(b []byte) int64 {
	return int64(b[0]>>1&7)<<30 | int64(binary.BigEndian.Uint16(b[1:])>>1)<<15 | int64(binary.BigEndian.Uint16(b[3:])>>1)
}

// TestConstantRate: clocks lie where they say, come often enough, and so do tables; what is decoded has come before, and no
// buffer of a decoder runs over.
func TestConstantRate(t *testing.T) {
	for _, rate := range []int64{2_500_000, 6_000_000, 18_123_457} {
		t.Run(fmt.Sprint(rate), func(t *testing.T) {
			m := NewMux()
			m.SetRate(rate)
			p := m.Programme(1, "Start line")
			video, err := p.Track(&media.Track{ID: 1, Kind: media.Video, Codec: media.MPEG2, Timescale: media.VideoTimescale})
			require.NoError(t, err)
			sound, err := p.Track(&media.Track{ID: 2, Kind: media.Audio, Codec: media.MP2, Timescale: 48000, SampleRate: 48000, Channels: 2})
			require.NoError(t, err)
			const seconds = 20
			var out []byte
			nextSound, begin := int64(0), int64(10*media.VideoTimescale)
			for i := range int64(seconds * 25) {
				at := begin + i*3600
				size := 6_000
				if i%50 == 0 {
					size = 60_000
				}
				video.Unit(at, at+3600, i%50 == 0, make([]byte, size))
				for ; nextSound*1152*15/8 < i*3600+3600; nextSound++ {
					sound.Unit(begin+nextSound*1152*15/8, begin+nextSound*1152*15/8, true, make([]byte, 480))
				}
				// What comes is sent by the clock that runs with it.
				out = append(out, m.Fill((at-m.Delay+3600)*ticksEach)...)
			}
			nulls, late, ok := m.Rated()
			require.True(t, ok)
			assert.Zero(t, late, "units that were not whole in time")
			r := readRates(out)
			require.Empty(t, r.wrong)
			assert.EqualValues(t, r.nulls, nulls)
			assert.InDelta(t, float64(rate)*seconds, float64(len(out)*8), float64(rate)/10, "bits in all")
			clocks := r.clocks[video.pid]
			require.Greater(t, len(clocks), 2*seconds*25)
			for i := 2; i < len(clocks); i += 2 {
				bits, ticks := clocks[i]-clocks[0], clocks[i+1]-clocks[1]
				beside := ticks - bits*systemClock/rate
				require.LessOrEqual(t, max(beside, -beside), int64(13), "clock %d: ticks beside its place, 500 ns are 13.5", i/2)
				require.LessOrEqual(t, clocks[i+1]-clocks[i-1], int64(40*systemClock/1000), "between two clocks")
			}
			for _, pid := range []int{0, 0x11, p.pmt()} {
				list := r.tables[pid]
				require.NotEmpty(t, list, "table %#x", pid)
				for i := 1; i < len(list); i++ {
					require.LessOrEqual(t, (list[i]-list[i-1])*1000/rate, int64(100), "milliseconds between two tables %#x", pid)
				}
			}
			clockAt := func(bits int64) int64 { return clocks[1] + (bits-clocks[0])*systemClock/rate }
			for pid, most := range map[int]int{sound.pid: soundBuffer, video.pid: int(rate) / 8} {
				decoderHolds(t, pid, r.payloads[pid], clockAt, most)
			}
		})
	}
}

// decoderHolds follows the buffer of a stream: bytes enter with their packets and leave when their unit is decoded.
func decoderHolds(t *testing.T, pid int, list []ratePacket, clockAt func(bits int64) int64, most int) {
	t.Helper()
	var waiting []ratePacket
	held, deepest, tank, at := 0, 0, 0.0, int64(0)
	dts := int64(0)
	leaks := float64(soundLeak)
	if most != soundBuffer {
		leaks = max(float64(most)*8*6/5, leastVideoLeak)
	}
	for _, p := range list {
		now := clockAt(p.at)
		tank = max(0, tank-float64(now-at)*leaks/8/systemClock) + PacketSize
		at = now
		require.LessOrEqual(t, tank, float64(transportBuffer)+1, "transport buffer of PID %#x", pid)
		if p.start {
			dts = p.dts * ticksEach
		}
		require.LessOrEqual(t, now, dts, "PID %#x: a packet came behind the time when its unit is decoded", pid)
		require.LessOrEqual(t, dts-now, int64(systemClock), "PID %#x: no more than a second ahead", pid)
		for len(waiting) > 0 && waiting[0].dts <= now {
			held -= waiting[0].size
			waiting = waiting[1:]
		}
		held += p.size
		waiting = append(waiting, ratePacket{dts: dts, size: p.size})
		deepest = max(deepest, held)
	}
	assert.LessOrEqual(t, deepest, most, "buffer of PID %#x", pid)
}

// TestTheRateIsHeldThroughJumps: a jump of the sender's time is announced, and the stream goes on.
func TestTheRateIsHeldThroughJumps(t *testing.T) {
	m := NewMux()
	m.SetRate(3_000_000)
	p := m.Programme(7, "Harbour")
	video, err := p.Track(&media.Track{ID: 1, Kind: media.Video, Codec: media.MPEG2, Timescale: media.VideoTimescale})
	require.NoError(t, err)
	var out []byte
	feed := func(from int64) {
		for i := range int64(50) {
			at := from + i*3600
			video.Unit(at, at, i == 0, make([]byte, 3000))
			out = append(out, m.Fill((at-m.Delay+3600)*ticksEach)...)
		}
	}
	feed(10 * media.VideoTimescale)
	before := len(out)
	feed(500 * media.VideoTimescale)
	r := readRates(out)
	assert.Empty(t, r.wrong)
	_, late, _ := m.Rated()
	assert.Zero(t, late)
	announced := false
	for at := before - 40*PacketSize; at < len(out); at += PacketSize {
		q := out[at : at+PacketSize]
		announced = announced || q[3]&0x20 != 0 && q[4] > 0 && q[5]&0x90 == 0x90
	}
	assert.True(t, announced, "the jump of the clock is announced")
	assert.Greater(t, len(out)-before, 100*PacketSize)
}

// TestSlotsOfManyDays finds the time of slots of a rate that has been held for weeks.
func TestSlotsOfManyDays(t *testing.T) {
	for _, rate := range []int64{100_000, 10_000_000, 200_000_000} {
		r := rated{rate: rate}
		for _, day := range []int64{1, 11, 60, 4000} {
			r.slot = day * 86400 * rate / (PacketSize * 8)
			assert.InDelta(t, float64(day*86400*systemClock), float64(r.time()), float64(PacketSize*8*systemClock/rate+1), "%d bit/s, day %d", rate, day)
		}
	}
}
