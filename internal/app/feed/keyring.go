package feed

import (
	"context"
	"crypto/sha256"
	"log/slog"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/time/rate"

	"greenlever.example/greenlever/internal/app"
)

// Keys reads the access keys that are not revoked.
type Keys interface {
	LiveAccessKeys(ctx context.Context) ([]app.AccessKey, error)
}

// keysEvery bounds how long a key that was revoked on another node is still taken.
const keysEvery = 2 * time.Second

// missEvery bounds how often an unknown secret makes the keyring read the keys.
const missEvery = 100 * time.Millisecond

// Keyring knows the live access keys, so that taking one needs no request to the records.
type Keyring struct {
	keys  Keys
	log   *slog.Logger
	ring  atomic.Pointer[map[[32]byte]*Live]
	nudge chan struct{}

	mu     sync.Mutex // one refreshes at a time
	missed time.Time
}

// Live is an access key that is not revoked. Done is closed when it is.
type Live struct {
	app.AccessKey
	Done chan struct{}

	limiter atomic.Pointer[rate.Limiter]
}

// Allow tells whether the key may be used once more, at most perSecond times a second.
func (l *Live) Allow(perSecond float64) bool {
	lim := l.limiter.Load()
	if lim == nil {
		l.limiter.CompareAndSwap(nil, rate.NewLimiter(rate.Limit(perSecond), max(1, int(perSecond))))
		lim = l.limiter.Load()
	}
	return lim.Allow()
}

// NewKeyring makes a keyring; [Keyring.Run] keeps it up to date.
func NewKeyring(keys Keys, log *slog.Logger) *Keyring {
	k := &Keyring{keys: keys, log: log, nudge: make(chan struct{}, 1)}
	k.ring.Store(&map[[32]byte]*Live{})
	return k
}

// Nudge makes the keyring read the keys now.
func (k *Keyring) Nudge() {
	select {
	case k.nudge <- struct{}{}:
	default:
	}
}

// Run keeps the keyring up to date until the context ends.
func (k *Keyring) Run(ctx context.Context) {
	tick := time.NewTicker(keysEvery)
	defer tick.Stop()
	for {
		if err := k.Refresh(ctx); err != nil && ctx.Err() == nil {
			k.log.Warn("access keys cannot be read; those known stay in use", "error", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		case <-k.nudge:
		}
	}
}

// Refresh reads the keys and ends what the revoked ones have open.
func (k *Keyring) Refresh(ctx context.Context) error {
	k.mu.Lock()
	defer k.mu.Unlock()
	list, err := k.keys.LiveAccessKeys(ctx)
	if err != nil {
		return err
	}
	old := *k.ring.Load()
	now := make(map[[32]byte]*Live, len(list))
	for _, key := range list {
		d := [32]byte(key.Digest)
		if now[d] = old[d]; now[d] == nil {
			now[d] = &Live{AccessKey: key, Done: make(chan struct{})}
		}
	}
	k.ring.Store(&now)
	for d, live := range old {
		if now[d] == nil {
			close(live.Done)
		}
	}
	return nil
}

// ByID gives a live access key by its id; nil where there is none.
func (k *Keyring) ByID(id string) *Live {
	for _, live := range *k.ring.Load() {
		if live.ID == id {
			return live
		}
	}
	return nil
}

// Of lists the live access keys of an environment, by id.
func (k *Keyring) Of(environment int64) (keys []*Live) {
	for _, live := range *k.ring.Load() {
		if live.EnvironmentID == environment {
			keys = append(keys, live)
		}
	}
	slices.SortFunc(keys, func(a, b *Live) int { return strings.Compare(a.ID, b.ID) })
	return keys
}

// Find gives the access key of a secret; nil where there is no live one.
func (k *Keyring) Find(ctx context.Context, secret string) *Live {
	d := sha256.Sum256([]byte(secret))
	if live := (*k.ring.Load())[d]; live != nil {
		return live
	}
	k.mu.Lock()
	again := time.Since(k.missed) > missEvery
	if again {
		k.missed = time.Now()
	}
	k.mu.Unlock()
	if !again || k.Refresh(ctx) != nil {
		return nil
	}
	return (*k.ring.Load())[d]
}
