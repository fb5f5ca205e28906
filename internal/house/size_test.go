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

// How large a type or a function may be without a sentence on why.
const (
	maxFields  = 20
	maxMethods = 25
	maxLines   = 70
)

// reasonMark begins the line of a comment that says why something is larger.
const reasonMark = "//large:"

// TestNothingIsLargeWithoutAReason counts the fields and methods of types, and the lines of functions.
func TestNothingIsLargeWithoutAReason(t *testing.T) {
	reasoned := func(docs ...*ast.CommentGroup) bool {
		return slices.ContainsFunc(docs, func(d *ast.CommentGroup) bool {
			return d != nil && slices.ContainsFunc(d.List, func(c *ast.Comment) bool {
				return strings.HasPrefix(c.Text, reasonMark) && len(c.Text) > len(reasonMark)+6
			})
		})
	}
	files := token.NewFileSet()
	methods := map[string]int{} // by folder and type
	large := map[string]bool{}  // types with a reason
	err := filepath.WalkDir("../..", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() && d.Name() == "node_modules" {
			return fs.SkipDir
		}
		if d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return nil
		}
		f, err := parser.ParseFile(files, path, nil, parser.ParseComments|parser.SkipObjectResolution)
		if err != nil {
			return err
		}
		for _, decl := range f.Decls {
			switch decl := decl.(type) {
			case *ast.FuncDecl:
				if n := files.Position(decl.End()).Line - files.Position(decl.Pos()).Line - 1; n > maxLines && !reasoned(decl.Doc) {
					assert.Fail(t, "a long function", "%s: %s has %d lines", path, decl.Name.Name, n)
				}
				if decl.Recv != nil {
					methods[filepath.Dir(path)+"."+receiver(decl.Recv.List[0].Type)]++
				}
			case *ast.GenDecl:
				for _, spec := range decl.Specs {
					s, ok := spec.(*ast.TypeSpec)
					if !ok {
						continue
					}
					large[filepath.Dir(path)+"."+s.Name.Name] = reasoned(decl.Doc, s.Doc)
					if st, ok := s.Type.(*ast.StructType); ok && fieldsOf(st) > maxFields && !reasoned(decl.Doc, s.Doc) {
						assert.Fail(t, "a large type", "%s: %s has %d fields", path, s.Name.Name, fieldsOf(st))
					}
				}
			}
		}
		return nil
	})
	require.NoError(t, err)
	for of, n := range methods {
		assert.True(t, n <= maxMethods || large[of], "%s has %d methods", of, n)
	}
}

func fieldsOf(s *ast.StructType) (n int) {
	for _, f := range s.Fields.List {
		n += max(len(f.Names), 1)
	}
	return n
}

func receiver(e ast.Expr) string {
	switch e := e.(type) {
	case *ast.StarExpr:
		return receiver(e.X)
	case *ast.IndexExpr:
		return receiver(e.X)
	case *ast.IndexListExpr:
		return receiver(e.X)
	case *ast.Ident:
		return e.Name
	}
	return ""
}
