package operations

import (
	"bytes"
	"encoding/json"
	"fmt"
	"reflect"
	"slices"
	"strings"
	"sync"

	"metaplasis/internal/api"
	"metaplasis/internal/core/ladder"
	"metaplasis/internal/settings"
)

// keptRevisions is how many earlier settings of a channel are remembered, to tell a stale change
// what changed.
//
//limit:earlier settings, to tell a stale change what changed | each channel | the oldest are forgotten
const keptRevisions = 16

type revision struct {
	number   uint64
	settings settings.Settings
}

// history remembers the revisions of the channels' settings, the newest last.
type history struct {
	mu   sync.Mutex
	list map[string][]revision
}

func (h *history) begin(slug string, number uint64, s settings.Settings) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.list == nil {
		h.list = map[string][]revision{}
	}
	h.list[slug] = []revision{{number, s.WithDefaults()}}
}

func (h *history) add(slug string, number uint64, s settings.Settings) {
	h.mu.Lock()
	defer h.mu.Unlock()
	l := append(h.list[slug], revision{number, s})
	h.list[slug] = slices.Clone(l[max(0, len(l)-keptRevisions):])
}

func (h *history) forget(slug string) {
	h.mu.Lock()
	defer h.mu.Unlock()
	delete(h.list, slug)
}

func (h *history) revision(slug string) uint64 {
	h.mu.Lock()
	defer h.mu.Unlock()
	if l := h.list[slug]; len(l) > 0 {
		return l[len(l)-1].number
	}
	return 0
}

// check refuses a change that is based on an earlier revision than the newest, and tells what has
// changed since. A change without a revision, 0, is based on whatever is there.
func (h *history) check(slug string, based uint64, now settings.Settings) error {
	newest := h.revision(slug)
	if based == 0 || based == newest {
		return nil
	}
	f := &Error{Conflict, api.Error{
		Text: fmt.Sprintf("nothing was changed: somebody else changed the settings meanwhile (found revision %d, expected %d)", based, newest),
		Do:   "Review what changed, then repeat your change.",
	}}
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, r := range h.list[slug] {
		if r.number == based {
			f.Body.Problems = differences(r.settings, now)
		}
	}
	return f
}

// differences tells, setting by setting, what one has that the other has not.
func differences(before, after settings.Settings) []ladder.Problem {
	out := differing("", asFields(before), asFields(after))
	slices.SortFunc(out, func(x, y ladder.Problem) int { return strings.Compare(x.Field, y.Field) })
	return out
}

func differing(group string, a, b map[string]any) (out []ladder.Problem) {
	names := map[string]bool{}
	for _, m := range []map[string]any{a, b} {
		for n := range m {
			names[n] = true
		}
	}
	for n := range names {
		was, is := a[n], b[n]
		if reflect.DeepEqual(was, is) {
			continue
		}
		if groups[n] {
			one, _ := was.(map[string]any)
			other, _ := is.(map[string]any)
			out = append(out, differing(n+".", one, other)...)
			continue
		}
		text := fmt.Sprintf("was %v, is %v", orNone(was), orNone(is))
		switch is.(type) {
		case map[string]any, []any:
			text = "has changed"
		}
		out = append(out, ladder.Problem{Field: group + n, Text: text})
	}
	return out
}

func orNone(v any) any {
	if v == nil {
		return "none"
	}
	return v
}

func asFields(s settings.Settings) map[string]any {
	out := map[string]any{}
	if b, err := json.Marshal(s.Shown()); err == nil {
		d := json.NewDecoder(bytes.NewReader(b))
		d.UseNumber() // an integer stays one
		_ = d.Decode(&out)
	}
	return out
}
