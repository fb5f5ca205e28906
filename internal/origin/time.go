package origin

import (
	"errors"
	"fmt"
	"strings"
	"time"
)

// ParseTime reads a time: RFC 3339, "20 minutes ago", "20m", "marker" for the newest marker of a channel, or "marker:ID". relative
// says that it was told from now. c may be nil.
func ParseTime(text string, now time.Time, c *Channel) (at time.Time, relative bool, err error) {
	text = strings.TrimSpace(strings.ReplaceAll(text, "+", " "))
	if at, err := time.Parse(time.RFC3339Nano, strings.ReplaceAll(text, " ", "+")); err == nil {
		return at, false, nil
	}
	if id, ok := strings.CutPrefix(text, "marker"); ok && c != nil {
		list := c.Markers()
		for i := len(list) - 1; i >= 0; i-- {
			if id == "" || strings.TrimPrefix(id, ":") == list[i].ID {
				return list[i].At, true, nil
			}
		}
		return at, false, errors.New("the channel has no such marker")
	}
	if d, err := time.ParseDuration(strings.TrimSuffix(text, " ago")); err == nil && d >= 0 {
		return now.Add(-d), true, nil
	}
	var n int64
	var unit string
	if k, _ := fmt.Sscanf(text, "%d %s ago", &n, &unit); k == 2 && n >= 0 && n < 1<<31 && strings.HasSuffix(text, " ago") {
		if d := timeUnits[strings.TrimSuffix(unit, "s")]; d > 0 {
			return now.Add(-time.Duration(n) * d), true, nil
		}
	}
	return at, false, errors.New("expected a time such as 2026-06-01T09:30:00Z, 20 minutes ago, 90m or marker:ID")
}

var timeUnits = map[string]time.Duration{"second": time.Second, "minute": time.Minute, "hour": time.Hour, "day": 24 * time.Hour}
