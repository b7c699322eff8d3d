// Package metrics holds the changes of metrics: what a project measures of units, so that releases can be
// watched.
package metrics

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"greenlever.example/core/diff"
	"greenlever.example/core/evidence"
	"greenlever.example/core/flag"
	"greenlever.example/core/words"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/commit"
)

// Kinds are the changes of metrics.
func Kinds() []*commit.Kind {
	return []*commit.Kind{
		commit.Of(commit.Kind{Name: "metric.put", Says: "Saves a metric, a new one or in place of the one with its " +
			"key; releases that run go on with it as it was", Action: app.Define, Span: commit.Project,
			Queued: true}, put),
		commit.Of(commit.Kind{Name: "metric.remove", Says: "Takes a metric away; releases that run go on with it",
			Action: app.Define, Span: commit.Project, Queued: true}, remove),
	}
}

// Most is how many metrics a project keeps.
const Most = 200

// Put saves a metric.
type Put struct {
	Metric evidence.Metric `json:"metric"`
}

// Remove takes a metric away.
type Remove struct{}

// Tx is what changes of metrics read.
type Tx interface {
	Metrics(project int64) ([]evidence.Metric, error)
	Definition(project int64, key string) (*app.Definition, error)
}

// Check lists what is wrong with a metric, and fills in what was left open.
func Check(m *evidence.Metric) (found []flag.Problem) {
	m.Usual()
	for _, p := range m.Check() {
		found = append(found, flag.Problem{Place: "metric." + p.Place, Mend: p.Mend})
	}
	for place, t := range map[string]struct {
		text        string
		least, most int
	}{"title": {m.Title, 1, 200}, "says": {m.Says, 0, 500}, "measure": {m.Measure, 0, 20}} {
		if mend := app.CheckText(t.text, t.least, t.most); mend != "" {
			found = append(found, flag.Problem{Place: "metric." + place, Mend: mend})
		}
	}
	return found
}

func put(_ context.Context, m *commit.Moment, in *Put) (*commit.Effects, error) {
	one := in.Metric
	one.Key, one.Flags = m.Of, slices.Clone(one.Flags)
	if err := app.InvalidFields(Check(&one)); err != nil {
		return nil, err
	}
	t := commit.Narrow[Tx](m)
	for i, key := range one.Flags {
		if _, err := t.Definition(m.Project.ID, key); err != nil {
			return nil, app.InvalidField(fmt.Sprintf("metric.flags[%d]", i), "there is no flag %s in this project",
				key)
		}
	}
	all, err := t.Metrics(m.Project.ID)
	if err != nil {
		return nil, err
	}
	at := slices.IndexFunc(all, func(o evidence.Metric) bool { return o.Key == one.Key })
	if at < 0 && len(all) >= Most {
		return nil, app.InvalidField("metric", "a project keeps at most %d: take one away first", Most)
	}
	out := effects(m, "metric.saved", &app.MetricRecord{ProjectID: m.Project.ID, Metric: &one}, said(&one))
	out.Back = m.Back(&Remove{})
	if at >= 0 {
		out.Back = m.Back(&Put{Metric: all[at]})
	}
	return out, nil
}

// said is a metric in one sentence.
func said(m *evidence.Metric) words.Said {
	better := words.Plain("lower is better")
	if !m.Lower() {
		better = words.Plain("higher is better")
	}
	return words.Say("metric %s saved: %s, %s, within %s of the first exposure, tolerated %s", words.Name(m.Title),
		words.Plain(string(m.Kind)), better, m.Window.Words(), words.Plain(Tolerated(m)))
}

// Tolerated says how much worse a new side may be.
func Tolerated(m *evidence.Metric) string {
	var out []string
	if m.Tolerance.Relative > 0 || m.Tolerance.Absolute == 0 {
		out = append(out, fmt.Sprintf("%.4g %%", 100*m.Tolerance.Relative))
	}
	if m.Tolerance.Absolute > 0 {
		out = append(out, fmt.Sprintf("%.4g percentage points", 100*m.Tolerance.Absolute))
	}
	return strings.Join(out, " and ") + " worse"
}

func remove(_ context.Context, m *commit.Moment, _ *Remove) (*commit.Effects, error) {
	all, err := commit.Narrow[Tx](m).Metrics(m.Project.ID)
	if err != nil {
		return nil, err
	}
	for i := range all {
		if all[i].Key == m.Of {
			out := effects(m, "metric.removed", &app.MetricRecord{ProjectID: m.Project.ID, Metric: &all[i],
				Gone: true}, words.Say("metric %s removed", words.Name(all[i].Title)))
			out.Back = m.Back(&Put{Metric: all[i]})
			return out, nil
		}
	}
	return nil, app.Faultf(app.NotFound, "there is no metric %s in this project", m.Of)
}

func effects(m *commit.Moment, action string, r *app.MetricRecord, said words.Said) *commit.Effects {
	entry := commit.Said(action, r.Key, diff.Text(said.String()))
	return &commit.Effects{Result: r.Metric, In: []commit.Effect{{Project: m.Project, Records: []commit.Record{r},
		Entries: []commit.Entry{entry}}}}
}
