package camera

import (
	"metaplasis/internal/core/captions"
	"metaplasis/internal/core/coding"
	"metaplasis/internal/core/flv"
)

// lineEvery is how many pictures go from one line of captions to the next.
const lineEvery = 90

// captioner puts CEA-608 captions into the pictures of a loop, in the order of their showing.
type captioner struct {
	lines  [][][2]byte
	number map[int]int // of the tags' pictures, as they are shown
	count  int         // pictures in a turn
}

func newCaptioner(c *Clip, lines []string) *captioner {
	out := &captioner{number: c.shown, count: len(c.shown)}
	for _, l := range lines {
		out.lines = append(out.lines, captions.RollUp608(l))
	}
	return out
}

// add returns the body of a video tag with its share of the captions.
func (c *captioner) add(body []byte, tag, turn int) []byte {
	number, known := c.number[tag]
	var v flv.Body
	if err := flv.Bodies(flv.TagVideo, body, func(b *flv.Body) error { v = *b; return nil }); err != nil || !known || len(v.Data) == 0 || v.Config {
		return body
	}
	at := (turn*c.count + number) % (lineEvery * len(c.lines))
	line := c.lines[at/lineEvery]
	pair := [2]byte{} // nothing to say
	if k := at % lineEvery; k < len(line) {
		pair = line[k]
	}
	v.Data = coding.AddCaptions(v.Codec, v.Data, [][]byte{captions.Pair608(pair[0], pair[1])})
	return v.Marshal()
}
