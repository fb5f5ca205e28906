package scte35

import (
	"encoding/binary"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/internal/core/bits"
)

func TestSectionsReadBack(t *testing.T) {
	for _, in := range []Section{
		{Command: SpliceInsert, EventID: 7, Out: true, PTS: 1<<32 + 5, Duration: 30 * 90000, AutoReturn: true},
		{Command: SpliceInsert, EventID: 7, In: true, Immediate: true, PTS: -1, Duration: -1},
		{Command: SpliceInsert, EventID: 9, Cancel: true, PTS: -1, Duration: -1},
		{Command: TimeSignal, PTS: 90000, Duration: -1},
		{Command: Null, PTS: -1, Duration: -1},
	} {
		var out Section
		require.NoError(t, out.Unmarshal(in.Marshal()))
		assert.Equal(t, in, out)
	}
}

// withDescriptor puts a descriptor into a section.
func withDescriptor(s *Section, d []byte) []byte {
	b := s.Marshal()
	b = append(b[:len(b)-6], byte(len(d)>>8), byte(len(d)))
	b = append(b, d...)
	n := len(b) + 4 - 3
	b[1], b[2] = 0x30|byte(n>>8), byte(n)
	return binary.BigEndian.AppendUint32(b, bits.CRC32(b))
}

func TestSegmentationTellsOutAndIn(t *testing.T) {
	for kind, want := range map[uint8][2]bool{0x34: {true, false}, 0x35: {false, true}, 0x10: {false, false}} {
		d := append([]byte{2, 0, 'C', 'U', 'E', 'I', 0, 0, 0, 42, 0x7f, 0xff}, 0, 0, 41, 50, 224, 0x0c, 2, 'i', 'd', kind, 0, 0)
		d[1] = byte(len(d) - 2)
		var s Section
		require.NoError(t, s.Unmarshal(withDescriptor(&Section{Command: TimeSignal, PTS: 1}, d)))
		assert.Equal(t, want, [2]bool{s.Out, s.In})
		assert.EqualValues(t, 42, s.EventID)
		assert.EqualValues(t, 2_700_000, s.Duration, "30 s")
		assert.Equal(t, []byte("id"), s.Segmentation[0].UPID)
	}
}

func TestBrokenSections(t *testing.T) {
	good := (&Section{Command: SpliceInsert, EventID: 7, PTS: 3, Duration: -1}).Marshal()
	var s Section
	for i := range good {
		bad := append([]byte(nil), good...)
		bad[i] ^= 0x10
		assert.Error(t, s.Unmarshal(bad), "byte %d", i)
		assert.Error(t, s.Unmarshal(good[:i]))
	}
}

func FuzzUnmarshal(f *testing.F) {
	bits.CatchRunaways()
	f.Add((&Section{Command: SpliceInsert, PTS: 3, Duration: 5}).Marshal())
	f.Fuzz(func(_ *testing.T, b []byte) {
		var s Section
		_ = s.Unmarshal(b)
		if len(b) > 20 { // with the right CRC it gets further
			b[1], b[2] = 0x30|byte((len(b)-3)>>8)&0x0f, byte(len(b)-3)
			binary.BigEndian.PutUint32(b[len(b)-4:], bits.CRC32(b[:len(b)-4]))
			_ = s.Unmarshal(b)
		}
	})
}
