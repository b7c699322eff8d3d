package manage

import (
	"bytes"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/labstack/echo/v5"

	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/admit"
	"greenlever.example/greenlever/internal/app/calendars"
	"greenlever.example/greenlever/internal/calendar"
)

var _ = listed(
	op[none, CalendarView]("GET", atProject+"/calendar", "What begins, ends, is due, frozen, gone by or running, "+
		"on one "+
		"line; from and to in Unix milliseconds", (*call).calendar).takes("from", "to").needs(app.Read),
	op[none, listOf[app.CalendarAddress]]("GET", atProject+"/calendar/addresses", "One's own addresses to "+
		"subscribe to "+
		"the calendar at", (*call).calendarAddresses).needs(app.Read),
	op[none, calendars.Made]("POST", atProject+"/calendar/addresses", "Make an address to subscribe to the "+
		"calendar at, "+
		"as iCalendar; its secret is shown once", (*call).addCalendarAddress).made().change().needs(app.Read),
	op[none, app.CalendarGone]("POST", atProject+"/calendar/addresses/:address/remove", "Take an address away",
		(*call).removeCalendarAddress).change().needs(app.Read),
)

// CalendarView is a span of the calendar.
type CalendarView struct {
	From  int64           `json:"from"`
	To    int64           `json:"to"`
	Now   int64           `json:"now"`
	Items []calendar.Item `json:"items"`
}

const day = int64(24 * time.Hour / time.Millisecond)

func (c *call) calendar(*none) (any, error) {
	now := c.api.Now().UnixMilli()
	out := &CalendarView{Now: now, From: now - 7*day, To: now + 42*day}
	for name, into := range map[string]*int64{"from": &out.From, "to": &out.To} {
		if text := c.QueryParam(name); text != "" {
			n, err := strconv.ParseInt(text, 10, 64)
			if err != nil || n < 0 {
				return nil, app.InvalidField(name, "must be a time in Unix milliseconds")
			}
			*into = n
		}
	}
	if out.To <= out.From || out.To-out.From > 400*day {
		return nil, app.InvalidField("to", "must be after from, by 400 days at most")
	}
	v, err := c.calendarOf(now)
	if err != nil {
		return nil, err
	}
	out.Items = calendar.Of(v, out.From, out.To)
	return out, nil
}

// calendarOf gathers what the calendar of the project is made of.
func (c *call) calendarOf(now int64) (*calendar.View, error) {
	v := &calendar.View{Now: now}
	envs, err := c.api.Records.Environments(c.ctx, c.p.ID)
	if err != nil {
		return nil, err
	}
	for _, e := range envs {
		place, err := c.api.Hub.Place(c.ctx, e.ID)
		if err != nil {
			return nil, err
		}
		src := place.Rules().Source
		p := calendar.Place{Environment: e}
		for key := range src.Flags {
			if d := src.Flag(key); d != nil {
				p.Flags = append(p.Flags, d)
			}
		}
		for key := range src.Segments {
			if s := src.Segment(key); s != nil {
				p.Segments = append(p.Segments, s)
			}
		}
		v.Places = append(v.Places, p)
	}
	if v.Definitions, err = c.api.Records.Definitions(c.ctx, c.p.ID); err != nil {
		return nil, err
	}
	if v.Releases, err = c.api.Records.Releases(c.ctx, c.p.ID, overShown); err != nil {
		return nil, err
	}
	v.Proposals, err = c.api.Records.Proposals(c.ctx, c.p.ID, pastProposals)
	return v, err
}

func (c *call) calendarAddresses(*none) (any, error) {
	all, err := c.api.Records.CalendarAddresses(c.ctx, c.actor.ID, c.p.ID)
	return listOf[app.CalendarAddress]{all}, err
}

func (c *call) addCalendarAddress(*none) (any, error) { return c.apply("", "", &calendars.Make{}) }

func (c *call) removeCalendarAddress(*none) (any, error) {
	return c.apply("", c.Param("address"), &calendars.Remove{})
}

// subscribed answers a calendar to who has its address, as iCalendar: half a year ahead, in the right of who made the
// address.
func (a *API) subscribed(ec *echo.Context) error {
	ctx, cancel := a.RequestContext(ec)
	defer cancel()
	if !a.rates.Allow("calendar "+ec.RealIP(), a.Limits.SignIns, 10*a.Limits.SignIns) {
		return app.Faultf(app.TooMany, "too many requests from this address: wait a moment")
	}
	address, err := a.Records.CalendarAddress(ctx, calendars.Digest(strings.TrimSuffix(ec.Param("secret"), ".ics")))
	if err != nil {
		return err
	}
	c := &call{Context: ec, api: a, ctx: ctx}
	who, err := a.Proposals.ActorOf(ctx, address.AccountID, "calendar")
	if err != nil {
		return err
	}
	c.actor = *who
	if c.p, err = a.Records.ProjectOf(ctx, address.ProjectID); err != nil {
		return err
	}
	if err := admit.Allow(&c.actor, app.Read, c.p.ID, 0); err != nil {
		return app.Faultf(app.NotFound, "there is no calendar at this address: it was taken away, or mistyped")
	}
	now := a.Now()
	v, err := c.calendarOf(now.UnixMilli())
	if err != nil {
		return err
	}
	var b bytes.Buffer
	if err := calendar.Write(&b, c.p.Title, now, calendar.Of(v, now.UnixMilli()-30*day, now.UnixMilli()+
		calendar.Ahead)); err != nil {
		return err
	}
	ec.Response().Header().Set("Cache-Control", "no-store")
	return ec.Blob(http.StatusOK, "text/calendar; charset=utf-8", b.Bytes())
}
