// Package bundles holds the changes of bundles: flags that ship together.
package bundles

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"greenlever.example/core/diff"
	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/commit"
)

// Bounds of bundles.
const (
	most      = 500 // in a project
	mostFlags = 50  // in a bundle
)

// Tx is what changes of bundles read.
type Tx interface {
	Bundles(project int64) ([]app.Bundle, error)
	// BundleVersion is the last one that there was of a bundle, also of one that was taken away; 0: none.
	BundleVersion(project int64, key string) (int64, error)
	Definition(project int64, key string) (*app.Definition, error)
}

// Put saves a bundle, a new one or in place of the one with its key.
type Put struct {
	Bundle app.Bundle `json:"bundle"`
}

// Remove takes a bundle away. Its flags stay.
type Remove struct{}

// Kinds are the changes of bundles.
func Kinds() []*commit.Kind {
	return []*commit.Kind{
		commit.Of(commit.Kind{Name: "bundle.put", Says: "Saves a bundle", Action: app.Define, Span: commit.Project,
			Queued: true}, put),
		commit.Of(commit.Kind{Name: "bundle.remove", Says: "Takes a bundle away; its flags stay", Action: app.Define,
			Span: commit.Project, Queued: true}, remove),
	}
}

func check(m *commit.Moment, b *app.Bundle) error {
	var found []flag.Problem
	add := func(place, mend string) {
		if mend != "" {
			found = append(found, flag.Problem{Place: "bundle." + place, Mend: mend})
		}
	}
	add("key", flag.CheckKey(b.Key))
	add("title", app.CheckText(b.Title, 1, 200))
	add("says", app.CheckText(b.Says, 0, 1_000))
	if len(b.Flags) == 0 || len(b.Flags) > mostFlags {
		add("flags", fmt.Sprintf("takes 1 to %d flags", mostFlags))
	}
	for i, key := range b.Flags {
		place := fmt.Sprintf("flags[%d]", i)
		if slices.Contains(b.Flags[:i], key) {
			add(place, "stands twice")
		} else if _, err := commit.Narrow[Tx](m).Definition(m.Project.ID, key); err != nil {
			add(place, fmt.Sprintf("there is no flag %s in this project", key))
		}
	}
	return app.InvalidFields(found)
}

func find(m *commit.Moment) (all []app.Bundle, was *app.Bundle, err error) {
	if all, err = commit.Narrow[Tx](m).Bundles(m.Project.ID); err != nil {
		return nil, nil, err
	}
	for i := range all {
		if all[i].Key == m.Of {
			return all, &all[i], nil
		}
	}
	return all, nil, nil
}

func put(_ context.Context, m *commit.Moment, in *Put) (*commit.Effects, error) {
	b := in.Bundle
	b.Key, b.Flags = m.Of, slices.Clone(b.Flags)
	if strings.TrimSpace(b.Title) == "" {
		b.Title = b.Key
	}
	if err := check(m, &b); err != nil {
		return nil, err
	}
	all, was, err := find(m)
	if err != nil {
		return nil, err
	}
	switch {
	case was == nil && len(all) >= most:
		return nil, app.InvalidField("bundle", "a project keeps at most %d: take one away first", most)
	case was != nil && !m.Anew(): // one's own eyes, where a version is said
		if err := m.Seen(was.Version, was); err != nil {
			return nil, err
		}
	}
	last, err := commit.Narrow[Tx](m).BundleVersion(m.Project.ID, b.Key)
	if err != nil {
		return nil, err
	}
	b.Version = last + 1
	lines := []diff.Line{diff.Text(fmt.Sprintf("bundle %q saved: %s", b.Title, strings.Join(b.Flags, ", ")))}
	out := effects(m, "bundle.saved", &app.BundleRecord{ProjectID: m.Project.ID, Bundle: &b}, lines)
	out.Back = m.Back(&Remove{})
	if was != nil {
		out.Back = m.Back(&Put{*was}, b.Version)
	}
	return out, nil
}

func remove(_ context.Context, m *commit.Moment, _ *Remove) (*commit.Effects, error) {
	_, was, err := find(m)
	if err != nil {
		return nil, err
	}
	if was == nil {
		return nil, app.Faultf(app.NotFound, "there is no bundle %s in this project", m.Of)
	}
	out := effects(m, "bundle.removed", &app.BundleRecord{ProjectID: m.Project.ID, Bundle: was, Gone: true},
		[]diff.Line{diff.Text(fmt.Sprintf("bundle %q taken away; its flags stay", was.Title))})
	out.Back = m.Back(&Put{*was})
	return out, nil
}

func effects(m *commit.Moment, action string, r *app.BundleRecord, lines []diff.Line) *commit.Effects {
	return &commit.Effects{Result: r.Bundle, In: []commit.Effect{{Project: m.Project, Records: []commit.Record{r},
		Entries: []commit.Entry{{Action: action, Subject: r.Key, Version: r.Version, Lines: lines}}}}}
}
