package house

import (
	"fmt"
	"go/ast"
	"go/doc"
	"go/parser"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/internal/address"
)

// written compares a part of a page of the docs, between <!-- NAME --> and <!-- end -->, with what the code says, or writes it.
func written(t *testing.T, page, name, want string) {
	t.Helper()
	path := filepath.Join("..", "..", "docs", page)
	b, err := os.ReadFile(path)
	require.NoError(t, err)
	head, rest, found := strings.Cut(string(b), "<!-- "+name+" -->\n")
	require.True(t, found, "%s has no part <!-- %s -->", page, name)
	part, tail, found := strings.Cut(rest, "<!-- end -->")
	require.True(t, found, "%s: the part %s has no <!-- end -->", page, name)
	if *write && part != want {
		require.NoError(t, os.WriteFile(path, []byte(head+"<!-- "+name+" -->\n"+want+"<!-- end -->"+tail), 0o644))
		return
	}
	assert.Equal(t, want, part, "docs/%s, %s: run make tables", page, name)
}

// TestSchemesAreTheTables: the tables of addresses in the docs are those of package address.
func TestSchemesAreTheTables(t *testing.T) {
	for page, d := range map[string]address.Direction{"ways-in.md": address.Input, "relays.md": address.Relay} {
		var b strings.Builder
		b.WriteString("| address | what it is | parameters |\n| --- | --- | --- |\n")
		for _, s := range address.In(d) {
			var list []string
			for _, p := range s.Parameters {
				if p.In(d) {
					list = append(list, parameter(&p))
				}
			}
			fmt.Fprintf(&b, "| `%s` | %s | %s |\n", s.Text[d].Example, s.Text[d].Help, strings.Join(list, "; "))
		}
		written(t, page, "schemes", b.String())
	}
}

// parameter is one in a cell.
func parameter(p *address.Parameter) string {
	text := "`" + p.Name + "`"
	if p.Secret {
		text += " (secret)"
	}
	text += " " + p.Help
	switch {
	case p.Values != nil:
		text += ": " + strings.Join(p.Values, ", ")
	case p.Most > 0:
		text += fmt.Sprintf(", %d to %d", p.Least, p.Most)
	}
	if p.Default != "" {
		text += ", " + p.Default + " without it"
	}
	return text
}

// TestTheStructureIsDrawn: the table of packages in docs/architecture.md is that of the code.
func TestTheStructureIsDrawn(t *testing.T) {
	all, _ := sources(t, parser.ParseComments)
	var b strings.Builder
	b.WriteString("| layer | package | what it holds | imports of ours, beside core |\n| --- | --- | --- | --- |\n")
	for _, l := range slices.Backward(layers) {
		for _, name := range l.packages {
			dir := dirOf(name)
			ours, _ := imports(all[dir])
			var list []string
			for _, to := range ours {
				if to = strings.TrimPrefix(to, "internal/"); !strings.HasPrefix(to, "core/") {
					list = append(list, "`"+to+"`")
				}
			}
			fmt.Fprintf(&b, "| %s | `%s` | %s | %s |\n", l.name, strings.TrimPrefix(name, "/"), synopsis(t, dir, all[dir]), strings.Join(list, " "))
		}
	}
	written(t, "architecture.md", "structure", b.String())
}

// synopsis is the first sentence of a package's comment, which stands in doc.go or in the file named after the package.
func synopsis(t *testing.T, dir string, files []*ast.File) string {
	text := ""
	for _, f := range files {
		if f.Doc != nil && !strings.HasPrefix(f.Doc.Text(), "Code generated") {
			assert.Empty(t, text, "%s has two package comments", dir)
			text = new(doc.Package).Synopsis(f.Doc.Text())
		}
	}
	if len(files) > 0 {
		assert.NotEmpty(t, text, "%s has no package comment", dir)
	}
	_, after, _ := strings.Cut(text, " ")
	_, after, _ = strings.Cut(after, " ")
	return strings.TrimSuffix(after, ".")
}

// TestFilesOfTheTour: what docs/architecture.md names is there.
func TestFilesOfTheTour(t *testing.T) {
	b, err := os.ReadFile(filepath.Join("..", "..", "docs", "architecture.md"))
	require.NoError(t, err)
	for _, name := range regexp.MustCompile("`([a-z0-9/_]+\\.(?:go|svelte))`").FindAllStringSubmatch(string(b), -1) {
		path := filepath.Join("..", name[1])
		if strings.HasPrefix(name[1], "web/") || strings.HasPrefix(name[1], "internal/") {
			path = filepath.Join("..", "..", name[1])
		}
		assert.FileExists(t, path)
	}
}
