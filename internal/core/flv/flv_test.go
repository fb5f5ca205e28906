package flv

import (
	"bytes"
	"errors"
	"io"
	"testing"

	"metaplasis/internal/core/bits"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/internal/core/coding"
	"metaplasis/internal/core/media"
)

func TestTagsReadBack(t *testing.T) {
	in := []Tag{
		{Type: TagVideo, Timestamp: 5, Body: (&VideoBody{Key: true, Composition: -40, Data: []byte{1, 2}}).Marshal()},
		{Type: TagAudio, Timestamp: 0xff000001, Body: (&AudioBody{Data: []byte{3}}).Marshal()},
	}
	b := AppendHeader(nil)
	for i := range in {
		b = AppendTag(b, &in[i])
	}
	r, err := NewReader(bytes.NewReader(b))
	require.NoError(t, err)
	for i := range in {
		got, err := r.Next()
		require.NoError(t, err)
		assert.Equal(t, &in[i], got)
	}
	_, err = r.Next()
	assert.ErrorIs(t, err, io.EOF)

	var v VideoBody
	require.NoError(t, v.Unmarshal(in[0].Body))
	assert.Equal(t, VideoBody{Key: true, Composition: -40, Data: []byte{1, 2}}, v)

	r, err = NewReader(bytes.NewReader(b[:len(b)-6]))
	require.NoError(t, err)
	_, _ = r.Next()
	_, err = r.Next()
	assert.True(t, errors.Is(err, io.ErrUnexpectedEOF), err)
}

func TestOtherCodecsAreNamed(t *testing.T) {
	var v VideoBody
	assert.ErrorContains(t, v.Unmarshal([]byte{0x12, 0}), "Sorenson H.263 is not supported; set the encoder to H.264")
	assert.ErrorContains(t, v.Unmarshal([]byte{0x90, 'v', 'v', 'c', '1'}), `"vvc1"`)
	assert.ErrorContains(t, v.Unmarshal([]byte{0x90, 'h', 'v', 'c', '1'}), "track 0 of HEVC is not supported", "where H.264 alone is wanted")
	var a AudioBody
	assert.ErrorContains(t, a.Unmarshal([]byte{0xbf, 0}), "Speex is not supported; set the encoder to AAC")
	assert.ErrorContains(t, a.Unmarshal([]byte{0x2f, 0xff}), "track 0 of MP3 is not supported", "where AAC alone is wanted")
}

// TestSoundWithoutConfiguration: the first byte of a tag says what frames and samples do not.
func TestSoundWithoutConfiguration(t *testing.T) {
	for _, c := range []struct {
		tag   []byte
		codec media.Codec
		bare  []byte
	}{
		{[]byte{0x2f, 0xff, 0xfb}, media.MP3, nil},
		{[]byte{0x3b, 1, 2, 3, 4}, media.PCM, coding.BareSound(media.PCM, 22050, 16, 2)},
		{[]byte{0x30, 1, 2}, media.PCM, coding.BareSound(media.PCM, 5512, 8, 1)},
		{[]byte{0x70, 1, 2}, media.ALaw, coding.BareSound(media.ALaw, 8000, 8, 1)},
	} {
		require.NoError(t, Bodies(TagAudio, c.tag, func(b *Body) error {
			assert.Equal(t, []any{c.codec, c.bare, c.tag[1:], false}, []any{b.Codec, b.Bare, b.Data, b.Config})
			assert.Equal(t, c.tag, b.Marshal())
			return nil
		}))
	}
}

func FuzzReader(f *testing.F) {
	bits.CatchRunaways()
	f.Add(AppendTag(AppendHeader(nil), &Tag{Type: TagVideo, Body: (&VideoBody{Config: true, Data: []byte{1}}).Marshal()}))
	f.Fuzz(func(_ *testing.T, b []byte) {
		r, err := NewReader(bytes.NewReader(b))
		for err == nil {
			var tag *Tag
			if tag, err = r.Next(); err == nil {
				_ = Bodies(tag.Type, tag.Body, func(b *Body) error {
					if b.Config {
						_, _ = Track(b.Codec, b.Data)
					}
					return nil
				})
			}
		}
	})
}
