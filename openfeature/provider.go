// Package openfeature is a provider for the OpenFeature SDK of Go, on the Green Lever client:
// decisions are made in process, and changes of flags arrive as provider events.
//
//	provider, err := openfeature.NewProvider(greenlever.Options{Application: "door"})
//	err = of.SetProviderAndWait(provider)
//	on, err := of.NewClient("door").BooleanValue(ctx, "one-touch-open", false, of.NewEvaluationContext("recipient-17", nil))
package openfeature

import (
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"math"
	"sync"
	"time"

	of "github.com/open-feature/go-sdk/openfeature"

	greenlever "greenlever.example/client"
)

// Provider decides by a client. It implements the SDK's FeatureProvider, StateHandler (with and
// without contexts) and EventHandler.
type Provider struct {
	client *greenlever.Client
	own    bool // the client is closed with the provider
	hooks  []of.Hook
	events chan of.Event
	stop   chan struct{}
	done   sync.WaitGroup
	ending sync.Once
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

// Init waits for a ruleset from the service.
func (p *Provider) Init(unit of.EvaluationContext) error {
	ctx, cancel := context.WithTimeout(context.Background(), readyIn)
	defer cancel()
	return p.InitWithContext(ctx, unit)
}

// InitWithContext waits for a ruleset from the service as long as the context lasts. Where
// the client has one from disk or a file meanwhile the provider is ready and stale.
func (p *Provider) InitWithContext(ctx context.Context, _ of.EvaluationContext) error {
	err := p.client.Ready(ctx)
	stale := p.client.State().Source != greenlever.FromNowhere
	if err != nil && !stale {
		return err
	}
	p.done.Go(func() {
		defer func() { // a handler of the application's may panic; its program goes on
			if broken := recover(); broken != nil {
				slog.Error("greenlever: telling of changes panicked and ends", "panic", broken)
			}
		}()
		p.follow(err != nil)
	})
	return nil
}

// follow turns changes of the client's state into events.
func (p *Provider) follow(stale bool) {
	said := p.client.State()
	if stale {
		p.tell(of.ProviderStale, "decisions are by "+string(said.Source)+": "+said.LastError)
	}
	for {
		changed := p.client.Changed()
		now := p.client.State()
		behind := now.Source != greenlever.FromService && now.Source != greenlever.FromFile || !now.Connected && now.LastError != ""
		switch {
		case behind && !stale:
			p.tell(of.ProviderStale, "the service cannot be reached, decisions go on: "+now.LastError)
		case !behind && stale:
			p.tell(of.ProviderReady, "the service is followed again")
		}
		if now.Epoch != said.Epoch || now.Revision != said.Revision || now.Silent != said.Silent {
			p.tell(of.ProviderConfigChange, fmt.Sprintf("revision %d", now.Revision))
		}
		stale, said = behind, now
		select {
		case <-changed:
		case <-p.stop:
			return
		}
	}
}

func (p *Provider) tell(kind of.EventType, message string) {
	state := p.client.State()
	e := of.Event{ProviderName: "greenlever", EventType: kind, ProviderEventDetails: of.ProviderEventDetails{Message: message,
		EventMetadata: map[string]any{"epoch": state.Epoch, "revision": state.Revision, "source": string(state.Source)}}}
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

// unitOf reads the SDK's flattened context as remote evaluation reads one. Without one, a
// scope that the context carries says who the unit is.
func unitOf(ctx context.Context, flat of.FlattenedContext) (greenlever.Context, error) {
	if scope := greenlever.ScopeOf(ctx); scope != nil && len(flat) == 0 {
		return scope.Unit(), nil
	}
	raw, err := json.Marshal(map[string]any(flat))
	if err != nil {
		return greenlever.Context{}, err
	}
	return greenlever.ReadContext(raw)
}

// resolve decides, and turns errors into the SDK's.
func resolve[T any](p *Provider, ctx context.Context, key string, fallback T, asked any, flat of.FlattenedContext, value func(greenlever.Answer) (T, bool)) of.GenericResolutionDetail[T] {
	out := of.GenericResolutionDetail[T]{Value: fallback}
	unit, err := unitOf(ctx, flat)
	if err != nil {
		out.Reason, out.ResolutionError = of.ErrorReason, of.NewInvalidContextResolutionError(err.Error())
		return out
	}
	a := p.client.Ask(ctx, key, unit, asked)
	out.Reason, out.Variant = of.Reason(a.Reason), a.Variant
	out.FlagMetadata = of.FlagMetadata{"epoch": a.Epoch, "revision": a.Revision}
	for name, v := range map[string]string{"rule": a.Rule, "missing": a.Missing} {
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
		out.ResolutionError = of.NewProviderNotReadyResolutionError("there is no ruleset yet: " + p.client.State().LastError)
	case a.Code == "PARSE_ERROR":
		out.ResolutionError = of.NewParseErrorResolutionError("the flag's document cannot be read")
	default:
		out.ResolutionError = of.NewTypeMismatchResolutionError(fmt.Sprintf("flag %s has another type than %T", key, fallback))
	}
	out.Reason, out.Variant = of.ErrorReason, ""
	return out
}

// BooleanEvaluation decides a boolean flag.
func (p *Provider) BooleanEvaluation(ctx context.Context, key string, fallback bool, flat of.FlattenedContext) of.BoolResolutionDetail {
	return resolve(p, ctx, key, fallback, fallback, flat, greenlever.Answer.Bool)
}

// StringEvaluation decides a string flag.
func (p *Provider) StringEvaluation(ctx context.Context, key string, fallback string, flat of.FlattenedContext) of.StringResolutionDetail {
	return resolve(p, ctx, key, fallback, fallback, flat, greenlever.Answer.Text)
}

// FloatEvaluation decides a number flag.
func (p *Provider) FloatEvaluation(ctx context.Context, key string, fallback float64, flat of.FlattenedContext) of.FloatResolutionDetail {
	return resolve(p, ctx, key, fallback, fallback, flat, greenlever.Answer.Number)
}

// IntEvaluation decides a number flag; a value that is no whole number is of another type.
func (p *Provider) IntEvaluation(ctx context.Context, key string, fallback int64, flat of.FlattenedContext) of.IntResolutionDetail {
	return resolve(p, ctx, key, fallback, float64(fallback), flat, func(a greenlever.Answer) (int64, bool) {
		v, ok := a.Number()
		return int64(v), ok && v == math.Trunc(v)
	})
}

// object is a fallback of an object flag, whatever its own type.
type object struct{ any }

// MarshalJSON writes the fallback itself.
func (o object) MarshalJSON() ([]byte, error) { return json.Marshal(o.any) }

// ObjectEvaluation decides an object flag; the value is what encoding/json makes of it.
func (p *Provider) ObjectEvaluation(ctx context.Context, key string, fallback any, flat of.FlattenedContext) of.InterfaceResolutionDetail {
	return resolve(p, ctx, key, fallback, object{fallback}, flat, func(a greenlever.Answer) (any, bool) {
		var v any
		if a.Variant == "" || json.Unmarshal(a.JSON(), &v) != nil {
			return nil, false
		}
		return v, true
	})
}
