package sap

import (
	"bytes"
	"compress/zlib"
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const description = "v=0\r\no=- 1 1 IN IP4 192.0.2.7\r\ns=Start line\r\n"

func TestAnnouncements(t *testing.T) {
	for _, sender := range []string{"192.0.2.7", "2001:db8::7"} {
		for _, deleted := range []bool{false, true} {
			a := Announcement{Deleted: deleted, Sender: netip.MustParseAddr(sender), Description: []byte(description)}
			var back Announcement
			require.NoError(t, back.Unmarshal(a.Marshal()))
			assert.Equal(t, a, back)
			assert.NotZero(t, back.Hash)
		}
	}
	head := []byte{0x20, 1, 0x12, 0x34, 192, 0, 2, 7, 1, 2, 3, 4} // with a word of authentication
	var a Announcement
	require.NoError(t, a.Unmarshal(append(bytes.Clone(head), description...)), "without a type")
	assert.Equal(t, description, string(a.Description))
	var z bytes.Buffer
	w := zlib.NewWriter(&z)
	_, _ = w.Write([]byte(description))
	require.NoError(t, w.Close())
	head[0] |= 1
	require.NoError(t, a.Unmarshal(append(bytes.Clone(head), z.Bytes()...)))
	assert.Equal(t, description, string(a.Description))
	z.Reset()
	w.Reset(&z)
	_, _ = w.Write([]byte("v=0" + strings.Repeat("x", 10<<20)))
	require.NoError(t, w.Close())
	assert.ErrorContains(t, a.Unmarshal(append(bytes.Clone(head), z.Bytes()...)), "at most", "a bomb")
	assert.ErrorContains(t, a.Unmarshal([]byte{0x40, 0, 0, 0, 0, 0, 0, 0}), "version 2")
	assert.ErrorContains(t, a.Unmarshal([]byte{0x22, 0, 0, 0, 0, 0, 0, 0}), "encryption")
	assert.ErrorContains(t, a.Unmarshal([]byte("\x20\x00\x00\x01\x7f\x00\x00\x01text/plain\x00hello")), "text/plain")
	assert.ErrorContains(t, a.Unmarshal([]byte{0x20, 9, 0, 0, 0, 0, 0, 0}), "a header of 44")
}

func FuzzUnmarshal(f *testing.F) {
	f.Add((&Announcement{Sender: netip.MustParseAddr("192.0.2.7"), Description: []byte(description)}).Marshal())
	f.Fuzz(func(t *testing.T, b []byte) {
		var a Announcement
		if a.Unmarshal(b) == nil {
			assert.LessOrEqual(t, len(a.Description), MaxDescription)
		}
	})
}
