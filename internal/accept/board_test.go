package accept

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"testing"
	"time"

	"greenlever.example/greenlever/internal/gltest"
	"greenlever.example/greenlever/internal/manage"
)

func keysOf(b *manage.Board) string {
	var all []string
	for _, f := range b.Flags {
		name := f.Key
		if f.Group != "" {
			name = f.Group + "/" + name
		}
		all = append(all, name)
	}
	return strings.Join(all, " ")
}

// The Board is found, ordered and paged by the service.
func TestBoardFindsAndPages(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	for i := range 7 {
		s.Keeper.Do(t, "POST", "/projects/pinecrest/flags", object{"key": fmt.Sprintf("door-%d", i), "goneBy": "stays",
			"reason": "test", "owners": []string{fmt.Sprintf("team %d", i%2)}, "tags": []string{"door"}}, 201, nil)
	}
	s.Keeper.Do(t, "POST", "/projects/pinecrest/environments/production/stops", object{"flags": []string{"door-4"},
		"reason": "test"}, 201, nil)
	board := func(query url.Values, want string) manage.Board {
		t.Helper()
		var b manage.Board
		s.Keeper.Do(t, "GET", "/projects/pinecrest/board?"+query.Encode(), nil, 200, &b)
		if got := keysOf(&b); got != want {
			t.Errorf("%v: %s, want %s", query, got, want)
		}
		return b
	}
	b := board(url.Values{"find": {"door"}, "limit": {"3"}, "environments": {"production"}}, "door-4 door-6 door-5")
	if b.Total != 7 || len(b.Environments) != 1 || b.Environments[0].Key != "production" || len(b.Flags[0].In) != 1 ||
		b.Flags[0].In["production"].Gist.String() != "all `off`" || b.Flags[0].In["production"].Changed == 0 {
		t.Errorf("the page says %+v", b)
	}
	board(url.Values{"find": {"door"}, "limit": {"3"}, "from": {"6"}, "sort": {"key"}}, "door-6")
	board(url.Values{"from": {"90"}}, "")
	board(url.Values{"find": {"stopped:production"}, "environments": {"staging"}}, "door-4")
	board(url.Values{"find": {"owner:team -stopped:production"}, "sort": {"key"}, "group": {"owner"},
		"pinned": {"door-6"}},
		"door-6 team 0/door-0 team 0/door-2 team 1/door-1 team 1/door-3 team 1/door-5")
	var index manage.FlagIndex
	s.Keeper.Do(t, "GET", "/projects/pinecrest/flags?find=tag:door&from=5", nil, 200, &index)
	if index.Total != 7 || len(index.Flags) != 2 || index.Flags[1].Key != "door-6" ||
		len(index.Flags[1].Variants) != 2 {
		t.Errorf("the index says %+v", index)
	}
	for query, want := range map[string]string{"find=colour:green": "colour:", "find=on:nowhere": "nowhere",
		"environments=nowhere": "nowhere", "sort=size": "attention, key, changed, gone-by", "limit=0": "1 to 500",
		"limit=501": "1 to 500", "from=-1": "a number", "group=colour": "owner, tag"} {
		var problem struct {
			Fields []struct{ Place, Mend string }
		}
		s.Keeper.Do(t, "GET", "/projects/pinecrest/board?"+query, nil, 400, &problem)
		if name, _, _ := strings.Cut(query, "="); len(problem.Fields) != 1 || problem.Fields[0].Place != name ||
			!strings.Contains(problem.Fields[0].Mend, want) {
			t.Errorf("%s: %+v", query, problem)
		}
	}
}

// What is read may be kept, is asked for again each time, and comes packed.
func TestReadsAreTaggedAndPacked(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	ask := func(path, tag string) *http.Response {
		t.Helper()
		req, err := http.NewRequestWithContext(t.Context(), "GET", s.URL()+"/api/v1"+path, nil)
		if err != nil {
			t.Fatal(err)
		}
		req.Header = s.Keeper.Header.Clone()
		req.Header.Set("Accept-Encoding", "gzip")
		if tag != "" {
			req.Header.Set("If-None-Match", tag)
		}
		res, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		defer res.Body.Close()
		if _, err := io.Copy(io.Discard, res.Body); err != nil {
			t.Fatal(err)
		}
		return res
	}
	const board = "/projects/pinecrest/board"
	s.Keeper.Do(t, "POST", "/projects/pinecrest/flags", object{"key": "night-batching", "goneBy": "stays",
		"reason": "test"}, 201, nil)
	first := ask(board, "")
	tag := first.Header.Get("ETag")
	if tag == "" || first.Header.Get("Content-Encoding") != "gzip" ||
		first.Header.Get("Cache-Control") != "private, no-cache" {
		t.Fatalf("the board comes with %v", first.Header)
	}
	if again := ask(board, tag); again.StatusCode != 304 {
		t.Errorf("what did not change is answered with %d", again.StatusCode)
	}
	s.Keeper.Do(t, "POST", "/projects/pinecrest/environments/production/stops", object{"flags": []string{
		"night-batching"}, "reason": "test"}, 201, nil)
	if changed := ask(board, tag); changed.StatusCode != 200 || changed.Header.Get("ETag") == tag {
		t.Errorf("what changed is answered with %d, %s", changed.StatusCode, changed.Header.Get("ETag"))
	}
	// A version is a promise about a document, not about everything that stands beside it.
	flag := ask(board[:len(board)-len("/board")]+"/environments/production/flags/night-batching", "")
	if again := ask("/projects/pinecrest/environments/production/flags/night-batching",
		flag.Header.Get("ETag")); again.StatusCode != 200 {
		t.Errorf("a flag's page is answered with %d", again.StatusCode)
	}
	for _, path := range []string{"/me", "/me/tokens"} { // secrets are not kept
		if res := ask(path, ""); res.Header.Get("Cache-Control") != "no-store" {
			t.Errorf("%s: %v", path, res.Header)
		}
	}
}

// Who looks is told what changed, and nothing while nothing does.
func TestLiveTellsWhatChanged(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	for _, key := range []string{"night-batching", "weather-holds"} {
		s.Keeper.Do(t, "POST", "/projects/pinecrest/flags", object{"key": key, "goneBy": "stays", "reason": "test"},
			201, nil)
	}
	ctx, cancel := context.WithTimeout(t.Context(), gltest.Patience)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, "GET", s.URL()+"/api/v1/projects/pinecrest/live", nil)
	if err != nil {
		t.Fatal(err)
	}
	req.Header = s.Keeper.Header
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		t.Fatal(err)
	}
	defer res.Body.Close()
	lines := bufio.NewScanner(res.Body)
	elsewhere := map[string][]manage.Moved{} // environments do not wait for each other
	next := func(of string) (name string, m manage.Moved) {
		t.Helper()
		if waits := elsewhere[of]; len(waits) > 0 {
			elsewhere[of] = waits[1:]
			return "revision", waits[0]
		}
		for lines.Scan() {
			if after, is := strings.CutPrefix(lines.Text(), "event: "); is {
				name = after
			}
			if data, is := strings.CutPrefix(lines.Text(), "data: "); is {
				m = manage.Moved{}
				if err := json.Unmarshal([]byte(data), &m); err != nil {
					t.Fatal(err)
				}
				if m.Environment == of {
					return name, m
				}
				if name == "revision" {
					elsewhere[m.Environment] = append(elsewhere[m.Environment], m)
				}
			}
		}
		t.Fatalf("the stream ended: %v", lines.Err())
		return "", m
	}
	name, m := next("production")
	if name != "standing" || m.Revision == 0 {
		t.Errorf("first: %s %+v", name, m)
	}
	stood := m.Revision
	s.Keeper.Do(t, "POST", "/projects/pinecrest/environments/production/stops", object{"flags": []string{
		"weather-holds"}, "reason": "test"}, 201, nil)
	if name, m = next("production"); name != "revision" || m.Revision != stood+1 || fmt.Sprint(m.Flags,
		m.Segments) != "[weather-holds] []" {
		t.Errorf("after a stop: %s %+v", name, m)
	}
	s.Keeper.Do(t, "POST", "/projects/pinecrest/flags", object{"key": "door-retries", "goneBy": "stays",
		"reason": "test"}, 201, nil)
	if name, m = next("production"); name != "revision" || fmt.Sprint(m.Flags) != "[door-retries]" {
		t.Errorf("after a new flag: %s %+v", name, m)
	}
	s.Keeper.Do(t, "POST", "/projects/pinecrest/environments/staging/stops", object{"flags": []string{
		"night-batching"}, "reason": "test"}, 201, nil)
	for m.Environment != "staging" || len(m.Flags) == 0 || m.Flags[0] == "door-retries" {
		name, m = next("staging")
	}
	if fmt.Sprint(m.Flags) != "[night-batching]" {
		t.Errorf("elsewhere: %s %+v", name, m)
	}
	// An environment that is made later ends the stream, so that who looks begins anew with all.
	began := time.Now()
	s.Keeper.Do(t, "POST", "/projects/pinecrest/environments", object{"key": "harbour", "title": "Harbour",
		"reason": "test"},
		201, nil)
	for lines.Scan() {
		if strings.Contains(lines.Text(), "report") {
			t.Errorf("told of a delivery that did not move: %s", lines.Text())
		}
	}
	if time.Since(began) > 10*time.Second {
		t.Errorf("the stream ended after %v", time.Since(began))
	}
}
