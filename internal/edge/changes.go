package edge

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/binary"
	"fmt"
	mathrand "math/rand/v2"
	"sync"
	"time"

	"github.com/labstack/echo/v5"

	"greenlever.example/core/decide"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/feed"
	"greenlever.example/greenlever/internal/web"
)

// streamPath is where browsers are told that they should ask again.
const streamPath = "/ofrep/v1/stream"

// tokenLife is for how long a stream can be opened with a token. An EventSource sends no
// header, so the token stands in the address; it opens this stream and nothing else.
const tokenLife = 10 * time.Minute

// streamToken lets a key's holder open a stream of changes from the ruleset on that it got
// its answers by. It is sealed, since pages can read it: neither the key's id nor the
// revision is theirs to know. Any node and any outpost knows the digest of the key's secret,
// so any of them can open it.
//
// Tokens stay the same for half of their life, so that who asks again need not open another
// stream; after that the answers count as others and bring the next one (see [spell]).
func (t *tokens) of(key *feed.Live, rules *decide.Ruleset, now int64) string {
	t.mu.Lock()
	defer t.mu.Unlock()
	if had := t.last[key.ID]; had.spell == spell(now) && had.epoch == rules.Source.Epoch {
		return had.token
	}
	if len(t.last) > maxTokens { // of keys that were revoked, mostly
		t.last = nil
	}
	if t.last == nil {
		t.last = map[string]token{}
	}
	made := token{spell(now), rules.Source.Epoch, seal(key, (spell(now)+2)*halfLife, rules.Source.Epoch,
		rules.Source.Revision)}
	t.last[key.ID] = made
	return made.token
}

// tokens are the stream tokens that are given out now, by access key.
type tokens struct {
	mu   sync.Mutex
	last map[string]token
}

type token struct {
	spell, epoch int64
	token        string
}

const maxTokens = 10_000

// halfLife is of stream tokens, in milliseconds.
const halfLife = int64(tokenLife / time.Millisecond / 2)

// spell numbers the halves of a token's life. It is part of the tag of all answers: an answer
// of an earlier spell brings a token that may have run out, so it must not count as unchanged,
// or a page would ask for ever and never be given another.
func spell(now int64) int64 { return now / halfLife }

// seal closes numbers with AES-GCM under a key made of the access key's digest.
func seal(key *feed.Live, numbers ...int64) string {
	box := boxOf(key)
	sealed := make([]byte, box.NonceSize(), box.NonceSize()+8*len(numbers)+box.Overhead())
	rand.Read(sealed) // never fails
	var plain []byte
	for _, n := range numbers {
		plain = binary.BigEndian.AppendUint64(plain, uint64(n))
	}
	return base64.RawURLEncoding.EncodeToString(box.Seal(sealed, sealed, plain, nil))
}

func boxOf(key *feed.Live) cipher.AEAD {
	sum := sha256.Sum256(append([]byte("greenlever stream\n"), key.Digest...))
	block, err := aes.NewCipher(sum[:])
	if err != nil {
		panic(err) // the length is right
	}
	box, err := cipher.NewGCM(block)
	if err != nil {
		panic(err)
	}
	return box
}

// unseal opens what seal closed with the key.
func unseal(key *feed.Live, text string) ([]int64, bool) {
	raw, err := base64.RawURLEncoding.DecodeString(text)
	box := boxOf(key)
	if err != nil || len(raw) < box.NonceSize() || len(raw) > 200 {
		return nil, false
	}
	plain, err := box.Open(nil, raw[:box.NonceSize()], raw[box.NonceSize():], nil)
	if err != nil || len(plain)%8 != 0 {
		return nil, false
	}
	var numbers []int64
	for ; len(plain) > 0; plain = plain[8:] {
		numbers = append(numbers, int64(binary.BigEndian.Uint64(plain)))
	}
	return numbers, true
}

// holder is who opens a stream: its key, and the ruleset and the time that it has answers by.
type holder struct {
	key                    *feed.Live
	epoch, revision, since int64
}

// openedBy reads a token. The keys are few, and it says which one opens it.
func (a *Edge) openedBy(token string) (h holder, err error) {
	for _, key := range a.Keys.All() {
		numbers, ok := unseal(key, token)
		if !ok || len(numbers) != 3 {
			continue
		}
		if a.Now().UnixMilli() >= numbers[0] {
			return h, app.Faultf(app.Unauthorized, "the stream's token has expired: ask for all answers again, they "+
				"bring a new one")
		}
		return holder{key, numbers[1], numbers[2], numbers[0] - tokenLife.Milliseconds()}, nil
	}
	return h, app.Faultf(app.Unauthorized, "the stream's token is not known: take the address from the bulk answer "+
		"as it is, or ask for all answers again")
}

// changes tells a browser when it should ask again: when a flag that it may see can have
// another answer, by a revision or by the clock. It names no flag.
func (a *Edge) changes(c *echo.Context) error {
	cors(c)
	h, err := a.openedBy(c.QueryParam("token"))
	if err != nil {
		return err
	}
	key := h.key
	if err := fromPage(c, key); err != nil {
		return err
	}
	if id := c.Request().Header.Get("Last-Event-ID"); id != "" {
		if numbers, ok := unseal(key, id); ok && len(numbers) == 2 {
			h.epoch, h.revision = numbers[0], numbers[1]
		}
	}
	place, err := a.Hub.Place(c.Request().Context(), key.EnvironmentID)
	if err != nil {
		return err
	}
	s, err := a.watch(c, key)
	if err != nil {
		return err
	}
	defer s.Close()
	s.EndWith(key.Done)
	a.audience.Stream(key.EnvironmentID, 1)
	defer a.audience.Stream(key.EnvironmentID, -1)
	// Where the stream breaks they come back a little apart, also all of them after a restart.
	if err := s.Write(fmt.Appendf(nil, "retry: %d\n\n",
		1_000+mathrand.N(a.Spread()+4*time.Second).Milliseconds())); err != nil {
		return nil
	}
	return a.tellChanges(s, place, h)
}

func (a *Edge) tellChanges(s *web.Stream, place *feed.Place, h holder) error {
	visible := h.key.Kind == app.BrowserKey
	beat := time.NewTicker(a.Beat)
	defer beat.Stop()
	beside := int64(0) // an order may have come between the answers and the stream
	for {
		changed := place.Changed()
		src := place.Rules().Source
		if moved := place.Moved(visible); h.epoch != src.Epoch || h.revision < moved ||
			place.Beside(visible) != beside {
			if !s.Pause(mathrand.N(a.Spread() + 1)) { // they ask again a little apart
				return nil
			}
			src, h.since = place.Rules().Source, a.Now().UnixMilli()
			beside = place.Beside(visible)
			if err := tellRefetch(s, h.key, src.Epoch, src.Revision, beside); err != nil {
				return nil
			}
		}
		h.epoch, h.revision = src.Epoch, src.Revision
		var clock <-chan time.Time
		if at, ok := place.NextChange(h.since, visible); ok { // it may be past already
			clock = time.After(time.UnixMilli(at).Sub(a.Now()))
		}
		select {
		case <-s.Ctx.Done():
			return nil
		case <-changed:
		case <-clock:
			h.since = a.Now().UnixMilli()
			if tellRefetch(s, h.key, h.epoch, h.revision, beside) != nil {
				return nil
			}
		case <-beat.C:
			if s.Write([]byte(": still here\n\n")) != nil {
				return nil
			}
		}
	}
}

// tellRefetch writes the event of the protocol that has a client ask again.
func tellRefetch(s *web.Stream, key *feed.Live, epoch, revision, beside int64) error {
	sum := sha256.Sum256(fmt.Appendf(nil, "%x %d.%d.%d", key.Digest, epoch, revision, beside))
	return s.Write(fmt.Appendf(nil, "id: %s\ndata: {\"type\":\"refetchEvaluation\",\"etag\":\"%x\"}\n\n",
		seal(key, epoch, revision), sum[:8]))
}
