package feed

import (
	"context"
	"crypto/sha256"
	"log/slog"
	"maps"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sync/singleflight"
	"golang.org/x/time/rate"

	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/work"
)

// Keys reads the access keys that are not revoked.
type Keys interface {
	LiveAccessKeys(ctx context.Context) ([]app.AccessKey, error)
}

// keysEvery bounds how long a key that was revoked on another node is still taken.
const keysEvery = 2 * time.Second

// missEvery bounds how often an unknown secret makes the keyring read the keys.
const missEvery = 100 * time.Millisecond

// What an unknown secret waits for the records to know it, and how long they may take.
const (
	missWait    = time.Second
	refreshTime = 5 * time.Second
)

// Keyring knows the live access keys, so that taking one needs no request to the records.
type Keyring struct {
	keys  Keys
	log   *slog.Logger
	ring  atomic.Pointer[map[[32]byte]*Live]
	nudge chan struct{}

	once   singleflight.Group
	mu     sync.Mutex // guards missed
	missed time.Time
	turn   sync.Mutex // one takes over what was read at a time
	seen   int64      // of readings taken over, the newest
	read   atomic.Int64
}

// Live is an access key that is not revoked. Done is closed when it is.
type Live struct {
	app.AccessKey
	Done chan struct{}

	limiter atomic.Pointer[rate.Limiter]
	streams atomic.Int64
}

// Open counts one more stream with the key, unless it has as many as it may; close counts it
// off again.
func (l *Live) Open(most int) (close func(), ok bool) {
	if l.streams.Add(1) > int64(most) {
		l.streams.Add(-1)
		return nil, false
	}
	return func() { l.streams.Add(-1) }, true
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

// Job keeps the keyring up to date; while it cannot, the keys that are known stay in use.
func (k *Keyring) Job() work.Job {
	return work.Job{Name: "keys", Says: "read the access keys", Every: keysEvery, Wake: k.nudge, First: true,
		Limit: refreshTime,
		Do:    func(ctx context.Context, _ *work.Turn) error { return k.Refresh(ctx) }}
}

// Refresh reads the keys and ends what the revoked ones have open.
func (k *Keyring) Refresh(ctx context.Context) error {
	n := k.read.Add(1)
	list, err := k.keys.LiveAccessKeys(ctx)
	if err != nil {
		return err
	}
	k.turn.Lock()
	defer k.turn.Unlock()
	if n < k.seen { // one that was read later is in use already
		return nil
	}
	k.seen = n
	k.put(list)
	return nil
}

// Put takes over keys that were known before, until they can be read.
func (k *Keyring) Put(list []app.AccessKey) {
	k.turn.Lock()
	defer k.turn.Unlock()
	k.put(list)
}

func (k *Keyring) put(list []app.AccessKey) {
	old := *k.ring.Load()
	now := make(map[[32]byte]*Live, len(list))
	for _, key := range list {
		d := [32]byte(key.Digest)
		now[d] = old[d]
		if now[d] == nil {
			now[d] = &Live{AccessKey: key, Done: make(chan struct{})}
		}
	}
	k.ring.Store(&now)
	for d, live := range old {
		if now[d] == nil {
			close(live.Done)
		}
	}
}

// All lists the live access keys.
func (k *Keyring) All() []*Live { return slices.Collect(maps.Values(*k.ring.Load())) }

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

// Find gives the access key of a secret; nil where there is no live one. A secret that is not
// known is looked for in the records once more, for a moment: it may be new.
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
	if !again {
		return nil
	}
	fresh := k.once.DoChan("", func() (any, error) {
		ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), refreshTime)
		defer cancel()
		return nil, k.Refresh(ctx)
	})
	wait := time.NewTimer(missWait)
	defer wait.Stop()
	select {
	case <-fresh:
	case <-wait.C:
	case <-ctx.Done():
	}
	return (*k.ring.Load())[d]
}
