package commit

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"greenlever.example/core/diff"
	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/audit"
)

// ledger is a transaction in memory: what was asked of it, in order.
type ledger struct {
	envs    map[int64]*app.Environment
	done    []string
	results map[string][2]string // request and result by idempotency key
	entered []audit.Entry
	events  []*flag.Event
	titles  map[string]string
}

func (l *ledger) say(format string, args ...any) {
	l.done = append(l.done, fmt.Sprintf(format, args...))
}

func (l *ledger) Remembered(scope, id string) (string, []byte, error) {
	if r, is := l.results[scope+" "+id]; is {
		return r[0], []byte(r[1]), nil
	}
	return "", nil, nil
}

func (l *ledger) Claim(scope, id, request string, _ int64) error {
	l.say("claim %s", strings.Fields(id)[0])
	return nil
}

func (l *ledger) Remember(scope, id string, result []byte) error {
	l.results[scope+" "+id] = [2]string{"", string(result)}
	return nil
}

func (l *ledger) LockProject(id int64) error {
	l.say("project %d", id)
	return nil
}

func (l *ledger) LockEnvironment(id int64) (*app.Environment, error) {
	l.say("environment %d", id)
	e := *l.envs[id]
	return &e, nil
}

func (l *ledger) LockEnvironments(project int64) (out []app.Environment, err error) {
	for id := int64(1); l.envs[id] != nil; id++ {
		e, _ := l.LockEnvironment(id)
		out = append(out, *e)
	}
	return out, nil
}

func (l *ledger) Write(record any) ([]audit.Record, error) {
	r := record.(*app.FlagRecord)
	if r.Key == "full" {
		return nil, errors.New("the disk is full")
	}
	l.say("write %s %d under %d.%d", r.Key, r.Version, r.EnvironmentID, r.Revision)
	l.titles[r.Key] = r.Document.Resting
	return []audit.Record{{Of: r.Key}}, nil
}

func (l *ledger) Enter(w *audit.Written) error {
	chain, entries, e := w.Chain, w.Entries, w.Event
	for _, one := range entries {
		l.say("%s: %s %s", chain, one.Action, one.Subject)
	}
	l.entered = append(l.entered, entries...)
	if e != nil {
		e.Digest = fmt.Sprintf("digest %d", e.Revision)
		l.events = append(l.events, e)
	}
	return nil
}

// Title is what a kind of change reads besides.
func (l *ledger) Title(key string) string { return l.titles[key] }

// name has a flag's resting variant be a name; it tells the one before.
type name struct {
	To string `json:"to"`
}

type named struct{ From, To string }

type secret struct {
	Word string `json:"word"`
}

func (secret) WithoutSecrets() any { return secret{} }

var kinds = NewKinds([]*Kind{
	Of(Kind{Name: "flag.name", Action: app.ReleaseIt, Span: Environment, Guarded: true, Queued: true},
		func(_ context.Context, m *Moment, in *name) (*Effects, error) {
			was := Narrow[interface{ Title(string) string }](m).Title(m.Of)
			if was == in.To {
				return Nothing(named{was, in.To}), nil
			}
			e, err := FlagPut(m.Environment, nil, &app.FlagRecord{Key: m.Of, Version: 2,
				Document: &flag.Document{Key: m.Of,
					Resting: in.To}}, "flag.named", []diff.Line{diff.Text("named")})
			return &Effects{Result: named{was, in.To}, In: []Effect{e}}, err
		}),
	Of(Kind{Name: "project.tell", Action: app.Define, Span: Project}, func(_ context.Context, m *Moment,
		in *secret) (*Effects, error) {
		return &Effects{Result: *in, In: []Effect{{Project: m.Project, Entries: []Entry{Said("told", m.Of)}}}}, nil
	}),
	Of(Kind{Name: "flag.lose", Action: app.Define, Span: Project}, func(_ context.Context, m *Moment,
		in *struct{ Silent bool }) (*Effects, error) {
		return &Effects{In: []Effect{{Project: m.Project,
			Records: []Record{&app.FlagRecord{Key: "lost", Document: &flag.Document{}}}}}}, nil
	}),
})

var (
	project = &app.Project{ID: 1, Key: "pinecrest"}
	place   = func(id int64) In {
		return In{project, &app.Environment{ID: id, ProjectID: 1, Key: fmt.Sprint("env-", id)}}
	}
	developer = app.Actor{Kind: "person", ID: "ida", Grants: app.Everywhere(1, app.Developer)}
)

func begin() (*Service, *ledger, *[]Moved) {
	l := &ledger{envs: map[int64]*app.Environment{}, results: map[string][2]string{}, titles: map[string]string{}}
	for id := range int64(3) {
		l.envs[id+1] = &app.Environment{ID: id + 1, ProjectID: 1, Key: fmt.Sprint("env-", id+1),
			Revision: 10 * (id + 1), AskFirst: id == 2}
	}
	var moved []Moved
	write := func(_ context.Context, fn func(Tx) error) error { return fn(l) }
	return &Service{Kinds: kinds, Write: write, Insist: write, Now: func() time.Time { return time.UnixMilli(5) },
		Committed: func(_ context.Context, m Moved) { moved = append(moved, m) }}, l, &moved
}

// Several changes are one transaction: environments are held in order of their ids before the
// first is made, each sees what those before it did, every environment gets one revision, and all
// entries bear one id.
func TestSeveralChangesAreOne(t *testing.T) {
	s, l, moved := begin()
	out, err := s.Apply(context.Background(), Request{Actor: developer, Reason: "together"},
		Change{In: place(2), Of: "a", Do: &name{"one"}},
		Change{In: place(1), Of: "b", Do: &name{"two"}},
		Change{In: place(2), Of: "a", Do: &name{"three"}},
		Change{In: In{Project: project}, Of: "all", Do: &secret{"hush"}},
		Change{In: place(2), Of: "c", Do: &name{"four"}})
	if err != nil {
		t.Fatal(err)
	}
	want := `[{"From":"","To":"one"},{"From":"","To":"two"},{"From":"one","To":"three"},{"word":"hush"},{"From":"","To":"four"}]`
	if string(out) != want {
		t.Errorf("%s", out)
	}
	if got := strings.Join(l.done[:3], ", "); got != "project 1, environment 1, environment 2" {
		t.Errorf("held in the order %s", got)
	}
	if len(l.events) != 2 || len((*moved)[0].Steps) != 2 {
		t.Fatalf("%d revisions, %+v", len(l.events), moved)
	}
	for _, e := range l.events {
		switch e.Revision {
		case 11:
			if len(e.Flags) != 1 {
				t.Errorf("%s", e.Flags)
			}
		case 21:
			if len(e.Flags) != 2 || !strings.Contains(string(e.Flags[0]), "three") ||
				!strings.Contains(string(e.Flags[1]), "four") {
				t.Errorf("the revision brings %s", e.Flags)
			}
		default:
			t.Errorf("revision %d", e.Revision)
		}
	}
	for _, e := range l.entered {
		if e.Change != l.entered[0].Change || e.Reason != "together" || e.At != 5 {
			t.Errorf("%+v", e)
		}
	}
	if len(l.entered) != 5 || l.entered[0].Records[0].Of != "a" || l.entered[0].Revision != 21 {
		t.Errorf("%+v", l.entered)
	}
	if !slices.Contains(l.done, "write c 2 under 2.21") || !slices.Contains(l.done, "project:1: told all") {
		t.Errorf("%s", l.done)
	}
}

// One that is refused takes all others with it, whatever refuses it.
func TestOneRefusedAllRefused(t *testing.T) {
	for what, last := range map[string]Change{
		"the gate":  {In: place(3), Of: "a", Do: &name{"x"}}, // it asks first
		"the store": {In: place(1), Of: "full", Do: &name{"x"}},
		"the audit": {In: In{Project: project}, Do: &struct{ Silent bool }{}},
	} {
		s, l, moved := begin()
		if out, err := s.Apply(context.Background(), Request{Actor: developer}, Change{In: place(1), Of: "a",
			Do: &name{"one"}}, last); err == nil {
			t.Errorf("%s: %s", what, out)
		}
		if len(l.entered)+len(*moved) > 0 {
			t.Errorf("%s: %v, %v", what, l.entered, moved)
		}
	}
	s, _, _ := begin()
	if _, err := s.Apply(context.Background(), Request{Actor: developer, Reason: strings.Repeat("x", maxReason+1)},
		Change{In: place(1), Of: "a", Do: &name{"one"}}); err == nil {
		t.Error("a reason may be of any length")
	}
	if _, err := s.Apply(context.Background(), Request{Actor: developer},
		Change{In: place(1), Do: &developer}); err == nil {
		t.Error("anything is a change")
	}
}

// A dry run does it all, gives no secret and commits nothing; a repeated request gets the first's
// result without the secret, and one that asks for something else is refused.
func TestDryAndRepeated(t *testing.T) {
	s, _, moved := begin()
	c := Change{In: In{Project: project}, Of: "all", Do: &secret{"hush"}}
	out, err := s.Apply(context.Background(), Request{Actor: developer, DryRun: true}, c)
	if err != nil || string(out) != `{"word":""}` || len(*moved) != 0 {
		t.Errorf("%s %v %v", out, err, moved)
	}
	r := Request{Actor: developer, ID: "once"}
	if out, err = s.Apply(context.Background(), r, c); err != nil || string(out) != `{"word":"hush"}` ||
		(*moved)[0].All {
		t.Errorf("%s %v", out, err)
	}
	if out, err = s.Apply(context.Background(), r, c); err != nil || string(out) != `{"word":""}` || !(*moved)[1].All {
		t.Errorf("%s %v", out, err)
	}
	r.Digest = "of another"
	if out, err = s.Apply(context.Background(), r, c); err == nil {
		t.Errorf("%s", out)
	}
}

// A change is written as JSON and read again; what is wrong with a text is said with its place.
func TestWrittenChanges(t *testing.T) {
	find := func(_ context.Context, p, e string) (*app.Project, *app.Environment, error) {
		if p != "pinecrest" {
			return nil, nil, app.Faultf(app.NotFound, "there is no project %s", p)
		}
		if e == "" {
			return project, nil, nil
		}
		return project, place(2).Environment, nil
	}
	text, err := kinds.Write(Change{In: place(2), Of: "a", Versions: []int64{3}, Do: &name{"one"}})
	if err != nil ||
		string(
			text) != `{"do":"flag.name","project":"pinecrest","environment":"env-2","of":"a","versions":[3],"with":{"to":"one"}}` {
		t.Fatalf("%s %v", text, err)
	}
	c, err := kinds.Read(context.Background(), text, find)
	if err != nil || c.In.Environment.ID != 2 || c.Of != "a" || !slices.Equal(c.Versions, []int64{3}) ||
		*c.Do.(*name) != (name{"one"}) {
		t.Errorf("%+v %v", c, err)
	}
	again, _ := kinds.Write(c)
	if string(again) != string(text) {
		t.Errorf("%s", again)
	}
	for bad, place := range map[string]string{
		`{"do":"flag.odd","with":{}}`: "do",
		`{"do":"flag.name","project":"pinecrest","environment":"env-2","with":{"two":1}}`:  "with.two",
		`{"do":"flag.name","project":"pinecrest","environment":"env-2","with":{"to":1}}`:   "with.to",
		`{"do":"flag.name","project":"pinecrest","with":{"to":"x"}}`:                       "do",
		`{"do":"project.tell","project":"pinecrest","environment":"env-1","with":{}}`:      "do",
		`{"do":"flag.name","projects":"pinecrest","environment":"env-2","with":{"to":""}}`: "projects",
	} {
		_, err := kinds.Read(context.Background(), json.RawMessage(bad), find)
		var f *app.Fault
		if !errors.As(err, &f) || len(f.Fields) == 0 || f.Fields[0].Place != place {
			t.Errorf("%s: %v", bad, err)
		}
	}
	if _, err := kinds.Read(context.Background(), []byte(`{"do":"project.tell","project":"odd","with":{}}`),
		find); err == nil {
		t.Error("a project that is not there is found")
	}
}

// Few wait for a project's rows at a time, and who gives up leaves the queue.
func TestQueues(t *testing.T) {
	s, _, _ := begin()
	todo := []task{{Change{In: place(1)}, kinds.byName["flag.name"], 0},
		{Change{In: place(2)}, kinds.byName["flag.name"], 0}}
	var leave []func()
	for range queueWidth {
		l, err := s.queues.wait(context.Background(), todo)
		if err != nil {
			t.Fatal(err)
		}
		leave = append(leave, l)
	}
	gone, cancel := context.WithCancel(context.Background())
	cancel()
	if _, err := s.queues.wait(gone, todo); err == nil {
		t.Error("the queue has no end")
	}
	if l, err := s.queues.wait(gone,
		[]task{{Change{In: In{Project: project}}, kinds.byName["project.tell"], 0}}); err != nil {
		t.Error("what waits in no queue waits")
	} else {
		l()
	}
	leave[0]()
	if l, err := s.queues.wait(context.Background(), todo); err != nil {
		t.Error(err)
	} else {
		l()
	}
}
