package cli

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Units of settings: how much one of a setting's own steps is. A number without a unit counts those.
var durationUnits = map[string]time.Duration{
	"ms": time.Millisecond, "s": time.Second, "min": time.Minute, "h": time.Hour, "d": 24 * time.Hour,
}

// multiples are the SI prefixes of bitrates and sizes, by the letter in lower case.
var multiples = map[string]float64{"": 1, "k": 1e3, "m": 1e6, "g": 1e9, "t": 1e12}

// readUnit reads a number with a unit, such as 2s, 1h 20min, 2.5M or 4GB, as a whole number of the setting's own steps: ms, s, min, h,
// d, bit/s or MB.
func readUnit(text, unit string) (int64, error) {
	if n, err := strconv.ParseInt(text, 10, 64); err == nil {
		return n, nil
	}
	if step, ok := durationUnits[unit]; ok {
		d, err := readDuration(text)
		switch {
		case err != nil:
			return 0, err
		case d%step != 0:
			return 0, fmt.Errorf("found %q, expected a multiple of 1 %s", text, unit)
		}
		return int64(d / step), nil
	}
	step, example := 1.0, "2.5M or 2500k"
	if unit == "MB" {
		step, example = 1e6, "500MB or 4GB"
	}
	m := scaled.FindStringSubmatch(strings.ToLower(text))
	if m == nil {
		return 0, fmt.Errorf("found %q, expected a number with a unit, such as %s", text, example)
	}
	v, err := strconv.ParseFloat(m[1], 64)
	if v *= multiples[m[2]] / step; err != nil || v > 1<<53 {
		return 0, fmt.Errorf("found %q, expected a smaller number", text)
	}
	return int64(v + 0.5), nil
}

var (
	scaled       = regexp.MustCompile(`^([0-9]+(?:\.[0-9]+)?) *([kmgt]?)(?:b|bit/s|bps)?$`)
	durationPart = regexp.MustCompile(`^ *([0-9]+(?:\.[0-9]+)?) *(ms|s|min|m|h|d)`)
)

// readDuration reads a duration such as 500ms, 1h20m or 1 h 20 min.
func readDuration(text string) (d time.Duration, err error) {
	rest := strings.ToLower(text)
	for rest != "" {
		m := durationPart.FindStringSubmatch(rest)
		if m == nil {
			return 0, fmt.Errorf("found %q, expected a duration, such as 500ms, 2s, 1h20m or 30d", text)
		}
		step := time.Minute // m
		if u, ok := durationUnits[m[2]]; ok {
			step = u
		}
		v, err := strconv.ParseFloat(m[1], 64)
		if v *= float64(step); err != nil || v > float64(1<<62) || d > 1<<62-time.Duration(v) {
			return 0, fmt.Errorf("found %q, expected a shorter duration", text)
		}
		d += time.Duration(v + 0.5)
		rest = strings.TrimRight(rest[len(m[0]):], " ")
	}
	return d, nil
}

// duration writes a duration as people say it: 500 ms, 2 s, 1 h 20 min, 30 d. It names the two largest units.
func duration(d time.Duration) string {
	if d < 0 {
		return "-" + duration(-d)
	}
	if d < time.Second {
		return fmt.Sprintf("%d ms", d.Milliseconds())
	}
	if d < 10*time.Second && d%time.Second != 0 {
		return strings.TrimRight(fmt.Sprintf("%.3f", d.Seconds()), "0") + " s"
	}
	d = d.Round(time.Second)
	var parts []string
	for _, unit := range []string{"d", "h", "min", "s"} {
		step := durationUnits[unit]
		if n := d / step; n > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", n, unit))
		} else if len(parts) > 0 {
			break
		}
		d %= step
	}
	return strings.Join(slices.Clip(parts[:min(len(parts), 2)]), " ")
}

// durationOf writes milliseconds as people say them.
func durationOf(n int64) string { return duration(time.Duration(n) * time.Millisecond) }
