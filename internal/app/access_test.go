package app

import (
	"errors"
	"testing"
)

// The whole table of roles and actions, written out.
func TestAllowTable(t *testing.T) {
	table := map[Role]string{
		//          Read Define Document Release Stop Lift SeeIt Manage
		Auditor:   "y.......",
		Developer: "yyyyy.y.",
		Releaser:  "y..yyyy.",
		OnCall:    "y...yy..",
		Keeper:    "yyyyyyyy",
	}
	if len(table) != len(Roles()) {
		t.Fatalf("the table has %d of %d roles", len(table), len(Roles()))
	}
	for role, row := range table {
		for i, action := range Actions() {
			a := &Actor{Roles: map[int64][]Role{1: {role}}}
			if err := Allow(a, action, 1, 5); (err == nil) != (row[i] == 'y') {
				t.Errorf("%s %s: %v", role, action, err)
			}
			var f *Fault
			if err := Allow(a, action, 2, 0); !errors.As(err, &f) || f.Kind != NotFound {
				t.Errorf("%s %s in another project: %v", role, action, err)
			}
		}
	}
}

func TestRolesAddUp(t *testing.T) {
	a := &Actor{Roles: map[int64][]Role{1: {Auditor, OnCall, Developer}}}
	for action, ok := range map[Action]bool{LiftIt: true, Define: true, Manage: false} {
		if err := Allow(a, action, 1, 0); (err == nil) != ok {
			t.Errorf("%s: %v", action, err)
		}
	}
}

func TestAllowInstallation(t *testing.T) {
	if AllowInstallation(&Actor{Roles: map[int64][]Role{1: Roles()}}) == nil {
		t.Error("a project's keeper may manage the installation")
	}
	if err := AllowInstallation(&Actor{Keeper: true}); err != nil {
		t.Error(err)
	}
}
