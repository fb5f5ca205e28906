package delivery

import (
	"context"
	"errors"
	"runtime"

	"metaplasis/internal/network"
)

const (
	//limit:requests that wait for their turn to read what is kept | all | 503
	maxTurns = 256
	//limit:requests that wait for that | each network | 503
	maxTurnsEach = 32
)

// errCrowded says that too many wait for their turn.
var errCrowded = errors.New("too much is being made for others")

// turns gives half of the processors to what is made of stored media, so that live viewers do not wait for it.
type turns struct {
	waiting network.Quota
	making  chan struct{}
}

func newTurns() *turns {
	return &turns{waiting: network.Quota{Total: maxTurns, EachNetwork: maxTurnsEach}, making: make(chan struct{}, max(runtime.GOMAXPROCS(0)/2, 1))}
}

// take waits for a turn, or until the context ends. done gives it back.
func (t *turns) take(ctx context.Context, remote string) (done func(), err error) {
	release, ok := t.waiting.Take(remote)
	if !ok {
		return nil, errCrowded
	}
	defer release()
	select {
	case t.making <- struct{}{}:
		return func() { <-t.making }, nil
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}
