package manage

import (
	"cmp"
	"slices"

	"greenlever.example/core/evidence"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/metrics"
)

var _ = listed(
	op[none, listOf[evidence.Metric]]("GET", atProject+"/metrics", "What the project measures of units",
		(*call).metrics).needs(app.Read),
	op[metricBody, evidence.Metric]("PUT", atProject+"/metrics/:metric",
		"Save a metric; releases that run go on with "+
			"it as it was", (*call).putMetric).change().needs(app.Define),
	op[reasonBody, evidence.Metric]("POST", atProject+"/metrics/:metric/remove",
		"Take a metric away; releases that run "+
			"go on with it", (*call).removeMetric).change().needs(app.Define),
)

func (c *call) metrics(*none) (any, error) {
	items, err := c.api.Records.Metrics(c.ctx, c.p.ID)
	return listOf[evidence.Metric]{items}, err
}

type metricBody struct {
	metrics.Put
	Reason string `json:"reason,omitempty"`
}

func (c *call) putMetric(in *metricBody) (any, error) {
	return c.apply(in.Reason, c.Param("metric"), &in.Put)
}

func (c *call) removeMetric(in *reasonBody) (any, error) {
	return c.apply(in.Reason, c.Param("metric"), &metrics.Remove{})
}

var _ = listed(
	op[none, Measured]("GET", atEnvironment+"/metrics/:metric/measured", "What was measured of a metric, in all, by "+
		"version of an application, and by what flags had given", (*call).measured).takes("span").needs(app.Read),
)

// Measured is what was measured of a metric in a span of time.
type Measured struct {
	Metric evidence.Metric `json:"metric"`
	From   int64           `json:"from"` // Unix milliseconds
	To     int64           `json:"to"`
	Step   int64           `json:"step"` // milliseconds
	All    MeasuredLine    `json:"all"`
	// Versions are the applications that measured, by version; Flags what their flags had given then.
	Versions []MeasuredLine `json:"versions"`
	Flags    []MeasuredLine `json:"flags"`
}

// MeasuredLine is what was measured where something stood as it says, step by step.
type MeasuredLine struct {
	Application string `json:"application,omitempty"`
	Version     string `json:"version,omitempty"`
	Flag        string `json:"flag,omitempty"`
	Variant     string `json:"variant,omitempty"`
	Count       int64  `json:"count"` // events
	// Level is the part of events at which it happened, of a rate; else the mean of their values. Absent: there were
	// none.
	Level  *float64   `json:"level,omitempty"`
	Levels []*float64 `json:"levels"` // the same for each step
	Counts []int64    `json:"counts"` // events in each step
}

func (c *call) measured(*none) (any, error) {
	all, err := c.api.Records.Metrics(c.ctx, c.p.ID)
	if err != nil {
		return nil, err
	}
	at := slices.IndexFunc(all, func(m evidence.Metric) bool { return m.Key == c.Param("metric") })
	if at < 0 {
		return nil, app.Faultf(app.NotFound, "there is no metric %s in this project", c.Param("metric"))
	}
	i := slices.IndexFunc(spans, func(s span) bool { return s.name == cmp.Or(c.QueryParam("span"), "1h") })
	if i < 0 {
		return nil, app.InvalidField("span", "must be 15m, 1h, 6h, 1d, 7d, 30d or 90d")
	}
	s := spans[i]
	to := (c.api.Now().UnixMilli()/60_000/s.step + 1) * s.step
	from := to - s.minutes
	rows, err := c.api.Records.Measured(c.ctx, c.e.ID, all[at].Key, from, to)
	if err != nil {
		return nil, err
	}
	g := measuring{span: s, from: from, rate: all[at].Kind == evidence.Rate, sums: map[measuredOf]*measuredSums{}}
	for _, r := range rows {
		if r.Flag != "" {
			g.add(&r, measuredOf{Flag: r.Flag, Variant: r.Variant})
			continue
		}
		g.add(&r, measuredOf{})
		g.add(&r, measuredOf{Application: r.Application, Version: r.Version})
	}
	return g.view(all[at], to), nil
}

// measuring gathers what was measured.
type measuring struct {
	span span
	from int64
	rate bool
	sums map[measuredOf]*measuredSums
}

// measuredOf is where something stood as it says.
type measuredOf struct{ Application, Version, Flag, Variant string }

// measuredSums are sums by step.
type measuredSums struct {
	counts []int64
	sums   []float64
}

func (g *measuring) add(r *app.MeasureRow, of measuredOf) {
	s := g.sums[of]
	if s == nil {
		n := g.span.minutes / g.span.step
		s = &measuredSums{make([]int64, n), make([]float64, n)}
		g.sums[of] = s
	}
	i := min(max((r.Minute-g.from)/g.span.step, 0), int64(len(s.counts)-1))
	s.counts[i] += r.Count
	if g.rate {
		s.sums[i] += float64(r.Bad)
	} else {
		s.sums[i] += r.Sum
	}
}

func (g *measuring) view(m evidence.Metric, to int64) *Measured {
	out := &Measured{Metric: m, From: g.from * 60_000, To: to * 60_000, Step: g.span.step * 60_000,
		All: MeasuredLine{Levels: []*float64{}, Counts: []int64{}}, Versions: []MeasuredLine{},
		Flags: []MeasuredLine{}}
	for of, s := range g.sums {
		line := MeasuredLine{Application: of.Application, Version: of.Version, Flag: of.Flag, Variant: of.Variant,
			Counts: s.counts}
		sum := 0.0
		for i, n := range s.counts {
			line.Count, sum = line.Count+n, sum+s.sums[i]
			line.Levels = append(line.Levels, level(s.sums[i], n))
		}
		line.Level = level(sum, line.Count)
		switch {
		case of == measuredOf{}:
			out.All = line
		case of.Flag != "":
			out.Flags = append(out.Flags, line)
		default:
			out.Versions = append(out.Versions, line)
		}
	}
	for _, lines := range [][]MeasuredLine{out.Versions, out.Flags} {
		slices.SortFunc(lines, func(a, b MeasuredLine) int {
			return cmp.Or(cmp.Compare(a.Application, b.Application), cmp.Compare(a.Version, b.Version),
				cmp.Compare(a.Flag, b.Flag), cmp.Compare(a.Variant, b.Variant))
		})
	}
	return out
}

func level(sum float64, n int64) *float64 {
	if n == 0 {
		return nil
	}
	v := sum / float64(n)
	return &v
}
