package safely_test

import (
	"errors"
	"log/slog"
	"testing"

	"github.com/stretchr/testify/assert"

	"metaplasis/internal/safely"
)

func TestAPanicComesBackAsAnError(t *testing.T) {
	quiet := slog.New(slog.DiscardHandler)
	assert.NoError(t, safely.Run(quiet, func() error { return nil }))
	why := errors.New("why")
	assert.Equal(t, why, safely.Run(quiet, func() error { return why }))
	err := safely.Run(quiet, func() error { return []error{}[len(t.Name())] })
	assert.ErrorContains(t, err, "out of range")
	var told error
	safely.Do(quiet, func() { panic("boom") }, func(err error) { told = err })
	assert.ErrorContains(t, told, "boom")
	safely.Do(quiet, func() { panic("boom") }, nil)
}
