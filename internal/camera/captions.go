package camera

import (
	"metaplasis/internal/core/avc"
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
		out.lines = append(out.lines, avc.RollUp608(l))
	}
	return out
}

// add returns the body of a video tag with its share of the captions.
func (c *captioner) add(body []byte, tag, turn int) []byte {
	number, known := c.number[tag]
	var v flv.VideoBody
	if !known || v.Unmarshal(body) != nil || v.Config {
		return body
	}
	at := (turn*c.count + number) % (lineEvery * len(c.lines))
	line := c.lines[at/lineEvery]
	pair := [2]byte{} // nothing to say
	if k := at % lineEvery; k < len(line) {
		pair = line[k]
	}
	v.Data = avc.InsertSEI(v.Data, avc.CaptionSEI(avc.Pair608(pair[0], pair[1])))
	return v.Marshal()
}
