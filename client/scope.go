package greenlever

import (
	"context"
	"encoding/json"
	"errors"
	"sync"
	"time"

	"greenlever.example/core/condition"
	"greenlever.example/core/decide"
)

// Resolver finds out an attribute that is costly to know, such as how many compartments of
// a locker are free. It is asked in a [Scope] alone, when a decision looks at the attribute
// and the context does not have it, at most once in each scope.
type Resolver struct {
	Name  Name
	Limit time.Duration // after which the attribute is absent; default 50 ms
	// Find gives the attribute of a unit. It should end with the context; an error makes the
	// attribute absent, which lets nobody in.
	Find func(ctx context.Context, unit Context) (Attribute, error)
}

const (
	resolveLimit = 50 * time.Millisecond
	scopeLife    = 30 * time.Second
)

// Scope is one request's decisions on one unit: they are made by one ruleset and at one
// time, even where another revision arrives in the middle. After 30 s it follows again, so
// that a long job does not miss a stop. A nil Scope gives fallbacks.
type Scope struct {
	client *Client
	ctx    context.Context
	unit   Context
	state  *state
	made   time.Time
	asked  asked // flags, for what is measured in it

	mu    sync.Mutex
	found map[condition.Name]*condition.Value // by resolvers
}

// Scope begins a request's decisions on a unit. The context bounds its resolvers.
func (c *Client) Scope(ctx context.Context, unit Context) *Scope {
	s := &Scope{client: c, ctx: ctx, state: c.state.Load(), made: time.Now()}
	s.unit = unit
	if len(c.options.Resolvers) > 0 {
		s.unit = Context{*unit.unit.Resolving(s.resolve)}
	}
	return s
}

type scopeKey struct{}

// WithScope gives a context that carries a scope to the code below.
func WithScope(ctx context.Context, s *Scope) context.Context {
	return context.WithValue(ctx, scopeKey{}, s)
}

// ScopeOf is the scope that a context carries; nil where there is none, which gives fallbacks.
func ScopeOf(ctx context.Context) *Scope {
	s, _ := ctx.Value(scopeKey{}).(*Scope)
	return s
}

// Unit is whom the scope decides for.
func (s *Scope) Unit() Context {
	if s == nil {
		return Context{}
	}
	return s.unit
}

// now gives the ruleset and the time to decide by.
func (s *Scope) now() (*state, time.Time) {
	if now := time.Now(); now.Sub(s.made) >= scopeLife {
		return s.client.state.Load(), now
	}
	return s.state, s.made
}

// note notes that a flag was asked for, where somebody measures.
func (s *Scope) note(st *state, f *decide.Flag) {
	if s.client.evidence.measuring.Load() {
		s.asked.note(st, f)
	}
}

// flag finds a flag, and notes that it was asked for.
func (s *Scope) flag(st *state, key string) *decide.Flag {
	f := st.rules.Flag(key)
	s.note(st, f)
	return f
}

// resolve asks the resolver of an attribute, once.
func (s *Scope) resolve(n condition.Name) *condition.Value {
	for i := range s.client.options.Resolvers {
		if r := &s.client.options.Resolvers[i]; r.Name.inner == n {
			s.mu.Lock()
			defer s.mu.Unlock()
			v, done := s.found[n]
			if !done {
				if s.found == nil {
					s.found = map[condition.Name]*condition.Value{}
				}
				v = s.find(r)
				s.found[n] = v
			}
			return v
		}
	}
	return nil
}

func (s *Scope) find(r *Resolver) *condition.Value {
	limit := r.Limit
	if limit <= 0 {
		limit = resolveLimit
	}
	ctx, cancel := context.WithTimeout(s.ctx, limit)
	defer cancel()
	type result struct {
		a   Attribute
		err error
	}
	unit := Context{*s.unit.unit.Resolving(nil)} // a resolver does not wait for itself
	got := make(chan result, 1)
	s.client.aside("resolve "+r.Name.text, func() {
		out := result{err: errors.New("its resolver panicked")}
		defer func() { got <- out }()
		out.a, out.err = r.Find(ctx, unit)
	})
	var err error
	select {
	case g := <-got:
		if g.err == nil {
			if g.a.inner.Value.Kind() == condition.Absent {
				return nil
			}
			return &g.a.inner.Value
		}
		err = g.err
	case <-ctx.Done():
		err = ctx.Err()
	}
	s.client.log.Warn("greenlever: an attribute could not be found out and is absent", "attribute", r.Name.text,
		"error", err)
	return nil
}

// Bool decides a boolean flag; see [Client.Bool].
func (s *Scope) Bool(key string, fallback bool) bool {
	if s == nil {
		return fallback
	}
	st, at := s.now()
	return s.client.boolean(s.ctx, st, s.flag(st, key), ask{key, &s.unit, decide.Boolean, at}, fallback)
}

// String decides a string flag; see [Client.Bool] for the fallback.
func (s *Scope) String(key string, fallback string) string {
	if s == nil {
		return fallback
	}
	st, at := s.now()
	return s.client.text(s.ctx, st, s.flag(st, key), ask{key, &s.unit, decide.String, at}, fallback)
}

// Number decides a number flag; see [Client.Bool] for the fallback.
func (s *Scope) Number(key string, fallback float64) float64 {
	if s == nil {
		return fallback
	}
	st, at := s.now()
	return s.client.number(s.ctx, st, s.flag(st, key), ask{key, &s.unit, decide.Number, at}, fallback)
}

// Int decides a number flag of whole numbers; see [Client.Int].
func (s *Scope) Int(key string, fallback int64) int64 {
	if s == nil {
		return fallback
	}
	st, at := s.now()
	return s.client.integer(s.ctx, st, s.flag(st, key), ask{key, &s.unit, decide.Number, at}, fallback)
}

// ObjectIn decides an object flag in a scope; see [Object].
func ObjectIn[T any](s *Scope, key string, fallback T) T {
	if s == nil {
		return fallback
	}
	st, at := s.now()
	return object(s.ctx, s.client, st, s.flag(st, key), ask{key, &s.unit, decide.Object, at}, fallback)
}

// Answer decides a flag of any type and says how.
func (s *Scope) Answer(key string) Answer {
	if s == nil {
		return Answer{Flag: key, Reason: "ERROR", Code: "PROVIDER_NOT_READY"}
	}
	st, at := s.now()
	s.flag(st, key)
	return s.client.answer(s.ctx, st, ask{key, &s.unit, decide.NoKind, at})
}

func object[T any](ctx context.Context, c *Client, s *state, f *decide.Flag, a ask, fallback T) T {
	v := c.value(ctx, s, f, &a)
	if v == nil {
		c.inVain(ctx, s, f, &a, fallback)
		return fallback
	}
	var into T
	if err := json.Unmarshal(v.Raw, &into); err != nil {
		c.log.Warn("greenlever: the flag's value does not fit the type asked for, so the fallback is used", "flag",
			a.key, "variant", v.Name, "error", err)
		return fallback
	}
	return into
}
