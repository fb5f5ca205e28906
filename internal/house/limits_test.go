package house

import (
	"bytes"
	"flag"
	"fmt"
	"go/ast"
	"go/constant"
	"go/parser"
	"go/printer"
	"go/token"
	"go/types"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var write = flag.Bool("write", false, "write docs/limits.md")

// limit is a bound of the code: a constant with a comment such as
//
//	//limit:bytes of a request | each request | 413
type limit struct{ what, much, per, past, where string }

// bounding are names of constants that bound something.
var bounding = regexp.MustCompile(`^(max|Max|kept)[A-Z]`)

// TestLimitsAreListed finds bounds that say neither per what they are nor what happens past them, and a page that is not
// that of the code: make limits writes it.
func TestLimitsAreListed(t *testing.T) {
	root := filepath.Join("..")
	areas, order := map[string][]limit{}, []string(nil)
	err := filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		set := token.NewFileSet()
		file, err := parser.ParseFile(set, path, nil, parser.ParseComments)
		require.NoError(t, err)
		for _, spec := range values(file) {
			l, ok := limitOf(set, spec)
			if !ok {
				for _, name := range spec.Names {
					assert.NotRegexp(t, bounding, name.Name, "%s: say what it bounds: //limit:what | per what | what happens past it", set.Position(name.Pos()))
				}
				continue
			}
			rel, _ := filepath.Rel(root, path)
			l.where = filepath.ToSlash(filepath.Join("internal", rel))
			area, _, _ := strings.Cut(filepath.ToSlash(rel), "/")
			if areas[area] == nil {
				order = append(order, area)
			}
			areas[area] = append(areas[area], l)
		}
		return nil
	})
	require.NoError(t, err)
	page := limitsPage(areas, order)
	at := filepath.Join("..", "..", "docs", "limits.md")
	if *write {
		require.NoError(t, os.WriteFile(at, page, 0o644))
	}
	found, err := os.ReadFile(at)
	require.NoError(t, err)
	assert.Equal(t, string(page), string(found), "run make limits")
}

// values returns the constants and variables of a package.
func values(file *ast.File) (out []*ast.ValueSpec) {
	for _, d := range file.Decls {
		g, ok := d.(*ast.GenDecl)
		if !ok || g.Tok != token.CONST && g.Tok != token.VAR {
			continue
		}
		for _, s := range g.Specs {
			spec := s.(*ast.ValueSpec)
			if !g.Lparen.IsValid() {
				spec.Doc = g.Doc
			}
			out = append(out, spec)
		}
	}
	return out
}

// limitOf reads what a constant says of itself.
func limitOf(set *token.FileSet, spec *ast.ValueSpec) (l limit, ok bool) {
	if spec.Doc == nil || len(spec.Values) != 1 {
		return l, false
	}
	for _, c := range spec.Doc.List {
		text, found := strings.CutPrefix(c.Text, "//limit:")
		if parts := strings.Split(text, " | "); found && len(parts) == 3 {
			l.what, l.per, l.past, ok = parts[0], parts[1], parts[2], true
		}
	}
	if !ok {
		return l, false
	}
	l.much = amount(set, spec.Values[0])
	if strings.HasPrefix(l.what, "bytes ") || l.what == "bytes" {
		l.much = size(l.much)
		l.what = strings.ToUpper(l.what[:1]) + l.what[1:]
	}
	return l, ok
}

// amount is a constant as people write it.
func amount(set *token.FileSet, e ast.Expr) string {
	if v, err := types.Eval(set, nil, token.NoPos, types.ExprString(e)); err == nil && v.Value != nil {
		if n, exact := constant.Int64Val(constant.ToInt(v.Value)); exact {
			return grouped(n)
		}
		return v.Value.String()
	}
	if l, ok := e.(*ast.CompositeLit); ok { // network.Limits
		var all []string
		for i, name := range []string{"", " of one network", " that do nothing", " of one network that do nothing"} {
			if i < len(l.Elts) {
				all = append(all, amount(set, l.Elts[i].(*ast.KeyValueExpr).Value)+name)
			}
		}
		return strings.Join(all, "; ")
	}
	var b bytes.Buffer
	_ = printer.Fprint(&b, set, e)
	s := b.String()
	for _, w := range words {
		if from, to := w[0], w[1]; strings.HasSuffix(s, from) {
			s = strings.TrimSuffix(s, from) + to
		}
	}
	return strings.ReplaceAll(strings.TrimPrefix(s, "1 × "), "_", ",")
}

// words are ends of expressions, each with what people write.
var words = [][2]string{{" * time.Hour", " h"}, {" * time.Minute", " min"}, {" * time.Second", " s"}, {" * time.Millisecond", " ms"}, {"time.Second", "1 s"}, {"time.Minute", "1 min"},
	{"media.VideoTimescale / 2", "45,000"}, {" * media.VideoTimescale", " × 90,000"}, {" * ticksEachMilli", " × 90"}}

// grouped writes a number by thousands.
func grouped(n int64) string {
	if n < 1000 {
		return fmt.Sprint(n)
	}
	return fmt.Sprintf("%s,%03d", grouped(n/1000), n%1000)
}

// size tells bytes in larger units, where they are whole.
func size(text string) string {
	n, err := strconv.ParseInt(strings.ReplaceAll(text, ",", ""), 10, 64)
	if err != nil {
		return text
	}
	for i, unit := range []string{" TiB", " GiB", " MiB", " KiB"} {
		if each := int64(1) << (40 - 10*i); n%each == 0 && n >= each {
			return fmt.Sprint(n/each) + unit
		}
	}
	return text
}

func limitsPage(areas map[string][]limit, order []string) []byte {
	var b bytes.Buffer
	b.WriteString("# What is bounded\n\nEvery queue, table, wait and retry has a bound. This page is written from the code by `make limits`. A network is a /24 of IPv4\n" +
		"or a /64 of IPv6. Numbers such as 422 and 503 are the status of the answer, whose text says what was found and what to do.\n")
	for _, area := range order {
		fmt.Fprintf(&b, "\n## internal/%s\n\n| What | How much | Per | Past it | Where |\n|---|---|---|---|---|\n", area)
		for _, l := range areas[area] {
			fmt.Fprintf(&b, "| %s | %s | %s | %s | `%s` |\n", strings.ToUpper(l.what[:1])+l.what[1:], l.much, l.per, l.past, strings.TrimPrefix(l.where, "internal/"+area+"/"))
		}
	}
	return b.Bytes()
}
