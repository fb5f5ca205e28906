// Package house holds the test that keeps the arrows between packages pointing down.
package house

import (
	"go/ast"
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
var floors = map[string]float64{
	"internal/core/media": 0, "internal/core/bits": 0, "internal/core/picture": 0,
	"internal/core/avc": 1, "internal/core/aac": 1, "internal/core/amf": 1, "internal/core/id3": 1, "internal/core/captions": 1, "internal/core/scte35": 1,
	"internal/core/hevc": 1, "internal/core/vp9": 1, "internal/core/av1": 1, "internal/core/opus": 1, "internal/core/ac3": 1, "internal/core/mpega": 1, "internal/core/mpegv": 1, "internal/core/vp8": 1, "internal/core/pcm": 1, "internal/core/mjpeg": 1, "internal/core/rawvideo": 1,
	"internal/core/coding": 1.5, "internal/core/hub": 1.5,
	"internal/core/flv": 2, "internal/core/matroska": 2, "internal/core/bmff": 2, "internal/core/timeline": 2, "internal/core/rtmp": 2, "internal/core/ts": 2, "internal/core/rtpmap": 2,
	"internal/core/quality": 1, "internal/core/dynamics": 1, "internal/core/overlay": 3.5, "internal/core/ladder": 3, "internal/core/segment": 3, "internal/core/govern": 3.5,
	"internal/codec/h264dec": 4, "internal/codec/h264enc": 4, "internal/codec/aacdec": 4, "internal/codec/aacenc": 4, "internal/codec/scale": 4,
	"internal/codec/settings": 3.5, "internal/codec/aomenc": 4, "internal/codec/mpegvdec": 4, "internal/codec/jpegdec": 4, "internal/codec/rawdec": 4, "internal/codec/mpegvenc": 4, "internal/codec/vp9enc": 4, "internal/codec/av1enc": 4, "internal/codec/hevcenc": 4, "internal/codec/opusenc": 4,
	"internal/codec/hevcdec": 4, "internal/codec/vpxdec": 4, "internal/codec/av1dec": 4, "internal/codec/opusdec": 4, "internal/codec/mpegadec": 4, "internal/codec/mpegaenc": 4, "internal/codec/resample": 4, "internal/codec/loudness": 4, "internal/codec/ac3dec": 4,
	"internal/codec":     4.5,
	"internal/core/clip": 4, "internal/core/item": 4, "internal/library": 7, "internal/core/hls": 4, "internal/core/dash": 4,
	"internal/core/transcode": 5, "internal/core/trial": 5.5, "internal/core/slate": 5.5, "internal/core/inspect": 5,
	"internal/network": 5, "internal/network/udp": 5.1, "internal/network/rtc": 5.2, "internal/network/dnssd": 5.2,
	"internal/worker": 6, "internal/contribution/rtmp": 6, "internal/contribution/file": 6,
	"internal/contribution/source": 5.7, "internal/contribution/channel": 6, "internal/contribution/mpegts": 5.8, "internal/libsrt": 4, "internal/hooks": 7, "internal/contribution/fetch": 6, "internal/onward/push": 6, "internal/contribution/cmaf": 5.6, "internal/contribution/push": 6, "internal/onward/whip": 6, "internal/onward/whep": 6, "internal/onward/relay": 6.2, "internal/onward/fan": 5.8, "internal/onward/forward": 6, "internal/onward/socket": 6, "internal/onward/tags": 5.8, "internal/contribution/whip": 6, "internal/core/rtsp": 2, "internal/core/sap": 2, "internal/core/webvtt": 1, "internal/contribution/rtsp": 6, "internal/contribution/studio": 6.2, "internal/onward/studio": 6, "internal/onward/rtpmedia": 5.8, "internal/onward/rtsp": 6, "internal/contribution/rtpmedia": 5.8, "internal/contribution/srt": 6,
	"internal/contribution/tracks": 5, "internal/contribution": 5.5, "internal/onward/rtmp": 6, "internal/onward": 5.5, "internal/onward/mpegts": 5.8, "internal/onward/srt": 6,
	"internal/present": 6.5, "internal/origin": 7, "internal/store": 6.8, "internal/onward/files": 6.7, "internal/records": 7, "internal/camera": 7,
	"internal/delivery": 8, "internal/inspector": 7, "internal/control/api": 8, "internal/control/client": 8, "internal/control": 8, "internal/control/typescript": 9,
	"demo": 8, "demo/feeds": 8, "demo/files": 8.5, "web": 8,
	"internal/service": 9, "internal/viewer": 9,
	"internal/cli":   10,
	"cmd/metaplasis": 11, "web/types": 11, "demo/generate": 11, "e2e": 11, "e2e/browser": 10, "e2e/shots": 11, "e2e/impair": 10, "e2e/selfsigned": 10, "e2e/bench": 11, "e2e/attack": 11,
	"internal/house": 11,
}

// neighbours are the pairs on one floor that may meet.
var neighbours = map[[2]string]bool{
	{"internal/core/bits", "internal/core/media"}:       true,
	{"internal/core/vp8", "internal/core/vp9"}:          true,
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
				"%s on floor %v imports %s on floor %v", from, floor, to, floors[to])
		}
		return nil
	})
	require.NoError(t, err)
}

// codecPackages are those of the syntax of one codec each, and codecNames the names in core/media.
var codecPackages = []string{"avc", "hevc", "vp9", "av1", "aac", "opus", "ac3", "mpega", "mpegv", "vp8", "pcm", "mjpeg"}

var codecNames = map[string]bool{"H264": true, "HEVC": true, "VP9": true, "AV1": true, "AAC": true, "Opus": true, "AC3": true, "EAC3": true,
	"VP8": true, "MPEG2": true, "MP2": true, "MP3": true, "ALaw": true, "ULaw": true, "PCM": true, "JPEG": true, "WebVTT": true, "RawVideo": true}

// knowsCodecs are the packages above the table of codecs that may know them: what decodes and encodes,
// the demo, and the inspector for its rules on transport streams.
func knowsCodecs(dir string) bool {
	return strings.HasPrefix(dir, "internal/codec/") || dir == "internal/codec" || dir == "internal/core/inspect" ||
		strings.HasPrefix(dir, "demo") || strings.HasPrefix(dir, "e2e")
}

// TestCodecsAreKnownByTheTableAlone: what lies above the table asks it, and knows no codec by name.
func TestCodecsAreKnownByTheTableAlone(t *testing.T) {
	root := filepath.Join("..", "..")
	for dir, floor := range floors {
		if floor <= 1.5 || knowsCodecs(dir) {
			continue
		}
		files, err := filepath.Glob(filepath.Join(root, filepath.FromSlash(dir), "*.go"))
		require.NoError(t, err)
		for _, path := range files {
			if strings.HasSuffix(path, "_test.go") {
				continue
			}
			file, err := parser.ParseFile(token.NewFileSet(), path, nil, 0)
			require.NoError(t, err)
			for _, spec := range file.Imports {
				for _, name := range codecPackages {
					assert.NotEqual(t, `"metaplasis/internal/core/`+name+`"`, spec.Path.Value, "%s: ask core/coding", path)
				}
			}
			ast.Inspect(file, func(n ast.Node) bool {
				if sel, ok := n.(*ast.SelectorExpr); ok && codecNames[sel.Sel.Name] {
					if of, ok := sel.X.(*ast.Ident); ok && of.Name == "media" {
						t.Errorf("%s: media.%s; ask core/coding", path, sel.Sel.Name)
					}
				}
				return true
			})
		}
	}
}
