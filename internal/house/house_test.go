// Package house holds the test that keeps the arrows between packages pointing down.
package house

import (
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// floors gives every package its floor. A package may import what lies lower, and packages of
// its own floor only where a pair of them is listed in neighbours.
var floors = map[string]int{
	"internal/core/media": 0, "internal/core/bits": 0, "internal/core/picture": 0,
	"internal/core/avc": 1, "internal/core/aac": 1, "internal/core/amf": 1, "internal/core/id3": 1, "internal/core/scte35": 1,
	"internal/core/flv": 2, "internal/core/bmff": 2, "internal/core/timeline": 2, "internal/core/rtmp": 2, "internal/core/ts": 2,
	"internal/core/ladder": 3, "internal/core/segment": 3,
	"internal/codec/h264dec": 4, "internal/codec/h264enc": 4, "internal/codec/aacdec": 4, "internal/codec/aacenc": 4, "internal/codec/scale": 4,
	"internal/core/hls": 4, "internal/core/dash": 4,
	"internal/core/transcode": 5, "internal/core/inspect": 5,
	"internal/worker": 6, "internal/contribution/rtmp": 6, "internal/onward/rtmp": 6,
	"internal/origin": 7, "internal/records": 7, "internal/camera": 7,
	"internal/delivery": 8, "internal/inspector": 7, "internal/control/api": 8, "internal/control/client": 8, "internal/control": 8,
	"demo": 8, "web": 8,
	"internal/service": 9, "internal/viewer": 9,
	"internal/cli":   10,
	"cmd/metaplasis": 11, "demo/generate": 11, "e2e": 11, "e2e/browser": 10, "e2e/shots": 11, "e2e/bench": 11,
	"internal/house": 11,
}

// neighbours are the pairs on one floor that may meet.
var neighbours = map[[2]string]bool{
	{"internal/core/bits", "internal/core/media"}:       true,
	{"internal/codec/scale", "internal/codec/h264dec"}:  true,
	{"internal/control", "internal/control/api"}:        true,
	{"internal/control/client", "internal/control/api"}: true,
}

// forbidden are the packages that the computation must not know.
var forbidden = []string{"net/http", "database/sql", "github.com/", "log", "log/slog", "os"}

func TestArrowsPointDown(t *testing.T) {
	root := filepath.Join("..", "..")
	err := filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if d.IsDir() && (d.Name() == "node_modules" || strings.HasPrefix(d.Name(), ".") && d.Name() != "..") {
			return filepath.SkipDir
		}
		if !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return nil
		}
		rel, err := filepath.Rel(root, filepath.Dir(path))
		require.NoError(t, err)
		from := filepath.ToSlash(rel)
		floor, known := floors[from]
		assert.True(t, known, "%s has no floor: give it one in this test", from)
		file, err := parser.ParseFile(token.NewFileSet(), path, nil, parser.ImportsOnly)
		require.NoError(t, err)
		for _, spec := range file.Imports {
			name, err := strconv.Unquote(spec.Path.Value)
			require.NoError(t, err)
			if strings.HasPrefix(from, "internal/core/") {
				for _, f := range forbidden {
					assert.False(t, name == f || strings.HasSuffix(f, "/") && strings.HasPrefix(name, f), "%s: core imports %s", path, name)
				}
			}
			to, ours := strings.CutPrefix(name, "metaplasis/")
			if !ours || from == to {
				continue
			}
			assert.True(t, floors[to] < floor || floors[to] == floor && neighbours[[2]string{from, to}],
				"%s on floor %d imports %s on floor %d", from, floor, to, floors[to])
		}
		return nil
	})
	require.NoError(t, err)
}
