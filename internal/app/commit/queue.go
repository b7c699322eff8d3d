package commit

import (
	"context"
	"sync"
)

// queues let few ordinary changes of a project wait for its rows at a time, so that a stop,
// which waits in none, is never behind many of them.
type queues struct {
	mu sync.Mutex
	of map[int64]chan struct{}
}

const queueWidth = 2

// wait passes the queues of the projects that the changes are of, in order of their ids.
func (q *queues) wait(ctx context.Context, todo []task) (leave func(), err error) {
	projects := map[int64]bool{}
	for _, c := range todo {
		if c.kind.Queued && c.In.Project != nil {
			projects[c.In.Project.ID] = true
		}
	}
	var passed []chan struct{}
	leave = func() {
		for _, queue := range passed {
			<-queue
		}
	}
	for _, id := range sorted(projects) {
		queue := q.queue(id)
		select {
		case queue <- struct{}{}:
			passed = append(passed, queue)
		case <-ctx.Done():
			leave()
			return nil, ctx.Err()
		}
	}
	return leave, nil
}

func (q *queues) queue(project int64) chan struct{} {
	q.mu.Lock()
	defer q.mu.Unlock()
	if q.of == nil {
		q.of = map[int64]chan struct{}{}
	}
	if q.of[project] == nil {
		q.of[project] = make(chan struct{}, queueWidth)
	}
	return q.of[project]
}
