package mux

import (
	"context"

	"metaplasis/internal/onward"
)

// Serve writes what a tap reads as a transport stream of one programme, until the context or the tap ends, or a write fails.
func Serve(ctx context.Context, tap onward.Tap, name string, write func([]byte) error) error {
	c := NewConn(write, func() error { return nil }, nil)
	carrier := onward.Carrier{To: c.Programme(1, name)}
	return carrier.Run(ctx, tap, nil)
}
