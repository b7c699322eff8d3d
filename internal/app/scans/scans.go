// Package scans holds the changes of what is known of code: where it asks for flags.
package scans

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

// Bounds of scans.
const (
	mostPlaces = 50_000 // of one
	mostScans  = 1_000  // branches of repositories, in a project
)

// Report keeps what a scan found. A scan of a commit that is older than the one that is known is left.
type Report struct{ app.Scan }

// Forget forgets a branch of a repository.
type Forget struct {
	Repository string `json:"repository"`
	Branch     string `json:"branch"`
}

// Tx is what these changes read.
type Tx interface {
	Scans(project int64) ([]app.Scan, error)
}

// Kinds are the changes of what is known of code.
func Kinds() []*commit.Kind {
	return []*commit.Kind{
		commit.Of(commit.Kind{Name: "places.report", Says: "Reports where code asks for flags", Action: app.Define,
			Span: commit.Project, Queued: true, Alone: true}, report),
		commit.Of(commit.Kind{Name: "places.forget", Says: "Forgets a branch of a repository", Action: app.Define,
			Span: commit.Project, Queued: true, Alone: true}, forget),
	}
}

func check(s *app.Scan) error {
	var found []flag.Problem
	add := func(place, mend string) {
		if mend != "" && len(found) < 20 {
			found = append(found, flag.Problem{Place: place, Mend: mend})
		}
	}
	add("repository", app.CheckText(s.Repository, 1, 200))
	add("branch", app.CheckText(s.Branch, 1, 200))
	if s.Commit == "" || len(s.Commit) > 100 || strings.ContainsAny(s.Commit, " \t\n") {
		add("commit", "must be the id of a commit")
	}
	if s.At <= 0 {
		add("at", "must be the time of the commit, in Unix milliseconds")
	}
	if len(s.Places)+len(s.Unknown) > mostPlaces {
		add("places", fmt.Sprintf("takes at most %d", mostPlaces))
	}
	for i, p := range s.Places {
		add(fmt.Sprintf("places[%d].flag", i), flag.CheckKey(p.Flag))
		add(fmt.Sprintf("places[%d].file", i), app.CheckText(p.File, 1, 1_000))
		add(fmt.Sprintf("places[%d].code", i), app.CheckText(p.Code, 0, 400))
	}
	return app.InvalidFields(found)
}

func report(_ context.Context, m *commit.Moment, in *Report) (*commit.Effects, error) {
	s := in.Scan
	if s.At > m.At {
		s.At = m.At // a clock that is ahead must not keep later scans away
	}
	if err := check(&s); err != nil {
		return nil, err
	}
	all, err := commit.Narrow[Tx](m).Scans(m.Project.ID)
	if err != nil {
		return nil, err
	}
	at := slices.IndexFunc(all, func(o app.Scan) bool { return o.Repository == s.Repository && o.Branch == s.Branch })
	switch {
	case at >= 0 && all[at].At > s.At:
		return nil, app.Faultf(app.Conflict, "a newer commit of %s in %s is known already: %s", s.Branch, s.Repository,
			all[at].Commit)
	case at < 0 && len(all) >= mostScans:
		return nil, app.InvalidField("repository", "a project knows at most %d branches: forget one first", mostScans)
	}
	s.Places, s.Unknown = append([]app.CodePlace{}, s.Places...), append([]app.CodePlace{}, s.Unknown...)
	return effects(m, "places.reported", &app.ScanRecord{ProjectID: m.Project.ID, Scan: &s},
		fmt.Sprintf("%s of %s at %s: %d places", s.Branch, s.Repository, s.Commit, len(s.Places))), nil
}

func forget(_ context.Context, m *commit.Moment, in *Forget) (*commit.Effects, error) {
	all, err := commit.Narrow[Tx](m).Scans(m.Project.ID)
	if err != nil {
		return nil, err
	}
	for i := range all {
		if all[i].Repository == in.Repository && all[i].Branch == in.Branch {
			return effects(m, "places.forgotten", &app.ScanRecord{ProjectID: m.Project.ID, Scan: &all[i], Gone: true},
				fmt.Sprintf("%s of %s", in.Branch, in.Repository)), nil
		}
	}
	return nil, app.Faultf(app.NotFound, "nothing is known of branch %q of repository %q", in.Branch, in.Repository)
}

func effects(m *commit.Moment, action string, r *app.ScanRecord, said string) *commit.Effects {
	return &commit.Effects{Result: r.Scan, In: []commit.Effect{{Project: m.Project, Records: []commit.Record{r},
		Entries: []commit.Entry{commit.Said(action, r.Repository, diff.Text(said))}}}}
}
