// Command unused names what is exported and not used outside of its package: it should not be exported, or not be there.
// Methods, types and constants are left out: interfaces of others may want a method, and a type or one value of an
// enumeration may be used without its name.
package main

import (
	"fmt"
	"go/types"
	"os"
	"slices"
	"strings"

	"golang.org/x/tools/go/packages"
)

func main() {
	found, err := find("./...")
	if err != nil {
		fmt.Fprintln(os.Stderr, "unused:", err)
		os.Exit(2)
	}
	for _, f := range found {
		fmt.Println(f)
	}
	if len(found) > 0 {
		os.Exit(1)
	}
}

// find lists what of the module's packages is exported for nobody, with its place.
func find(patterns ...string) (out []string, err error) {
	list, err := packages.Load(&packages.Config{Mode: packages.NeedName | packages.NeedFiles | packages.NeedImports | packages.NeedDeps | packages.NeedTypes |
		packages.NeedTypesInfo | packages.NeedSyntax | packages.NeedModule, Tests: true}, patterns...)
	if err != nil {
		return nil, err
	}
	if packages.PrintErrors(list) > 0 {
		return nil, fmt.Errorf("the module does not build")
	}
	used := map[string]bool{}
	declared := map[string]bool{}
	for _, p := range list {
		home := p.PkgPath // its tests from outside are users as any
		for _, o := range p.TypesInfo.Uses {
			if o.Pkg() != nil && o.Pkg().Path() != home {
				used[key(o)] = true
			}
		}
		if p.Name == "main" || !strings.HasPrefix(p.PkgPath, "metaplasis/") || strings.Contains(p.PkgPath, "node_modules") || strings.HasSuffix(p.PkgPath, "_test") || strings.HasSuffix(p.PkgPath, ".test") {
			continue
		}
		for id, o := range p.TypesInfo.Defs {
			if o == nil || o.Parent() != p.Types.Scope() || !o.Exported() {
				continue
			}
			if at := p.Fset.Position(id.Pos()); !strings.HasSuffix(at.Filename, "_test.go") {
				switch o.(type) {
				case *types.TypeName, *types.Const:
					continue // a type is used by what is of it, and a constant with the others of its kind, though nobody writes its name
				}
				declared[fmt.Sprintf("%s\x00%s:%d: %s.%s", key(o), at.Filename, at.Line, p.Name, o.Name())] = true
			}
		}
	}
	for d := range declared {
		k, text, _ := strings.Cut(d, "\x00")
		if !used[k] {
			out = append(out, text)
		}
	}
	slices.Sort(out)
	return out, nil
}

func key(o types.Object) string { return o.Pkg().Path() + "." + o.Name() }
