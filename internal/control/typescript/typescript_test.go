package typescript

import (
	"os"
	"path/filepath"
	"reflect"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/internal/control"
)

// Level is how loud something is.
type Level string

const (
	Soft Level = "soft"
	Loud Level = "loud"
)

type base struct {
	Name string `json:"name"` // for people
}

// Sample holds a bit of everything.
type Sample struct {
	base
	At    time.Time         `json:"at,omitzero"`
	Level Level             `json:"level"`
	List  []Level           `json:"list"`
	Next  *Sample           `json:"next,omitempty"` // behind this one
	Data  []byte            `json:"data"`
	By    map[string]int64  `json:"by"`
	Not   int               `json:"-"`
	Deep  map[string][]base `json:"deep,omitempty"`
}

func TestTypesReadAsTheyAreWritten(t *testing.T) {
	_, err := Generate(filepath.Join("..", "..", ".."), []reflect.Type{reflect.TypeFor[Sample]()})
	require.NoError(t, err)
	assert.Equal(t, "Record<string, number>", (&generator{}).typeOf(reflect.TypeFor[map[string]int64]()))
	g := &generator{named: map[string]reflect.Type{}, source: map[string]*pkg{
		reflect.TypeFor[Level]().PkgPath(): {values: map[string][]string{"Level": {`"soft"`, `"loud"`}}},
	}}
	g.collect(reflect.TypeFor[Sample]())
	var names []string
	for _, f := range fields(reflect.TypeFor[Sample]()) {
		names = append(names, f.name+" "+g.typeOf(f.Type))
	}
	assert.Equal(t, []string{"name string", "at string", "level Level", "list Level[]", "next Sample", "data string",
		"by Record<string, number>", "deep Record<string, base[]>"}, names)
}

// TestTheConsolesTypesAreCurrent: make types writes them.
func TestTheConsolesTypesAreCurrent(t *testing.T) {
	root := filepath.Join("..", "..", "..")
	want, err := Generate(root, control.Types())
	require.NoError(t, err)
	got, err := os.ReadFile(filepath.Join(root, "web", "src", "lib", "types.ts"))
	require.NoError(t, err)
	assert.Equal(t, string(want), string(got), "run make types")
	want, err = Schemes()
	require.NoError(t, err)
	got, err = os.ReadFile(filepath.Join(root, "web", "src", "lib", "schemes.ts"))
	require.NoError(t, err)
	assert.Equal(t, string(want), string(got), "run make types")
}
