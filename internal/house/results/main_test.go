package main

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestReports(t *testing.T) {
	pass := `{"Action":"start","Package":"a"}
{"Action":"run","Package":"a","Test":"TestQuick"}
{"Action":"output","Package":"a","Test":"TestQuick","Output":"told only when it fails\n"}
{"Action":"pass","Package":"a","Test":"TestQuick","Elapsed":0.1}
{"Action":"pass","Package":"a","Test":"TestSlow/part","Elapsed":9}
{"Action":"pass","Package":"a","Test":"TestSlow","Elapsed":12.5}
{"Action":"output","Package":"a","Output":"ok  \ta\t12.6s\n"}
{"Action":"pass","Package":"a","Elapsed":12.6}
{"Action":"skip","Package":"b"}
`
	for _, c := range []struct {
		name, in string
		ok       bool
		says     []string
		hides    []string
	}{
		{"all passed", pass, true, []string{"ok  a  12.6s", "the slowest tests:\n    12.5s  a TestSlow\n     0.1s  a TestQuick"}, []string{"told only", "part", "skipped"}},
		{"one failed", pass + `{"Action":"output","Package":"c","Test":"TestWrong","Output":"--- FAIL: TestWrong\n"}
{"Action":"fail","Package":"c","Test":"TestWrong","Elapsed":1}
{"Action":"fail","Package":"c","Elapsed":1}
`, false, []string{"--- FAIL: TestWrong"}, nil},
		{"one was skipped", pass + `{"Action":"skip","Package":"c","Test":"TestLater"}` + "\n", false, []string{"skipped, which counts as failed: c TestLater"}, nil},
		{"it does not build", `{"ImportPath":"c","Action":"build-output","Output":"c.go:1: no\n"}
{"ImportPath":"c","Action":"build-fail"}
{"Action":"fail","Package":"c","Elapsed":0}
`, false, []string{"c.go:1: no"}, nil},
		{"nothing ran", "go: no such module\n", false, []string{"no such module"}, nil},
		{"cut off", pass + `{"Action":"out`, true, []string{`{"Action":"out`}, nil},
	} {
		var out strings.Builder
		assert.Equal(t, c.ok, report(strings.NewReader(c.in), &out), c.name)
		for _, text := range c.says {
			assert.Contains(t, out.String(), text, c.name)
		}
		for _, text := range c.hides {
			assert.NotContains(t, out.String(), text, c.name)
		}
	}
}
