package house

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// ownDialers are the files of the service that connect without network.Dialer, each with why it may.
var ownDialers = map[string]string{
	"protocol/rtsp/play.go":   "UDP to the host of the player that asks",
	"protocol/rtsp/camera.go": "UDP to the host of the player that asks",
	"protocol/rtsp/push.go":   "UDP to the host that its connection has reached",
	"inspector/inspector.go":  "its policy is stricter still",
	"cli/recordings.go":       "a command, which runs as who typed it",
}

// TestConnectionsFollowThePolicy finds connections of the service that do not look at where they lead.
func TestConnectionsFollowThePolicy(t *testing.T) {
	root, used := "..", map[string]bool{}
	err := filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
		rel, _ := filepath.Rel(root, path)
		rel = filepath.ToSlash(rel)
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") || strings.HasPrefix(rel, "network/") {
			return err
		}
		set := token.NewFileSet()
		file, err := parser.ParseFile(set, path, nil, 0)
		require.NoError(t, err)
		for _, pos := range dialers(file) {
			if ownDialers[rel] == "" {
				t.Errorf("%s connects by itself: use network.Dialer, network.Transport or network.Resolve", set.Position(pos))
			}
			used[rel] = true
		}
		return nil
	})
	require.NoError(t, err)
	for rel := range ownDialers {
		assert.True(t, used[rel], "%s connects by itself no more: take it off the list", rel)
	}
}

// dialers finds what makes connections by itself.
func dialers(file *ast.File) (out []token.Pos) {
	named := func(e ast.Expr) string {
		s, ok := e.(*ast.SelectorExpr)
		if !ok {
			return ""
		}
		p, ok := s.X.(*ast.Ident)
		if !ok {
			return ""
		}
		return p.Name + "." + s.Sel.Name
	}
	ast.Inspect(file, func(n ast.Node) bool {
		switch n := n.(type) {
		case *ast.CompositeLit:
			if named(n.Type) == "net.Dialer" {
				out = append(out, n.Pos())
			}
		case *ast.SelectorExpr:
			switch named(n) {
			case "http.DefaultClient", "http.DefaultTransport", "http.Get", "http.Post", "http.Head", "http.PostForm", "net.Dial", "net.DialTimeout", "net.DialUDP", "net.DialTCP", "tls.Dial":
				out = append(out, n.Pos())
			}
		}
		return true
	})
	return out
}

func TestDialersAreFound(t *testing.T) {
	for text, found := range map[string]int{
		`var d = &net.Dialer{Timeout: 1}`: 1, `var d = net.Dialer{}`: 1, `var _, _ = http.Get("x")`: 1, `var c = http.DefaultClient`: 1,
		`var c, _ = net.Dial("tcp", "x")`: 1, `var d = network.Dialer(0)`: 0, `var d = &tls.Dialer{NetDialer: network.Dialer(0)}`: 0, `var _, _ = net.Listen("tcp", "x")`: 0,
	} {
		file, err := parser.ParseFile(token.NewFileSet(), "p.go", "package p\n"+text, 0)
		require.NoError(t, err)
		assert.Len(t, dialers(file), found, text)
	}
}
