// Package house holds the test that keeps the arrows between packages pointing down.
package house

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// layer is a row of the structure. Its packages may import those of the rows above it in this list, which lie lower, and, where it
// is chained, those that stand before them in the row.
type layer struct {
	name     string
	chained  bool
	packages []string // below internal/, or from the root with a slash before
}

// layers are all packages, the lowest first.
var layers = []layer{
	{"0", true, []string{"core/media", "core/bits", "core/picture"}},
	{"1", false, []string{"core/aac", "core/ac3", "core/amf", "core/av1", "core/avc", "core/captions", "core/dynamics", "core/hevc", "core/id3", "core/mjpeg",
		"core/mpega", "core/mpegv", "core/opus", "core/pcm", "core/quality", "core/rawvideo", "core/scte35", "core/vp9", "core/webvtt"}},
	{"1½", true, []string{"core/vp8", "core/coding", "core/hub"}},
	{"2", false, []string{"core/bmff", "core/flv", "core/matroska", "core/rtmp", "core/rtpmap", "core/rtsp", "core/sap", "core/timeline", "core/ts"}},
	{"3", true, []string{"core/ladder", "core/segment", "core/wrap", "core/govern", "core/overlay"}},
	{"4", true, []string{"core/hls", "core/dash", "core/clip", "core/item"}},
	{"5", true, []string{"codec/settings"}},
	{"5", false, []string{"codec/aacdec", "codec/aacenc", "codec/ac3dec", "codec/aomenc", "codec/av1dec", "codec/av1enc", "codec/h264dec", "codec/h264enc", "codec/hevcdec",
		"codec/hevcenc", "codec/jpegdec", "codec/loudness", "codec/mpegadec", "codec/mpegaenc", "codec/mpegvdec", "codec/mpegvenc", "codec/opusdec", "codec/opusenc",
		"codec/rawdec", "codec/resample", "codec/scale", "codec/vp9enc", "codec/vpxdec", "libsrt"}},
	{"5½", true, []string{"codec", "core/transcode", "core/trial", "core/slate", "core/inspect"}},
	{"6", true, []string{"safely", "retry", "lru", "events", "address", "recording", "settings"}},
	{"6", true, []string{"network", "network/udp", "network/dnssd", "network/rtc"}},
	{"6", false, []string{"worker", "store"}},
	{"6½", true, []string{"library", "present", "hooks"}},
	{"6½", true, []string{"contribution/tracks", "contribution", "contribution/cmaf", "contribution/rtpmedia", "contribution/source", "contribution/demux"}},
	{"6½", true, []string{"onward", "onward/tags", "onward/rtpmedia", "onward/mux", "onward/fan", "onward/forward", "onward/relay"}},
	{"7", false, []string{"protocol/channel", "protocol/file", "protocol/http/files", "protocol/http/pull", "protocol/http/push", "protocol/mpegts", "protocol/rtmp",
		"protocol/rtsp", "protocol/socket", "protocol/srt", "protocol/studio", "protocol/webrtc"}},
	{"7", true, []string{"origin/intake", "origin/air", "origin/layout", "origin/run", "origin/publish", "origin/tap", "origin/status", "origin"}},
	{"7", false, []string{"records", "camera", "inspector"}},
	{"8", true, []string{"api", "client", "operations"}},
	{"9", false, []string{"delivery", "control/typescript", "control"}},
	{"10", true, []string{"/web", "/demo", "/demo/feeds", "/demo/files", "service", "viewer", "cli"}},
	{"11", false, []string{"/cmd/metaplasis", "/web/types", "/demo/generate", "/e2e/browser", "/e2e/impair", "/e2e/selfsigned", "house", "house/unused", "house/results"}},
	{"12", false, []string{"/e2e", "/e2e/age", "/e2e/attack", "/e2e/bench", "/e2e/shots"}},
}

// apart are packages of a chained row, or of a lower one, that must not be imported all the same.
var apart = [][2]string{{"origin", "protocol"}, {"protocol", "origin"}, {"onward", "contribution"}, {"contribution", "onward"}}

// forbidden are what the computation must not know.
var forbidden = []string{"net/http", "database/sql", "github.com/", "log", "log/slog", "os"}

// place is where a package lies: its row, and where it stands there.
type place struct{ row, at int }

// dirOf is the folder of a package as layers names it.
func dirOf(name string) string {
	if rest, ok := strings.CutPrefix(name, "/"); ok {
		return rest
	}
	return "internal/" + name
}

// floors are the places of all packages by their folders.
func floors() map[string]place {
	out := map[string]place{}
	for row, l := range layers {
		for at, name := range l.packages {
			out[dirOf(name)] = place{row, at}
		}
	}
	return out
}

// sources parses the files of the tree that are no tests, by the folders of their packages.
func sources(t *testing.T, mode parser.Mode) (out map[string][]*ast.File, set *token.FileSet) {
	root := filepath.Join("..", "..")
	out, set = map[string][]*ast.File{}, token.NewFileSet()
	err := filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
		switch {
		case err != nil:
			return err
		case d.IsDir() && (d.Name() == "node_modules" || strings.HasPrefix(d.Name(), ".") && d.Name() != ".."):
			return filepath.SkipDir
		case d.IsDir() || !strings.HasSuffix(path, ".go"):
			return nil
		}
		rel, err := filepath.Rel(root, filepath.Dir(path))
		require.NoError(t, err)
		dir := filepath.ToSlash(rel)
		if out[dir] = append(out[dir], nil)[:len(out[dir])]; strings.HasSuffix(path, "_test.go") {
			return nil
		}
		file, err := parser.ParseFile(set, path, nil, mode)
		require.NoError(t, err)
		out[dir] = append(out[dir], file)
		return nil
	})
	require.NoError(t, err)
	return out, set
}

// imports are the packages of ours that files import, without duplicates.
func imports(files []*ast.File) (ours, others []string) {
	seen := map[string]bool{}
	for _, f := range files {
		for _, spec := range f.Imports {
			name := strings.Trim(spec.Path.Value, `"`)
			if seen[name] {
				continue
			}
			seen[name] = true
			if rest, ok := strings.CutPrefix(name, "metaplasis/"); ok {
				ours = append(ours, rest)
			} else {
				others = append(others, name)
			}
		}
	}
	slices.Sort(ours)
	return ours, others
}

// TestArrowsPointDown: between rows, and within a family.
func TestArrowsPointDown(t *testing.T) {
	places := floors()
	all, _ := sources(t, parser.ImportsOnly)
	for dir, files := range all {
		at, known := places[dir]
		assert.True(t, known, "%s has no place: give it one in layers", dir)
		ours, others := imports(files)
		for _, to := range ours {
			o := places[to]
			below := o.row < at.row || o.row == at.row && layers[at.row].chained && o.at < at.at
			assert.True(t, below, "%s imports %s, which does not lie below it", dir, to)
			for _, pair := range apart {
				assert.False(t, within(dir, pair[0]) && within(to, pair[1]), "%s imports %s: they must not know each other", dir, to)
			}
		}
		if !strings.HasPrefix(dir, "internal/core/") {
			continue
		}
		for _, name := range others {
			for _, f := range forbidden {
				assert.False(t, name == f || strings.HasSuffix(f, "/") && strings.HasPrefix(name, f), "%s: core imports %s", dir, name)
			}
		}
	}
	for dir := range places {
		assert.Contains(t, all, dir, "there is no such package any more")
	}
}

// within reports whether a package belongs to a family.
func within(dir, family string) bool {
	rest, ok := strings.CutPrefix(dir, "internal/"+family)
	return ok && (rest == "" || rest[0] == '/')
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
	table := floors()["internal/core/coding"]
	for dir, at := range floors() {
		if at.row <= table.row || knowsCodecs(dir) {
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
