// Command results reads what go test -json writes: it prints the output of what failed, a line for each package, and the ten
// slowest tests. It fails when a test failed, and when one was skipped: in a run that counts, nothing may be left out.
package main

import (
	"bufio"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
)

// event is one line (cmd/test2json).
type event struct {
	Action, Package, ImportPath, Test, Output string
	Elapsed                                   float64 // seconds
}

// slowestListed is how many of the slowest tests are listed.
const slowestListed = 10

type test struct {
	name    string
	seconds float64
}

func main() {
	if !report(os.Stdin, os.Stdout) {
		os.Exit(1)
	}
}

// report prints what the events say, and reports whether all tests ran and passed.
func report(in io.Reader, out io.Writer) bool {
	output := map[string]*strings.Builder{} // of tests and packages that run
	var tests []test
	var skipped []string
	passed, failed := 0, 0
	lines := bufio.NewReader(in)
	for {
		line, err := lines.ReadString('\n')
		var e event
		switch {
		case line == "":
		case json.Unmarshal([]byte(line), &e) != nil || e.Action == "":
			_, _ = io.WriteString(out, line) // of the go command itself
		default:
			key := e.Package + "\x00" + e.Test
			switch e.Action {
			case "build-output":
				_, _ = io.WriteString(out, e.Output)
			case "output":
				if output[key] == nil {
					output[key] = &strings.Builder{}
				}
				output[key].WriteString(e.Output)
			case "skip":
				if e.Test != "" {
					skipped = append(skipped, e.Package+" "+e.Test)
				}
				delete(output, key)
			case "pass", "fail":
				if e.Action == "fail" {
					failed++
					if b := output[key]; b != nil {
						_, _ = io.WriteString(out, b.String())
					}
				}
				switch {
				case e.Test != "" && !strings.Contains(e.Test, "/"):
					tests = append(tests, test{e.Package + " " + e.Test, e.Elapsed})
				case e.Test == "" && e.Action == "pass":
					passed++
					_, _ = fmt.Fprintf(out, "ok  %s  %.1fs\n", e.Package, e.Elapsed)
				}
				delete(output, key)
			}
		}
		if err != nil {
			break
		}
	}
	slices.SortStableFunc(tests, func(a, b test) int { return int(1000 * (b.seconds - a.seconds)) })
	_, _ = fmt.Fprintln(out, "the slowest tests:")
	for _, t := range tests[:min(len(tests), slowestListed)] {
		_, _ = fmt.Fprintf(out, "%8.1fs  %s\n", t.seconds, t.name)
	}
	for _, name := range skipped {
		_, _ = fmt.Fprintln(out, "skipped, which counts as failed:", name)
	}
	return failed == 0 && len(skipped) == 0 && passed > 0
}
