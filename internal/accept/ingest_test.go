package accept

import (
	"context"
	"database/sql"
	"fmt"
	"strings"
	"testing"
	"time"

	greenlever "greenlever.example/client"
	"greenlever.example/core/evidence"
	"greenlever.example/core/stage"
	"greenlever.example/greenlever/internal/app/keys"
	"greenlever.example/greenlever/internal/app/ledger"
	"greenlever.example/greenlever/internal/gltest"
)

// counted is what the records hold of the units of releases: exposed ones, those that wait, and events in all.
func counted(t *testing.T, s *gltest.Service) (exposed, waiting, events int) {
	t.Helper()
	db, err := sql.Open("mysql", s.DSN)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	rows, err := db.Query("SELECT arm, events FROM exposures")
	if err != nil {
		t.Fatal(err)
	}
	defer rows.Close()
	for rows.Next() {
		var arm int
		var raw []byte
		if err := rows.Scan(&arm, &raw); err != nil {
			t.Fatal(err)
		}
		all, err := evidence.ReadEvents(raw)
		if err != nil {
			t.Fatal(err)
		}
		for _, one := range all {
			events += len(one)
		}
		if arm == int(evidence.NoArm) {
			waiting++
		} else {
			exposed++
		}
	}
	return exposed, waiting, events
}

// Batches of measurements are taken once, each event that can be, and the others are said with their causes. Events of
// units that lie on no side cost no row; others wait for their exposure.
func TestBatchesAreTakenOnce(t *testing.T) {
	t.Parallel()
	s, _ := measuring(t)
	rel := startRelease(t, s.Keeper, obj{"stages": shared()})
	stands(t, s.Keeper, rel.ID, stage.Underway, 0)
	var key keys.Made
	s.Keeper.Do(t, "POST", inStaging+"/keys", obj{"kind": "ingest"}, 201, &key)
	send := bearer(s.URL(), key.Secret)
	var events []obj
	for i := range 500 {
		events = append(events, obj{"metric": "door-open-failed",
			"context": obj{"targetingKey": fmt.Sprint("recipient-", i)},
			"value":   true})
	}
	bad := []obj{{"metric": "door-open-faild", "context": obj{"targetingKey": "a"}, "value": true},
		{"metric": "door-open-failed", "context": obj{"site.id": ""}, "value": true},
		{"metric": "door-open-failed", "context": obj{"targetingKey": "a"}, "value": 2},
		{"metric": "door-open-failed", "context": obj{"targetingKey": "a"}, "value": "yes"},
		{"metric": "door-open-failed", "context": obj{"targetingKey": "a"}, "value": true, "at": "tomorrow"},
		{"metric": "door-open-failed", "context": obj{"targetingKey": "a"}, "value": true,
			"at": time.Now().Add(time.Hour).UnixMilli()},
		{"metric": "door-open-failed", "context": obj{"targetingKey": "a"}, "value": true, "at": 5}}
	batch := obj{"batch": "nightly", "events": append(bad, events...)}
	var told ledger.Told
	send.Do(t, "POST", "/ingest/v1/events", batch, 200, &told)
	if !told.Taken || told.Events != 500 || len(told.Refused) != len(bad) {
		t.Fatalf("%+v", told)
	}
	for i, r := range told.Refused {
		if r.Event != i || r.Count != 1 || !strings.Contains(r.Why, ": ") {
			t.Errorf("%+v", r)
		}
	}
	exposed, waiting, n := counted(t, s)
	if exposed != 0 || waiting < 150 || waiting > 250 || n != waiting { // 8 % and 32 % lie on a side
		t.Errorf("%d exposed, %d wait with %d events", exposed, waiting, n)
	}
	send.Do(t, "POST", "/ingest/v1/events", batch, 200, &told)
	if _, again, m := counted(t, s); told.Taken || again != waiting || m != n {
		t.Errorf("the same again: taken %t, %d wait with %d events", told.Taken, again, m)
	}
	arrived(t, s, 500)
	for what, c := range map[string]struct {
		body obj
		want int
	}{"nothing": {obj{"events": []obj{}}, 400}, "too many": {obj{"events": make([]obj, ledger.MaxEvents+1)}, 400},
		"a batch of no text": {obj{"batch": "\x00", "events": events}, 400}} {
		send.Do(t, "POST", "/ingest/v1/events", c.body, c.want, nil)
		_ = what
	}
	// What an ingest key may not do, and who else may not send.
	send.Do(t, "GET", "/follow/v1/snapshot", nil, 403, nil)
	send.Do(t, "POST", "/ofrep/v1/evaluate/flags/night-batching", obj{}, 403, nil)
	send.Do(t, "POST", "/ofrep/v1/evaluate/flags", obj{}, 403, nil)
	bearer(s.URL(), s.Browse["staging"]).Do(t, "POST", "/ingest/v1/events", batch, 403, nil)
	bearer(s.URL(), "gli_unknown").Do(t, "POST", "/ingest/v1/events", batch, 401, nil)
	bearer(s.URL(), s.Keys["staging"]).Do(t, "POST", "/ingest/v1/events", obj{"events": events[:1]}, 200, &told)
}

// Whatever way an answer takes, a unit is exposed by it once: from the client, from an outpost and by remote
// evaluation of one flag. Those who fetch all answers at once say nothing of what they use, so nothing comes of them.
func TestEveryWayExposesOnce(t *testing.T) {
	t.Parallel()
	s, _ := measuring(t)
	rel := startRelease(t, s.Keeper, obj{"stages": shared()})
	v := stands(t, s.Keeper, rel.ID, stage.Underway, 0)
	o := station(t, s.URL(), []string{s.Keys["staging"]})
	quick := func(o *greenlever.Options) { o.Report = 50 * time.Millisecond }
	direct := open(t, s, "staging", quick)
	through := open(t, s, "staging", quick, func(c *greenlever.Options) { c.URL = o.URL() })
	ctx, setup := context.Background(), v.State.Setup()
	sides, key := 0, func(i int) string { return fmt.Sprint("recipient-", i) }
	for _, c := range []*greenlever.Client{direct, through} {
		until(t, c, "the stage", func(st greenlever.State) bool { return st.Revision >= v.Revision })
		for i := range 300 {
			c.Bool(ctx, "night-batching", greenlever.Unit(key(i)), false)
			c.Happened(ctx, "door-open-failed", greenlever.Unit(key(i)), true)
		}
	}
	for i := range 400 {
		if setup.Reaches(bucketOf(rel, key(i)), 0) {
			sides++
		}
	}
	for _, url := range []string{s.URL(), o.URL()} {
		c := bearer(url, s.Keys["staging"])
		for i := 200; i < 400; i++ {
			c.Do(t, "POST", "/ofrep/v1/evaluate/flags/night-batching", obj{"context": obj{"targetingKey": key(i)}},
				200, nil)
		}
		c.Do(t, "POST", "/ofrep/v1/evaluate/flags", obj{"context": obj{"targetingKey": key(1_000)}}, 200, nil)
	}
	arrived(t, s, 600)
	gltest.Eventually(t, "all are exposed", func() bool {
		exposed, _, _ := counted(t, s)
		return exposed >= sides
	})
	if exposed, waiting, _ := counted(t, s); exposed != sides || waiting != 0 {
		t.Errorf("%d units are exposed and %d wait, where %d lie on a side", exposed, waiting, sides)
	}
}

// A page exposes its unit when it reads a flag, and not before; what it measures is of its unit. What it says that a
// flag gave counts only if it does so here, and of a metric that there is not nothing is kept.
func TestAPageExposesWhatItReads(t *testing.T) {
	t.Parallel()
	s, _ := measuring(t)
	s.Keeper.With("If-Match", "1").Do(t, "PATCH", "/projects/pinecrest/flags/night-batching", obj{"visible": true},
		200, nil)
	rel := startRelease(t, s.Keeper, obj{"stages": shared()})
	v := stands(t, s.Keeper, rel.ID, stage.Underway, 0)
	setup, units := v.State.Setup(), []string{}
	for i := 0; len(units) < 3; i++ {
		if at := bucketOf(rel, fmt.Sprint("recipient-", i)); setup.Reaches(at, 0) {
			units = append(units, fmt.Sprint("recipient-", i))
		}
	}
	url := site(t, map[string]string{"/": scripted(s.URL(), fmt.Sprintf(`
const flags = start({ key: %q, context: { targetingKey: %q } });
await flags.ready;
flags.look("night-batching");
out("asked");
await flags.know({ targetingKey: %q });
flags.bool("night-batching", false);
flags.bool("night-batching", false);
flags.happened("door-open-failed", true);
flags.record("door-open-nowhere", 7);
flags.close();
out("told");`, s.Browse["staging"], units[0], units[1]))})
	tab(t, url).See("told")
	gltest.Eventually(t, "the reader is exposed", func() bool {
		exposed, waiting, events := counted(t, s)
		return exposed == 1 && waiting == 0 && events == 1
	})
	arrived(t, s, 1)
	c := bearer(s.URL(), s.Browse["staging"])
	other := map[bool]string{true: "off", false: "on"}
	arm, _ := setup.Place(bucketOf(rel, units[2]), 0)
	c.Do(t, "POST", "/browser/v1/report", obj{"application": "desk", "version": "1",
		"context": obj{"targetingKey": units[2]},
		"read": []obj{{"flag": "night-batching", "variant": other[arm == evidence.New], "ago": -5},
			{"flag": "nowhere", "variant": "on"}}}, 204, nil)
	c.Do(t, "POST", "/browser/v1/report", obj{"application": "desk", "version": "1",
		"context": obj{"targetingKey": units[2]},
		"events":  []obj{{"metric": "door-open-failed", "value": 1, "ago": 1e15, "id": "a"}}}, 204, nil)
	arrived(t, s, 2)
	if exposed, _, _ := counted(t, s); exposed != 1 {
		t.Errorf("%d units are exposed, with one that the page lied about", exposed)
	}
	c.Do(t, "POST", "/browser/v1/report", obj{"application": "desk", "version": "1", "context": 7,
		"read": []obj{{"flag": "night-batching", "variant": "on"}}}, 400, nil)
}
