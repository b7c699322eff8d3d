package change

import (
	"context"
	"encoding/json"
	"sync"
)

// gates let few ordinary changes of an environment wait for its lock at a time, so that a
// stop, which passes no gate, is never behind a long queue.
type gates struct {
	mu   sync.Mutex
	open map[int64]chan struct{}
}

const gateWidth = 2

func (g *gates) pass(ctx context.Context, project int64) (leave func(), err error) {
	g.mu.Lock()
	if g.open == nil {
		g.open = map[int64]chan struct{}{}
	}
	gate := g.open[project]
	if gate == nil {
		gate = make(chan struct{}, gateWidth)
		g.open[project] = gate
	}
	g.mu.Unlock()
	select {
	case gate <- struct{}{}:
		return func() { <-gate }, nil
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

// queue is do behind the project's gate.
func (s *Service) queue(ctx context.Context, project int64, r Request, fn func(tx Tx, c *commit) (any, error)) (json.RawMessage, error) {
	leave, err := s.gates.pass(ctx, project)
	if err != nil {
		return nil, err
	}
	defer leave()
	return s.do(ctx, r, fn)
}
