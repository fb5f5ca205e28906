package run

import (
	"sort"
	"time"
)

// encodingTime measures how long pictures take from their arrival until they come back encoded.
type encodingTime struct {
	arrivals []arrival // of the source's pictures, by presentation time
	by       map[string]time.Duration
}

type arrival struct {
	pts int64
	at  time.Time
}

// keptArrivals is how many pictures' arrivals are known: some seconds of them.
//
//limit:pictures whose arrival is known | each channel | the oldest are forgotten
const keptArrivals = 256

// came notes when a picture of the source came.
func (c *encodingTime) came(pts int64, at time.Time) {
	i := sort.Search(len(c.arrivals), func(i int) bool { return c.arrivals[i].pts >= pts })
	c.arrivals = append(c.arrivals, arrival{})
	copy(c.arrivals[i+1:], c.arrivals[i:])
	c.arrivals[i] = arrival{pts, at}
	if n := len(c.arrivals) - keptArrivals; n > 0 {
		c.arrivals = append(c.arrivals[:0], c.arrivals[n:]...)
	}
}

// back notes when a picture came back encoded for a rendition.
func (c *encodingTime) back(rendition string, pts int64, at time.Time) {
	i := sort.Search(len(c.arrivals), func(i int) bool { return c.arrivals[i].pts >= pts })
	if i == len(c.arrivals) || c.arrivals[i].pts != pts {
		return
	}
	if c.by == nil {
		c.by = map[string]time.Duration{}
	}
	const share = 32
	d := at.Sub(c.arrivals[i].at)
	if before, known := c.by[rendition]; known {
		d = before + (d-before)/share
	}
	c.by[rendition] = d
}
