package rtmp

import (
	"bytes"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/internal/core/amf"
)

// What a server announces of codecs is read in both forms; one that announces nothing takes none of the enhanced form.
func TestCodecsThatAServerAnnounces(t *testing.T) {
	for name, c := range map[string]struct {
		said []any
		hevc bool
		opus bool
	}{
		"nothing":  {[]any{amf.Object{{Name: "fmsVer", Value: "x"}}, amf.Object{{Name: "code", Value: "ok"}}}, false, false},
		"a list":   {[]any{amf.Object{{Name: "fourCcList", Value: []any{"hvc1", "vp09"}}}, nil}, true, false},
		"all":      {[]any{nil, amf.Object{{Name: "fourCcList", Value: []any{"*"}}}}, true, true},
		"two maps": {[]any{nil, capabilities()}, true, true},
	} {
		client, err := NewClient(bytes.NewReader(make([]byte, 4096)), "rtmp://h/in", "in", "x", false)
		require.NoError(t, err)
		client.announced(c.said)
		assert.Equal(t, []bool{c.hevc, c.opus}, []bool{client.Takes("hvc1"), client.Takes("Opus")}, name)
	}
	many := make([]any, 10_000)
	for i := range many {
		many[i] = string(rune('a'+i%26)) + string(rune('a'+i/26%26)) + string(rune('a'+i/676))
	}
	client, err := NewClient(bytes.NewReader(make([]byte, 4096)), "rtmp://h/in", "in", "x", false)
	require.NoError(t, err)
	client.announced([]any{amf.Object{{Name: "fourCcList", Value: many}}})
	assert.LessOrEqual(t, len(client.takes), maxAnnounced)
}
