package change

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"

	"greenlever.example/core/condition"
	"greenlever.example/core/diff"
	"greenlever.example/core/flag"
	"greenlever.example/core/lint"
	"greenlever.example/core/sample"
	"greenlever.example/core/words"
	"greenlever.example/greenlever/internal/app"
)

// PutAttribute declares an attribute, or changes what is declared. A new one takes no
// version, a known one the version that the caller has seen.
func (s *Service) PutAttribute(ctx context.Context, r Request, project *app.Project, a *app.Attribute) (json.RawMessage, error) {
	return s.queue(ctx, project.ID, r, func(tx Tx, c *commit) (any, error) {
		old, err := c.attribute(project, a.Name)
		if err != nil {
			return nil, err
		}
		now := *a
		if now.Version = 1; old != nil {
			if err := c.seen(old.Version, old); err != nil {
				return nil, err
			}
			now.Version = old.Version + 1
		} else if len(r.Versions) > 0 {
			return nil, app.Faultf(app.Stale, "there is no attribute %s any more: send no version to declare it anew", a.Name)
		}
		all, err := tx.Attributes(project.ID)
		if err != nil {
			return nil, err
		}
		if err := app.InvalidFields(append(checkAttribute(&now), alike(&now, all)...)); err != nil {
			return nil, err
		}
		c.moved.Units = true
		if err := tx.PutAttribute(project.ID, &now); err != nil {
			return nil, err
		}
		e := c.entry("attribute.declared", project.ID)
		e.Subject, e.Version = now.Name, now.Version
		return &now, c.project(e, describeAttribute(old, &now)...)
	})
}

// RemoveAttribute takes an attribute out of the catalogue. Rules go on comparing it.
func (s *Service) RemoveAttribute(ctx context.Context, r Request, project *app.Project, name string) (json.RawMessage, error) {
	return s.queue(ctx, project.ID, r, func(tx Tx, c *commit) (any, error) {
		old, err := c.attribute(project, name)
		if err != nil {
			return nil, err
		}
		if old == nil {
			return nil, app.Faultf(app.NotFound, "attribute %s is not in the catalogue", name)
		}
		c.moved.Units = true
		if err := tx.RemoveAttribute(project.ID, name); err != nil {
			return nil, err
		}
		e := c.entry("attribute.removed", project.ID)
		e.Subject = name
		return old, c.project(e, diff.Text(fmt.Sprintf("attribute %s, %s, taken out of the catalogue", name, old.Type)))
	})
}

// attribute holds the project and finds a declared attribute; nil where there is none.
func (c *commit) attribute(project *app.Project, name string) (*app.Attribute, error) {
	if err := app.Allow(&c.request.Actor, app.Define, project.ID, 0); err != nil {
		return nil, err
	}
	if err := c.tx.LockProject(project.ID); err != nil {
		return nil, err
	}
	all, err := c.tx.Attributes(project.ID)
	if err != nil {
		return nil, err
	}
	if i := slices.IndexFunc(all, func(a app.Attribute) bool { return a.Name == name }); i >= 0 {
		return &all[i], nil
	}
	if len(all) >= sample.MaxAttributes {
		return nil, app.InvalidField("name", "the catalogue holds %d attributes already, as many as it takes", len(all))
	}
	return nil, nil
}

func checkAttribute(a *app.Attribute) (found []flag.Problem) {
	add := func(place, format string, args ...any) {
		found = append(found, flag.Problem{Place: place, Mend: fmt.Sprintf(format, args...)})
	}
	if mend := condition.CheckAttribute(a.Name); mend != "" {
		add("name", "%s", mend)
	}
	if a.Name == condition.KeyAttribute {
		add("name", "the targeting key is known already, and always a string")
	}
	if !slices.Contains(lint.Types(), a.Type) {
		add("type", "must be string, number, boolean, version, time, address or list")
	}
	for place, text := range map[string]string{"description": a.Description, "example": a.Example} {
		if len(text) > 1_000 || !utf8.ValidString(text) {
			add(place, "must be valid UTF-8 of at most 1000 bytes")
		}
	}
	if !slices.Contains([]sample.Derivation{sample.Nothing, sample.Presence, sample.Domain}, a.Derive) {
		add("derive", `must be "presence" or "domain", or be left out`)
	} else if a.Derive != sample.Nothing && !a.Personal {
		add("derive", "only personal attributes are taken out, so only of these something is derived: leave it out")
	} else if a.Derive == sample.Domain && a.Type != lint.String {
		add("derive", "a domain is derived from a string")
	}
	if a.Loose && a.Type != lint.Version {
		add("loose", "only versions can be loose: leave it out")
	}
	for place, word := range map[string]string{"one": a.One, "many": a.Many} {
		if mend := words.Usable(word); mend != "" {
			add(place, "%s", mend)
		}
	}
	if a.Many != "" && a.One == "" || a.One != "" && a.One == a.Many {
		add("one", "say both, such as %q and %q, or leave both out: one of it, and many", "site", "sites")
	}
	return found
}

// alike finds another attribute that sentences would say in the same words.
func alike(a *app.Attribute, all []app.Attribute) (found []flag.Problem) {
	for place, word := range map[string]string{"one": a.One, "many": a.Many} {
		for _, o := range all {
			if word != "" && o.Name != a.Name && slices.Contains([]string{o.Name, o.One, o.Many}, word) {
				found = append(found, flag.Problem{Place: place, Mend: fmt.Sprintf("is how attribute %s is said already: take another word", o.Name)})
			}
		}
		if word != "" && slices.Contains([]string{"unit", "units", "key", "keys"}, word) {
			found = append(found, flag.Problem{Place: place, Mend: "is how the targeting key is said: take another word"})
		}
	}
	return found
}

func describeAttribute(old, now *app.Attribute) (lines []diff.Line) {
	say := func(format string, args ...any) {
		lines = append(lines, diff.Text(fmt.Sprintf(format, args...)))
	}
	if old == nil {
		say("attribute %s declared: %s", now.Name, now.Type)
		old = &app.Attribute{Type: now.Type}
	}
	for _, c := range []struct{ what, old, now string }{
		{"type", string(old.Type), string(now.Type)}, {"one is called", old.One, now.One}, {"many are called", old.Many, now.Many}, {"description", old.Description, now.Description}, {"example", old.Example, now.Example},
		{"personal", fmt.Sprint(old.Personal), fmt.Sprint(now.Personal)}, {"what is derived", string(old.Derive), string(now.Derive)},
		{"server-only", fmt.Sprint(old.ServerOnly), fmt.Sprint(now.ServerOnly)}, {"takes 4.2 and v4.2.0", fmt.Sprint(old.Loose), fmt.Sprint(now.Loose)},
	} {
		if c.old != c.now {
			say("%s %q → %q", c.what, c.old, c.now)
		}
	}
	return lines
}

// maxTestUnits is how many test units a project keeps.
const maxTestUnits = 200

// PutTestUnits saves test units, each new or in place of the one with its key.
func (s *Service) PutTestUnits(ctx context.Context, r Request, project *app.Project, units []app.TestUnit) (json.RawMessage, error) {
	return s.queue(ctx, project.ID, r, func(tx Tx, c *commit) (any, error) {
		if err := app.Allow(&r.Actor, app.Define, project.ID, 0); err != nil {
			return nil, err
		}
		if err := tx.LockProject(project.ID); err != nil {
			return nil, err
		}
		var found []flag.Problem
		if len(units) == 0 || len(units) > maxTestUnits {
			found = append(found, flag.Problem{Place: "units", Mend: fmt.Sprintf("takes 1 to %d test units", maxTestUnits)})
		}
		keys := make([]string, 0, len(units))
		for i := range units {
			u := units[i]
			found = append(found, checkTestUnit(fmt.Sprintf("units[%d]", i), &u)...)
			keys = append(keys, u.Unit)
		}
		if err := app.InvalidFields(found); err != nil {
			return nil, err
		}
		for i := range units {
			u := units[i]
			if len(u.Attributes) == 0 {
				u.Attributes = json.RawMessage("{}")
			}
			if u.Expected == nil {
				u.Expected = map[string]string{}
			}
			if err := tx.PutTestUnit(project.ID, &u); err != nil {
				return nil, err
			}
		}
		e := c.entry("test-units.saved", project.ID)
		return map[string]int{"saved": len(units)}, c.project(e, diff.Named("test units saved: ", keys))
	})
}

func checkTestUnit(place string, u *app.TestUnit) (found []flag.Problem) {
	if u.Unit == "" || len(u.Unit) > 200 || !utf8.ValidString(u.Unit) {
		found = append(found, flag.Problem{Place: place + ".unit", Mend: "must be valid UTF-8 of 1 to 200 bytes"})
	}
	if len(u.Name) > 200 || !utf8.ValidString(u.Name) {
		found = append(found, flag.Problem{Place: place + ".name", Mend: "must be valid UTF-8 of at most 200 bytes"})
	}
	if _, err := condition.ParseContext(u.Attributes); err != nil || len(u.Attributes) > 16<<10 {
		mend := "takes at most 16384 bytes"
		if err != nil {
			mend = err.Error()
		}
		found = append(found, flag.Problem{Place: place + ".attributes", Mend: mend})
	}
	if len(u.Expected) > 1_000 {
		found = append(found, flag.Problem{Place: place + ".expected", Mend: "takes at most 1000 flags"})
	}
	return found
}

// RemoveTestUnit takes a test unit away.
func (s *Service) RemoveTestUnit(ctx context.Context, r Request, project *app.Project, unit string) (json.RawMessage, error) {
	return s.queue(ctx, project.ID, r, func(tx Tx, c *commit) (any, error) {
		if err := app.Allow(&r.Actor, app.Define, project.ID, 0); err != nil {
			return nil, err
		}
		was, err := tx.RemoveTestUnit(project.ID, unit)
		if err != nil {
			return nil, err
		}
		if !was {
			return nil, app.Faultf(app.NotFound, "there is no test unit %q", unit)
		}
		return map[string]string{"removed": unit}, c.project(c.entry("test-units.removed", project.ID), diff.Named("test unit removed: ", []string{unit}))
	})
}

// SetSampling says how an environment's population is sampled. Switched off, what was
// sampled is forgotten at once. It makes no revision.
func (s *Service) SetSampling(ctx context.Context, r Request, env *app.Environment, to app.Sampling) (json.RawMessage, error) {
	return s.queue(ctx, env.ProjectID, r, func(tx Tx, c *commit) (any, error) {
		env, err := c.enter(app.Manage, env)
		if err != nil {
			return nil, err
		}
		if to.Days < 1 || to.Days > 90 {
			return nil, app.InvalidField("days", "units are kept 1 to 90 days after they were last seen")
		}
		c.moved.Units = true
		if err := tx.SetSampling(env.ID, to.Off, to.Days); err != nil {
			return nil, err
		}
		said := fmt.Sprintf("population sampled, units kept %d days", to.Days)
		if to.Off {
			said = "population no longer sampled, what was sampled is forgotten"
		}
		return &to, c.environment(env, c.entry("population.set", env.ProjectID), []diff.Line{diff.Text(said)})
	})
}

// EraseUnit takes a unit out of an environment's population. One that is seen again comes back.
func (s *Service) EraseUnit(ctx context.Context, r Request, env *app.Environment, unit string) (json.RawMessage, error) {
	return s.queue(ctx, env.ProjectID, r, func(tx Tx, c *commit) (any, error) {
		env, err := c.enter(app.Manage, env)
		if err != nil {
			return nil, err
		}
		c.moved.Units = true
		n, err := tx.EraseUnit(env.ID, unit)
		if err != nil {
			return nil, err
		}
		return map[string]int64{"erased": n}, c.environment(env, c.entry("population.erased", env.ProjectID), []diff.Line{diff.Named("unit erased from the population: ", []string{unit})})
	})
}

// IssuedSeeAs is a new override "see it as".
type IssuedSeeAs struct {
	flag.SeeAs
	Token string `json:"token"`
}

// withoutSecrets is the override as it is kept for a repeated request.
func (i *IssuedSeeAs) withoutSecrets() any { kept := *i; kept.Token = ""; return &kept }

// SeeAs issues an override for one's own session: variants by flag, for some minutes. It
// touches no rule and makes no revision; that it was issued is audited.
func (s *Service) SeeAs(ctx context.Context, r Request, env *app.Environment, variants map[string]string, minutes int64, seed []byte) (json.RawMessage, error) {
	return s.do(ctx, r, func(tx Tx, c *commit) (any, error) {
		if err := app.Allow(&r.Actor, app.SeeIt, env.ProjectID, env.ID); err != nil {
			return nil, err
		}
		if minutes == 0 {
			minutes = 60
		}
		if minutes < 1 || minutes*60_000 > flag.MaxSeeAs {
			return nil, app.InvalidField("minutes", "an override lasts 1 to %d minutes", flag.MaxSeeAs/60_000)
		}
		if len(variants) == 0 || len(variants) > 20 {
			return nil, app.InvalidField("variants", "name 1 to 20 flags, each with the variant to see")
		}
		env, err := tx.LockEnvironment(env.ID)
		if err != nil {
			return nil, err
		}
		var lines []diff.Line
		for key, variant := range variants {
			rec, err := tx.Flag(env.ID, key)
			if err != nil {
				return nil, noSuchFlag(err, "variants", key)
			}
			if _, ok := rec.Document.Variants[variant]; !ok {
				return nil, app.InvalidField("variants."+key, "%q is no variant of this flag: use one of %s", variant, strings.Join(rec.Document.VariantNames(), ", "))
			}
			lines = append(lines, diff.Text(fmt.Sprintf("%s seen as `%s` in the asker's own session, for %d minutes", key, variant, minutes)))
		}
		slices.SortFunc(lines, func(a, b diff.Line) int { return strings.Compare(a.Text, b.Text) })
		out := &IssuedSeeAs{SeeAs: flag.SeeAs{ID: newID(), By: r.Actor.ID, Variants: variants, Until: c.at + minutes*60_000}}
		if out.Token, err = out.Sign(seed); err != nil {
			return nil, err
		}
		e := c.entry("see-as.issued", env.ProjectID)
		if len(variants) == 1 {
			for key := range variants {
				e.Subject = key
			}
		}
		return out, c.environment(env, e, lines)
	})
}
