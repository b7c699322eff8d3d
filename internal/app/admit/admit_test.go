package admit

import (
	"context"
	"errors"
	"slices"
	"strings"
	"testing"

	"greenlever.example/core/flag"
	"greenlever.example/core/shift"
	"greenlever.example/core/words"
	"greenlever.example/greenlever/internal/app"
)

// The steps stand in their order, and each says what it keeps from happening and who could help.
func TestSteps(t *testing.T) {
	var names []string
	for _, s := range Steps() {
		if names = append(names, s.Name); s.Says == "" || s.Example == "" || s.Mend == "" {
			t.Errorf("%s says too little", s.Name)
		}
	}
	want := []string{"rights", "ended", "behind", "freeze", "ownership", "owners", "asks first", "policy", "signatures"}
	if !slices.Equal(names, want) {
		t.Errorf("%v", names)
	}
}

// Of several reasons to refuse the first counts, and each names who or what could help.
func TestPass(t *testing.T) {
	ida := &app.Actor{ID: "ida", Grants: app.Everywhere(1, app.Developer)}
	env := func(change func(*app.Environment)) *app.Environment {
		e := &app.Environment{ID: 5, ProjectID: 1, Key: "production", AskFirst: true}
		change(e)
		return e
	}
	none := func(*app.Environment) {}
	sweep := func(counted int64) func(context.Context) (*shift.Shift, error) {
		return func(context.Context) (*shift.Shift, error) {
			sh := &shift.Shift{Sweep: true, Says: words.Say("cannot be counted")}
			sh.Units.Units, sh.Perhaps.Counted, sh.Moved.Low = 600, int(counted), 40
			return sh, nil
		}
	}
	number := func(n int64) *int64 { return &n }
	for name, c := range map[string]struct {
		Case
		kind app.FaultKind
		says string // empty: it passes
	}{
		"nobody's project": {Case{Actor: ida, Action: app.ReleaseIt, Project: 2, Environment: env(none)}, app.NotFound, "no role in it"},
		"a role too low":   {Case{Actor: ida, Action: app.Manage, Project: 1, Environment: env(none)}, app.Forbidden, "roles keeper"},
		"the installation": {Case{Actor: ida}, app.Forbidden, "installation keeper"},
		"rights before all else": {Case{Actor: ida, Action: app.Manage, Project: 1, Guarded: true,
			Environment: env(func(e *app.Environment) { e.State, e.Behind = app.Archived, 9 })}, app.Forbidden, "keeper"},
		"an archived one": {Case{Actor: ida, Action: app.StopIt, Project: 1,
			Environment: env(func(e *app.Environment) { e.State = app.Archived })}, app.Conflict, "bring it back"},
		"what the project changes there": {Case{Actor: ida, Action: app.Define, Project: 1, Reopens: true,
			Environment: env(func(e *app.Environment) { e.State = app.Archived })}, 0, ""},
		"behind": {Case{Actor: ida, Action: app.ReleaseIt, Project: 1, Guarded: true,
			Environment: env(func(e *app.Environment) { e.Behind = 9 })}, app.Conflict, "greenlever epoch new"},
		"a stop while it is behind": {Case{Actor: ida, Action: app.StopIt, Project: 1,
			Environment: env(func(e *app.Environment) { e.Behind = 9 })}, 0, ""},
		"no reason":   {Case{Actor: ida, Action: app.ReleaseIt, Project: 1, Guarded: true, Reason: " ", Environment: env(none)}, app.Invalid, "say why"},
		"with reason": {Case{Actor: ida, Action: app.ReleaseIt, Project: 1, Guarded: true, Reason: "why", Environment: env(none)}, 0, ""},
		"all at once": {Case{Actor: ida, Action: app.ReleaseIt, Project: 1, Guarded: true, Reason: "why", Environment: env(none),
			Shift: sweep(0)}, app.Invalid, "about 600 units"},
		"all at once, confirmed": {Case{Actor: ida, Action: app.ReleaseIt, Project: 1, Guarded: true, Reason: "why",
			Environment: env(none), Shift: sweep(0), Units: number(590)}, 0, ""},
		"all at once, of long ago": {Case{Actor: ida, Action: app.ReleaseIt, Project: 1, Guarded: true, Reason: "why",
			Environment: env(none), Shift: sweep(0), Units: number(300)}, app.Invalid, "about 600 units"},
		"all at once, dry": {Case{Actor: ida, Action: app.ReleaseIt, Project: 1, Guarded: true, Reason: "why", DryRun: true,
			Environment: env(none), Shift: sweep(0)}, 0, ""},
		"not to be counted": {Case{Actor: ida, Action: app.ReleaseIt, Project: 1, Guarded: true, Reason: "why",
			Environment: env(none), Shift: sweep(3)}, app.Invalid, "40 or more"},
	} {
		err := Pass(context.Background(), &c.Case)
		var f *app.Fault
		switch {
		case c.says == "" && err != nil:
			t.Errorf("%s: %v", name, err)
		case c.says != "" && (!errors.As(err, &f) || f.Kind != c.kind || !strings.Contains(err.Error(), c.says)):
			t.Errorf("%s: %v", name, err)
		}
	}
	bounded := &Case{Actor: ida, Action: app.ReleaseIt, Project: 1, Guarded: true, Reason: "why", Environment: env(none),
		Shift: sweep(3), Units: number(50)}
	if err := Pass(context.Background(), bounded); err != nil || len(bounded.Notes) != 1 ||
		!strings.Contains(bounded.Notes[0].Text, "at most 50 units") {
		t.Errorf("%v %v", err, bounded.Notes)
	}
}

// A freeze holds what moves somebody, for as long as it says, and nothing else.
func TestFrozen(t *testing.T) {
	doc := &flag.Document{Key: "lamp"}
	moves := func(certain bool) func(context.Context) (*shift.Shift, error) {
		return func(context.Context) (*shift.Shift, error) { return &shift.Shift{Certain: certain}, nil }
	}
	for name, of := range map[string]struct {
		c      Case
		freeze app.Freeze
		held   bool
	}{
		"an edit":               {Case{After: doc, Shift: moves(false)}, app.Freeze{From: 1, To: 10}, true},
		"one that moves nobody": {Case{After: doc, Shift: moves(true)}, app.Freeze{From: 1, To: 10}, false},
		"a segment":             {Case{Moves: true}, app.Freeze{From: 1, To: 10}, true},
		"what moves nothing":    {Case{}, app.Freeze{From: 1, To: 10}, false},
		"before it":             {Case{Moves: true}, app.Freeze{From: 6, To: 10}, false},
		"at its end":            {Case{Moves: true}, app.Freeze{From: 1, To: 5}, false},
		"a lift":                {Case{Moves: true, Action: app.LiftIt}, app.Freeze{From: 1, To: 10}, false},
		"another flag excepted": {Case{After: doc, Shift: moves(false)}, app.Freeze{From: 1, To: 10, Flags: []string{"x"}}, true},
		"the flag excepted":     {Case{After: doc, Shift: moves(false)}, app.Freeze{From: 1, To: 10, Flags: []string{"lamp"}}, false},
		"the role excepted":     {Case{Moves: true}, app.Freeze{From: 1, To: 10, Roles: []app.Role{app.Keeper}}, false},
		"a dry run":             {Case{Moves: true, DryRun: true}, app.Freeze{From: 1, To: 10}, false},
	} {
		c := of.c
		c.Guarded, c.Now, c.Project, c.Actor = true, 5, 1, &app.Actor{Grants: app.Everywhere(1, app.Keeper)}
		c.Environment = &app.Environment{ID: 2, Key: "production", Freezes: app.Freezes{of.freeze}}
		err := frozen(t.Context(), &c)
		if (err != nil) != of.held {
			t.Errorf("%s: %v", name, err)
		}
		if c.DryRun && len(c.Notes) != 1 {
			t.Errorf("%s notes %v", name, c.Notes)
		}
	}
	// Of several the one that holds longest is said.
	all := app.Freezes{{ID: "a", From: 1, To: 10}, {ID: "b", From: 1, To: 20}, {ID: "c", From: 15, To: 90}}
	if f, until := all.Holding(5, nil, "", nil); f == nil || f.ID != "b" || until != 20 {
		t.Errorf("%+v until %d", f, until)
	}
}

// Where only owners change flags, an owner is one by address, in any case, or by a team.
func TestOwners(t *testing.T) {
	for name, of := range map[string]struct {
		owned []string
		only  bool
		may   bool
	}{
		"owned by address": {[]string{"Ida.Holm@pinecrest.example"}, true, true},
		"owned by team":    {[]string{"rounds", "doors"}, true, true},
		"owned by others":  {[]string{"rounds"}, true, false},
		"owned by nobody":  {nil, true, true},
		"not asked for":    {[]string{"rounds"}, false, true},
	} {
		c := &Case{Actor: &app.Actor{Is: []string{"doors", "ida.holm@pinecrest.example"}}, Flag: "lamp",
			Environment: &app.Environment{Key: "production", OwnersOnly: of.only},
			Owners:      func() ([]string, error) { return of.owned, nil }}
		if err := owners(t.Context(), c); (err == nil) != of.may {
			t.Errorf("%s: %v", name, err)
		}
	}
}
