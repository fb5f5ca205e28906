// Package codec lists the decoders and encoders of this program, by codec. Each is C code behind a small
// interface, and runs in a worker process alone. To add one, write a package beside this file that
// meets an interface, and a line in a table here.
package codec

import (
	"fmt"

	"metaplasis/internal/codec/aacdec"
	"metaplasis/internal/codec/aacenc"
	"metaplasis/internal/codec/ac3dec"
	"metaplasis/internal/codec/aomenc"
	"metaplasis/internal/codec/av1dec"
	"metaplasis/internal/codec/h264dec"
	"metaplasis/internal/codec/h264enc"
	"metaplasis/internal/codec/hevcdec"
	"metaplasis/internal/codec/hevcenc"
	"metaplasis/internal/codec/jpegdec"
	"metaplasis/internal/codec/mpegadec"
	"metaplasis/internal/codec/mpegvdec"
	"metaplasis/internal/codec/opusdec"
	"metaplasis/internal/codec/opusenc"
	"metaplasis/internal/codec/rawdec"
	"metaplasis/internal/codec/settings"
	"metaplasis/internal/codec/vp9enc"
	"metaplasis/internal/codec/vpxdec"
	"metaplasis/internal/core/coding"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/opus"
	"metaplasis/internal/core/pcm"
	"metaplasis/internal/core/picture"
)

// PictureDecoder decodes one track of video.
type PictureDecoder interface {
	// Decode takes an access unit and hands out the pictures that are ready: in decode order, or each at its turn
	// in presentation order. nil hands out what is left. A picture lies in the decoder's memory, and is valid until
	// each returns. An error concerns this unit alone.
	Decode(u *media.AccessUnit, each func(*picture.Frame)) error
	Close()
}

// PictureSettings say how pictures are to be encoded.
type PictureSettings = settings.Pictures

// PictureEncoder encodes one rendition. Keyframes come only where they are asked for. Times are in ticks
// of media.VideoTimescale.
type PictureEncoder interface {
	Track() (media.Track, error)
	// Encode takes the next picture in presentation order, or nil at the end, and returns the next coded
	// one, or nil while the encoder waits (at the end: when it is empty).
	Encode(p *picture.Picture, pts int64, key bool) (*media.AccessUnit, error)
	// Waiting returns how many pictures the encoder holds.
	Waiting() int
	Close()
}

// SoundDecoder decodes one audio track to interleaved samples of 16 bits, of two channels at most: more are
// mixed down.
type SoundDecoder interface {
	// Decode decodes one frame. The first may come back empty. The samples are the caller's.
	Decode(frame []byte) ([]int16, error)
	// Format returns the rate, samples per second, and the channels of what was decoded last.
	Format() (rate, channels int)
	Close()
}

// SoundEncoder encodes one rendition of sound.
type SoundEncoder interface {
	Track() media.Track
	// Encode takes a frame's samples, interleaved, and returns one frame.
	Encode(pcm []int16) ([]byte, error)
	// Frame returns how many samples a channel a frame holds, and how many samples late it comes out.
	Frame() (samples, delay int64)
	Close()
}

var pictureDecoders = map[media.Codec]func(config []byte) (PictureDecoder, error){
	media.H264:     func(b []byte) (PictureDecoder, error) { return h264dec.Open(b) },
	media.HEVC:     func(b []byte) (PictureDecoder, error) { return hevcdec.Open(b) },
	media.VP8:      func([]byte) (PictureDecoder, error) { return vpxdec.New(media.VP8) },
	media.VP9:      func([]byte) (PictureDecoder, error) { return vpxdec.New(media.VP9) },
	media.AV1:      func([]byte) (PictureDecoder, error) { return av1dec.New() },
	media.MPEG2:    func([]byte) (PictureDecoder, error) { return mpegvdec.New() },
	media.JPEG:     func([]byte) (PictureDecoder, error) { return jpegdec.New() },
	media.RawVideo: func(b []byte) (PictureDecoder, error) { return rawdec.New(b) },
}

var pictureEncoders = map[media.Codec]func(s PictureSettings) (PictureEncoder, error){
	media.H264: func(s PictureSettings) (PictureEncoder, error) { return h264enc.New(s) },
	media.HEVC: func(s PictureSettings) (PictureEncoder, error) { return hevcenc.Open(s) },
	media.VP9:  func(s PictureSettings) (PictureEncoder, error) { return vp9enc.Open(s) },
	media.AV1:  func(s PictureSettings) (PictureEncoder, error) { return aomenc.Open(s) },
}

var soundDecoders = map[media.Codec]func(config []byte) (SoundDecoder, error){
	media.AAC:  func(b []byte) (SoundDecoder, error) { return aacdec.New(b) },
	media.Opus: func(b []byte) (SoundDecoder, error) { return opusdec.Open(b) },
	media.MP2:  func([]byte) (SoundDecoder, error) { return mpegadec.New() },
	media.MP3:  func([]byte) (SoundDecoder, error) { return mpegadec.New() },
	media.AC3:  func([]byte) (SoundDecoder, error) { return ac3dec.New() },
	media.ALaw: func(b []byte) (SoundDecoder, error) { return pcm.NewDecoder(media.ALaw, b) },
	media.ULaw: func(b []byte) (SoundDecoder, error) { return pcm.NewDecoder(media.ULaw, b) },
	media.PCM:  func(b []byte) (SoundDecoder, error) { return pcm.NewDecoder(media.PCM, b) },
}

var soundEncoders = map[media.Codec]func(rate, channels int, bitrate int64) (SoundEncoder, error){
	media.AAC: func(rate, channels int, bitrate int64) (SoundEncoder, error) {
		return aacenc.New(rate, channels, bitrate)
	},
	media.Opus: func(rate, channels int, bitrate int64) (SoundEncoder, error) {
		return opusenc.Open(rate, channels, bitrate)
	},
}

// NewPictureDecoder opens the decoder of a track of video.
func NewPictureDecoder(t *media.Track) (PictureDecoder, error) {
	if open := pictureDecoders[t.Codec]; open != nil {
		return opened(open(t.Config))
	}
	return nil, none(t.Codec, "decoder")
}

// NewPictureEncoder opens an encoder of video.
func NewPictureEncoder(c media.Codec, s PictureSettings) (PictureEncoder, error) {
	if open := pictureEncoders[c]; open != nil {
		return opened(open(s))
	}
	return nil, none(c, "encoder")
}

// NewSoundDecoder opens the decoder of an audio track.
func NewSoundDecoder(t *media.Track) (SoundDecoder, error) {
	if open := soundDecoders[t.Codec]; open != nil {
		return opened(open(t.Config))
	}
	return nil, none(t.Codec, "decoder")
}

// SoundRate is the rate that an encoder takes sound of a rate at, samples per second.
func SoundRate(c media.Codec, rate int) int {
	if c == media.Opus {
		return opus.SampleRate
	}
	return rate
}

// NewSoundEncoder opens an encoder of sound. The bitrate is bits per second.
func NewSoundEncoder(c media.Codec, rate, channels int, bitrate int64) (SoundEncoder, error) {
	if open := soundEncoders[c]; open != nil {
		return opened(open(rate, channels, bitrate))
	}
	return nil, none(c, "encoder")
}

// opened lets nothing through with an error: what did not open is a pointer that is nil, in an interface that is not.
func opened[T any](v T, err error) (T, error) {
	if err != nil {
		var nothing T
		return nothing, err
	}
	return v, nil
}

func none(c media.Codec, what string) error {
	return fmt.Errorf("there is no %s of %s here", what, coding.Label(c))
}
