package coding

import (
	"bytes"
	"encoding/binary"
	"slices"

	"metaplasis/internal/core/aac"
	"metaplasis/internal/core/av1"
	"metaplasis/internal/core/avc"
	"metaplasis/internal/core/hevc"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/mpegv"
	"metaplasis/internal/core/opus"
	"metaplasis/internal/core/pcm"
	"metaplasis/internal/core/vp8"
	"metaplasis/internal/core/vp9"
)

func avcTrack(config []byte) (media.Track, error) {
	var c avc.Config
	if err := c.Unmarshal(config); err != nil {
		return media.Track{}, err
	}
	return c.Track()
}

func avcLength(config []byte) int {
	var c avc.Config
	_ = c.Unmarshal(config) // it was read before
	return c.LengthSize
}

func avcUnit(data []byte, lengthSize int) (Unit, error) {
	nals, err := avc.Split(data, lengthSize)
	if err != nil {
		return Unit{}, err
	}
	u := Unit{Key: avc.HasIDR(nals), Data: data}
	if lengthSize != 4 {
		u.Data = nil
		for _, n := range nals {
			u.Data = avc.AppendNAL(u.Data, n)
		}
	}
	return u, nil
}

func avcLook(data []byte) Picture {
	p := avc.Look(data)
	return Picture{Random: p.IDR, Recovery: p.Recovery, After: p.After, Intra: p.Intra, Disposable: !p.Reference()}
}

// avcRenew reads the parameter sets that a keyframe brings along.
func avcRenew(t *media.Track, data []byte) (media.Track, bool) {
	p := avc.Look(data)
	var now avc.Config
	if len(p.SPS) == 0 || now.Unmarshal(t.Config) != nil {
		return *t, false
	}
	next := avc.Config{LengthSize: 4, SPS: p.SPS, PPS: p.PPS}
	if len(next.PPS) == 0 {
		next.PPS = now.PPS
	}
	if sameSets(now.SPS, next.SPS) && sameSets(now.PPS, next.PPS) {
		return *t, false
	}
	out, err := next.Track()
	return described(out, t), err == nil
}

// described gives a track what its sender said of the one before.
func described(t media.Track, before *media.Track) media.Track {
	t.ID, t.Language, t.Role, t.Name = before.ID, before.Language, before.Role, before.Name
	return t
}

// sameSets reports whether every set of b is among those of a.
func sameSets(a, b [][]byte) bool {
	for _, set := range b {
		if !slices.ContainsFunc(a, func(other []byte) bool { return bytes.Equal(set, other) }) {
			return false
		}
	}
	return true
}

func hevcTrack(config []byte) (media.Track, error) {
	var c hevc.Config
	if err := c.Unmarshal(config); err != nil {
		return media.Track{}, err
	}
	return c.Track(config)
}

func hevcLength(config []byte) int {
	var c hevc.Config
	_ = c.Unmarshal(config) // it was read before
	return c.LengthSize
}

func hevcUnit(data []byte, lengthSize int) (Unit, error) {
	nals, err := avc.Split(data, lengthSize) // NAL units lie alike in both
	if err != nil {
		return Unit{}, err
	}
	if lengthSize != 4 {
		var out []byte
		for _, n := range nals {
			out = binary.BigEndian.AppendUint32(out, uint32(len(n)))
			out = append(out, n...)
		}
		data = out
	}
	return Unit{Data: data, Key: hevc.HasIRAP(data)}, nil
}

func vp9Track(config []byte) (media.Track, error) {
	var c vp9.Config
	if err := c.Unmarshal(config); err != nil {
		return media.Track{}, err
	}
	return c.Track(), nil
}

func vp9Unit(data []byte, _ int) (Unit, error) {
	f, err := vp9.ParseFrame(data)
	return Unit{Data: data, Key: f.Key}, err
}

func vp9Look(data []byte) Picture {
	f, err := vp9.ParseFrame(data)
	return Picture{Random: err == nil && f.Key}
}

func av1Track(config []byte) (media.Track, error) {
	var c av1.Config
	if err := c.Unmarshal(config); err != nil {
		return media.Track{}, err
	}
	return c.Track(), nil
}

func av1Unit(data []byte, _ int) (Unit, error) {
	u, err := av1.ParseUnit(data)
	return Unit{Data: u.Data, Key: u.Key}, err
}

func av1Look(data []byte) Picture {
	u, err := av1.ParseUnit(data)
	return Picture{Random: err == nil && u.Key}
}

// renewBy reads what a key frame tells of its track.
func renewBy(complete func(*media.Track, []byte) error) func(*media.Track, []byte) (media.Track, bool) {
	return func(t *media.Track, data []byte) (media.Track, bool) {
		out := *t
		if complete(&out, data) != nil || out.Width == t.Width && out.Height == t.Height && out.CodecName == t.CodecName && out.SAR == t.SAR {
			return *t, false
		}
		return out, true
	}
}

func aacTrack(config []byte) (media.Track, error) {
	var c aac.Config
	if err := c.Unmarshal(config); err != nil {
		return media.Track{}, err
	}
	return c.Track(config), nil
}

// frameUnit takes a frame of sound as it is: each can be decoded.
func frameUnit(data []byte, _ int) (Unit, error) { return Unit{Data: data, Key: true}, nil }

// stillUnit takes a picture as it is: each can be decoded.
func stillUnit(data []byte, _ int) (Unit, error) { return Unit{Data: data, Key: true}, nil }

// opusTrack reads an identification header, as FLV carries it, or the content of a dOps box.
func opusTrack(config []byte) (media.Track, error) {
	var c opus.Config
	read := c.UnmarshalBox
	if bytes.HasPrefix(config, []byte("Opus")) {
		read = c.UnmarshalHead
	}
	if err := read(config); err != nil {
		return media.Track{}, err
	}
	return c.Track(), nil
}

// bareTrack is a track of which everything comes with its first access unit.
func bareTrack(kind media.Kind, id media.Codec) func([]byte) (media.Track, error) {
	return func([]byte) (media.Track, error) { return media.Track{Kind: kind, Codec: id}, nil }
}

// pcmTrack reads the format of samples that are not compressed.
func pcmTrack(id media.Codec) func([]byte) (media.Track, error) {
	return func(config []byte) (media.Track, error) {
		var f pcm.Format
		if err := f.Unmarshal(id, config); err != nil {
			return media.Track{}, err
		}
		return f.Track(), nil
	}
}

func vp8Unit(data []byte, _ int) (Unit, error) {
	f, err := vp8.ParseFrame(data)
	return Unit{Data: data, Key: f.Key}, err
}

func vp8Look(data []byte) Picture {
	f, err := vp8.ParseFrame(data)
	return Picture{Random: err == nil && f.Key}
}

// mpegvUnit takes an access unit as it is. Decoding may start at an intra encoded picture with a sequence
// header before it.
func mpegvUnit(data []byte, _ int) (Unit, error) {
	p, err := mpegv.Parse(data)
	return Unit{Data: data, Key: p.Intra && p.Sequence != nil}, err
}

func mpegvLook(data []byte) Picture {
	p, err := mpegv.Parse(data)
	key := err == nil && p.Intra && p.Sequence != nil
	return Picture{Random: key && p.Closed, Recovery: key, Intra: err == nil && p.Intra}
}

func avcCaption(data []byte, list [][]byte) []byte {
	seis := make([][]byte, len(list))
	for i, cc := range list {
		seis[i] = avc.CaptionSEI(cc)
	}
	return avc.InsertSEI(data, seis...)
}

// avcTransport writes NAL units behind start codes, a delimiter first, and the parameter sets before each
// keyframe (ISO/IEC 13818-1, 2.14).
func avcTransport(config []byte) func(dst, unit []byte, key bool) []byte {
	var sets []byte
	var c avc.Config
	if c.Unmarshal(config) == nil {
		for _, n := range slices.Concat(c.SPS, c.PPS) {
			sets = append(append(sets, 0, 0, 0, 1), n...)
		}
	}
	return func(dst, unit []byte, key bool) []byte {
		dst = slices.Grow(dst, len(unit)+len(sets)+16)
		dst = append(dst, 0, 0, 0, 1, avc.TypeAUD, 0xf0)
		if key {
			dst = append(dst, sets...)
		}
		nals, err := avc.Split(unit, 4)
		if err != nil {
			return dst
		}
		for _, n := range nals {
			switch t := avc.NALType(n); {
			case t == avc.TypeAUD, key && (t == avc.TypeSPS || t == avc.TypePPS):
				continue
			}
			dst = append(append(dst, 0, 0, 0, 1), n...)
		}
		return dst
	}
}

func aacHeader(config []byte) (func(size int) []byte, error) {
	var c aac.Config
	if err := c.Unmarshal(config); err != nil {
		return nil, err
	}
	if !c.HasADTS() {
		return nil, &media.UnsupportedError{Format: "ADTS", What: c.Name(), Do: "play it as CMAF"}
	}
	return c.ADTS, nil
}
