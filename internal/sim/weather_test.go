package sim

import (
	"encoding/json"
	"io"
	"net/http"
	"net/http/httptest"
	"testing"
	"time"

	cloudevents "github.com/cloudevents/sdk-go/v2"
)

// The monitoring system calls once when the weather service gets slow, and once when that is over; where nobody answers
// it calls again.
func TestMonitoringCallsTheTripwire(t *testing.T) {
	var heard []string
	deaf := true
	wire := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if deaf {
			http.Error(w, "away", http.StatusServiceUnavailable)
			return
		}
		raw, _ := io.ReadAll(r.Body)
		var event cloudevents.Event
		var alert struct{ Status, Alert string }
		if err := json.Unmarshal(raw, &event); err != nil || event.Validate() != nil || event.DataAs(&alert) != nil ||
			alert.Alert == "" {
			t.Errorf("%s: %v", raw, err)
		}
		heard = append(heard, alert.Status)
		_, _ = w.Write([]byte(`{"outcome":"stopped"}`))
	}))
	defer wire.Close()
	began := time.Unix(1_796_000_000, 0)
	a := &alerting{weather: &weather{slowFrom: began.Add(10 * time.Second), slowTo: began.Add(40 * time.Second)},
		address: wire.URL}
	fails := 0
	for s := 0; s < 60; s += 2 {
		deaf = s < 20
		if _, err := a.look(t.Context(), began.Add(time.Duration(s)*time.Second)); err != nil {
			fails++
		}
	}
	if len(heard) != 2 || heard[0] != "began" || heard[1] != "over" || fails == 0 {
		t.Errorf("it heard %v, and was deaf %d times", heard, fails)
	}
}
