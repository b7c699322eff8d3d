package files

import (
	"strconv"

	"go.yaml.in/yaml/v4"

	"greenlever.example/core/evidence"
)

// Metric is a file of a metric.
type Metric struct {
	Key       string     `json:"metric" yaml:"metric"`
	Title     string     `json:"title" yaml:"title"`
	Says      string     `json:"says,omitempty" yaml:"says,omitempty"`
	Kind      string     `json:"kind" yaml:"kind"`
	Better    string     `json:"better,omitempty" yaml:"better,omitempty"`
	Measure   string     `json:"measure,omitempty" yaml:"measure,omitempty"`
	By        string     `json:"by,omitempty" yaml:"by,omitempty"`
	Reduce    string     `json:"reduce,omitempty" yaml:"reduce,omitempty"`
	Window    string     `json:"window,omitempty" yaml:"window,omitempty"`
	Grace     string     `json:"grace,omitempty" yaml:"grace,omitempty"`
	Tolerance *Tolerance `json:"tolerance,omitempty" yaml:"tolerance,omitempty"`
	Limit     *float64   `json:"limit,omitempty" yaml:"limit,omitempty"`
	Common    bool       `json:"common,omitempty" yaml:"common,omitempty"`
	Base      float64    `json:"base,omitempty" yaml:"base,omitempty"`
	Cap       float64    `json:"cap,omitempty" yaml:"cap,omitempty"`
	Flags     []string   `json:"flags,omitempty" yaml:"flags,omitempty,flow"`
}

// Tolerance is how much worse a new side may be.
type Tolerance struct {
	Relative float64 `json:"relative,omitempty" yaml:"relative,omitempty"`
	Absolute float64 `json:"absolute,omitempty" yaml:"absolute,omitempty"`
}

// Watch is a watch of a release in a file.
type Watch struct {
	Metric    string     `json:"metric" yaml:"metric"`
	Tolerance *Tolerance `json:"tolerance,omitempty" yaml:"tolerance,omitempty"`
	Limit     *float64   `json:"limit,omitempty" yaml:"limit,omitempty"`
	Weight    float64    `json:"weight,omitempty" yaml:"weight,omitempty"`
	OnHarm    string     `json:"onHarm,omitempty" yaml:"onHarm,omitempty"`
}

// ReadMetric reads a metric.
func ReadMetric(raw []byte) (*evidence.Metric, error) {
	m := &Metric{}
	root, err := read("metric", raw, m)
	if err != nil {
		return nil, err
	}
	out := &evidence.Metric{Key: m.Key, Title: m.Title, Says: m.Says, Kind: evidence.Kind(m.Kind), Better: m.Better,
		Measure: m.Measure, By: m.By, Reduce: evidence.Reduce(m.Reduce), Limit: m.Limit, Common: m.Common,
		Base: m.Base,
		Cap:  m.Cap, Flags: m.Flags}
	if m.Tolerance != nil {
		out.Tolerance = evidence.Tolerance(*m.Tolerance)
	}
	if out.Window, err = span(root, m.Window, "window"); err != nil {
		return nil, err
	}
	out.Grace, err = span(root, m.Grace, "grace")
	return out, err
}

// WriteMetric writes a metric.
func WriteMetric(m *evidence.Metric) ([]byte, error) {
	t := Tolerance(m.Tolerance)
	return write("metric", Metric{Key: m.Key, Title: m.Title, Says: m.Says, Kind: string(m.Kind), Better: m.Better,
		Measure: m.Measure, By: m.By, Reduce: string(m.Reduce), Window: m.Window.String(), Grace: m.Grace.String(),
		Tolerance: &t, Limit: m.Limit, Common: m.Common, Base: m.Base, Cap: m.Cap, Flags: m.Flags})
}

// alpha reads the chance of a false verdict, which is written as a percentage.
func alpha(root *yaml.Node, text string) (float64, error) {
	n, err := percent(root, text, "alpha")
	return float64(n) / 1e6, err
}

func percentOf(alpha float64) string {
	if alpha == 0 {
		return ""
	}
	return strconv.FormatFloat(100*alpha, 'g', 10, 64) + " %"
}
