package sim

import (
	"context"
	_ "embed"
	"encoding/json"
	"errors"
	"fmt"
	"html/template"
	"io"
	"log/slog"
	"net"
	"net/http"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	standardwebhooks "github.com/standard-webhooks/standard-webhooks/libraries/go"
)

// Hook is a webhook of the demo, and the secret that it was made with.
type Hook struct {
	ID     string `json:"id"`
	Secret string `json:"secret"`
}

// told is an event as the stand-ins read it.
type told struct {
	ID      string `json:"id"`
	Type    string `json:"type"`
	Subject string `json:"subject"`
	Time    string `json:"time"`
	Data    struct {
		Action      string   `json:"action"`
		Environment string   `json:"environment"`
		By          string   `json:"by"`
		Reason      string   `json:"reason"`
		Difference  []string `json:"difference"`
		Release     *struct {
			ID    string   `json:"id"`
			Is    string   `json:"is"`
			Stage string   `json:"stage"`
			Says  string   `json:"says"`
			Note  []string `json:"note"`
		} `json:"release"`
	} `json:"data"`
}

// outsider is a system of somebody else's that is told of changes.
type outsider struct {
	secret func() string
	mu     sync.Mutex
	had    map[string]bool // ids: an event may come twice
	events []told
	server *http.Server
	url    string
}

// hear takes an event: only what is signed, and each once.
func (o *outsider) hear(w http.ResponseWriter, r *http.Request) {
	body, err := io.ReadAll(http.MaxBytesReader(w, r.Body, 1<<20))
	if err != nil {
		http.Error(w, "too large", http.StatusRequestEntityTooLarge)
		return
	}
	signed, err := standardwebhooks.NewWebhook(o.secret())
	if err == nil {
		err = signed.Verify(body, r.Header)
	}
	if err != nil {
		http.Error(w, "not signed, or too old: "+err.Error(), http.StatusUnauthorized)
		return
	}
	var e told
	if err := json.Unmarshal(body, &e); err != nil {
		http.Error(w, err.Error(), http.StatusBadRequest)
		return
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	if !o.had[e.ID] {
		o.had[e.ID] = true
		o.events = append(o.events, e)
	}
	w.WriteHeader(http.StatusNoContent)
}

func (o *outsider) all() []told {
	o.mu.Lock()
	defer o.mu.Unlock()
	return slices.Clone(o.events)
}

// open opens an outsider's door.
func (o *outsider) open(listen string, page func(io.Writer) error, running *sync.WaitGroup) error {
	l, err := net.Listen("tcp", listen)
	if err != nil {
		return err
	}
	o.had, o.url = map[string]bool{}, "http://"+l.Addr().String()
	mux := http.NewServeMux()
	mux.HandleFunc("POST /told", o.hear)
	mux.HandleFunc("GET /{$}", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		if err := page(w); err != nil {
			http.Error(w, err.Error(), http.StatusInternalServerError)
		}
	})
	o.server = &http.Server{Handler: mux, ReadHeaderTimeout: 10 * time.Second}
	running.Go(func() { _ = o.server.Serve(l) })
	return nil
}

//go:embed tickets.html
var ticketsPage string

//go:embed monitor.html
var monitorPage string

// Ticket is what the ticket tracker makes of a release.
type Ticket struct {
	Flag, Environment, Is, Says string
	Notes                       []string
	Lines                       []TicketLine
}

// TicketLine is a comment on a ticket.
type TicketLine struct{ At, Text string }

// tickets are the releases that were told of, newest first.
func tickets(events []told) (out []*Ticket) {
	byID := map[string]*Ticket{}
	for _, e := range events {
		r := e.Data.Release
		if r == nil {
			continue
		}
		t := byID[r.ID]
		if t == nil {
			t = &Ticket{Flag: e.Subject, Environment: e.Data.Environment}
			byID[r.ID] = t
			out = append([]*Ticket{t}, out...)
		}
		t.Is, t.Says, t.Notes = r.Is, r.Says, r.Note
		text := r.Stage
		if e.Data.Reason != "" && e.Data.By != "" {
			text += " (" + e.Data.By + ": " + e.Data.Reason + ")"
		}
		t.Lines = append(t.Lines, TicketLine{clock(e.Time), strings.TrimPrefix(e.Data.Action, "release.") + ": " +
			text})
	}
	return out
}

func clock(rfc3339 string) string {
	at, err := time.Parse(time.RFC3339Nano, rfc3339)
	if err != nil {
		return rfc3339
	}
	return at.Local().Format("15:04:05")
}

// monitor is the monitoring system: it counts what the services do, and draws what it is told as marks.
type monitor struct {
	outsider
	opened atomic.Int64 // compartments
	mu     sync.Mutex
	points []point
	alerts *alerting
	said   []TicketLine // what it told the tripwire
}

type point struct {
	at time.Time
	n  int64
}

// pointEvery is how often it looks, and points is how many it keeps.
const (
	pointEvery = 2 * time.Second
	points     = 450
)

func (m *monitor) count(ctx context.Context) {
	tick := time.NewTicker(pointEvery)
	defer tick.Stop()
	last := int64(0)
	for {
		select {
		case <-ctx.Done():
			return
		case at := <-tick.C:
			now := m.opened.Load()
			m.mu.Lock()
			m.points = append(m.points, point{at, now - last})
			m.points = m.points[max(0, len(m.points)-points):]
			m.mu.Unlock()
			last = now
			m.alert(ctx, at)
		}
	}
}

// alert looks at the weather service, and notes what it said of it.
func (m *monitor) alert(ctx context.Context, at time.Time) {
	if m.alerts == nil {
		return
	}
	said, err := m.alerts.look(ctx, at)
	if err != nil {
		said = err.Error()
	}
	if said != "" {
		m.mu.Lock()
		m.said = append(m.said, TicketLine{at.Local().Format("15:04:05"), said})
		m.mu.Unlock()
	}
}

// Chart is what the monitor's page draws.
type Chart struct {
	Line  string // the points of a polyline
	Most  int64
	From  string
	To    string
	Marks []Mark
	Said  []TicketLine
}

// Mark is an event on the chart.
type Mark struct {
	X    float64
	At   string
	Text string
}

const chartWide, chartHigh = 1000.0, 260.0

func (m *monitor) chart() *Chart {
	m.mu.Lock()
	all, said := slices.Clone(m.points), slices.Clone(m.said)
	m.mu.Unlock()
	c := &Chart{Said: said}
	if len(all) < 2 {
		return c
	}
	from, to := all[0].at, all[len(all)-1].at
	x := func(at time.Time) float64 { return at.Sub(from).Seconds() / to.Sub(from).Seconds() * chartWide }
	for _, p := range all {
		c.Most = max(c.Most, p.n, 1)
	}
	var line strings.Builder
	for _, p := range all {
		fmt.Fprintf(&line, "%.1f,%.1f ", x(p.at), chartHigh-float64(p.n)/float64(c.Most)*(chartHigh-20))
	}
	c.Line, c.From, c.To = line.String(), from.Local().Format("15:04:05"), to.Local().Format("15:04:05")
	for _, e := range m.all() {
		at, err := time.Parse(time.RFC3339Nano, e.Time)
		if err != nil || at.Before(from) || at.After(to) {
			continue
		}
		text := e.Subject + " " + e.Data.Action
		if e.Data.Release != nil {
			text = e.Subject + ": " + strings.TrimPrefix(e.Data.Action, "release.") + " " + e.Data.Release.Stage
		}
		c.Marks = append(c.Marks, Mark{x(at), clock(e.Time), text + " in " + e.Data.Environment})
	}
	return c
}

// startOutside starts the ticket tracker and the monitoring system, and has both told of what they want.
func (d *Demo) startOutside(ctx context.Context, c Config, log *slog.Logger, running *sync.WaitGroup) error {
	d.tracker, d.monitor = &outsider{}, &monitor{}
	for _, one := range []struct {
		o     *outsider
		name  string
		page  string
		port  int
		data  func() any
		kinds []string
	}{
		{d.tracker, "Ticket tracker", ticketsPage, 3, func() any { return tickets(d.tracker.all()) },
			[]string{"release.*"}},
		{&d.monitor.outsider, "Monitoring", monitorPage, 4, func() any { return d.monitor.chart() },
			[]string{"release.*", "flag.*"}},
	} {
		page, err := template.New(one.name).Parse(one.page)
		if err != nil {
			return err
		}
		one.o.secret = func() string { return d.hook(one.name).Secret }
		if err := one.o.open(beside(c.Listen, one.port), func(w io.Writer) error {
			return page.Execute(w, one.data())
		}, running); err != nil {
			return fmt.Errorf("%s: %w", one.name, err)
		}
		if err := d.told(ctx, one.name, one.o.url+"/told", one.kinds); err != nil {
			return err
		}
	}
	d.Tickets, d.Monitor = d.tracker.url, d.monitor.url
	if !c.Quiet {
		if err := d.startWeather(ctx, c); err != nil {
			return err
		}
	}
	running.Go(func() { d.monitor.count(ctx) })
	_ = log
	return nil
}

func (d *Demo) hook(name string) Hook {
	d.hooks.Lock()
	defer d.hooks.Unlock()
	return d.Hooks[name]
}

// told has a stand-in told of changes: by a webhook of its own, at the address that it has this time.
func (d *Demo) told(ctx context.Context, name, url string, kinds []string) error {
	keeper := d.caller("keeper")
	body := object{"webhook": object{"title": name, "url": url, "kinds": kinds}, "reason": "the demo's stand-in"}
	if had := d.hook(name); had.ID != "" {
		return keeper.do(ctx, "PUT", "/projects/pinecrest/webhooks/"+had.ID, body, nil, 0)
	}
	var made Hook
	if err := keeper.post(ctx, "/projects/pinecrest/webhooks", body, &made); err != nil {
		return err
	}
	d.hooks.Lock()
	defer d.hooks.Unlock()
	if d.Hooks == nil {
		d.Hooks = map[string]Hook{}
	}
	d.Hooks[name] = made
	return nil
}

func (d *Demo) stopOutside() error {
	var err error
	if d.tracker != nil && d.tracker.server != nil {
		err = d.tracker.server.Close()
	}
	if d.monitor != nil && d.monitor.server != nil {
		err = errors.Join(err, d.monitor.server.Close())
	}
	return err
}
