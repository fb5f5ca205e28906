package webvtt

import (
	"testing"
	"unicode/utf16"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestSubtitlesOfEveryKind(t *testing.T) {
	vtt := "WEBVTT\n\nNOTE a word of the crew\n\nSTYLE\n::cue { color: red }\n\nstart\n00:01.000 --> 00:02.500 line:10%\nThe <b>boats</b> are off &amp; away\n\n01:00:05.000 --> 01:00:06.000\nLate\n"
	srt := "\ufeff1\r\n00:00:01,000 --> 00:00:02,500\r\n{\\an8}The boats are off & away\r\n\r\n2\r\n01:00:05,000 --> 01:00:06,000\r\n<i>Late</i>\r\n"
	ttml := `<?xml version="1.0" encoding="utf-8"?>
<tt xmlns="http://www.w3.org/ns/ttml" xmlns:ttp="http://www.w3.org/ns/ttml#parameter" xmlns:tts="http://www.w3.org/ns/ttml#styling" ttp:frameRate="25" ttp:tickRate="1000">
<head><layout><region xml:id="up" tts:origin="10% 10%"/></layout></head>
<body><div begin="1s"><p region="up" begin="0s" dur="1500ms">The boats<br/>are   off
 &amp; away</p></div><p begin="01:00:05:00" end="3606000t"><span>Late</span></p></body></tt>`
	wide := []byte{0xff, 0xfe}
	for _, u := range utf16.Encode([]rune(srt[3:])) {
		wide = append(wide, byte(u), byte(u>>8))
	}
	for name, b := range map[string][]byte{"WebVTT": []byte(vtt), "SRT": []byte(srt), "TTML": []byte(ttml), "SRT in UTF-16": wide} {
		list, err := Parse(b)
		require.NoError(t, err, name)
		require.Len(t, list, 2, name)
		assert.Equal(t, []int64{second, 2*second + second/2}, []int64{list[0].Start, list[0].End}, name)
		assert.Contains(t, []string{"The boats are off & away", "The boats\nare off & away"}, list[0].Text, name)
		assert.True(t, list[0].Top, name)
		assert.Equal(t, Cue{3605 * second, 3606 * second, "Late", false}, list[1], name)
	}
	list, err := Parse([]byte("1\n00:00:01,000 --> 00:00:02,000\nd\xe9part\n"))
	require.NoError(t, err)
	assert.Equal(t, "départ", list[0].Text, "an old file")
	for _, wrong := range []string{"", "Dear crew", "WEBVTT\n", "<tt><p begin='soon' end='2s'>x</p></tt>", "<tt><p"} {
		_, err := Parse([]byte(wrong))
		require.Error(t, err, wrong)
		assert.Contains(t, err.Error(), "expected")
	}
}

func TestCuesThatOverlapStandBelowEachOther(t *testing.T) {
	got := Flatten([]Cue{{0, 10, "one", false}, {5, 15, "two", false}, {15, 20, "two", false}, {30, 31, "three", true}})
	assert.Equal(t, []Cue{{0, 5, "one", false}, {5, 10, "one\ntwo", false}, {10, 20, "two", false}, {30, 31, "three", true}}, got)
	assert.Equal(t, []Cue{{7, 10, "one\ntwo", false}, {10, 12, "two", false}}, Within(got, 7, 12))
	assert.Empty(t, Within(got, 20, 30))
}

func TestSamplesReadBack(t *testing.T) {
	cues := []Cue{{10, 20, "a < b & c", false}, {20, 40, "up", true}}
	assert.Equal(t, cues, ReadSamples(Samples(0, 50, cues)))
}

func FuzzParse(f *testing.F) {
	f.Add([]byte("WEBVTT\n\n00:01.000 --> 00:02.000\nx\n"))
	f.Add([]byte(`<tt><body><p begin="1s" end="2s">x<br/>y</p></body></tt>`))
	f.Add([]byte("1\n00:00:01,000 --> 00:00:02,000\nx"))
	f.Fuzz(func(t *testing.T, b []byte) {
		list, err := Parse(b)
		if err != nil {
			return
		}
		for i, c := range Flatten(list) {
			if c.End <= c.Start || i > 10*len(list) {
				t.Fatal(c)
			}
		}
	})
}
