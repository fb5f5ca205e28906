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

// TestTicksAreRescaledInOnePlace finds products of times that are divided again, such as ticks*1e9/scale: they are
// right in every test and overflow on the second day. media.Rescale and its companions hold the product in 128 bits.
func TestTicksAreRescaledInOnePlace(t *testing.T) {
	root := filepath.Join("..")
	err := filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		if strings.HasSuffix(filepath.ToSlash(filepath.Dir(path)), "core/media") {
			return nil
		}
		set := token.NewFileSet()
		file, err := parser.ParseFile(set, path, nil, 0)
		require.NoError(t, err)
		if notTicks[filepath.ToSlash(path)] != "" {
			return nil
		}
		for _, pos := range tickProducts(file) {
			t.Errorf("%s multiplies a time and divides it again: use media.Rescale, media.Duration, media.Ticks or media.PerSecond", set.Position(pos))
		}
		return nil
	})
	require.NoError(t, err)
}

// notTicks are files whose products look like those of ticks, each with what they are.
var notTicks = map[string]string{
	"../core/mpega/mpega.go": "sizes of frames, whose rates come from a table (ISO/IEC 11172-3, 2.4.3.1)",
}

func TestTickProductsAreFound(t *testing.T) {
	const head = "package p\nvar _ = "
	for text, found := range map[string]bool{
		"ticks * 1e9 / scale": true,
		"time.Duration(u.At-c.zero)*time.Second/VideoTimescale":        true,
		"int64(d/time.Microsecond) * media.VideoTimescale / 1_000_000": true,
		"(pts*rate.Num + half) / (rate.Den * media.VideoTimescale)":    true,
		"bytes * 8 * media.VideoTimescale / span":                      true,
		"d.Microseconds() * sampleRate / 1_000_000":                    true,
		"6 * media.VideoTimescale / 1000":                              false,
		"2 * time.Second / 3":                                          false,
		"lost * 1000 / (received + lost)":                              false,
		"time.Duration(n) * time.Second":                               false,
		"media.Rescale(v, scale, 1000) / 2":                            false,
	} {
		file, err := parser.ParseFile(token.NewFileSet(), "", head+text, 0)
		require.NoError(t, err)
		assert.Equal(t, found, len(tickProducts(file)) > 0, text)
	}
}

// tickProducts returns where an expression multiplies something that varies and divides the product, when one of the
// factors or the divisor is a timescale or a unit of time.
func tickProducts(file *ast.File) (found []token.Pos) {
	ast.Inspect(file, func(n ast.Node) bool {
		div, ok := n.(*ast.BinaryExpr)
		if !ok || div.Op != token.QUO {
			return true
		}
		var factors []ast.Expr
		product := false
		terms(div.X, func(e ast.Expr) {
			if m, ok := unwrap(e).(*ast.BinaryExpr); ok && m.Op == token.MUL {
				product = true
				factors = append(factors, operands(m)...)
			}
		})
		if !product {
			return true
		}
		varies, timed := false, isTimed(div.Y, true)
		for _, f := range factors {
			varies = varies || !isConstant(f)
			timed = timed || isTimed(f, false)
		}
		if varies && timed {
			found = append(found, div.Pos())
		}
		return true
	})
	return found
}

// terms calls do for each term of a sum.
func terms(e ast.Expr, do func(ast.Expr)) {
	if b, ok := unwrap(e).(*ast.BinaryExpr); ok && (b.Op == token.ADD || b.Op == token.SUB) {
		terms(b.X, do)
		terms(b.Y, do)
		return
	}
	do(e)
}

// operands returns the factors of a product.
func operands(e ast.Expr) []ast.Expr {
	if b, ok := unwrap(e).(*ast.BinaryExpr); ok && b.Op == token.MUL {
		return append(operands(b.X), operands(b.Y)...)
	}
	return []ast.Expr{unwrap(e)}
}

// unwrap removes parentheses and conversions.
func unwrap(e ast.Expr) ast.Expr {
	for {
		switch x := e.(type) {
		case *ast.ParenExpr:
			e = x.X
			continue
		case *ast.CallExpr:
			if name := nameOf(x.Fun); len(x.Args) == 1 && (strings.HasPrefix(name, "int") || strings.HasPrefix(name, "uint") || name == "Duration") {
				e = x.Args[0]
				continue
			}
		}
		return e
	}
}

func nameOf(e ast.Expr) string {
	switch x := e.(type) {
	case *ast.Ident:
		return x.Name
	case *ast.SelectorExpr:
		return x.Sel.Name
	}
	return ""
}

// units are the names of constants that are a unit of time or a timescale.
var units = map[string]bool{"Second": true, "Millisecond": true, "Microsecond": true, "Nanosecond": true, "VideoTimescale": true, "systemClock": true}

func isConstant(e ast.Expr) bool {
	switch x := unwrap(e).(type) {
	case *ast.BasicLit:
		return true
	case *ast.BinaryExpr:
		return isConstant(x.X) && isConstant(x.Y)
	case *ast.SelectorExpr, *ast.Ident:
		return units[nameOf(x)]
	}
	return false
}

// isTimed reports whether an operand is a timescale or a unit of time; of a divisor, also whether it holds one.
func isTimed(e ast.Expr, deep bool) bool {
	e = unwrap(e)
	if b, ok := e.(*ast.BinaryExpr); ok && deep {
		return isTimed(b.X, true) || isTimed(b.Y, true)
	}
	if lit, ok := e.(*ast.BasicLit); ok {
		v, err := strconv.ParseFloat(strings.ReplaceAll(lit.Value, "_", ""), 64)
		return err == nil && (v == 1e6 || v == 1e9 || v == 90000)
	}
	name := strings.ToLower(nameOf(e))
	return units[nameOf(e)] || strings.HasSuffix(name, "scale") || strings.HasSuffix(name, "samplerate")
}
