package accept

import (
	"context"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"testing"
	"time"

	greenlever "greenlever.example/client"
	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/gltest"
)

// An environment ends: it is archived once nobody follows it, kept as it is, brought back with what
// the project made meanwhile, and removed in the end; the history names all of it.
func TestEnvironmentsEnd(t *testing.T) {
	s := gltest.Start(t)
	s.Environment(t, "trial", false)
	s.Flag(t, "one-touch-open")
	s.Edit(t, "trial", "one-touch-open", func(d *flag.Document) { d.Lever, d.End.Variant = flag.On, "on" })
	const at = "/projects/pinecrest/environments/trial"
	client := open(t, s, "trial", func(o *greenlever.Options) { o.Report = 50 * time.Millisecond })
	gltest.Eventually(t, "the client follows", func() bool {
		return client.Bool(context.Background(), "one-touch-open", greenlever.Unit("r-1"), false)
	})
	gltest.Eventually(t, "the service knows that it does", func() bool {
		var i struct{ Alive int }
		s.Keeper.Do(t, "GET", at+"/instances", nil, 200, &i)
		return i.Alive == 1
	})
	refused := func(want int, says, method, path string, body any) {
		t.Helper()
		var p struct{ Detail string }
		s.Keeper.With("If-Match", "2").Do(t, method, path, body, want, &p)
		if !strings.Contains(p.Detail, says) {
			t.Errorf("%s %s: %s", method, path, p.Detail)
		}
	}
	refused(409, "1 process follows it", "POST", at+"/archive", object{})
	refused(409, "archive it first", "POST", at+"/remove", object{})
	if err := client.Close(); err != nil {
		t.Fatal(err)
	}
	gltest.Eventually(t, "it is archived once nobody follows", func() bool {
		status, _, _, err := s.Keeper.Send("POST", at+"/archive", []byte(`{"reason":"the trial is over"}`))
		return err == nil && status == 200
	})
	keys := func(query string) (all []string) {
		var envs struct{ Items []struct{ Key, State string } }
		s.Keeper.Do(t, "GET", "/projects/pinecrest/environments"+query, nil, 200, &envs)
		for _, e := range envs.Items {
			all = append(all, e.Key+e.State)
		}
		return all
	}
	if now, then := keys(""), keys("?archived=true"); slices.Contains(now, "trial") || !slices.Equal(then,
		[]string{"trialarchived"}) {
		t.Errorf("there are %v, and archived ones %v", now, then)
	}
	gltest.Eventually(t, "its key is not taken", func() bool {
		status, _, _, err := gltest.Caller{URL: s.URL(),
			Header: http.Header{"Authorization": {"Bearer " + s.Keys["trial"]}}}.Send("GET", "/follow/v1/snapshot",
			nil)
		return err == nil && status == 401
	})
	v := s.Get(t, "trial", "one-touch-open") // it can still be looked at
	refused(409, "archived", "PUT", at+"/flags/one-touch-open", object{"document": v.Document})
	refused(409, "archived", "POST", at+"/stops", object{"flags": []string{"one-touch-open"}})
	refused(409, "archived", "POST", at+"/archive", object{})
	var why struct{ Variant string }
	s.Keeper.Do(t, "POST", at+"/flags/one-touch-open/why", object{"unit": "r-1"}, 200, &why)
	if why.Variant != "on" {
		t.Errorf("why answers %q", why.Variant)
	}
	s.Flag(t, "porch-light") // the project goes on
	for _, who := range []string{"developer", "releaser", "on-call", "auditor"} {
		s.Person(t, who, who).Do(t, "POST", at+"/bring-back", object{}, 403, nil)
	}
	s.Keeper.Do(t, "POST", at+"/bring-back", object{}, 200, nil)
	s.Keeper.Do(t, "POST", at+"/bring-back", object{}, 200, nil) // it is
	if v := s.Get(t, "trial", "porch-light"); v.Document.Lever != flag.Off {
		t.Errorf("%+v", v)
	}
	gltest.Eventually(t, "its key is taken again", func() bool {
		status, _, _, err := gltest.Caller{URL: s.URL(),
			Header: http.Header{"Authorization": {"Bearer " + s.Keys["trial"]}}}.Send("GET", "/follow/v1/snapshot",
			nil)
		return err == nil && status == 200
	})
	s.Keeper.Do(t, "POST", at+"/archive?dryRun=true", object{}, 200, nil)
	s.Keeper.Do(t, "POST", at+"/archive", object{}, 200, nil)
	s.Keeper.Do(t, "POST", at+"/remove", object{}, 200, nil)
	refused(404, "no environment trial", "GET", at+"/flags/one-touch-open", nil)
	refused(404, "no environment trial", "POST", at+"/bring-back", object{})
	var p struct{ Fields []flag.Problem }
	s.Keeper.Do(t, "POST", "/projects/pinecrest/environments", object{"key": "trial"}, 400, &p)
	if fmt.Sprint(p.Fields) == "[]" || !strings.Contains(p.Fields[0].Mend, "never used again") {
		t.Errorf("%v", p.Fields)
	}
	s.Flag(t, "late") // which the environment that is gone does not get
	var h struct {
		Items []struct{ Action, Environment string }
	}
	s.Keeper.Do(t, "GET", "/projects/pinecrest/history?limit=100&environment=trial", nil, 200, &h)
	var done []string
	for _, e := range h.Items {
		if strings.HasPrefix(e.Action, "environment.") && e.Action != "environment.made" {
			done = append(done, e.Action)
			if e.Environment != "trial" {
				t.Errorf("%s in %q", e.Action, e.Environment)
			}
		}
	}
	if want := []string{"environment.removed", "environment.archived", "environment.brought-back",
		"environment.archived"}; !slices.Equal(done, want) {
		t.Errorf("%v", done)
	}
	if r := verify(t, s); !r.Sound() {
		t.Errorf("%+v", r)
	}
}
