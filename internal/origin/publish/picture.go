package publish

import "time"

// Picture is a small JPEG of what is on air.
type Picture struct {
	JPEG []byte
	At   time.Time
}
