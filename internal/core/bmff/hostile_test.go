package bmff

import (
	"bytes"
	"encoding/binary"
	"runtime"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// nested is a moov of boxes within boxes.
func nested(kinds []string, deep int) []byte {
	b := []byte{}
	for i := range deep {
		b = box(nil, kinds[i%len(kinds)], func(out []byte) []byte { return append(out, b...) })
	}
	return box(nil, "moov", func(out []byte) []byte {
		return box(out, "trak", func(out []byte) []byte { return append(out, b...) })
	})
}

// table is a full box of 32-bit numbers.
func table(kind string, values ...uint32) []byte {
	return fullBox(nil, kind, 0, 0, func(b []byte) []byte {
		for _, v := range values {
			b = u32(b, v)
		}
		return b
	})
}

// crowded is a file whose tracks say that they have a great many samples.
func crowded(tracks int, size, count uint32, padding int) []byte {
	b := box(nil, "moov", func(out []byte) []byte {
		for range tracks {
			out = box(out, "trak", func(out []byte) []byte {
				return box(out, "mdia", func(out []byte) []byte {
					out = append(out, table("mdhd", 0, 0, 1000, 0, 0)...)
					return box(out, "minf", func(out []byte) []byte {
						return box(out, "stbl", func(out []byte) []byte {
							for _, t := range [][]byte{table("stsz", size, count), table("stts", 1, count, 1), table("stsc", 1, 1, count, 1), table("stco", 1, 0)} {
								out = append(out, t...)
							}
							return out
						})
					})
				})
			})
		}
		return out
	})
	return append(b, make([]byte, padding)...)
}

// What is held of a file follows its length, whatever its tables say.
func TestTablesOfMoreThanTheFileHolds(t *testing.T) {
	for name, b := range map[string][]byte{
		"nested":  nested([]string{"mdia", "minf", "stbl"}, 20_000),
		"crowded": crowded(6, 1, 8_000_000, 8<<20),
		"short":   crowded(1, 1, 1<<32-1, 0),
		"empty":   crowded(6, 0, 1<<30, 100),
	} {
		var before, after runtime.MemStats
		runtime.ReadMemStats(&before)
		_, err := ReadFile(bytes.NewReader(b), int64(len(b)))
		runtime.ReadMemStats(&after)
		require.Error(t, err, name)
		assert.Less(t, after.TotalAlloc-before.TotalAlloc, uint64(64*len(b)+1<<20), name)
	}
}

// A fragment that is of a time beyond all times.
func TestTimesBeyondAllTimes(t *testing.T) {
	video, _ := fileUnits(2)
	b := append(Header(&fileVideo), AppendChunk(nil, &fileVideo, ChunkOptions{Sequence: 1}, video)...)
	at := bytes.Index(b, []byte("tfdt"))
	require.Positive(t, at)
	binary.BigEndian.PutUint64(b[at+8:], 1<<62)
	_, err := ReadFile(bytes.NewReader(b), int64(len(b)))
	require.ErrorContains(t, err, "below 2^56")
}
