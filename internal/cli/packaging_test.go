package cli

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/internal/core/inspect"
	"metaplasis/internal/settings"
)

func TestSelectionsAreReadFromAFlag(t *testing.T) {
	list, err := readSelections("phones=360p+240p,radio=sound")
	require.NoError(t, err)
	assert.Equal(t, []settings.Selection{{Name: "phones", Rungs: []string{"360p", "240p"}}, {Name: "radio", SoundOnly: true}}, list)
	list, err = readSelections("")
	require.NoError(t, err)
	assert.Equal(t, []settings.Selection{}, list, "an empty list takes all selections away")
	for _, bad := range []string{"phones", "=360p", "phones="} {
		_, err := readSelections(bad)
		assert.ErrorContains(t, err, "expected NAME=RUNG+RUNG", bad)
	}
}

func TestViewersInWords(t *testing.T) {
	assert.Equal(t, "none", viewersText(nil))
	assert.Equal(t, "5: 3 ll-hls, 2 dash", viewersText(map[string]int{"dash": 2, "ll-hls": 3}))
}

func TestReportsInATerminal(t *testing.T) {
	edge := int64(-30)
	var out printed
	a := &app{out: &out}
	a.printReport(&inspect.Report{Protocol: "HLS", Skew: -1, Verdict: "Broken: 1 rule is violated, 0 risks.",
		Streams:  []inspect.Stream{{Name: "480p", Edge: &edge, Aim: 600}},
		Findings: []inspect.Finding{{Level: inspect.Breaks, Rule: "target-duration", Where: "480p", Found: "segment 7 lasts 3s", Want: "2s at most", Ref: "a section", Count: 4}}})
	assert.Contains(t, out.text, "480p       -     -      -")
	assert.Contains(t, out.text, "-30 ms")
	assert.Contains(t, out.text, "breaks  target-duration")
	assert.Contains(t, out.text, "> expected 2s at most; a section (seen 4 times)")
	assert.NotContains(t, out.text, "Sound and video")
}

type printed struct{ text string }

func (p *printed) Write(b []byte) (int, error) {
	p.text += string(b)
	return len(b), nil
}
