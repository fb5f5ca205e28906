package ts

import (
	"fmt"
	"slices"
	"testing"
	"time"

	"metaplasis/internal/core/bits"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/internal/core/coding"
	"metaplasis/internal/core/media"
)

// taken notes what a demuxer hands over.
type taken struct {
	d          *Demuxer
	programmes []Programme
	pes        map[int][]PES
	sections   [][]byte
	lost       map[int]int
}

func newTaken() *taken {
	t := &taken{pes: map[int][]PES{}, lost: map[int]int{}}
	t.d = NewDemuxer(t)
	return t
}

func (t *taken) Programmes(list []Programme) {
	t.programmes = list
	for _, p := range list {
		for i := range p.Tracks {
			t.d.Follow(&p.Tracks[i])
		}
	}
}
func (t *taken) PES(pid int, p PES)      { t.pes[pid] = append(t.pes[pid], p) }
func (t *taken) Section(_ int, b []byte) { t.sections = append(t.sections, slices.Clone(b)) }
func (t *taken) Lost(pid int)            { t.lost[pid]++ }
func (t *taken) all(b []byte) *taken     { t.d.Write(b, 0); return t }
func (t *taken) labels() (out []string) {
	for _, p := range t.programmes {
		out = append(out, fmt.Sprintf("%d %s", p.Number, p.Name))
		for _, tr := range p.Tracks {
			out = append(out, tr.Label+" "+tr.Language)
		}
	}
	return out
}

var mp3Track = media.Track{ID: 2, Kind: media.Audio, Codec: media.MP3, Language: "deu", Timescale: 48000, Channels: 2}

// twoProgrammes writes so many pictures of two programmes, and their sound, from a time on.
func twoProgrammes(t *testing.T, from int64, pictures int) []byte {
	m := NewMux()
	var video, sound [2]*MuxTrack
	for i := range 2 {
		p := m.Programme(i+1, fmt.Sprintf("Course %d é", i+1))
		var err error
		video[i], err = p.Track(&media.Track{ID: 1, Kind: media.Video, Codec: media.MPEG2})
		require.NoError(t, err)
		sound[i], err = p.Track(&mp3Track)
		require.NoError(t, err)
	}
	for n := range pictures {
		at := from + int64(n)*3000
		for i := range 2 {
			video[i].Unit(at, at+3000, n%10 == 0, slices.Repeat([]byte{byte(n), byte(i)}, 300+100*n))
			sound[i].Unit(at, at, true, slices.Repeat([]byte{byte(n)}, 100))
		}
	}
	return m.Take()
}

func TestProgrammesAreFound(t *testing.T) {
	b := twoProgrammes(t, 90_000, 20)
	want := []string{"1 Course 1 é", "MPEG-2 video ", "MP3 deu", "2 Course 2 é", "MPEG-2 video ", "MP3 deu"}
	for name, form := range map[string][]byte{
		"188 bytes": b, "192 bytes": restride(b, []byte{1, 'G', 3, 4}, nil), "204 bytes": restride(b, nil, make([]byte, 16)),
		"behind noise": append([]byte("no packets GGG at all G"), b...),
	} {
		t.Run(name, func(t *testing.T) {
			for _, piece := range []int{1, 7, 188, 1316, len(form)} {
				got := newTaken()
				for c := range slices.Chunk(form, piece) {
					got.d.Write(c, 0)
				}
				require.Equal(t, want, got.labels(), "in pieces of %d bytes", piece)
				pid := got.programmes[1].Tracks[0].PID
				require.Len(t, got.pes[pid], 20)
				for n, p := range got.pes[pid] {
					assert.Equal(t, slices.Repeat([]byte{byte(n), 1}, 300+100*n), p.Data)
					assert.EqualValues(t, []int64{90_000 + int64(n)*3000, 93_000 + int64(n)*3000}, []int64{p.DTS, p.PTS})
					assert.Equal(t, n%10 == 0, p.Random)
				}
				assert.Zero(t, got.d.Health.Continuity)
				assert.Empty(t, got.lost)
			}
		})
	}
}

// restride puts bytes before and behind each packet.
func restride(b, before, behind []byte) (out []byte) {
	for c := range slices.Chunk(b, PacketSize) {
		out = append(append(append(out, before...), c...), behind...)
	}
	return out
}

func TestTimesWrapAt33Bits(t *testing.T) {
	const turn = 1 << 33
	got := newTaken().all(twoProgrammes(t, turn-30_000, 20))
	list := got.pes[got.programmes[0].Tracks[0].PID]
	require.NotEmpty(t, list)
	assert.EqualValues(t, turn-30_000, list[0].DTS)
	assert.EqualValues(t, 0, list[10].DTS)
	for i := 1; i < len(list); i++ {
		assert.EqualValues(t, 3000, Stamps.Between(list[i-1].DTS, list[i].DTS))
	}
	assert.Zero(t, got.d.Health.PCRDiscontinuity)
}

// TestWhatIsMissingIsCounted takes packets out, doubles one, scrambles one and breaks a table.
func TestWhatIsMissingIsCounted(t *testing.T) {
	b := twoProgrammes(t, 0, 30)
	pid := newTaken().all(b).programmes[0].Tracks[0].PID
	var at []int // packets of the track
	for i := 0; i < len(b); i += PacketSize {
		if int(b[i+1]&0x1f)<<8|int(b[i+2]) == pid && b[i+3]&0x10 != 0 {
			at = append(at, i)
		}
	}
	without := append(slices.Clone(b[:at[20]]), b[at[20]+PacketSize:]...)
	got := newTaken().all(without)
	assert.EqualValues(t, 1, got.d.Health.Continuity)
	assert.Equal(t, 1, got.lost[pid])
	assert.Len(t, got.pes[pid], 29, "of 30")

	double := append(append(slices.Clone(b[:at[20]+PacketSize]), b[at[20]:at[20]+PacketSize]...), b[at[20]+PacketSize:]...)
	got = newTaken().all(double)
	assert.Zero(t, got.d.Health.Continuity, "a packet may come twice")
	assert.Len(t, got.pes[pid], len(newTaken().all(b).pes[pid]))

	scrambled := slices.Clone(b)
	for _, i := range at {
		scrambled[i+3] |= 0x80
	}
	got = newTaken().all(scrambled)
	assert.True(t, got.d.Scrambled(pid))
	assert.Empty(t, got.pes[pid])
	assert.Positive(t, got.d.Look(10*time.Second).CAT, "scrambled without a table that says how")

	broken := slices.Clone(b)
	broken[8] ^= 1 // in the first PAT
	assert.EqualValues(t, 1, newTaken().all(broken).d.Health.CRC)

	got = newTaken().all(append(slices.Clone(b[:40*PacketSize]), append(make([]byte, 1000), b[40*PacketSize:]...)...))
	assert.EqualValues(t, 1, got.d.Health.SyncLoss)
	assert.NotEmpty(t, got.pes[pid])
}

// TestFifteenLostPacketsAreNoRepetition: the packet behind them has the number of the one before, and other bytes.
func TestFifteenLostPacketsAreNoRepetition(t *testing.T) {
	b := twoProgrammes(t, 0, 30)
	pid := newTaken().all(b).programmes[0].Tracks[0].PID
	var out []byte
	seen, left := 0, 0
	for p := range slices.Chunk(b, PacketSize) {
		if int(p[1]&0x1f)<<8|int(p[2]) == pid && p[3]&0x10 != 0 {
			if seen++; seen > 40 && left < 15 {
				left++
				continue
			}
		}
		out = append(out, p...)
	}
	got := newTaken().all(out)
	assert.EqualValues(t, 1, got.d.Health.Continuity)
	assert.Positive(t, got.lost[pid])
	for n, p := range got.pes[pid] {
		assert.Equal(t, slices.Repeat([]byte{p.Data[0], 0}, 300+100*int(p.Data[0])), p.Data, "packet %d is whole", n)
	}
}

// TestPacketsInErrorAreNotUsed: what a receiver flags counts as lost (2.4.3.2).
func TestPacketsInErrorAreNotUsed(t *testing.T) {
	b := twoProgrammes(t, 0, 30)
	pid := newTaken().all(b).programmes[0].Tracks[0].PID
	n := 0
	for p := range slices.Chunk(b, PacketSize) {
		if int(p[1]&0x1f)<<8|int(p[2]) == pid && p[3]&0x10 != 0 {
			if n++; n == 60 {
				p[1] |= 0x80
				p[100] ^= 0xff
			}
		}
	}
	got := newTaken().all(b)
	assert.EqualValues(t, 1, got.d.Health.Transport)
	assert.EqualValues(t, 1, got.d.Health.Continuity)
	assert.Len(t, got.pes[pid], 29, "of 30: the one with the packet is left out")
}

// TestAStrayByteIsSteppedOver: packets that come one at a time are found again behind a byte that is none of theirs.
func TestAStrayByteIsSteppedOver(t *testing.T) {
	b := twoProgrammes(t, 0, 30)
	got := newTaken()
	pid := 0
	for i, p := range slices.Collect(slices.Chunk(b, PacketSize)) {
		if i == 50 {
			got.d.Write([]byte{0}, 0)
		}
		got.d.Write(p, 0)
	}
	pid = got.programmes[0].Tracks[0].PID
	assert.EqualValues(t, 1, got.d.Health.SyncLoss)
	assert.Greater(t, len(got.pes[pid]), 25)
}

// TestAnEncoderThatBeganAnewHasAnotherMap: its map has the version of the one before, and other tracks.
func TestAnEncoderThatBeganAnewHasAnotherMap(t *testing.T) {
	got := newTaken()
	for _, track := range []media.Track{{ID: 1, Kind: media.Video, Codec: media.MPEG2}, mp3Track} {
		m := NewMux()
		tr, err := m.Programme(7, "Harbour").Track(&track)
		require.NoError(t, err)
		tr.Unit(0, 0, true, make([]byte, 400))
		got.all(m.Take())
	}
	assert.Equal(t, []string{"7 Harbour", "MP3 deu"}, got.labels())
}

func TestMapsChange(t *testing.T) {
	m := NewMux()
	p := m.Programme(7, "Harbour")
	video, err := p.Track(&media.Track{ID: 1, Kind: media.Video, Codec: media.MPEG2})
	require.NoError(t, err)
	video.Unit(0, 0, true, make([]byte, 400))
	got := newTaken().all(m.Take())
	assert.Equal(t, []string{"7 Harbour", "MPEG-2 video "}, got.labels())
	_, err = p.Track(&mp3Track)
	require.NoError(t, err)
	cues := p.Cues()
	video.Unit(3000, 3000, false, make([]byte, 400))
	section := []byte{0xfc, 0x30, 4, 1, 2, 3, 4}
	cues.Section(section)
	video.Unit(6000, 6000, false, make([]byte, 1400))
	got.all(m.Take())
	assert.Equal(t, []string{"7 Harbour", "MPEG-2 video ", "MP3 deu", "SCTE 35 "}, got.labels())
	assert.Equal(t, [][]byte{section}, got.sections)
	_, err = p.Track(&media.Track{ID: 3, Kind: media.Video, Codec: media.VP8})
	assert.ErrorContains(t, err, "VP8 is not supported")
}

// TestHealthOfALine sends a stream in time, then leaves tables and clocks out.
func TestHealthOfALine(t *testing.T) {
	b := twoProgrammes(t, 90_000, 120)
	got := newTaken()
	// Each packet comes when its clock says, about.
	perPicture := len(b) / PacketSize / 120
	now := time.Duration(0)
	var h StreamHealth
	n := 0
	for c := range slices.Chunk(b, PacketSize) {
		got.d.Write(c, now)
		if n++; n%perPicture == 0 {
			now += time.Second / 30
			if n%(30*perPicture) == 0 {
				h = got.d.Look(now)
			}
		}
	}
	assert.Zero(t, h.PAT+h.PMT+h.PID+h.Continuity+h.SyncLoss+h.PCRDiscontinuity+h.PTS, "%+v", h)
	assert.InDelta(t, len(b)*8/4, h.Bitrate, float64(len(b))*8)
	assert.LessOrEqual(t, h.PATInterval, int64(250))
	var labels []string
	for _, p := range h.PIDs {
		labels = append(labels, p.Label)
	}
	assert.Subset(t, labels, []string{"PAT", "SDT", "PMT", "MPEG-2 video", "MP3"})
	h = got.d.Look(now + 600*time.Millisecond)
	assert.EqualValues(t, 1, h.PAT)
	assert.EqualValues(t, 2, h.PMT, "one a programme")
	h = got.d.Look(now + 6*time.Second)
	assert.EqualValues(t, 4, h.PID)
	assert.EqualValues(t, 1, h.PAT, "once a gap")
}

// TestCodecsInTransportStreams writes each codec that a line carries, and finds it again.
func TestCodecsInTransportStreams(t *testing.T) {
	for _, c := range []media.Codec{media.MPEG2, media.AC3, media.EAC3, media.MP3, media.Opus} {
		track := media.Track{ID: 1, Kind: coding.Find(c).Kind, Codec: c, Channels: 2, Timescale: 48000}
		m := NewMux()
		tr, err := m.Programme(1, "x").Track(&track)
		require.NoError(t, err)
		tr.Unit(0, 0, true, make([]byte, 50))
		got := newTaken().all(stuffPackets(m.Take(), 7))
		require.NotEmpty(t, got.programmes, c)
		assert.Equal(t, c, got.programmes[0].Tracks[0].Codec)
	}
}

func FuzzDemuxer(f *testing.F) {
	bits.CatchRunaways()
	f.Add([]byte("G"), uint16(3))
	m := NewMux()
	tr, _ := m.Programme(1, "x").Track(&mp3Track)
	for n := range 20 {
		tr.Unit(int64(n)*2000, int64(n)*2000, true, make([]byte, 300))
	}
	f.Add(m.Take(), uint16(500))
	f.Fuzz(func(t *testing.T, b []byte, piece uint16) {
		got := newTaken()
		for c := range slices.Chunk(b, int(piece)+64) {
			got.d.Write(c, time.Duration(len(c))*time.Millisecond)
		}
		got.d.Look(time.Minute)
		total := 0
		for _, list := range got.pes {
			for _, p := range list {
				total += len(p.Data)
			}
		}
		assert.LessOrEqual(t, total, len(b))
	})
}

// BenchmarkDemuxer reads a stream of two programmes, in datagrams.
func BenchmarkDemuxer(b *testing.B) {
	m := NewMux()
	tr, _ := m.Programme(1, "x").Track(&media.Track{ID: 1, Kind: media.Video, Codec: media.MPEG2})
	for n := range 100 {
		tr.Unit(int64(n)*3000, int64(n)*3000, n%30 == 0, make([]byte, 40_000))
	}
	stream := m.Take()
	b.SetBytes(int64(len(stream)))
	for b.Loop() {
		got := newTaken()
		for c := range slices.Chunk(stream, 7*PacketSize) {
			got.d.Write(c, 0)
		}
	}
}
