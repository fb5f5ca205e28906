package pull

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/internal/core/hls"
	"metaplasis/internal/core/inspect"
)

// playlist writes one of segments from a number on; those in breaks carry a discontinuity.
func playlist(t *testing.T, from, to int, counted bool, breaks ...int) *hls.Playlist {
	t.Helper()
	var b strings.Builder
	fmt.Fprintf(&b, "#EXTM3U\n#EXT-X-VERSION:7\n#EXT-X-TARGETDURATION:2\n#EXT-X-MEDIA-SEQUENCE:%d\n", from)
	left := 0
	for _, n := range breaks {
		if n < from {
			left++
		}
	}
	if counted {
		fmt.Fprintf(&b, "#EXT-X-DISCONTINUITY-SEQUENCE:%d\n", left)
	}
	for n := from; n < to; n++ {
		for _, at := range breaks {
			if at == n {
				b.WriteString("#EXT-X-DISCONTINUITY\n")
			}
		}
		fmt.Fprintf(&b, "#EXTINF:2,\nseg%d.ts\n", n)
	}
	p, err := hls.ReadMedia([]byte(b.String()))
	require.NoError(t, err)
	return p
}

// A segment's line stays the same while discontinuities leave the playlist, whether it counts them or not.
func TestLinesOfPlaylistsGoOn(t *testing.T) {
	for _, counted := range []bool{true, false} {
		var lines playlistLines
		seen := map[uint64]int{}
		for from := range 400 {
			p := playlist(t, from, from+6, counted, 7, 8, 30, 220)
			whole := p.Whole()
			for i, n := range lines.of(p, whole) {
				before, known := seen[whole[i].MSN]
				assert.True(t, !known || before == n, "segment %d was on line %d and is on %d", whole[i].MSN, before, n)
				seen[whole[i].MSN] = n
			}
		}
		assert.Equal(t, 4, seen[400]-seen[0])
		p := playlist(t, 5, 11, counted, 8) // the source started over
		assert.Len(t, lines.of(p, p.Whole()), 6)
	}
}

// What was fetched once is not offered again, however long a source goes on, and what is known of it stays small.
func TestSegmentsAreOfferedOnce(t *testing.T) {
	var known offered
	const window = 1800
	offeredOnce := map[int64]int{}
	for n := int64(0); n < 60_000; n += 500 {
		var list []inspect.Entry
		for i := range int64(window) {
			list = append(list, inspect.Entry{Name: "video", Number: uint64(n + i), Available: time.Now().Add(-time.Minute)})
		}
		for _, e := range newest(list, &known, time.Now(), n == 0) {
			offeredOnce[int64(e.Number)]++
		}
		assert.LessOrEqual(t, len(known.before)+len(known.now), 2*window)
	}
	for n, times := range offeredOnce {
		assert.Equal(t, 1, times, "segment %d", n)
	}
	assert.Len(t, offeredOnce, 60_000-500+fromEnd)
}

func TestPeriodsAreNumberedInOrder(t *testing.T) {
	p := &periodLines{seen: map[string]int{}}
	for n := range 5000 {
		assert.Equal(t, n, p.of(fmt.Sprint("p", n)))
		assert.Equal(t, n, p.of(fmt.Sprint("p", n)))
		assert.LessOrEqual(t, len(p.seen), maxPeriods)
	}
}
