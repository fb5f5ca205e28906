package feeds

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/internal/core/flv"
)

func TestEveryKindIsMade(t *testing.T) {
	names := map[string]bool{}
	for _, k := range Kinds() {
		assert.False(t, names[k.Name], "%s stands twice", k.Name)
		names[k.Name] = true
		t.Run(k.Name, func(t *testing.T) {
			t.Parallel()
			f, err := Make(k)
			require.NoError(t, err)
			pictures := 0
			for i, m := range f.Media {
				if m.Type == flv.TagVideo {
					pictures++
				}
				if i > 0 {
					require.GreaterOrEqual(t, m.At, f.Media[i-1].At)
				}
			}
			assert.Greater(t, pictures, 70)
		})
	}
	assert.GreaterOrEqual(t, len(names), 40)
}
