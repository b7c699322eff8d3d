package web

import (
	"errors"
	"net/http"
	"strconv"
	"sync"
	"time"

	"github.com/labstack/echo/v5"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"greenlever.example/greenlever/internal/app/guard"
)

// metrics is what operators watch, in the OpenMetrics format.
type metrics struct {
	registry *prometheus.Registry
	requests *prometheus.HistogramVec
	serve    echo.HandlerFunc

	// Looking an observer up by its labels is slow, so those met are kept.
	mu        sync.RWMutex
	observers map[observed]prometheus.Observer
}

type observed struct {
	route  string
	status int
}

func (m *metrics) observer(route string, status int) prometheus.Observer {
	key := observed{route, status}
	m.mu.RLock()
	o := m.observers[key]
	m.mu.RUnlock()
	if o != nil {
		return o
	}
	o = m.requests.WithLabelValues(route, strconv.Itoa(status))
	m.mu.Lock()
	defer m.mu.Unlock()
	m.observers[key] = o
	return o
}

func newMetrics(a *Surface) *metrics {
	r := prometheus.NewRegistry()
	m := &metrics{registry: r, observers: map[observed]prometheus.Observer{},
		requests: prometheus.NewHistogramVec(prometheus.HistogramOpts{Name: "greenlever_request_duration_seconds",
			Help: "Time of requests by route and status; streams are not among them.", Buckets: []float64{.0005, .001,
				.0025, .005, .01, .025, .05, .1, .25, .5, 1, 5}},
			[]string{"route", "status"}),
	}
	r.MustRegister(m.requests, collectors.NewGoCollector( // of its older names two make one family of OpenMetrics
		collectors.WithGoCollectorMemStatsMetricsDisabled(),
		collectors.WithGoCollectorRuntimeMetrics(collectors.MetricsGC, collectors.MetricsMemory)),
		collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}),
		prometheus.NewGaugeFunc(prometheus.GaugeOpts{Name: "greenlever_streams",
			Help: "Open streams of services and the console."}, func() float64 { return float64(a.streams.Load()) }),
		prometheus.NewCounterFunc(prometheus.CounterOpts{Name: "greenlever_panics_total",
			Help: "Panics that were caught in goroutines."}, func() float64 { return float64(guard.Panics()) }))
	r.MustRegister(jobs{a})
	h := promhttp.HandlerFor(r, promhttp.HandlerOpts{EnableOpenMetrics: true,
		EnableOpenMetricsTextCreatedSamples: true})
	m.serve = func(c *echo.Context) error { h.ServeHTTP(c.Response(), c.Request()); return nil }
	return m
}

// jobs tells of what goes on behind.
type jobs struct{ of *Surface }

var (
	jobTurns = prometheus.NewDesc("greenlever_job_turns_total", "Turns of each job here that ended well or failed.",
		[]string{"job", "outcome"}, nil)
	jobLast = prometheus.NewDesc("greenlever_job_last_success_timestamp_seconds",
		"When a turn of the job last ended well here.", []string{"job"}, nil)
	jobTook = prometheus.NewDesc("greenlever_job_last_duration_seconds", "How long the job's last turn took here.",
		[]string{"job"}, nil)
	jobIsMine = prometheus.NewDesc("greenlever_job_held", "Whether this process has the lease of a job that is for "+
		"one at a time.", []string{"job"}, nil)
)

// Describe names what Collect tells.
func (jobs) Describe(to chan<- *prometheus.Desc) {
	for _, d := range []*prometheus.Desc{jobTurns, jobLast, jobTook, jobIsMine} {
		to <- d
	}
}

// Collect tells how the jobs are doing.
func (j jobs) Collect(to chan<- prometheus.Metric) {
	if j.of.Jobs == nil {
		return
	}
	for _, s := range j.of.Jobs() {
		tell := func(d *prometheus.Desc, kind prometheus.ValueType, v float64, labels ...string) {
			to <- prometheus.MustNewConstMetric(d, kind, v, append([]string{s.Name}, labels...)...)
		}
		tell(jobTurns, prometheus.CounterValue, float64(s.Turns-s.Failed), "done")
		tell(jobTurns, prometheus.CounterValue, float64(s.Failed), "failed")
		if !s.Last.IsZero() {
			tell(jobLast, prometheus.GaugeValue, float64(s.Last.UnixMilli())/1000)
		}
		tell(jobTook, prometheus.GaugeValue, s.Took)
		if s.Alone {
			held := 0.0
			if s.Mine {
				held = 1
			}
			tell(jobIsMine, prometheus.GaugeValue, held)
		}
	}
}

// measure times requests by route.
func (m *metrics) measure(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		started := time.Now()
		err := next(c)
		if c.Response().Header().Get("Content-Type") == "text/event-stream" {
			return err
		}
		status := http.StatusOK
		if r, e := echo.UnwrapResponse(c.Response()); e == nil && r.Committed {
			status = r.Status
		}
		var coded echo.HTTPStatusCoder
		if errors.As(err, &coded) {
			status = coded.StatusCode()
		} else if err != nil {
			status, _ = Problem(err)
		}
		m.observer(c.Path(), status).Observe(time.Since(started).Seconds())
		return err
	}
}
