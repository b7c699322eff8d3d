package outpost

import (
	"bytes"
	_ "embed"
	"html/template"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/labstack/echo/v5"

	greenlever "greenlever.example/client"
	"greenlever.example/core/wire"
	"greenlever.example/greenlever/internal/app"
)

//go:embed page.html
var pageText string

var pageTemplate = template.Must(template.New("page").Parse(pageText))

// place is one environment on the outpost's own page.
type place struct {
	Name      string
	State     greenlever.State
	Contact   string // how long ago
	Skew      string // of this machine's clock, where that matters
	Refused   string
	Flags     int
	Keys      int
	Streams   int64
	Pollers   int64
	Waiting   int // lines of counts that are not reported yet
	Followers []behind
	Silent    int
}

// behind is one follower on the page.
type behind struct {
	wire.Status
	Ago    string
	Silent bool
	Late   bool // it decides by an older revision than the outpost
}

// page shows what the outpost follows and who is behind it. It names no flag.
func (o *Outpost) page(c *echo.Context) error {
	view := struct {
		Name, Version, URL, Up string
		Places                 []place
	}{o.config.Name, o.config.Version, o.config.URL, short(time.Since(o.started)), nil}
	for _, l := range o.links {
		view.Places = append(view.Places, o.place(l))
	}
	var b bytes.Buffer
	if err := pageTemplate.Execute(&b, view); err != nil {
		return err
	}
	c.Response().Header().Set("Content-Security-Policy", "default-src 'none'; style-src 'unsafe-inline'")
	c.Response().Header().Set("Cache-Control", "no-store")
	return c.HTML(http.StatusOK, b.String())
}

func (o *Outpost) place(l *link) place {
	p := place{Name: "not known yet", State: l.state()}
	p.Streams, p.Pollers = o.edge.Audience(l.id)
	p.Contact = short(time.Since(p.State.Contact))
	if p.State.Skew.Abs() > time.Second {
		p.Skew = p.State.Skew.Round(100 * time.Millisecond).String()
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.needs != nil {
		p.Name, p.Keys = l.needs.Name, len(l.needs.Keys)
	}
	if l.rules != nil {
		p.Flags = len(l.rules.Flags)
	}
	p.Refused, p.Waiting = l.refused, len(l.counts)
	for _, f := range l.followers {
		ago := l.now().Sub(f.at)
		b := behind{Status: f.Status, Ago: short(ago), Silent: ago.Milliseconds() > app.SilentAfter,
			Late: f.Epoch == p.State.Epoch && f.Revision < p.State.Revision}
		if b.Silent {
			p.Silent++
		}
		p.Followers = append(p.Followers, b)
	}
	slices.SortFunc(p.Followers, func(a, b behind) int {
		return strings.Compare(a.Application+"\x00"+a.Instance, b.Application+"\x00"+b.Instance)
	})
	return p
}

// short writes a duration as people say it: 4 s, 3 min, 2 h, 5 d.
func short(d time.Duration) string {
	switch {
	case d < 2*time.Minute:
		return d.Truncate(time.Second).String()
	case d < 2*time.Hour:
		return strings.TrimSuffix(d.Truncate(time.Minute).String(), "0s")
	}
	return strings.TrimSuffix(d.Truncate(time.Hour).String(), "0m0s")
}
