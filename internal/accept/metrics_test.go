package accept

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"

	"greenlever.example/greenlever/internal/app/work"
	"greenlever.example/greenlever/internal/gltest"
)

var (
	described = regexp.MustCompile(`^# (HELP|TYPE|UNIT) ([a-zA-Z_:][a-zA-Z0-9_:]*) (.*)$`)
	sampled   = regexp.MustCompile(
		`^([a-zA-Z_:][a-zA-Z0-9_:]*)(?:\{((?:[a-zA-Z_][a-zA-Z0-9_]*="(?:[^"\\\n]|\\["\\n])*",?)*)\})? (\S+)(?: (\d+(?:\.\d+)?))?(?: # \{.*\} \S+(?: \S+)?)?$`)
	bound = regexp.MustCompile(`(?:^|,)le="([^"]*)"`)
)

// suffixes are what the samples of a type are called behind the family's name (OpenMetrics 1.0, "Metric
// types").
var suffixes = map[string][]string{"counter": {"_total", "_created"}, "gauge": {""}, "histogram": {"_bucket", "_sum",
	"_count", "_created"}, "summary": {"", "_sum", "_count", "_created"},
	"info": {"_info"}, "stateset": {""}, "unknown": {""}, "gaugehistogram": {"_bucket", "_gsum", "_gcount"}}

// openMetrics holds a text against OpenMetrics 1.0.
func openMetrics(text string) (wrong []string) {
	say := func(n int, format string, args ...any) {
		wrong = append(wrong, fmt.Sprintf("line %d: ", n+1)+fmt.Sprintf(format, args...))
	}
	body, ok := strings.CutSuffix(text, "# EOF\n")
	if !ok {
		return []string{"it does not end with # EOF"}
	}
	types, seen, samples := map[string]string{}, map[string]bool{}, map[string]bool{}
	family, last, lastBound := "", map[string]float64{}, 0.0
	for n, line := range strings.Split(strings.TrimSuffix(body, "\n"), "\n") {
		if m := described.FindStringSubmatch(line); m != nil {
			if m[2] != family {
				if seen[m[2]] {
					say(n, "family %s begins again", m[2])
				}
				family, seen[m[2]] = m[2], true
				types[family] = "unknown"
				clear(last)
			}
			if samples[family] {
				say(n, "%s of %s stands behind its samples", m[1], family)
			}
			switch m[1] {
			case "TYPE":
				types[family] = m[3]
				if suffixes[m[3]] == nil {
					say(n, "%s is no type", m[3])
				}
			case "UNIT":
				if m[3] != "" && !strings.HasSuffix(family, "_"+m[3]) {
					say(n, "%s does not end with its unit %s", family, m[3])
				}
			}
			continue
		}
		m := sampled.FindStringSubmatch(line)
		if m == nil {
			say(n, "neither a description nor a sample: %q", line)
			continue
		}
		suffix, mine := strings.CutPrefix(m[1], family)
		fits := false
		for _, s := range suffixes[types[family]] {
			fits = fits || mine && s == suffix
		}
		if family == "" || !fits {
			say(n, "%s is no sample of %s %s", m[1], types[family], family)
		}
		if samples[m[1]+"{"+m[2]] {
			say(n, "the sample stands twice")
		}
		samples[family], samples[m[1]+"{"+m[2]] = true, true
		v, err := strconv.ParseFloat(m[3], 64)
		if err != nil {
			say(n, "%s is no number", m[3])
		}
		if le := bound.FindStringSubmatch(m[2]); suffix == "_bucket" {
			of := bound.ReplaceAllString(m[2], "")
			at, err := strconv.ParseFloat(le[1], 64)
			_, again := last[of]
			if err != nil || le[1] != "+Inf" && !strings.ContainsAny(le[1], ".e") || v < last[of] || again &&
				at <= lastBound {
				say(n, "the bucket %s does not go on from the one before: %s", le[1], line)
			}
			last[of], lastBound = v, at
		} else if suffix == "_count" && types[family] == "histogram" && v != last[m[2]] {
			say(n, "the count is %v, the last bucket's %v", v, last[m[2]])
		}
	}
	return wrong
}

// What operators watch is OpenMetrics to the letter, from the service and from an outpost.
func TestMetricsAreOpenMetrics(t *testing.T) {
	s := gltest.Start(t)
	s.Flag(t, "a")
	o := station(t, s.URL(), []string{s.Keys["production"]})
	bearer(s.URL(), s.Keys["production"]).Do(t, "POST", "/ofrep/v1/evaluate/flags/a", nil, 200, nil)
	bearer(o.URL(), s.Keys["production"]).Do(t, "POST", "/ofrep/v1/evaluate/flags/nowhere", nil, 404, nil)
	for name, admin := range map[string]string{"service": s.AdminURL(), "outpost": o.AdminURL()} {
		status, raw, header, _ := gltest.Caller{URL: admin}.With("Accept",
			"application/openmetrics-text; version=1.0.0").Send("GET", "/metrics", nil)
		if status != 200 || !strings.HasPrefix(header.Get("Content-Type"),
			"application/openmetrics-text; version=1.0.0; charset=utf-8") {
			t.Errorf("%s: %d %s", name, status, header.Get("Content-Type"))
		}
		for _, w := range openMetrics(string(raw)) {
			t.Errorf("%s: %s", name, w)
		}
	}
	for name, admin := range map[string]string{"service": s.AdminURL(), "outpost": o.AdminURL()} {
		var jobs []work.State
		gltest.Eventually(t, name+": jobs are done", func() bool {
			gltest.Caller{URL: admin}.Do(t, "GET", "/jobs", nil, 200, &jobs)
			i := slices.IndexFunc(jobs, func(j work.State) bool { return j.Name == "feed" })
			return i >= 0 && jobs[i].Turns > 1 && !jobs[i].Last.IsZero() && jobs[i].Error == ""
		})
		if name == "service" && len(jobs) != 23 || name == "outpost" && len(jobs) != 6 {
			t.Errorf("%s: %+v", name, jobs)
		}
		_, raw, _, _ := gltest.Caller{URL: admin}.Send("GET", "/metrics", nil)
		if !strings.Contains(string(raw), `greenlever_job_turns_total{job="feed",outcome="done"}`) {
			t.Errorf("%s: no metric tells of its jobs", name)
		}
	}
	for text, says := range map[string]string{
		"# TYPE a counter\na 1\n# EOF\n": "no sample of counter a", "# TYPE a gauge\na 1\na 2\n# EOF\n": "twice",
		"# TYPE a gauge\na 1\n": "# EOF", "# TYPE a gauge\na one\n# EOF\n": "no number",
		"# TYPE a gauge\na 1\n# TYPE b gauge\nb 1\n# TYPE a gauge\n# EOF\n":            "begins again",
		"# TYPE a histogram\na_bucket{le=\"1.0\"} 2\na_bucket{le=\"+Inf\"} 1\n# EOF\n": "does not go on",
	} {
		if got := strings.Join(openMetrics(text), "; "); !strings.Contains(got, says) {
			t.Errorf("%q: %s", text, got)
		}
	}
}
