package amf

import (
	"encoding/hex"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestValuesReadBack(t *testing.T) {
	long := strings.Repeat("x", 70_000)
	in := []any{"connect", 1.0, Object{{"app", "in"}, {"deep", Object{{"flag", true}}}, {"nothing", nil}}, nil, false, long}
	out, err := DecodeAll(Append(nil, in...))
	require.NoError(t, err)
	assert.Equal(t, in, out)
	meta, err := DecodeAll(Append(nil, ECMAArray{{"width", 1280.0}}))
	require.NoError(t, err)
	w, ok := meta[0].(Object).Number("width")
	assert.True(t, ok)
	assert.Equal(t, 1280.0, w)
}

func TestAMF3InsideAMF0(t *testing.T) {
	// 0x11 switches; 0x0a object, traits inline and dynamic, no class; "app" = "in"; "n" = 5; end; then
	// a second object that refers to the first.
	b, err := hex.DecodeString("11" + "0a" + "0b" + "01" + "07617070" + "0605696e" + "036e" + "0405" + "01")
	require.NoError(t, err)
	out, err := DecodeAll(b)
	require.NoError(t, err)
	assert.Equal(t, []any{Object{{"app", "in"}, {"n", 5.0}}}, out)

	b, _ = hex.DecodeString("11" + "09" + "05" + "01" + "03" + "04ffffffff") // [true, -1]
	out, err = DecodeAll(b)
	require.NoError(t, err)
	assert.Equal(t, []any{[]any{true, -1.0}}, out)
}

func TestBounds(t *testing.T) {
	deep := strings.Repeat("\x03\x00\x01a", 40)
	_, err := DecodeAll([]byte(deep))
	assert.ErrorContains(t, err, "deep nesting")
	_, err = DecodeAll([]byte{markStrict, 0xff, 0xff, 0xff, 0xff})
	assert.ErrorContains(t, err, "an array of 4294967295")
	_, err = DecodeAll([]byte(strings.Repeat("\x05", maxValues+1)))
	assert.ErrorContains(t, err, "a great many values")
	_, err = DecodeAll([]byte{markString, 0, 9, 'a'})
	assert.ErrorContains(t, err, "found 1 bytes, expected 9")
}

func FuzzDecode(f *testing.F) {
	f.Add(Append(nil, "connect", 1.0, Object{{"app", "in"}}))
	f.Add([]byte{0x11, 0x0a, 0x0b, 0x01, 0x07, 'a', 'p', 'p', 0x06, 0x05, 'i', 'n', 0x01})
	f.Fuzz(func(_ *testing.T, b []byte) { _, _ = DecodeAll(b) })
}
