package records

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestStatisticsBecomeCoarser: sums and peaks stay while rows become longer.
func TestStatisticsBecomeCoarser(t *testing.T) {
	db := open(t)
	ctx := context.Background()
	now := time.Date(2026, 6, 1, 14, 30, 0, 0, time.UTC)
	hour := now.Add(-100 * 24 * time.Hour).Truncate(time.Hour)
	var list []Statistic
	for m := range int64(60) {
		list = append(list, Statistic{Channel: "line", Seconds: 60, At: hour.Unix() + m*60, Live: 30, Bitrate: 1000, Viewers: 2000, Peak: m})
	}
	fresh := now.Add(-time.Hour).Truncate(time.Minute)
	list = append(list, Statistic{Channel: "line", Seconds: 60, At: fresh.Unix(), Live: 60, Bitrate: 5000, Peak: 7},
		Statistic{Channel: "line", Seconds: 60, At: now.AddDate(0, 0, -keptDays-1).Unix()})
	require.NoError(t, db.PutStatistics(ctx, list))
	require.NoError(t, db.PutStatistics(ctx, list[:1]), "it may be repeated")
	for range 2 { // again changes nothing
		require.NoError(t, db.thin(ctx, now))
		got, err := db.Statistics(ctx, "line", now.AddDate(-3, 0, 0), now)
		require.NoError(t, err)
		assert.Equal(t, []Statistic{{Channel: "line", Seconds: 3600, At: hour.Unix(), Live: 1800, Bitrate: 1000, Viewers: 2000, Peak: 59}, list[60]}, got)
	}
	// A minute is not made longer before its ten minutes are over.
	edge := now.Add(-3*24*time.Hour).Unix()/600*600 + 60
	require.NoError(t, db.PutStatistics(ctx, []Statistic{{Channel: "edge", Seconds: 60, At: edge, Peak: 1}}))
	require.NoError(t, db.thin(ctx, now))
	got, err := db.Statistics(ctx, "edge", now.AddDate(-1, 0, 0), now)
	require.NoError(t, err)
	assert.Equal(t, int64(60), got[0].Seconds)
}
