package feeds

import (
	"bytes"
	"math/rand"

	"metaplasis/internal/core/avc"
	"metaplasis/internal/core/flv"
	"metaplasis/internal/core/media"
)

func fps(num, den int64) media.Rational { return media.Rational{Num: num, Den: den} }

var usual = fps(30, 1)

// Kinds are all of them.
func Kinds() []Kind {
	var out []Kind
	// Rates.
	for _, r := range []struct {
		name     string
		num, den int64
	}{
		{"10 fps", 10, 1}, {"12 fps", 12, 1}, {"15 fps", 15, 1}, {"20 fps", 20, 1}, {"23.976 fps", 24000, 1001}, {"24 fps", 24, 1}, {"25 fps", 25, 1},
		{"29.97 fps", 30000, 1001}, {"30 fps", 30, 1}, {"48 fps", 48, 1}, {"50 fps", 50, 1}, {"59.94 fps", 60000, 1001}, {"60 fps", 60, 1},
	} {
		out = append(out, Kind{Name: r.name, Rate: fps(r.num, r.den)})
	}
	out = append(out,
		// Rates that vary.
		Kind{Name: "rate of a phone", Rate: usual, Durations: []int64{33, 34, 31, 36, 33, 30, 37, 33}, Key: 60},
		Kind{Name: "rate between 20 and 60", Rate: usual, Durations: []int64{17, 50, 33, 20, 45, 17, 33}, Key: 60},
		// Parts are planned for the rate that it begins with, so that some are too short or too long behind.
		Kind{Name: "rate that halves", Rate: usual, Durations: halves(), Key: 30, MayBreak: true},
		Kind{Name: "announced as 60, is 24", Rate: fps(24, 1), Change: func(f *Feed) { f.Kind.Rate = fps(60, 1) }},
		// Structures.
		Kind{Name: "baseline", Rate: usual, Profile: "baseline"},
		Kind{Name: "main with two B-frames", Rate: usual, Profile: "main", Options: [][2]string{{"bframes", "2"}, {"b-adapt", "0"}}},
		Kind{Name: "high with a pyramid", Rate: usual, Profile: "high", Options: [][2]string{{"bframes", "3"}, {"b-adapt", "0"}, {"b-pyramid", "normal"}}},
		Kind{Name: "four slices a picture", Rate: usual, Options: [][2]string{{"slices", "4"}}},
		Kind{Name: "periodic intra refresh", Rate: usual, Key: 600, Options: [][2]string{{"intra-refresh", "1"}, {"keyint", "30"}}, Rung: "low", Expect: "source-without-idr", Seconds: 40},
		Kind{Name: "open GOP", Rate: usual, Key: 60, Options: [][2]string{{"open-gop", "1"}, {"bframes", "2"}, {"b-adapt", "0"}}, Rung: "low", Expect: "source-without-idr"},
		Kind{Name: "keyframes four seconds apart", Rate: usual, Key: 120},
		Kind{Name: "keyframes each half second", Rate: usual, Key: 15},
		Kind{Name: "keyframes without a rhythm", Rate: usual, Options: [][2]string{{"keyint", "60"}, {"min-keyint", "10"}, {"scenecut", "60"}}},
		Kind{Name: "lossless", Rate: usual, Options: [][2]string{{"qp", "0"}}, Profile: "high444", Silent: true},
		Kind{Name: "portrait", Rate: usual, Width: 180, Height: 320, Unread: true},
		Kind{Name: "odd sides", Rate: usual, Width: 322, Height: 186},
		Kind{Name: "wide samples", Rate: usual, Width: 240, Height: 180, Options: [][2]string{{"sar", "4:3"}}},
		Kind{Name: "full range", Rate: usual, Options: [][2]string{{"fullrange", "on"}, {"colormatrix", "bt709"}, {"colorprim", "bt709"}, {"transfer", "bt709"}}},
		Kind{Name: "standard definition's colours", Rate: usual, Options: [][2]string{{"colormatrix", "smpte170m"}, {"colorprim", "smpte170m"}, {"transfer", "smpte170m"}}},
		// Timestamps.
		Kind{Name: "stamps that jitter by 12 ms", Rate: usual, Change: jitter(12)},
		Kind{Name: "composition below zero", Rate: usual, Profile: "main", Options: [][2]string{{"bframes", "2"}, {"b-adapt", "0"}}, Change: belowZero},
		Kind{Name: "stamps that wrap", Rate: usual, Change: shiftStamps(1<<32 - 3000)},
		Kind{Name: "stamps beyond 24 bits", Rate: usual, Change: shiftStamps(1<<24 - 3000)},
		Kind{Name: "stamps that go back by 3 s", Rate: usual, Change: goBack(3000), Expect: "timestamps-jumped"},
		Kind{Name: "stamps that leap by 5 s", Rate: usual, Change: goBack(-5000), Expect: "timestamps-jumped"},
		Kind{Name: "sound 300 ms later", Rate: usual, Change: soundLater(300)},
		Kind{Name: "sound 300 ms earlier", Rate: usual, Change: soundLater(-300)},
		// Interleavings.
		Kind{Name: "sound in bursts", Rate: usual, Change: bursts(flv.TagAudio, 500)},
		Kind{Name: "pictures in bursts", Rate: usual, Change: bursts(flv.TagVideo, 250)},
		Kind{Name: "pictures that are missing", Rate: usual, Profile: "baseline", Change: withoutLast},
		// Headers.
		Kind{Name: "parameter sets in band", Rate: usual, Change: setsInBand},
		Kind{Name: "configuration each 2 s", Rate: usual, Change: configAgain(false)},
		Kind{Name: "configuration that differs each 2 s", Rate: usual, Change: configAgain(true)},
		Kind{Name: "delimiters and filler", Rate: usual, Options: [][2]string{{"aud", "1"}}, Change: filler},
		Kind{Name: "lengths of two bytes", Rate: usual, Change: shortLengths},
		Kind{Name: "the enhanced form", Rate: usual, Change: enhanced},
		Kind{Name: "stamps with nanoseconds", Rate: fps(60000, 1001), Change: nanoseconds},
		Kind{Name: "no metadata", Rate: usual, NoMetadata: true},
		Kind{Name: "a query behind the key", Rate: usual, Query: "?tune=zero"},
		// Sound.
		Kind{Name: "44.1 kHz", Rate: usual, SampleRate: 44100},
		Kind{Name: "22.05 kHz, mono", Rate: usual, SampleRate: 22050, Channels: 1},
		Kind{Name: "no sound", Rate: usual, SampleRate: -1},
	)
	return out
}

func halves() (out []int64) {
	for range 60 {
		out = append(out, 33)
	}
	for range 30 {
		out = append(out, 66)
	}
	return out
}

func jitter(by int64) func(*Feed) {
	return func(f *Feed) {
		random := rand.New(rand.NewSource(1))
		last := int64(-1)
		for _, i := range f.video() {
			m := &f.Media[i]
			m.Stamp = max(m.Stamp+random.Int63n(2*by+1)-by+by, last+1)
			last = m.Stamp
		}
	}
}

// belowZero says that pictures are decoded later than they are, so that some are presented before.
func belowZero(f *Feed) {
	shift := int32(f.body(f.video()[0]).Composition)
	for _, i := range f.video() {
		v := f.body(i)
		v.Composition -= shift
		f.Media[i].Body = v.Marshal()
		f.Media[i].Stamp += int64(shift)
	}
}

func shiftStamps(by int64) func(*Feed) {
	return func(f *Feed) {
		for i := range f.Media {
			f.Media[i].Stamp += by
		}
		for i := range f.Configs {
			f.Configs[i].Stamp += by
		}
	}
}

// goBack lets all stamps behind the second keyframe go back.
func goBack(by int64) func(*Feed) {
	return func(f *Feed) {
		for i := range f.Media {
			if f.Media[i].At >= 4000 {
				f.Media[i].Stamp -= by
			}
		}
		f.Leap = -by
	}
}

func soundLater(by int64) func(*Feed) {
	return func(f *Feed) {
		for i := range f.Media {
			if f.Media[i].Type == flv.TagAudio {
				f.Media[i].At += by
			}
		}
		f.sort()
	}
}

// bursts sends the messages of a type only every so often.
func bursts(kind uint8, every int64) func(*Feed) {
	return func(f *Feed) {
		for i := range f.Media {
			if m := &f.Media[i]; m.Type == kind {
				m.At = (m.At/every + 1) * every
			}
		}
		f.sort()
	}
}

// withoutLast leaves out the last picture before each keyframe, which no other refers to.
func withoutLast(f *Feed) {
	var kept []Message
	for i, pictures := 0, 0; i < len(f.Media); i++ {
		if f.Media[i].Type == flv.TagVideo {
			if pictures++; pictures%f.Kind.Key == 0 {
				continue
			}
		}
		kept = append(kept, f.Media[i])
	}
	f.Media = kept
}

func setsInBand(f *Feed) {
	for _, i := range f.video() {
		v := f.body(i)
		if v.Key {
			v.Data = avc.WithSets(f.Record.Marshal(), v.Data)
			f.Media[i].Body = v.Marshal()
		}
	}
}

// configAgain sends the configuration before each keyframe, with other sets that say the same.
func configAgain(differs bool) func(*Feed) {
	return func(f *Feed) {
		turn := 0
		for _, i := range f.video() {
			i += turn
			if !f.body(i).Key {
				continue
			}
			record := f.Record
			if differs && turn%2 == 1 {
				record.PPS = [][]byte{record.PPS[0], record.PPS[0]} // the same again is another record
			}
			m := f.Media[i]
			m.Body = (&flv.VideoBody{Config: true, Data: record.Marshal()}).Marshal()
			f.insert(i, m)
			turn++
		}
	}
}

// filler puts units of filler data (7.3.2.7) behind every picture.
func filler(f *Feed) {
	for _, i := range f.video() {
		v := f.body(i)
		v.Data = avc.AppendNAL(append([]byte(nil), v.Data...), append([]byte{avc.TypeFiller}, append(bytes.Repeat([]byte{0xff}, 20), 0x80)...))
		f.Media[i].Body = v.Marshal()
	}
}

func shortLengths(f *Feed) {
	record := f.Record.Marshal()
	record[4] = 0xfc | 1
	f.Configs[0].Body = (&flv.VideoBody{Config: true, Data: record}).Marshal()
	for _, i := range f.video() {
		v := f.body(i)
		nals, err := avc.Split(v.Data, 4)
		if err != nil {
			panic(err) // we wrote it
		}
		v.Data = nil
		for _, n := range nals {
			v.Data = append(append(v.Data, byte(len(n)>>8), byte(len(n))), n...)
		}
		f.Media[i].Body = v.Marshal()
	}
}

// nanoseconds stamps pictures exactly: in the enhanced form, but for those that lie on a millisecond.
func nanoseconds(f *Feed) {
	for n, i := range f.video() {
		v := f.body(i)
		at := int64(n) * 1_000_000_000 * f.Kind.Rate.Den / f.Kind.Rate.Num
		f.Media[i].Stamp = at / 1_000_000
		f.Media[i].Body = (&flv.Body{Codec: media.H264, Key: v.Key, Composition: v.Composition, Nanos: int32(at % 1_000_000), Data: v.Data}).Marshal()
	}
}

// enhanced writes the extended header with the FourCC avc1.
func enhanced(f *Feed) {
	write := func(v flv.VideoBody) []byte {
		kind, packet := byte(2), byte(1)
		if v.Key || v.Config {
			kind = 1
		}
		if v.Config {
			packet = 0
		}
		b := append([]byte{0x80 | kind<<4 | packet}, "avc1"...)
		if packet == 1 {
			c := uint32(v.Composition)
			b = append(b, byte(c>>16), byte(c>>8), byte(c))
		}
		return append(b, v.Data...)
	}
	for _, i := range f.video() {
		f.Media[i].Body = write(f.body(i))
	}
	var v flv.VideoBody
	if err := v.Unmarshal(f.Configs[0].Body); err != nil {
		panic(err) // we wrote it
	}
	f.Configs[0].Body = write(v)
}
