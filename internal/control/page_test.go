package control

import (
	"net/http/httptest"
	"strconv"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A list is read page by page by following links, each entry once; what is asked for wrongly is told.
func TestPagesOfLists(t *testing.T) {
	list := make([]int, 25)
	for i := range list {
		list[i] = i
	}
	get := func(address string) ([]int, string, error) {
		w := httptest.NewRecorder()
		out, err := page(w, httptest.NewRequest("GET", address, nil), list, func(n *int) string { return strconv.Itoa(*n) })
		return out, w.Header().Get("Link"), err
	}
	all, link, err := get("/items")
	require.NoError(t, err)
	assert.Equal(t, list, all)
	assert.Empty(t, link)
	var read []int
	for address := "/items?limit=10&channel=line"; address != ""; {
		part, link, err := get(address)
		require.NoError(t, err)
		read = append(read, part...)
		if address = ""; link != "" {
			assert.Contains(t, link, "channel=line")
			address = link[1 : len(link)-len(`>; rel="next"`)]
		}
	}
	assert.Equal(t, list, read)
	for _, wrong := range []string{"?limit=0", "?limit=x", "?limit=5000", "?after=99"} {
		_, _, err := get("/items" + wrong)
		assert.Error(t, err, wrong)
	}
}
