package people

import (
	"sync"
	"time"
)

// strangersAMinute is how many tries to sign in to accounts that nobody has are recorded.
const strangersAMinute = 60

// quota lets so many pass in a minute.
type quota struct {
	mu     sync.Mutex
	minute int64
	taken  int
}

func (q *quota) take(now time.Time) bool {
	q.mu.Lock()
	defer q.mu.Unlock()
	if m := now.Unix() / 60; m != q.minute {
		q.minute, q.taken = m, 0
	}
	q.taken++
	return q.taken <= strangersAMinute
}
