package calendar

import (
	"bytes"
	"io"
	"time"
	"unicode/utf8"

	"github.com/emersion/go-ical"
)

// Write writes items as iCalendar (RFC 5545), with times in UTC.
func Write(w io.Writer, title string, now time.Time, items []Item) error {
	c := ical.NewCalendar()
	c.Props.SetText(ical.PropProductID, "-//Green Lever//calendar//EN")
	c.Props.SetText(ical.PropVersion, "2.0")
	c.Props.SetText(ical.PropName, title)
	c.Props.SetText("X-WR-CALNAME", title)
	for i := range items {
		c.Children = append(c.Children, event(&items[i], now).Component)
	}
	if len(items) == 0 { // a calendar has one component at least
		zone := ical.NewComponent(ical.CompTimezone)
		zone.Props.SetText(ical.PropTimezoneID, "UTC")
		standard := ical.NewComponent(ical.CompTimezoneStandard)
		standard.Props.SetDateTime(ical.PropDateTimeStart, time.Unix(0, 0).UTC())
		for name, value := range map[string]string{ical.PropTimezoneOffsetFrom: "+0000",
			ical.PropTimezoneOffsetTo: "+0000"} {
			p := ical.NewProp(name)
			p.Value = value
			standard.Props.Set(p)
		}
		zone.Children = []*ical.Component{standard}
		c.Children = append(c.Children, zone)
	}
	var b bytes.Buffer
	if err := ical.NewEncoder(&b).Encode(c); err != nil {
		return err
	}
	_, err := w.Write(folded(b.Bytes()))
	return err
}

// longest is how long a line of iCalendar may be, in bytes, without its end (RFC 5545, section 3.1).
const longest = 75

// folded breaks long lines between characters.
func folded(raw []byte) (out []byte) {
	for line := range bytes.SplitSeq(bytes.TrimSuffix(raw, []byte("\r\n")), []byte("\r\n")) {
		for room := longest; len(line) > room; room = longest - 1 {
			cut := room
			for !utf8.RuneStart(line[cut]) {
				cut--
			}
			out = append(append(out, line[:cut]...), "\r\n "...)
			line = line[cut:]
		}
		out = append(append(out, line...), "\r\n"...)
	}
	return out
}

func event(i *Item, now time.Time) *ical.Event {
	at := func(ms int64) time.Time { return time.UnixMilli(ms).UTC() }
	e := ical.NewEvent()
	e.Props.SetText(ical.PropUID, i.ID+"@greenlever")
	e.Props.SetDateTime(ical.PropDateTimeStamp, now.UTC())
	if i.Changed != 0 {
		e.Props.SetDateTime(ical.PropLastModified, at(i.Changed))
	}
	title := i.Title
	if i.TakesAway && i.Kind == Clock {
		title += ", which takes it away from those who have it"
	}
	e.Props.SetText(ical.PropSummary, title)
	e.Props.SetText(ical.PropCategories, string(i.Kind))
	if i.AllDay {
		e.Props.SetDate(ical.PropDateTimeStart, at(i.From))
		e.Props.SetDate(ical.PropDateTimeEnd, at(i.From).AddDate(0, 0, 1))
	} else {
		e.Props.SetDateTime(ical.PropDateTimeStart, at(i.From))
		if i.To > i.From {
			e.Props.SetDateTime(ical.PropDateTimeEnd, at(i.To))
		}
	}
	status := ical.EventConfirmed
	if i.Cancelled {
		status = ical.EventCancelled
	}
	e.SetStatus(status)
	// A freeze or a deadline is no meeting: it leaves its time free.
	e.Props.SetText(ical.PropTransparency, "TRANSPARENT")
	return e
}
