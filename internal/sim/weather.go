package sim

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"time"

	cloudevents "github.com/cloudevents/sdk-go/v2"
)

// weather is the weather service that rounds ask before they start: quick, but for a while in which it is not. The
// monitoring system probes it, as it would probe anything.
type weather struct {
	slowFrom, slowTo time.Time
}

// answers is how long an answer takes at a time.
func (w *weather) answers(at time.Time) time.Duration {
	if !at.Before(w.slowFrom) && at.Before(w.slowTo) {
		return 4 * time.Second
	}
	return 80 * time.Millisecond
}

// What the monitoring system calls slow, and how many looks in a row it takes to say so.
const (
	slowAnswer = time.Second
	slowLooks  = 3
)

// alerting watches the weather service, and calls the tripwire that stops weather-holds.
type alerting struct {
	weather *weather
	address string // of the tripwire
	slow    int    // looks in a row
	firing  bool
	began   time.Time
}

// look looks once, and sends what it has to say: that something began, or that it is over.
func (a *alerting) look(ctx context.Context, at time.Time) (said string, err error) {
	took := a.weather.answers(at)
	if took < slowAnswer {
		a.slow = 0
		if !a.firing {
			return "", nil
		}
		outcome, err := a.call(ctx, "over", took)
		if err != nil {
			return "", err
		}
		a.firing = false
		return "weather is quick again: tripwire says " + outcome, nil
	}
	if a.slow++; a.slow < slowLooks || a.firing {
		return "", nil
	}
	a.began = at
	outcome, err := a.call(ctx, "began", took)
	if err != nil {
		return "", err // it calls again at the next look
	}
	a.firing = true
	return "weather answers after " + took.String() + ": tripwire says " + outcome, nil
}

// call sends an alert as a CloudEvent.
func (a *alerting) call(ctx context.Context, status string, took time.Duration) (string, error) {
	id := fmt.Sprint("weather-", a.began.Unix())
	e := cloudevents.NewEvent()
	e.SetID(id + "-" + status)
	e.SetSource("https://watch.pinecrest.example/")
	e.SetType("example.pinecrest.watch.alert")
	e.SetSubject("weather")
	if err := e.SetData(cloudevents.ApplicationJSON, object{"alert": id, "service": "weather", "status": status,
		"title": "The weather service is slow", "took": took.String(),
		"link": "https://watch.pinecrest.example/rules/weather"}); err != nil {
		return "", err
	}
	body, err := json.Marshal(e)
	if err != nil {
		return "", err
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, a.address, bytes.NewReader(body))
	if err != nil {
		return "", err
	}
	req.Header.Set("Content-Type", cloudevents.ApplicationCloudEventsJSON)
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		return "", err
	}
	defer res.Body.Close()
	raw, err := io.ReadAll(io.LimitReader(res.Body, 64<<10))
	if err != nil {
		return "", err
	}
	if res.StatusCode != http.StatusOK {
		return "", fmt.Errorf("the tripwire answers %d: %s", res.StatusCode, raw)
	}
	var told struct{ Outcome string }
	err = json.Unmarshal(raw, &told)
	return told.Outcome, err
}

// Wire is a tripwire of the demo, with the secret of its address.
type Wire struct {
	ID     string `json:"id"`
	Secret string `json:"secret"`
}

// startWeather has the weather service be slow after a while, and the monitoring system notice it.
func (d *Demo) startWeather(ctx context.Context, c Config) error {
	if d.Wire.ID == "" {
		if err := d.caller("keeper").post(ctx, "/projects/pinecrest/environments/production/tripwires", object{
			"tripwire": object{"title": "Weather is slow", "flags": []string{"weather-holds"},
				"when": `alert.subject == "weather"`, "identity": "alert.data.alert"},
			"reason": "nobody waits for the weather at night"}, &d.Wire); err != nil {
			return err
		}
		if err := d.keep(c); err != nil {
			return err
		}
	}
	from, lasts := 3*time.Minute, 90*time.Second
	if c.RealTime {
		from, lasts = time.Hour, 20*time.Minute
	}
	now := time.Now()
	d.weather.slowFrom, d.weather.slowTo = now.Add(from), now.Add(from+lasts)
	d.monitor.alerts = &alerting{weather: &d.weather, address: d.URL + "/tripwire/" + d.Wire.Secret}
	return nil
}
