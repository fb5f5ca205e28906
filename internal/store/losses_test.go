package store

import (
	"context"
	"os"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/internal/core/media"
)

// stretch counts the segments of a stretch that can be read and are what they say, and those that are gaps.
func stretch(t *testing.T, s *Store, from, to time.Duration) (there, gaps int) {
	t.Helper()
	span, err := s.Span(context.Background(), "line", epoch.Add(from), epoch.Add(to))
	if err != nil {
		require.ErrorIs(t, err, ErrNothing)
		return 0, 0
	}
	gaps = whole(t, s, "line", &span.Renditions[0])
	return len(span.Renditions[0].List) - gaps, gaps
}

// TestOverlappingRecordingsLoseNothing has two recordings that share a stretch. Each is whole until it is removed, and
// then exactly what the other one does not hold goes.
func TestOverlappingRecordingsLoseNothing(t *testing.T) {
	place, l := Folder(t.TempDir()), &ledger{}
	fill(t, place, l, "line", 100, short) // 200 s, in bundles of 10 s
	s := open(t, place, l, short)
	defer s.Close()
	at := func(from, to time.Duration) Hold {
		return Hold{From: epoch.Add(from * time.Second), To: epoch.Add(to * time.Second)}
	}
	first, second := at(20, 100), at(60, 140)
	s.Settled()
	s.Set("line", Keeping{TimeShift: time.Hour, Holds: []Hold{first, second}})
	tidied(t, s)
	there, gaps := stretch(t, s, 20*time.Second, 140*time.Second)
	assert.Equal(t, []int{60, 0}, []int{there, gaps})
	there, _ = stretch(t, s, 0, 200*time.Second)
	assert.Equal(t, 60, there, "what nobody holds is gone")

	s.Set("line", Keeping{TimeShift: time.Hour, Holds: []Hold{second}})
	tidied(t, s)
	there, gaps = stretch(t, s, 60*time.Second, 140*time.Second)
	assert.Equal(t, []int{40, 0}, []int{there, gaps}, "the second is whole without the first")
	there, _ = stretch(t, s, 0, 200*time.Second)
	assert.Equal(t, 40, there)

	s.Set("line", Keeping{TimeShift: time.Hour})
	tidied(t, s)
	assert.Zero(t, files(t, place))
}

// TestAnOlderCopyOfTheStorage brings back what was copied half an event ago: what it holds plays, what it lacks is told,
// segment by segment, and what comes next is kept beside it.
func TestAnOlderCopyOfTheStorage(t *testing.T) {
	place, l, older := Folder(t.TempDir()), &ledger{}, t.TempDir()+"/copy"
	fill(t, place, l, "line", 50, short)
	require.NoError(t, os.CopyFS(older, os.DirFS(string(place))))
	s := open(t, place, l, short)
	s.Set("line", Keeping{TimeShift: 24 * time.Hour})
	src := newSource("source", "b-", media.Video)
	for i := range uint64(50) {
		s.Keep("line", "source", "", epoch, src.segment(50+i, int64(50+i)*step, i == 0))
	}
	settled(t, s, "line")
	s.Close()

	copied := Folder(older)
	s = open(t, copied, l, short)
	defer s.Close()
	hold := Hold{From: epoch, To: epoch.Add(200 * time.Second)}
	s.Set("line", Keeping{Holds: []Hold{hold}})
	s.Settled()
	tidied(t, s)
	report, err := s.Verify(context.Background(), "line", hold)
	require.NoError(t, err)
	assert.Equal(t, 50, report.Segments, "all of the copy")
	assert.Len(t, report.Missing, 10, "fifty segments in bundles of five")
	assert.Empty(t, report.Damaged)
	there, _ := stretch(t, s, 0, 100*time.Second)
	assert.Equal(t, 50, there)
	lost, _ := s.Lost("line", hold)
	assert.Equal(t, 10, lost)

	s.Set("line", Keeping{TimeShift: 24 * time.Hour, Holds: []Hold{hold}})
	for i := range uint64(20) {
		s.Keep("line", "source", "", epoch, newSource("source", "c-", media.Video).segment(100+i, int64(100+i)*step, i == 0))
	}
	settled(t, s, "line")
	there, _ = stretch(t, s, 200*time.Second, 240*time.Second)
	assert.Equal(t, 20, there)
}
