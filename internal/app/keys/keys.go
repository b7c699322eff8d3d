// Package keys holds the changes of access keys: the credentials of software, each bound to one
// environment.
package keys

import (
	"cmp"
	"context"
	"fmt"
	"net/url"
	"slices"
	"strings"

	"greenlever.example/core/diff"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/commit"
	"greenlever.example/greenlever/internal/app/people"
)

// Tx is what these changes read.
type Tx interface {
	AccessKeys(environment int64) ([]app.AccessKey, error)
}

// Kinds are the changes of access keys.
func Kinds() []*commit.Kind {
	return []*commit.Kind{
		commit.Of(commit.Kind{Name: "access-key.make", Alone: true, Says: "Makes an access key", Action: app.Manage,
			Span: commit.Environment}, add),
		commit.Of(commit.Kind{Name: "access-key.revoke", Says: "Revokes an access key; its streams end within seconds",
			Action: app.Manage, Span: commit.Environment}, revoke),
	}
}

// Make makes an access key. Two of a kind and purpose may live at a time, for rotation.
type Make struct {
	Kind    app.KeyKind `json:"kind"`
	Purpose string      `json:"purpose,omitempty"`
	// of pages that may use a browser key, such as https://desk.pinecrest.example; none: any
	Origins []string `json:"origins,omitempty"`
}

// Revoke ends the access key that the change is of.
type Revoke struct{}

// Made is a new access key with its secret, which is shown once.
type Made struct {
	app.AccessKey
	Secret string `json:"secret,omitempty"`
}

// WithoutSecrets is the key as it is kept for a repeated request.
func (m *Made) WithoutSecrets() any { return &Made{AccessKey: m.AccessKey} }

func add(_ context.Context, m *commit.Moment, in *Make) (*commit.Effects, error) {
	if !slices.Contains([]app.KeyKind{app.ServiceKey, app.BrowserKey, app.IngestKey}, in.Kind) {
		return nil, app.InvalidField("kind", "must be service, browser or ingest")
	}
	purpose := cmp.Or(strings.TrimSpace(in.Purpose), "default")
	if len(purpose) > 100 {
		return nil, app.InvalidField("purpose", "takes at most 100 bytes")
	}
	if err := checkOrigins(in.Kind, in.Origins); err != nil {
		return nil, err
	}
	all, err := commit.Narrow[Tx](m).AccessKeys(m.Environment.ID)
	if err != nil {
		return nil, err
	}
	live := 0
	for _, k := range all {
		if k.Revoked == 0 && k.Kind == in.Kind && k.Purpose == purpose {
			live++
		}
	}
	if live >= 2 {
		return nil, app.Faultf(app.Conflict, "two %s keys for %q are live already: revoke one of them first", in.Kind,
			purpose)
	}
	k := New(m.Environment, in.Kind, purpose, m.At, in.Origins...)
	return &commit.Effects{Result: k, In: []commit.Effect{Added(m.Environment, &k.AccessKey)},
		Stale: commit.Stale{Keys: true}}, nil
}

// New makes a key with its secret.
func New(env *app.Environment, kind app.KeyKind, purpose string, at int64, origins ...string) *Made {
	prefix := map[app.KeyKind]string{app.ServiceKey: "gls_", app.BrowserKey: "glb_", app.IngestKey: "gli_"}[kind]
	secret := prefix + people.NewSecret()
	return &Made{app.AccessKey{ID: commit.NewID(), EnvironmentID: env.ID, Kind: kind, Purpose: purpose,
		Hint:   secret[:9],
		Digest: people.Digest(secret), Created: at, Origins: origins}, secret}
}

// Revoked is the effect of a key that is revoked.
func Revoked(env *app.Environment, k *app.AccessKey) commit.Effect {
	return effect("access-key.revoked", env, k)
}

// Added is the effect of a new key.
func Added(env *app.Environment, k *app.AccessKey) commit.Effect {
	return effect("access-key.made", env, k)
}

func effect(action string, env *app.Environment, k *app.AccessKey) commit.Effect {
	line := diff.Text(fmt.Sprintf("%s key %s… for %q of environment %s (%d)", k.Kind, k.Hint, k.Purpose, env.Key,
		env.ID))
	return commit.Effect{Records: []commit.Record{k}, Entries: []commit.Entry{commit.Said(action, k.ID, line)}}
}

// maxOrigins bounds the origins of one key.
const maxOrigins = 50

// checkOrigins checks origins as browsers write them: scheme, host and port, nothing behind.
func checkOrigins(kind app.KeyKind, origins []string) error {
	if len(origins) > 0 && kind != app.BrowserKey {
		return app.InvalidField("origins", "belong to browser keys: software that is no page sends none")
	}
	if len(origins) > maxOrigins {
		return app.InvalidField("origins", "takes at most %d", maxOrigins)
	}
	for i, o := range origins {
		u, err := url.Parse(o)
		if err != nil || u.Scheme != "https" && u.Scheme != "http" || u.Host == "" || u.Scheme+"://"+u.Host != o {
			return app.InvalidField(fmt.Sprintf("origins[%d]", i), "must be an origin as browsers write it, such as "+
				"https://desk.pinecrest.example")
		}
	}
	return nil
}

func revoke(_ context.Context, m *commit.Moment, _ *Revoke) (*commit.Effects, error) {
	all, err := commit.Narrow[Tx](m).AccessKeys(m.Environment.ID)
	if err != nil {
		return nil, err
	}
	at := slices.IndexFunc(all, func(k app.AccessKey) bool { return k.ID == m.Of })
	if at < 0 {
		return nil, app.Faultf(app.NotFound, "there is no access key %s in this environment", m.Of)
	}
	k := &all[at]
	if k.Revoked != 0 {
		return commit.Nothing(k), nil
	}
	k.Revoked = m.At
	return &commit.Effects{Result: k, In: []commit.Effect{effect("access-key.revoked", m.Environment, k)},
		Stale: commit.Stale{Keys: true}}, nil
}
