package settings

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestSettingsOfPackagingAreChecked(t *testing.T) {
	good := Settings{Slug: "start-line"}.WithDefaults()
	require.Empty(t, good.Check())
	for field, change := range map[string]func(*Settings){
		"packaging.partMillis":        func(s *Settings) { s.PartMillis = 50 },
		"packaging.startOffsetMillis": func(s *Settings) { s.StartOffsetMillis = 60_000 },
		"packaging.coverEvery":        func(s *Settings) { s.CoverEvery = -1 },
		"packaging.language":          func(s *Settings) { s.Language = "English!" },
		"outputs.selections.0.name":   func(s *Settings) { s.Selections = []Selection{{Name: "index", SoundOnly: true}} },
		"outputs.selections.0.rungs":  func(s *Settings) { s.Selections = []Selection{{Name: "phones"}} },
		"outputs.selections.1.name": func(s *Settings) {
			s.Selections = []Selection{{Name: "x", SoundOnly: true}, {Name: "x", SoundOnly: true}}
		},
	} {
		s := good
		change(&s)
		problems := s.Check()
		require.Len(t, problems, 1, field)
		assert.Equal(t, field, problems[0].Field)
	}
}
