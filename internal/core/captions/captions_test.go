package captions

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestRollUpCaption(t *testing.T) {
	p := RollUp608("Gust*!")
	assert.Equal(t, [][2]byte{{0x14, 0x25}, {0x14, 0x25}, {0x14, 0x2d}, {0x14, 0x2d}, {0x14, 0x70}, {0x14, 0x70}, {'G', 'u'}, {'s', 't'}, {' ', '!'}}, p)
	assert.Equal(t, []byte{0xc1, 0xff, 0xfc, 0x94, 0x25, 0xff}, Pair608(0x14, 0x25), "odd parity")
}

func FuzzScan(f *testing.F) {
	f.Add(Pair608(1, 2))
	f.Fuzz(func(_ *testing.T, b []byte) {
		var s Scan
		s.See(b)
		s.See(b)
	})
}

// TestCaptionServices tells the services apart from one another and from padding.
func TestCaptionServices(t *testing.T) {
	cc := func(triplets ...[3]byte) []byte {
		out := []byte{0xc0 | byte(len(triplets)), 0xff}
		for _, v := range triplets {
			out = append(out, v[:]...)
		}
		return append(out, 0xff)
	}
	var s Scan
	assert.Empty(t, s.See(cc([3]byte{0xfc, 0x80, 0x80}, [3]byte{0xfd, 0x80, 0x80}, [3]byte{0xf8, 0x94, 0x20})), "padding, and what is not valid")
	assert.Empty(t, s.See(cc([3]byte{0xfc, 'h', 'i'}, [3]byte{0xfc, 0x14, 0x2a}, [3]byte{0xfd, 0x01, 0x03})), "text of nobody, text mode, other data of field 2")
	assert.Equal(t, []string{"CC1", "CC2", "CC3", "CC4"}, s.See(cc([3]byte{0xfc, 0x94, 0x20}, [3]byte{0xfc, 0x1c, 0x25}, [3]byte{0xfd, 0x15, 0x25}, [3]byte{0xfd, 0x9d, 0x20})))
	// A packet of eight bytes over two pictures: blocks of services 1 and 13, then nothing.
	assert.Empty(t, s.See(cc([3]byte{0xff, 0x04, 0x22}, [3]byte{0xfe, 'a', 'b'})))
	assert.Equal(t, []string{"SERVICE1", "SERVICE13"}, s.See(cc([3]byte{0xfe, 0xe1, 13}, [3]byte{0xfe, 'c', 0})))
	assert.Empty(t, s.See(cc([3]byte{0xfe, 0x21, 'x'})), "behind its packet")
	assert.Equal(t, []string{"CC1"}, s.See(Pair608(0x14, 0x25)))
	assert.Empty(t, s.See(nil))
}
