package greenlever

import (
	"context"
	"sync"

	"greenlever.example/core/decide"
)

// handles are the keys of all handles of the program, by index.
var handles struct {
	sync.RWMutex
	keys  []string
	index map[string]int
}

// handle is a flag's place among the program's handles: an index, in place of a look-up by
// name at each decision.
type handle struct {
	key   string
	index int
}

func newHandle(key string) handle {
	handles.Lock()
	defer handles.Unlock()
	if handles.index == nil {
		handles.index = map[string]int{}
	}
	i, ok := handles.index[key]
	if !ok {
		i = len(handles.keys)
		handles.keys, handles.index[key] = append(handles.keys, key), i
	}
	return handle{key, i}
}

// lookUpHandles finds the flags of all handles in a ruleset.
func lookUpHandles(rs *decide.Ruleset) []*decide.Flag {
	handles.RLock()
	defer handles.RUnlock()
	found := make([]*decide.Flag, len(handles.keys))
	for i, key := range handles.keys {
		found[i] = rs.Flag(key)
	}
	return found
}

// in finds the handle's flag for a scope.
func (h handle) in(s *Scope, st *state) *decide.Flag {
	f := h.flag(st)
	s.note(st, f)
	return f
}

// flag finds the handle's flag.
func (h handle) flag(s *state) *decide.Flag {
	if h.index < len(s.handles) {
		return s.handles[h.index]
	}
	return s.rules.Flag(h.key) // the handle is younger than the ruleset
}

// Key is the flag's key.
func (h handle) Key() string { return h.key }

// BoolFlag is a boolean flag with its fallback, looked up once. Keep it in a package
// variable:
//
//	var OneTouchOpen = greenlever.NewBoolFlag("one-touch-open", false)
type BoolFlag struct {
	handle
	fallback bool
}

// NewBoolFlag makes a handle.
func NewBoolFlag(key string, fallback bool) BoolFlag { return BoolFlag{newHandle(key), fallback} }

// For decides the flag for a unit.
func (h BoolFlag) For(ctx context.Context, c *Client, unit Context) bool {
	s := c.state.Load()
	return c.truth(ctx, s, h.flag(s), h.key, &unit, h.fallback)
}

// In decides the flag in a scope.
func (h BoolFlag) In(s *Scope) bool {
	if s == nil {
		return h.fallback
	}
	st, at := s.now()
	return s.client.boolean(s.ctx, st, h.in(s, st), ask{h.key, &s.unit, decide.Boolean, at}, h.fallback)
}

// StringFlag is a string flag with its fallback, looked up once; see [BoolFlag].
type StringFlag struct {
	handle
	fallback string
}

// NewStringFlag makes a handle.
func NewStringFlag(key, fallback string) StringFlag { return StringFlag{newHandle(key), fallback} }

// For decides the flag for a unit.
func (h StringFlag) For(ctx context.Context, c *Client, unit Context) string {
	s := c.state.Load()
	return c.text(ctx, s, h.flag(s), ask{key: h.key, unit: &unit, kind: decide.String}, h.fallback)
}

// In decides the flag in a scope.
func (h StringFlag) In(s *Scope) string {
	if s == nil {
		return h.fallback
	}
	st, at := s.now()
	return s.client.text(s.ctx, st, h.in(s, st), ask{h.key, &s.unit, decide.String, at}, h.fallback)
}

// NumberFlag is a number flag with its fallback, looked up once; see [BoolFlag].
type NumberFlag struct {
	handle
	fallback float64
}

// NewNumberFlag makes a handle.
func NewNumberFlag(key string, fallback float64) NumberFlag {
	return NumberFlag{newHandle(key), fallback}
}

// For decides the flag for a unit.
func (h NumberFlag) For(ctx context.Context, c *Client, unit Context) float64 {
	s := c.state.Load()
	return c.number(ctx, s, h.flag(s), ask{key: h.key, unit: &unit, kind: decide.Number}, h.fallback)
}

// In decides the flag in a scope.
func (h NumberFlag) In(s *Scope) float64 {
	if s == nil {
		return h.fallback
	}
	st, at := s.now()
	return s.client.number(s.ctx, st, h.in(s, st), ask{h.key, &s.unit, decide.Number, at}, h.fallback)
}

// IntFlag is a number flag of whole numbers with its fallback, looked up once; see [BoolFlag] and
// [Client.Int].
type IntFlag struct {
	handle
	fallback int64
}

// NewIntFlag makes a handle.
func NewIntFlag(key string, fallback int64) IntFlag { return IntFlag{newHandle(key), fallback} }

// For decides the flag for a unit.
func (h IntFlag) For(ctx context.Context, c *Client, unit Context) int64 {
	s := c.state.Load()
	return c.integer(ctx, s, h.flag(s), ask{key: h.key, unit: &unit, kind: decide.Number}, h.fallback)
}

// In decides the flag in a scope.
func (h IntFlag) In(s *Scope) int64 {
	if s == nil {
		return h.fallback
	}
	st, at := s.now()
	return s.client.integer(s.ctx, st, h.in(s, st), ask{h.key, &s.unit, decide.Number, at}, h.fallback)
}

// ObjectFlag is an object flag with its fallback, looked up once; see [BoolFlag].
type ObjectFlag[T any] struct {
	handle
	fallback T
}

// NewObjectFlag makes a handle.
func NewObjectFlag[T any](key string, fallback T) ObjectFlag[T] {
	return ObjectFlag[T]{newHandle(key), fallback}
}

// For decides the flag for a unit.
func (h ObjectFlag[T]) For(ctx context.Context, c *Client, unit Context) T {
	s := c.state.Load()
	return object(ctx, c, s, h.flag(s), ask{key: h.key, unit: &unit, kind: decide.Object}, h.fallback)
}

// In decides the flag in a scope.
func (h ObjectFlag[T]) In(s *Scope) T {
	if s == nil {
		return h.fallback
	}
	st, at := s.now()
	return object(s.ctx, s.client, st, h.in(s, st), ask{h.key, &s.unit, decide.Object, at}, h.fallback)
}
