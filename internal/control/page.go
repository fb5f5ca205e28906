package control

import (
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strconv"

	"metaplasis/internal/operations"
)

// longestPage is the most that a page of a list may hold.
const longestPage = 1000

// page cuts a list to what limit and after ask for: at most so many, behind the one that a page before ended with. Without limit it
// is the whole list. A link names the next page (RFC 8288).
func page[T any](w http.ResponseWriter, r *http.Request, list []T, key func(*T) string) ([]T, error) {
	q := r.URL.Query()
	if after := q.Get("after"); after != "" {
		at := slices.IndexFunc(list, func(e T) bool { return key(&e) == after })
		if at < 0 {
			return nil, operations.Refuse(operations.NotFound, fmt.Sprintf("found after=%.80q, which is not in the list any more", after), "Begin with the first page again.")
		}
		list = list[at+1:]
	}
	text := q.Get("limit")
	if text == "" {
		return list, nil
	}
	n, err := strconv.Atoi(text)
	if err != nil || n < 1 || n > longestPage {
		return nil, operations.Refuse(operations.Invalid, fmt.Sprintf("found limit=%.20q, expected 1 to %d", text, longestPage), "")
	}
	if len(list) > n {
		list = list[:n]
		q.Set("after", key(&list[n-1]))
		next := url.URL{Path: r.URL.Path, RawQuery: q.Encode()}
		w.Header().Set("Link", fmt.Sprintf("<%s>; rel=\"next\"", &next))
	}
	return list, nil
}
