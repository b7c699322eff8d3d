package change

import (
	"context"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"maps"
	"net/url"
	"slices"
	"strings"

	"greenlever.example/core/diff"
	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/audit"
	"greenlever.example/greenlever/internal/app/people"
)

// AddProject makes a project, with the one who made it as its first keeper.
func (s *Service) AddProject(ctx context.Context, r Request, p *app.Project) (json.RawMessage, error) {
	return s.do(ctx, r, func(tx Tx, c *commit) (any, error) {
		if err := app.AllowInstallation(&r.Actor); err != nil {
			return nil, err
		}
		p := *p
		p.Created = c.at
		if err := checkPlace(p.Key, &p.Title); err != nil {
			return nil, err
		}
		if err := tx.AddProject(&p); err != nil {
			return nil, err
		}
		e := c.entry("project.made", p.ID)
		e.Subject = p.Key
		if err := c.project(e, diff.Text(fmt.Sprintf("project %q made", p.Title))); err != nil {
			return nil, err
		}
		return &p, c.setRoles(&p, r.Actor.ID, nil, []app.Role{app.Keeper})
	})
}

func checkPlace(key string, title *string) error {
	if mend := flag.CheckKey(key); mend != "" {
		return app.InvalidField("key", "%s", mend)
	}
	if *title = strings.TrimSpace(*title); *title == "" {
		*title = key
	}
	if len(*title) > 200 {
		return app.InvalidField("title", "takes at most 200 bytes")
	}
	return nil
}

// SetRoles replaces a person's roles in a project; none takes the person out.
func (s *Service) SetRoles(ctx context.Context, r Request, project *app.Project, account string, roles []app.Role) (json.RawMessage, error) {
	return s.do(ctx, r, func(tx Tx, c *commit) (any, error) {
		if err := app.Allow(&r.Actor, app.Manage, project.ID, 0); err != nil {
			return nil, err
		}
		for i, role := range roles {
			if !slices.Contains(app.Roles(), role) {
				return nil, app.InvalidField(fmt.Sprintf("roles[%d]", i), "must be one of auditor, developer, releaser, on-call, keeper")
			}
		}
		if err := tx.LockProject(project.ID); err != nil {
			return nil, err
		}
		all, err := tx.RolesIn(project.ID)
		if err != nil {
			return nil, err
		}
		old := all[account]
		roles := slices.Clone(roles)
		slices.Sort(roles)
		roles = slices.Compact(roles)
		all[account] = roles
		keepers := 0
		for _, rs := range all {
			if slices.Contains(rs, app.Keeper) {
				keepers++
			}
		}
		if keepers == 0 {
			return nil, app.Faultf(app.Conflict, "a project needs a keeper: make somebody else one first")
		}
		if slices.Equal(old, roles) {
			return map[string]any{"account": account, "roles": append([]app.Role{}, roles...)}, nil
		}
		return map[string]any{"account": account, "roles": append([]app.Role{}, roles...)}, c.setRoles(project, account, old, roles)
	})
}

func (c *commit) setRoles(project *app.Project, account string, old, roles []app.Role) error {
	if err := c.tx.SetRoles(project.ID, account, roles); err != nil {
		return err
	}
	e := c.entry("roles.changed", 0)
	e.Subject = account
	e.Difference, _ = audit.Differences([]diff.Line{diff.Text(fmt.Sprintf("roles in project %s: %v → %v", project.Key, old, roles))})
	return c.access(e)
}

// MadeEnvironment is the result of making an environment: the secrets of its first access
// keys are in it once.
type MadeEnvironment struct {
	*app.Environment
	Keys []MadeKey `json:"keys"`
}

// MadeKey is a new access key with its secret, which is shown once.
type MadeKey struct {
	app.AccessKey
	Secret string `json:"secret,omitempty"`
}

func (m *MadeEnvironment) withoutSecrets() any {
	out := &MadeEnvironment{m.Environment, slices.Clone(m.Keys)}
	for i := range out.Keys {
		out.Keys[i].Secret = ""
	}
	return out
}

func (m *MadeKey) withoutSecrets() any { return &MadeKey{AccessKey: m.AccessKey} }

// AddEnvironment makes an environment with every flag of the project, levers off, and with
// its first access keys.
func (s *Service) AddEnvironment(ctx context.Context, r Request, project *app.Project, env *app.Environment) (json.RawMessage, error) {
	return s.queue(ctx, project.ID, r, func(tx Tx, c *commit) (any, error) {
		if err := app.Allow(&r.Actor, app.Manage, project.ID, 0); err != nil {
			return nil, err
		}
		if err := tx.LockProject(project.ID); err != nil {
			return nil, err
		}
		env := *env
		env.ProjectID, env.Created = project.ID, c.at
		if err := checkPlace(env.Key, &env.Title); err != nil {
			return nil, err
		}
		if err := tx.AddEnvironment(&env); err != nil {
			return nil, err
		}
		ev := &flag.Event{}
		if err := c.fillEnvironment(&env, ev); err != nil {
			return nil, err
		}
		e := c.entry("environment.made", project.ID)
		e.Subject = env.Key
		if err := c.revise(&env, ev, e, []diff.Line{diff.Text(fmt.Sprintf("environment %q made, asks first %t, with %d flags, levers off", env.Title, env.AskFirst, len(ev.Flags)))}); err != nil {
			return nil, err
		}
		e = c.entry("environment.made", project.ID)
		e.Subject = env.Key
		if err := c.project(e, diff.Text(fmt.Sprintf("environment %s made", env.Key))); err != nil {
			return nil, err
		}
		made := &MadeEnvironment{Environment: &env, Keys: []MadeKey{}}
		for _, kind := range []app.KeyKind{app.ServiceKey, app.BrowserKey} {
			k, err := c.addKey(&env, kind, "default")
			if err != nil {
				return nil, err
			}
			made.Keys = append(made.Keys, *k)
		}
		return made, nil
	})
}

func (c *commit) fillEnvironment(env *app.Environment, ev *flag.Event) error {
	defs, err := c.tx.Definitions(env.ProjectID)
	if err != nil {
		return err
	}
	for i := range defs {
		doc := firstDocument(&defs[i])
		raw, err := json.Marshal(doc)
		if err != nil {
			return err
		}
		ev.Flags = append(ev.Flags, raw)
		if err := c.tx.PutFlag(&app.FlagRecord{EnvironmentID: env.ID, Key: doc.Key, Version: 1, Revision: env.Revision + 1, Document: doc}); err != nil {
			return err
		}
	}
	titles, err := c.tx.SegmentTitles(env.ProjectID)
	if err != nil {
		return err
	}
	for _, key := range slices.Sorted(maps.Keys(titles)) {
		doc := &flag.Segment{Key: key}
		raw, err := json.Marshal(doc)
		if err != nil {
			return err
		}
		ev.Segments = append(ev.Segments, raw)
		if err := c.tx.PutSegment(&app.SegmentRecord{EnvironmentID: env.ID, Key: key, Version: 1, Revision: env.Revision + 1, Document: doc}); err != nil {
			return err
		}
	}
	return nil
}

// EnvironmentEdit says what to change of an environment; nil fields stay.
type EnvironmentEdit struct {
	Title    *string `json:"title,omitempty"`
	AskFirst *bool   `json:"askFirst,omitempty"`
}

// EditEnvironment changes an environment's title and whether it asks first.
func (s *Service) EditEnvironment(ctx context.Context, r Request, env *app.Environment, edit *EnvironmentEdit) (json.RawMessage, error) {
	return s.queue(ctx, env.ProjectID, r, func(tx Tx, c *commit) (any, error) {
		env, err := c.enter(app.Manage, env)
		if err != nil {
			return nil, err
		}
		var lines []diff.Line
		if edit.Title != nil && *edit.Title != env.Title {
			lines = append(lines, diff.Text(fmt.Sprintf("title %q → %q", env.Title, *edit.Title)))
			env.Title = *edit.Title
			if err := checkPlace(env.Key, &env.Title); err != nil {
				return nil, err
			}
		}
		if edit.AskFirst != nil && *edit.AskFirst != env.AskFirst {
			lines = append(lines, diff.Text(fmt.Sprintf("asks first %t → %t", env.AskFirst, *edit.AskFirst)))
			env.AskFirst = *edit.AskFirst
		}
		if len(lines) == 0 {
			return env, nil
		}
		if err := tx.UpdateEnvironment(env); err != nil {
			return nil, err
		}
		e := c.entry("environment.changed", env.ProjectID)
		e.Subject = env.Key
		return env, c.environment(env, e, lines)
	})
}

// AddKey makes an access key. Two of a kind and purpose may live at a time, for rotation.
// A browser key can be bound to the origins of the pages that may use it.
func (s *Service) AddKey(ctx context.Context, r Request, env *app.Environment, kind app.KeyKind, purpose string, origins []string) (json.RawMessage, error) {
	return s.do(ctx, r, func(tx Tx, c *commit) (any, error) {
		if err := app.Allow(&r.Actor, app.Manage, env.ProjectID, env.ID); err != nil {
			return nil, err
		}
		if kind != app.ServiceKey && kind != app.BrowserKey {
			return nil, app.InvalidField("kind", "must be service or browser")
		}
		purpose := strings.TrimSpace(purpose)
		if purpose == "" {
			purpose = "default"
		}
		if len(purpose) > 100 {
			return nil, app.InvalidField("purpose", "takes at most 100 bytes")
		}
		if err := checkOrigins(kind, origins); err != nil {
			return nil, err
		}
		env, err := tx.LockEnvironment(env.ID)
		if err != nil {
			return nil, err
		}
		keys, err := tx.AccessKeys(env.ID)
		if err != nil {
			return nil, err
		}
		live := 0
		for _, k := range keys {
			if k.Revoked == 0 && k.Kind == kind && k.Purpose == purpose {
				live++
			}
		}
		if live >= 2 {
			return nil, app.Faultf(app.Conflict, "two %s keys for %q are live already: revoke one of them first", kind, purpose)
		}
		return c.addKey(env, kind, purpose, origins...)
	})
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
			return app.InvalidField(fmt.Sprintf("origins[%d]", i), "must be an origin as browsers write it, such as https://desk.pinecrest.example")
		}
	}
	return nil
}

func (c *commit) addKey(env *app.Environment, kind app.KeyKind, purpose string, origins ...string) (*MadeKey, error) {
	prefix := "gls_"
	if kind == app.BrowserKey {
		prefix = "glb_"
	}
	secret := prefix + people.NewSecret()
	sum := sha256.Sum256([]byte(secret))
	k := &MadeKey{app.AccessKey{ID: newID(), EnvironmentID: env.ID, Kind: kind, Purpose: purpose, Hint: secret[:9], Digest: sum[:], Created: c.at, Origins: origins}, secret}
	if err := c.tx.AddAccessKey(&k.AccessKey); err != nil {
		return nil, err
	}
	return k, c.keyEntry("access-key.made", env, &k.AccessKey)
}

func (c *commit) keyEntry(action string, env *app.Environment, k *app.AccessKey) error {
	c.moved.Keys = true
	e := c.entry(action, 0)
	e.Subject = k.ID
	e.Difference = []string{fmt.Sprintf("%s key %s… for %q of environment %s (%d)", k.Kind, k.Hint, k.Purpose, env.Key, env.ID)}
	return c.access(e)
}

// RevokeKey ends an access key; its streams end within seconds.
func (s *Service) RevokeKey(ctx context.Context, r Request, env *app.Environment, id string) (json.RawMessage, error) {
	return s.do(ctx, r, func(tx Tx, c *commit) (any, error) {
		if err := app.Allow(&r.Actor, app.Manage, env.ProjectID, env.ID); err != nil {
			return nil, err
		}
		env, err := tx.LockEnvironment(env.ID)
		if err != nil {
			return nil, err
		}
		keys, err := tx.AccessKeys(env.ID)
		if err != nil {
			return nil, err
		}
		at := slices.IndexFunc(keys, func(k app.AccessKey) bool { return k.ID == id })
		if at < 0 {
			return nil, app.Faultf(app.NotFound, "there is no access key %s in this environment", id)
		}
		k := keys[at]
		if k.Revoked != 0 {
			return &k, nil
		}
		k.Revoked = c.at
		if err := tx.RevokeAccessKey(id, c.at); err != nil {
			return nil, err
		}
		return &k, c.keyEntry("access-key.revoked", env, &k)
	})
}
