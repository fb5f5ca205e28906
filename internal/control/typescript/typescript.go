// Package typescript writes the console's types from the Go types of the control API, so that a setting is
// declared once. Shapes come from the types themselves; comments, and the values of enumerations, from
// their source.
package typescript

import (
	"bytes"
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"path/filepath"
	"reflect"
	"sort"
	"strings"
	"time"
)

// module is what the import paths of our own packages begin with.
const module = "metaplasis/"

// generator collects what the types need.
type generator struct {
	root   string // of the source tree
	named  map[string]reflect.Type
	source map[string]*pkg // by import path
	err    error
}

// pkg is what the source of a package tells.
type pkg struct {
	docs   map[string]string            // of types
	fields map[string]map[string]string // of their fields
	values map[string][]string          // of the constants of a type of strings, as they stand
}

// Generate writes the interfaces of types and of everything that they hold. root is the folder of the
// source tree.
func Generate(root string, types []reflect.Type) ([]byte, error) {
	g := &generator{root: root, named: map[string]reflect.Type{}, source: map[string]*pkg{}}
	for _, t := range types {
		g.collect(t)
	}
	var names []string
	for name := range g.named {
		names = append(names, name)
	}
	sort.Strings(names)
	var b bytes.Buffer
	b.WriteString("// The bodies of the control API, written by `make types` from its Go types. Do not edit.\n")
	for _, name := range names {
		g.write(&b, name, g.named[name])
	}
	return b.Bytes(), g.err
}

func (g *generator) fail(format string, args ...any) {
	if g.err == nil {
		g.err = fmt.Errorf(format, args...)
	}
}

// collect finds the named types of a type.
func (g *generator) collect(t reflect.Type) {
	switch t.Kind() {
	case reflect.Pointer, reflect.Slice, reflect.Map:
		g.collect(t.Elem())
		return
	case reflect.String:
		if len(g.values(t)) > 0 {
			g.named[t.Name()] = t
		}
		return
	case reflect.Struct:
	default:
		return
	}
	if t == reflect.TypeFor[time.Time]() {
		return
	}
	if before, done := g.named[t.Name()]; done {
		if before != t {
			g.fail("two types are called %s: %s and %s", t.Name(), before.PkgPath(), t.PkgPath())
		}
		return
	}
	g.named[t.Name()] = t
	for _, f := range fields(t) {
		g.collect(f.Type)
	}
}

// field is a field as JSON has it.
type field struct {
	reflect.StructField
	owner    reflect.Type
	name     string
	optional bool
}

// fields lists the fields of a structure, those of embedded ones among them.
func fields(t reflect.Type) (out []field) {
	for f := range t.Fields() {
		name, options, _ := strings.Cut(f.Tag.Get("json"), ",")
		switch {
		case f.Anonymous && name == "":
			out = append(out, fields(f.Type)...)
			continue
		case name == "-" || !f.IsExported():
			continue
		case name == "":
			name = f.Name
		}
		out = append(out, field{f, t, name, strings.Contains(options, "omit")})
	}
	return out
}

func (g *generator) write(b *bytes.Buffer, name string, t reflect.Type) {
	b.WriteString("\n")
	if doc := g.of(t).docs[name]; doc != "" {
		fmt.Fprintf(b, "/** %s */\n", strings.Join(strings.Fields(doc), " "))
	}
	if t.Kind() == reflect.String {
		fmt.Fprintf(b, "export type %s = %s;\n", name, strings.Join(g.values(t), " | "))
		return
	}
	fmt.Fprintf(b, "export interface %s {\n", name)
	for _, f := range fields(t) {
		mark := ""
		if f.optional {
			mark = "?"
		}
		fmt.Fprintf(b, "  %s%s: %s;", f.name, mark, g.typeOf(f.Type))
		if doc := g.of(f.owner).fields[f.owner.Name()][f.Name]; doc != "" {
			fmt.Fprintf(b, " // %s", strings.Join(strings.Fields(doc), " "))
		}
		b.WriteString("\n")
	}
	b.WriteString("}\n")
}

func (g *generator) typeOf(t reflect.Type) string {
	switch t.Kind() {
	case reflect.Pointer:
		return g.typeOf(t.Elem())
	case reflect.Slice:
		if t.Elem().Kind() == reflect.Uint8 {
			return "string"
		}
		inner := g.typeOf(t.Elem())
		if strings.Contains(inner, " ") {
			return "(" + inner + ")[]"
		}
		return inner + "[]"
	case reflect.Map:
		return "Record<string, " + g.typeOf(t.Elem()) + ">"
	case reflect.String:
		if g.named[t.Name()] == t {
			return t.Name()
		}
		return "string"
	case reflect.Bool:
		return "boolean"
	case reflect.Struct:
		if t == reflect.TypeFor[time.Time]() {
			return "string"
		}
		return t.Name()
	case reflect.Interface:
		return "unknown"
	}
	return "number"
}

// values lists the constants of a named type of strings.
func (g *generator) values(t reflect.Type) []string { return g.of(t).values[t.Name()] }

// of reads the source of a type's package.
func (g *generator) of(t reflect.Type) *pkg {
	p := g.source[t.PkgPath()]
	if p != nil {
		return p
	}
	p = &pkg{docs: map[string]string{}, fields: map[string]map[string]string{}, values: map[string][]string{}}
	g.source[t.PkgPath()] = p
	folder, ours := strings.CutPrefix(t.PkgPath(), module)
	if !ours {
		return p
	}
	files, err := filepath.Glob(filepath.Join(g.root, filepath.FromSlash(folder), "*.go"))
	if err != nil || len(files) == 0 {
		g.fail("the source of %s is not below %s", t.PkgPath(), g.root)
	}
	for _, path := range files {
		if strings.HasSuffix(path, "_test.go") {
			continue
		}
		file, err := parser.ParseFile(token.NewFileSet(), path, nil, parser.ParseComments)
		if err != nil {
			g.fail("%w", err)
			return p
		}
		for _, d := range file.Decls {
			if d, ok := d.(*ast.GenDecl); ok {
				p.read(d)
			}
		}
	}
	return p
}

func (p *pkg) read(d *ast.GenDecl) {
	for _, s := range d.Specs {
		switch s := s.(type) {
		case *ast.ValueSpec:
			of, ok := s.Type.(*ast.Ident)
			if d.Tok != token.CONST || !ok {
				continue
			}
			for _, v := range s.Values {
				if l, ok := v.(*ast.BasicLit); ok && l.Kind == token.STRING {
					p.values[of.Name] = append(p.values[of.Name], l.Value)
				}
			}
		case *ast.TypeSpec:
			p.docs[s.Name.Name] = strings.TrimSpace(d.Doc.Text())
			structure, ok := s.Type.(*ast.StructType)
			if !ok {
				continue
			}
			docs := map[string]string{}
			for _, f := range structure.Fields.List {
				for _, n := range f.Names {
					docs[n.Name] = strings.TrimSpace(f.Doc.Text() + " " + f.Comment.Text())
				}
			}
			p.fields[s.Name.Name] = docs
		}
	}
}
