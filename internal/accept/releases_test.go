package accept

import (
	"fmt"
	"strings"
	"testing"

	"greenlever.example/core/flag"
	"greenlever.example/core/stage"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/gltest"
	"greenlever.example/greenlever/internal/manage"
)

const inStaging = "/projects/pinecrest/environments/staging"

// releasing is a service with a flag whose lever is on in staging.
func releasing(t *testing.T) *gltest.Service {
	t.Helper()
	s := gltest.Start(t)
	s.Flag(t, "night-batching")
	s.Edit(t, "staging", "night-batching", func(d *flag.Document) { d.Lever = flag.On })
	return s
}

func startRelease(t *testing.T, c gltest.Caller, body map[string]any) *app.Release {
	t.Helper()
	var rel app.Release
	c.Do(t, "POST", inStaging+"/flags/night-batching/releases", body, 201, &rel)
	return &rel
}

func release(t *testing.T, c gltest.Caller, id string) *manage.ReleaseView {
	t.Helper()
	var v manage.ReleaseView
	c.Do(t, "GET", inStaging+"/releases/"+id, nil, 200, &v)
	return &v
}

// stands looks at a release until it stands as is asked.
func stands(t *testing.T, c gltest.Caller, id string, is stage.Is, at int) *manage.ReleaseView {
	t.Helper()
	var v *manage.ReleaseView
	gltest.Eventually(t, fmt.Sprintf("the release is %s at stage %d", is, at), func() bool {
		v = release(t, c, id)
		return v.State.Is == is && v.State.At == at
	})
	return v
}

type obj = map[string]any

// A release goes through its stages by itself, is finished, and all of it stands in the audit.
func TestReleaseGoesThrough(t *testing.T) {
	t.Parallel()
	s := releasing(t)
	rel := startRelease(t, s.Keeper, obj{"stages": []obj{{"name": "8 %", "share": 80_000},
		{"name": "30 %", "share": 300_000}, {"name": "100 %", "share": 1_000_000}}, "expected": "shorter rounds"})
	v := stands(t, s.Keeper, rel.ID, stage.Through, 2)
	told := []string{}
	for _, st := range v.Steps {
		told = append(told, string(st.Tell))
	}
	if got := strings.Join(told, " "); got != "planned began arrived stage arrived stage arrived through" {
		t.Errorf("it went: %s", got)
	}
	var done struct{ Document flag.Document }
	s.Keeper.Do(t, "POST", inStaging+"/releases/"+rel.ID+"/acts", obj{"do": "finish", "sequence": v.State.Sequence,
		"outcome": "rounds are shorter by a tenth"}, 200, &done)
	if d := done.Document; len(d.Rules) != 0 || d.End.Variant != "on" {
		t.Errorf("it folds into %+v", d)
	}
	if v = release(t, s.Keeper, rel.ID); v.State.Is != stage.Finished || v.State.Outcome == "" || v.Ended == 0 {
		t.Errorf("it ended as %+v", v.State)
	}
	if r := verify(t, s); !r.Sound() {
		t.Errorf("the audit: %v", r.Findings)
	}
}
