package admit

import (
	"errors"
	"testing"

	"greenlever.example/greenlever/internal/app"
)

// The whole table of roles and actions, written out.
func TestAllowTable(t *testing.T) {
	table := map[app.Role]string{
		//          Read Define MakeFlag Document Release Stop Lift SeeIt Manage
		app.Auditor:   "y.........",
		app.Developer: "yyyyyy.yy.",
		app.Releaser:  "y...yyyyy.",
		app.OnCall:    "y....yyy..",
		app.Keeper:    "yyyyyyyyyy",
	}
	if len(table) != len(app.Roles()) {
		t.Fatalf("the table has %d of %d roles", len(table), len(app.Roles()))
	}
	for role, row := range table {
		for i, action := range app.Actions() {
			a := &app.Actor{Grants: app.Everywhere(1, role)}
			if err := Allow(a, action, 1, 5); (err == nil) != (row[i] == 'y') {
				t.Errorf("%s %s: %v", role, action, err)
			}
			var f *app.Fault
			if err := Allow(a, action, 2, 0); !errors.As(err, &f) || f.Kind != app.NotFound {
				t.Errorf("%s %s in another project: %v", role, action, err)
			}
		}
	}
}

func TestRolesAddUp(t *testing.T) {
	a := &app.Actor{Grants: app.Everywhere(1, app.Auditor, app.OnCall, app.Developer)}
	for action, ok := range map[app.Action]bool{app.LiftIt: true, app.Define: true, app.Manage: false} {
		if err := Allow(a, action, 1, 0); (err == nil) != ok {
			t.Errorf("%s: %v", action, err)
		}
	}
}

func TestInstallation(t *testing.T) {
	if Installation(&app.Actor{Grants: app.Everywhere(1, app.Roles()...)}) == nil {
		t.Error("a project's keeper may manage the installation")
	}
	if err := Installation(&app.Actor{Keeper: true}); err != nil {
		t.Error(err)
	}
}

// The same table where each role is held in environment 5 alone: there it counts as anywhere, elsewhere and for the
// project as a whole it does not, but for reading, proposing and making a flag.
func TestAllowInOneEnvironment(t *testing.T) {
	for _, role := range app.Roles() {
		for _, team := range []string{"", "doors"} {
			a := &app.Actor{Grants: app.Grants{{Project: 1, Environment: 5, Role: role, Team: team}}}
			everywhere := &app.Actor{Grants: app.Everywhere(1, role)}
			for _, action := range app.Actions() {
				wide := Allow(everywhere, action, 1, 5) == nil
				beyond := wide && (action == app.Read || action == app.MakeFlag || action == app.Propose)
				for environment, want := range map[int64]bool{5: wide, 6: beyond, 0: beyond} {
					g, err := By(a, action, 1, environment)
					if (err == nil) != want {
						t.Errorf("%s in 5, %s in %d: %v", role, action, environment, err)
					}
					if err == nil && (g.Environment != 5 || g.Team != team) {
						t.Errorf("%s in 5, %s in %d: by %+v", role, action, environment, g)
					}
				}
			}
		}
	}
}

// Of several grants the one that is said is the widest, and one's own before a team's.
func TestByTheWidest(t *testing.T) {
	a := &app.Actor{Grants: app.Grants{{Project: 1, Environment: 5, Role: app.OnCall}, {Project: 1, Role: app.Releaser,
		Team: "doors"}, {Project: 1, Role: app.Keeper}, {Project: 2, Role: app.Keeper}}}
	if g, err := By(a, app.StopIt, 1, 5); err != nil || g != (app.Grant{Project: 1, Role: app.Keeper}) {
		t.Errorf("by %+v, %v", g, err)
	}
}

// A token may never do what its account may not, nor what it is not held to: over all pairs of grants.
func TestWithin(t *testing.T) {
	var all []app.Grant
	for _, project := range []int64{1, 2} {
		for _, environment := range []int64{0, 5, 6} {
			for _, role := range []app.Role{app.Developer, app.OnCall} {
				all = append(all, app.Grant{Project: project, Environment: environment, Role: role})
			}
		}
	}
	for _, has := range all {
		for _, only := range all {
			held := app.Grants{has}.Within(&app.Narrow{Only: []app.Narrowed{{Project: only.Project,
				Environment: only.Environment, Role: only.Role}}})
			for _, action := range app.Actions() {
				for _, project := range []int64{1, 2} {
					for _, environment := range []int64{5, 6} {
						may := func(g ...app.Grant) bool {
							_, may := app.Grants(g).Allows(action, project, environment)
							return may
						}
						// Held to one environment, it reads and makes flags as who has a role in that one alone.
						if may(held...) && !(may(has) && may(only)) {
							t.Errorf("%+v held to %+v may %s in %d/%d", has, only, action, project, environment)
						}
						if has.Role == only.Role && may(has) && may(only) && !may(held...) && action != app.Read &&
							action != app.MakeFlag && action != app.Propose {
							t.Errorf("%+v held to %+v may not %s in %d/%d", has, only, action, project, environment)
						}
					}
				}
			}
		}
	}
	if got := app.Everywhere(1, app.Keeper).Within(&app.Narrow{By: "ida"}); len(got) != 1 {
		t.Errorf("held to nothing: %+v", got)
	}
}
