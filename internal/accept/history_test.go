package accept

import (
	"encoding/csv"
	"net/http"
	"strconv"
	"strings"
	"testing"

	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/gltest"
)

type changesPage struct {
	Items []struct {
		Name, Action, Reason string
		Says                 struct{ Text string }
		In                   []struct {
			Environment, Ended string
			Revision           int64
			Difference         []struct{ Text string }
		}
	}
	Cursor string
}

// A change is one item over all its environments, says how it ended, and can be found, paged and taken along.
func TestHistoryTellsChanges(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	c := open(t, s, "production")
	s.Flag(t, "night-batching")
	s.Flag(t, "weather-holds")
	s.Edit(t, "production", "night-batching", func(d *flag.Document) {
		d.Lever = flag.On
		d.Rules = []flag.Rule{{Name: "First sites", Gives: flag.Gives{Shares: &flag.Shares{By: []string{"site.id"},
			Parts: []flag.Part{{Variant: "on", Share: 80_000}, {GoesOn: true, Share: 920_000}}}}}}
	})
	var stop struct{ Stop string }
	s.Keeper.Do(t, "POST", inProd+"/stops", object{"flags": []string{"night-batching"}, "reason": "doors stay shut"},
		201,
		&stop)
	s.Keeper.Do(t, "POST", inProd+"/lifts", object{"stops": []string{stop.Stop}, "reason": "calm again"}, 201, nil)
	s.Edit(t, "production", "night-batching", func(d *flag.Document) { d.Lever = flag.Off })
	revision := s.Get(t, "production", "night-batching").Revision
	until(t, c, "the last one", at(revision))
	const address = "/projects/pinecrest/changes"
	page := func(query string) changesPage {
		t.Helper()
		var p changesPage
		s.Keeper.Do(t, "GET", address+query, nil, 200, &p)
		return p
	}
	says := func(p changesPage) string {
		var all []string
		for _, i := range p.Items {
			all = append(all, strings.TrimPrefix(i.Says.Text, `"Ida Holm" `))
		}
		return strings.Join(all, "; ")
	}
	const all = "changed night-batching in production; lifted the stop of night-batching in production; stopped " +
		"night-batching in production; changed night-batching in production; made night-batching in "
	if p := page("?flag=night-batching"); !strings.HasPrefix(says(p), all) || len(p.Items) != 5 ||
		len(p.Items[4].In) < 3 { // the project and each environment
		t.Errorf("the history says %s", says(p))
	}
	gltest.Eventually(t, "how they ended", func() bool {
		p := page("?flag=night-batching&environment=production")
		return strings.HasPrefix(p.Items[0].In[0].Ended, "delivered to 1 of 1 after ") &&
			strings.Contains(p.Items[2].In[0].Ended, "lifted after ")
	})
	for query, want := range map[string]string{
		"?find=calm":                             "lifted the stop of night-batching in production",
		"?find=site.id":                          "changed night-batching in production",
		"?action=flag.stopped":                   "stopped night-batching in production",
		"?find=nothing+of+this":                  "",
		"?flag=night-batching&limit=1":           "changed night-batching in production",
		"?environment=staging&find=weather":      "made weather-holds in staging",
		"?flag=night-batching&to=2026-01-01":     "",
		"?flag=weather-holds&action=flag.lifted": "",
	} {
		if got := says(page(query)); got != want {
			t.Errorf("%s: %s, want %s", query, got, want)
		}
	}
	// Page by page it is the same as at once.
	paged, cursor := []string{}, ""
	for range 20 {
		p := page("?flag=night-batching&limit=1" + cursor)
		paged = append(paged, says(p))
		if p.Cursor == "" {
			break
		}
		cursor = "&cursor=" + p.Cursor
	}
	if got := strings.Join(paged, "; "); got != says(page("?flag=night-batching")) {
		t.Errorf("by pages: %s", got)
	}
	req, err := http.NewRequestWithContext(t.Context(), "GET", s.URL()+"/api/v1"+address+".csv?flag=night-batching",
		nil)
	if err != nil {
		t.Fatal(err)
	}
	req.Header = s.Keeper.Header
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		t.Fatal(err)
	}
	defer res.Body.Close()
	rows, err := csv.NewReader(res.Body).ReadAll()
	if err != nil || len(rows) != 8 || rows[0][0] != "at" || rows[2][9] != "calm again" {
		t.Errorf("as CSV: %v, %v", rows, err)
	}
}

// What is taken along is all that is found, also where it is nothing.
func TestHistoryIsTakenAlong(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	for i := range 60 {
		s.Keeper.Do(t, "POST", "/projects/pinecrest/flags", object{"key": "door-" + itoa(int64(i)), "goneBy": "stays"},
			201, nil)
	}
	for query, want := range map[string]int{"find=door": 60, "find=nothing": 0, "flag=door-7": 1} {
		var all []struct{ Subject string }
		s.Keeper.Do(t, "GET", "/projects/pinecrest/changes.json?limit=7&"+query, nil, 200, &all)
		if len(all) != want {
			t.Errorf("%s: %d changes, want %d", query, len(all), want)
		}
	}
	s.Keeper.Do(t, "GET", "/projects/pinecrest/changes.json?environment=nowhere", nil, 400, nil)
	s.Keeper.Do(t, "GET", "/projects/pinecrest/changes.csv?colour=green", nil, 400, nil)
}

// A flag can be seen as it stood, with what that change moved and what came since.
func TestFlagAsItStood(t *testing.T) {
	t.Parallel()
	s, _ := populated(t, 300)
	before := s.Get(t, "production", "night-batching")
	s.Edit(t, "production", "night-batching", func(d *flag.Document) { d.End = flag.Gives{Variant: "on"} })
	changed := s.Get(t, "production", "night-batching").Revision
	s.Edit(t, "production", "night-batching", func(d *flag.Document) { d.Lever = flag.Off })
	type past struct {
		Sentence struct{ Text string }
		Document flag.Document
		Since    []struct{ Text string }
		Moved    *struct {
			Moved struct{ Counted int }
			Says  struct{ Text string }
		}
	}
	var p, old past
	s.Keeper.Do(t, "GET", inProd+"/flags/night-batching/revisions/"+itoa(changed), nil, 200, &p)
	if p.Document.End.Variant != "on" || p.Moved == nil || p.Moved.Moved.Counted < 200 || len(p.Since) != 1 ||
		p.Since[0].Text != "lever on → off" {
		t.Errorf("then: %+v", p)
	}
	s.Keeper.Do(t, "GET", inProd+"/flags/night-batching/revisions/"+itoa(before.Revision), nil, 200, &old)
	if old.Document.End.Variant != "off" || len(old.Since) != 2 {
		t.Errorf("before: %+v", old)
	}
	s.Keeper.Do(t, "GET", inProd+"/flags/night-batching/revisions/9999", nil, 404, nil)
	s.Keeper.Do(t, "GET", inProd+"/flags/night-batching/revisions/x", nil, 404, nil)
	s.Keeper.Do(t, "GET", inProd+"/flags/nothing/revisions/"+itoa(changed), nil, 404, nil)
}

func itoa(n int64) string { return strconv.FormatInt(n, 10) }
