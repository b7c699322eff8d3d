package admit

import (
	"errors"
	"testing"

	"greenlever.example/greenlever/internal/app"
)

// The whole table of roles and actions, written out.
func TestAllowTable(t *testing.T) {
	table := map[app.Role]string{
		//          Read Define Document Release Stop Lift SeeIt Manage
		app.Auditor:   "y.......",
		app.Developer: "yyyyy.y.",
		app.Releaser:  "y..yyyy.",
		app.OnCall:    "y...yy..",
		app.Keeper:    "yyyyyyyy",
	}
	if len(table) != len(app.Roles()) {
		t.Fatalf("the table has %d of %d roles", len(table), len(app.Roles()))
	}
	for role, row := range table {
		for i, action := range app.Actions() {
			a := &app.Actor{Roles: map[int64][]app.Role{1: {role}}}
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
	a := &app.Actor{Roles: map[int64][]app.Role{1: {app.Auditor, app.OnCall, app.Developer}}}
	for action, ok := range map[app.Action]bool{app.LiftIt: true, app.Define: true, app.Manage: false} {
		if err := Allow(a, action, 1, 0); (err == nil) != ok {
			t.Errorf("%s: %v", action, err)
		}
	}
}

func TestInstallation(t *testing.T) {
	if Installation(&app.Actor{Roles: map[int64][]app.Role{1: app.Roles()}}) == nil {
		t.Error("a project's keeper may manage the installation")
	}
	if err := Installation(&app.Actor{Keeper: true}); err != nil {
		t.Error(err)
	}
}
