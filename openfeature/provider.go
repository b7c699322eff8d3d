// Package openfeature is a provider for the OpenFeature SDK of Go, on the Green Lever client:
// decisions are made in process, and changes of flags arrive as provider events.
//
//	provider, err := openfeature.NewProvider(greenlever.Options{Application: "door"})
//	err = of.SetProviderAndWait(provider)
//	unit := of.NewEvaluationContext("recipient-17", nil)
//	on, err := of.NewClient("door").BooleanValue(ctx, "one-touch-open", false, unit)
package openfeature

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"sync"
	"time"
	"unicode/utf8"

	of "github.com/open-feature/go-sdk/openfeature"

	greenlever "greenlever.example/client"
)

// Provider decides by a client. It implements the SDK's FeatureProvider, StateHandler (with and
// without contexts), EventHandler and Tracker.
type Provider struct {
	// FlagSet is told to telemetry as feature_flag.set.id, such as pinecrest/production; set it
	// before the provider is in use, or leave it empty.
	FlagSet string

	client *greenlever.Client
	own    bool // the client is closed with the provider
	hooks  []of.Hook
	events chan of.Event
	stop   chan struct{}
	done   sync.WaitGroup
	ending sync.Once
	odd    sync.Map // names of attributes that were logged already
}

// readyIn is how long the provider waits for its first ruleset where the caller sets no limit.
const readyIn = 10 * time.Second

// NewProvider makes a provider with a client of its own, which is closed with it. The error
// is one of configuration.
func NewProvider(o greenlever.Options, hooks ...of.Hook) (*Provider, error) {
	o.Wait = -1 // the SDK waits
	c, err := greenlever.Open(context.Background(), o)
	if err != nil {
		return nil, err
	}
	p := On(c, hooks...)
	p.own = true
	return p, nil
}

// On makes a provider on a client that the application has already and closes itself.
func On(c *greenlever.Client, hooks ...of.Hook) *Provider {
	return &Provider{client: c, hooks: hooks, events: make(chan of.Event, 16), stop: make(chan struct{})}
}

// Client is the provider's client, for what the SDK has no words for.
func (p *Provider) Client() *greenlever.Client { return p.client }

// Metadata names the provider.
func (p *Provider) Metadata() of.Metadata { return of.Metadata{Name: "greenlever"} }

// Hooks are the hooks that the provider was made with.
func (p *Provider) Hooks() []of.Hook { return p.hooks }

// Init is InitWithContext with the provider's own limit.
func (p *Provider) Init(unit of.EvaluationContext) error {
	return p.InitWithContext(context.Background(), unit)
}

// InitWithContext waits for a first ruleset, ten seconds at most. One from disk or a file is
// enough: the provider is ready then, and stale until the service is followed. An access key
// that the service refuses is fatal. Whatever the outcome, the provider goes on trying, and says
// that it is ready once it is.
func (p *Provider) InitWithContext(ctx context.Context, _ of.EvaluationContext) error {
	ctx, cancel := context.WithTimeout(ctx, readyIn)
	defer cancel()
	err := p.first(ctx)
	p.done.Go(func() {
		defer func() { // a handler of the application's may panic; its program goes on
			if broken := recover(); broken != nil {
				slog.Error("greenlever: telling of changes panicked and ends", "panic", broken)
			}
		}()
		p.follow(err == nil)
	})
	return err
}

// first waits until there is a ruleset, or it is plain that there will be none.
func (p *Provider) first(ctx context.Context) error {
	for {
		changed, state := p.client.Changed(), p.client.State()
		switch {
		case state.Source != greenlever.FromNowhere:
			return nil
		case state.Refused:
			return &of.ProviderInitError{ErrorCode: of.ProviderFatalCode, Message: "the service does not take the " +
				"access key in GREENLEVER_KEY: " + state.LastError}
		}
		select {
		case <-changed:
		case <-p.stop:
			return &of.ProviderInitError{ErrorCode: of.ProviderNotReadyCode, Message: "the provider was shut down"}
		case <-ctx.Done():
			why := state.LastError
			if why == "" {
				why = "the service has not answered yet"
			}
			return &of.ProviderInitError{ErrorCode: of.ProviderNotReadyCode, Message: why}
		}
	}
}

// follow turns changes of the client's state into events. began tells whether the SDK was told
// that the provider is ready.
func (p *Provider) follow(began bool) {
	seen := p.client.View()
	ready, stale := began, false
	said := p.client.State()
	for {
		changed := p.client.Changed()
		now := p.client.State()
		behind := now.Source != greenlever.FromService && now.Source != greenlever.FromFile || !now.Connected &&
			now.LastError != "" || now.Refused
		if p.client.FileAlone() {
			behind = now.Source == greenlever.FromNowhere
		}
		switch {
		case now.Source == greenlever.FromNowhere:
		case !ready && !behind, ready && stale && !behind:
			p.tell(of.ProviderReady, "the service is followed", nil)
			ready, stale = true, false
		case behind && !stale:
			if !ready { // it decides, by a ruleset of before
				p.tell(of.ProviderReady, "decisions are by "+string(now.Source), nil)
				ready = true
			}
			p.tell(of.ProviderStale, "decisions are by "+string(now.Source)+": "+now.LastError, nil)
			stale = true
		}
		if now.Epoch != said.Epoch || now.Revision != said.Revision || now.Silent != said.Silent {
			view := p.client.View()
			p.tell(of.ProviderConfigChange, fmt.Sprintf("revision %d", now.Revision), view.Since(seen))
			seen = view
		}
		said = now
		select {
		case <-changed:
		case <-p.stop:
			return
		}
	}
}

func (p *Provider) tell(kind of.EventType, message string, flags []string) {
	state := p.client.State()
	e := of.Event{ProviderName: "greenlever", EventType: kind,
		ProviderEventDetails: of.ProviderEventDetails{Message: message, FlagChanges: flags,
			EventMetadata: map[string]any{"epoch": state.Epoch, "revision": state.Revision,
				"source": string(state.Source)}}}
	select {
	case p.events <- e:
	case <-p.stop:
	}
}

// EventChannel brings ready, stale and changes of the configuration.
func (p *Provider) EventChannel() <-chan of.Event { return p.events }

// Shutdown ends the provider, and the client if it is its own.
func (p *Provider) Shutdown() {
	p.ending.Do(func() {
		close(p.stop)
		p.done.Wait()
		if p.own {
			_ = p.client.Close() // it decides on from what it has; there is nobody to tell
		}
	})
}

// ShutdownWithContext is Shutdown; it takes at most two seconds.
func (p *Provider) ShutdownWithContext(context.Context) error {
	p.Shutdown()
	return nil
}

// unitOf reads the SDK's flattened context as remote evaluation reads one, but that what cannot be
// read is absent, and logged once for each name: one odd attribute spoils no decision. Without a
// context, a scope that the call's carries says who the unit is.
func (p *Provider) unitOf(ctx context.Context, flat of.FlattenedContext) greenlever.Context {
	if scope := greenlever.ScopeOf(ctx); scope != nil && len(flat) == 0 {
		return scope.Unit()
	}
	if raw, err := json.Marshal(map[string]any(flat)); err == nil && isText(map[string]any(flat)) {
		if unit, err := greenlever.ReadContext(raw); err == nil {
			return unit
		}
	}
	good := map[string]json.RawMessage{}
	for name, v := range flat {
		raw, err := json.Marshal(v)
		if err == nil && !isText(v) {
			err = errors.New("it is not valid UTF-8")
		}
		if err == nil {
			_, err = greenlever.ReadContext(fmt.Appendf(nil, "{%s:%s}", mustJSON(name), raw))
		}
		if err == nil {
			good[name] = raw
			continue
		}
		if _, again := p.odd.LoadOrStore(name, true); !again {
			p.client.Logger().Warn("greenlever: an attribute is left out, since it cannot be read", "attribute", name,
				"error", err)
		}
	}
	unit, err := greenlever.ReadContext(mustJSON(good))
	if err != nil { // too much in all
		if _, again := p.odd.LoadOrStore("", true); !again {
			p.client.Logger().Warn("greenlever: a context is left out, since it cannot be read", "error", err)
		}
		unit, _ = greenlever.ReadContext(mustJSON(map[string]json.RawMessage{of.TargetingKey: good[of.TargetingKey]}))
	}
	return unit
}

// isText tells whether all texts are valid UTF-8, which JSON would hide.
func isText(v any) bool {
	switch v := v.(type) {
	case string:
		return utf8.ValidString(v)
	case []string:
		return !slices.ContainsFunc(v, func(s string) bool { return !utf8.ValidString(s) })
	case []any:
		return !slices.ContainsFunc(v, func(e any) bool { return !isText(e) })
	case map[string]any:
		for name, e := range v {
			if !utf8.ValidString(name) || !isText(e) {
				return false
			}
		}
	}
	return true
}

func mustJSON(v any) []byte {
	raw, err := json.Marshal(v)
	if err != nil {
		return []byte("{}") // strings and JSON that was made before can be written
	}
	return raw
}

// Track records an event of a metric for the unit of the context; without one, for that of the scope that the call's
// carries. The details' value is the metric's: of a rate, 1 where it happened and 0 where it could have.
func (p *Provider) Track(ctx context.Context, metric string, unit of.EvaluationContext,
	details of.TrackingEventDetails) {
	flat := of.FlattenedContext(unit.Attributes())
	if key := unit.TargetingKey(); key != "" {
		flat[of.TargetingKey] = key
	}
	if scope := greenlever.ScopeOf(ctx); scope != nil && len(flat) == 0 {
		scope.Record(metric, details.Value())
		return
	}
	p.client.Record(ctx, metric, p.unitOf(ctx, flat), details.Value())
}

// resolve decides, and turns errors into the SDK's.
func resolve[T any](p *Provider, ctx context.Context, key string, fallback T, asked any, flat of.FlattenedContext,
	value func(greenlever.Answer) (T, bool)) of.GenericResolutionDetail[T] {
	out := of.GenericResolutionDetail[T]{Value: fallback}
	a := p.client.Ask(ctx, key, p.unitOf(ctx, flat), asked)
	out.Reason, out.Variant = of.Reason(a.Reason), a.Variant
	// The standard's own hooks for telemetry take the version and the flag set from here.
	out.FlagMetadata = of.FlagMetadata{"epoch": a.Epoch, "revision": a.Revision}
	version := ""
	if a.Epoch > 0 {
		version = fmt.Sprintf("%d.%d", a.Epoch, a.Revision)
	}
	for name, v := range map[string]string{"rule": a.Rule, "missing": a.Missing, "version": version,
		"flagSetId": p.FlagSet} {
		if v != "" {
			out.FlagMetadata[name] = v
		}
	}
	v, ok := value(a)
	switch {
	case ok:
		out.Value = v
		return out
	case a.Code == "FLAG_NOT_FOUND":
		out.ResolutionError = of.NewFlagNotFoundResolutionError("there is no flag " + key)
	case a.Code == "PROVIDER_NOT_READY":
		out.ResolutionError = of.NewProviderNotReadyResolutionError("there is no ruleset yet: " +
			p.client.State().LastError)
	case a.Code == "PARSE_ERROR":
		out.ResolutionError = of.NewParseErrorResolutionError("the flag's document cannot be read")
	default:
		out.ResolutionError = of.NewTypeMismatchResolutionError(fmt.Sprintf("flag %s has another type than %T", key,
			fallback))
	}
	out.Reason, out.Variant = of.ErrorReason, ""
	return out
}

// BooleanEvaluation decides a boolean flag.
func (p *Provider) BooleanEvaluation(ctx context.Context, key string, fallback bool,
	flat of.FlattenedContext) of.BoolResolutionDetail {
	return resolve(p, ctx, key, fallback, fallback, flat, greenlever.Value[bool])
}

// StringEvaluation decides a string flag.
func (p *Provider) StringEvaluation(ctx context.Context, key string, fallback string,
	flat of.FlattenedContext) of.StringResolutionDetail {
	return resolve(p, ctx, key, fallback, fallback, flat, greenlever.Value[string])
}

// FloatEvaluation decides a number flag.
func (p *Provider) FloatEvaluation(ctx context.Context, key string, fallback float64,
	flat of.FlattenedContext) of.FloatResolutionDetail {
	return resolve(p, ctx, key, fallback, fallback, flat, greenlever.Value[float64])
}

// IntEvaluation decides a number flag; a value that is no whole number is of another type.
func (p *Provider) IntEvaluation(ctx context.Context, key string, fallback int64,
	flat of.FlattenedContext) of.IntResolutionDetail {
	return resolve(p, ctx, key, fallback, float64(fallback), flat, func(a greenlever.Answer) (int64, bool) {
		return greenlever.Value[int64](a)
	})
}

// object is a fallback of an object flag, whatever its own type.
type object struct{ any }

// MarshalJSON writes the fallback itself.
func (o object) MarshalJSON() ([]byte, error) { return json.Marshal(o.any) }

// ObjectEvaluation decides an object flag; the value is what encoding/json makes of it.
func (p *Provider) ObjectEvaluation(ctx context.Context, key string, fallback any,
	flat of.FlattenedContext) of.InterfaceResolutionDetail {
	return resolve(p, ctx, key, fallback, object{fallback}, flat, func(a greenlever.Answer) (any, bool) {
		var v any
		if a.Variant == "" || json.Unmarshal(a.JSON(), &v) != nil {
			return nil, false
		}
		return v, true
	})
}
