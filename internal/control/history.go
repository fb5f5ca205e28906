package control

import (
	"encoding/json"
	"fmt"
	"net/http"
	"reflect"
	"slices"
	"sync"

	"metaplasis/internal/control/api"
	"metaplasis/internal/core/ladder"
	"metaplasis/internal/origin"
)

// keptRevisions is how many earlier settings of a channel are remembered, to tell a stale change
// what changed.
const keptRevisions = 16

type revision struct {
	number   uint64
	settings origin.Settings
}

// history remembers the revisions of the channels' settings, the newest last.
type history struct {
	mu   sync.Mutex
	list map[string][]revision
}

func (h *history) begin(slug string, number uint64, s origin.Settings) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.list == nil {
		h.list = map[string][]revision{}
	}
	h.list[slug] = []revision{{number, s.WithDefaults()}}
}

func (h *history) add(slug string, number uint64, s origin.Settings) {
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
func (h *history) check(slug string, based uint64, now origin.Settings) error {
	newest := h.revision(slug)
	if based == 0 || based == newest {
		return nil
	}
	f := &failure{http.StatusConflict, api.Error{
		Text: fmt.Sprintf("nothing was changed: somebody else changed the settings meanwhile (found revision %d, expected %d)", based, newest),
		Do:   "Look at what changed, then make your change again.",
	}}
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, r := range h.list[slug] {
		if r.number == based {
			f.body.Problems = differences(r.settings, now)
		}
	}
	return f
}

// differences tells, field by field, what one has that the other has not.
func differences(before, after origin.Settings) (out []ladder.Problem) {
	a, b := asFields(before), asFields(after)
	names := map[string]bool{}
	for n := range a {
		names[n] = true
	}
	for n := range b {
		names[n] = true
	}
	for n := range names {
		if reflect.DeepEqual(a[n], b[n]) {
			continue
		}
		text := fmt.Sprintf("was %v, is %v", orNone(a[n]), orNone(b[n]))
		if _, simple := b[n].(map[string]any); simple || n == "selections" || n == "inputs" {
			text = "has changed"
		}
		out = append(out, ladder.Problem{Field: n, Text: text})
	}
	slices.SortFunc(out, func(x, y ladder.Problem) int {
		if x.Field < y.Field {
			return -1
		}
		return 1
	})
	return out
}

func orNone(v any) any {
	if v == nil {
		return "none"
	}
	return v
}

func asFields(s origin.Settings) map[string]any {
	b, err := json.Marshal(s)
	out := map[string]any{}
	if err == nil {
		_ = json.Unmarshal(b, &out)
	}
	return out
}
