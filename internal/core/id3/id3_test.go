package id3

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestTagsReadBack(t *testing.T) {
	for _, in := range []Tag{
		{Timestamp: 1<<33 - 1},
		{Title: "Race 3, first beat", Artist: "Kestrel Bay Regatta", Timestamp: -1},
		{Title: strings.Repeat("long ", 100), Picture: make([]byte, 20_000), PictureType: "image/png", Timestamp: -1},
	} {
		var out Tag
		rest, err := out.Unmarshal(append(in.Marshal(), "rest"...))
		require.NoError(t, err)
		assert.Equal(t, in, out)
		assert.Equal(t, "rest", string(rest))
	}
	var out Tag
	_, err := out.Unmarshal([]byte("ID4"))
	assert.ErrorContains(t, err, `"ID3"`)
	_, err = out.Unmarshal((&Tag{Title: "x"}).Marshal()[:12])
	assert.ErrorContains(t, err, "a size of")
}

func FuzzUnmarshal(f *testing.F) {
	f.Add((&Tag{Title: "x", Picture: []byte{1}, PictureType: "image/png"}).Marshal())
	f.Fuzz(func(_ *testing.T, b []byte) {
		var tag Tag
		_, _ = tag.Unmarshal(b)
	})
}
