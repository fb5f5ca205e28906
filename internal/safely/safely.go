// Package safely runs what touches bytes from outside. A panic in it ends the connection or the file at hand, not the service:
// it is logged with its stack and comes back as an error. Anybody may call it, from any goroutine.
package safely

import (
	"fmt"
	"log/slog"
	"runtime/debug"
)

// Run calls a function and returns its error, or that it panicked. l may be nil.
func Run(l *slog.Logger, run func() error) (err error) {
	if l == nil {
		l = slog.Default()
	}
	defer func() {
		if v := recover(); v != nil {
			l.Error("a fault of this program was contained; please report it", "fault", v, "stack", string(debug.Stack()))
			err = fmt.Errorf("a fault of the service: %v", v)
		}
	}()
	return run()
}

// Do calls a function that returns nothing, and passes a panic to failed as an error. l and failed may be nil.
func Do(l *slog.Logger, run func(), failed func(error)) {
	err := Run(l, func() error {
		run()
		return nil
	})
	if err != nil && failed != nil {
		failed(err)
	}
}
