package control

import (
	"encoding/json"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/internal/settings"
)

func TestAddresses(t *testing.T) {
	s := Ports{RTMP: 1935, RTMPS: 1936}
	a := s.Addresses("https://origin.example:8443", &settings.Settings{Slug: "start-line"})
	assert.Equal(t, "https://origin.example:8443/watch/start-line", a.Watch)
	assert.Equal(t, "rtmp://origin.example:1935/in/start-line", a.Server)
	assert.Equal(t, "rtmps://origin.example:1936/in/start-line", a.Secure)
	a = Ports{}.Addresses("http://[::1]:8780", &settings.Settings{Slug: "x"})
	assert.Empty(t, a.Server, "RTMP is off")
	a = Ports{RTMP: 1935}.Addresses("http://[::1]:8780", &settings.Settings{Slug: "x"})
	assert.Equal(t, "rtmp://[::1]:1935/in/x", a.Server)
}

func TestDocumentResolvesAllItsReferences(t *testing.T) {
	b, err := json.Marshal(openAPI())
	require.NoError(t, err)
	var doc map[string]any
	require.NoError(t, json.Unmarshal(b, &doc))
	schemas := doc["components"].(map[string]any)["schemas"].(map[string]any)
	assert.Contains(t, schemas, "LadderRung")
	var walk func(any)
	walk = func(v any) {
		switch v := v.(type) {
		case map[string]any:
			if ref, ok := v["$ref"].(string); ok {
				name := strings.TrimPrefix(ref, "#/components/schemas/")
				assert.Contains(t, schemas, name)
			}
			for _, x := range v {
				walk(x)
			}
		case []any:
			for _, x := range v {
				walk(x)
			}
		}
	}
	walk(doc)
	rung := schemas["LadderRung"].(map[string]any)
	assert.ElementsMatch(t, []any{"name", "on"}, rung["required"])
}
