package ladder

import (
	"fmt"
	"strconv"
	"strings"

	"metaplasis/internal/core/media"
	"metaplasis/internal/core/timeline"
)

// Rate is a frame rate as a rung asks for it. The zero value is the source's.
type Rate struct {
	Half   bool
	Number media.Rational // invalid for none
}

// Of returns what it makes of a source's rate, which may be unknown or vary (an invalid one). It is never more.
func (r Rate) Of(source media.Rational) media.Rational {
	switch {
	case r.Half && source.Valid():
		return media.Rational{Num: source.Num, Den: 2 * source.Den}.Reduce()
	case r.Number.Valid() && (!source.Valid() || r.Number.Less(source)):
		return r.Number
	}
	return source
}

// Other reports whether it makes another rate of a source's.
func (r Rate) Other(source media.Rational) bool {
	return r.Half || r.Number.Valid() && (!source.Valid() || r.Number.Less(source))
}

const (
	lowestRate  = 1
	highestRate = 120
)

// ParseRate reads a frame rate: nothing, "half", a number, or a fraction of two whole ones.
func ParseRate(text string) (r Rate, err error) {
	wrong := fmt.Errorf("found %q, expected nothing for the source's rate, half, or %d to %d pictures per second such as 25, 29.97 or 30000/1001", text, lowestRate, highestRate)
	switch {
	case text == "":
		return r, nil
	case text == "half":
		return Rate{Half: true}, nil
	}
	if num, den, ok := strings.Cut(text, "/"); ok {
		n, err := strconv.ParseInt(num, 10, 32)
		d, err2 := strconv.ParseInt(den, 10, 32)
		if err != nil || err2 != nil || n <= 0 || d <= 0 {
			return r, wrong
		}
		r.Number = media.Rational{Num: n, Den: d}.Reduce()
	} else {
		v, err := strconv.ParseFloat(text, 64)
		if err != nil || v < lowestRate || v > highestRate {
			return r, wrong
		}
		r.Number = timeline.SnapRate(int64(v*1000 + 0.5))
	}
	if r.Number.Num < lowestRate*r.Number.Den || r.Number.Num > highestRate*r.Number.Den {
		return r, wrong
	}
	return r, nil
}
