package storetest

import (
	"errors"
	"fmt"
	"testing"

	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/store"
)

func (s *suite) people(t *testing.T) {
	a := &app.Account{ID: "ida", Email: "ida.holm@pinecrest.example", Name: "Ida", Password: "x", Keeper: true}
	s.write(t, func(tx *store.Tx) error {
		if err := tx.AddAccount(a); err != nil {
			return err
		}
		if err := tx.SetRoles(&app.RolesRecord{ProjectID: s.env.ProjectID, Account: a.ID, Roles: []app.Role{app.Keeper,
			app.OnCall}}); err != nil {
			return err
		}
		if err := tx.AddSession(&app.Session{Digest: []byte("one"), AccountID: a.ID, CSRF: "csrf", Created: 1,
			Expires: 100}); err != nil {
			return err
		}
		return tx.AddSession(&app.Session{Digest: []byte("two"), AccountID: a.ID, CSRF: "csrf", Created: 1,
			Expires: 100})
	})
	if held, err := s.st.GrantsOf(s.ctx, a.ID); err != nil ||
		fmt.Sprint(held.Roles(s.env.ProjectID, 0)) != "[keeper on-call]" {
		t.Errorf("%v %v", held, err)
	}
	s.teams(t, a.ID)
	if v, err := s.st.CallerBySession(s.ctx, []byte("one"), 100); v != nil || err != nil {
		t.Errorf("an expired session: %+v %v", v, err)
	}
	s.write(t, func(tx *store.Tx) error {
		return errors.Join(tx.AddToken(&app.Token{ID: "k", AccountID: a.ID, Name: "kept", Digest: []byte("k"),
			Expires: 100}), tx.AddToken(&app.Token{ID: "e", AccountID: a.ID, Name: "ends", Digest: []byte("e"),
			Expires: 100}))
	})
	s.write(t, func(tx *store.Tx) error { return tx.SetPassword(a.ID, "y", []byte("one"), []string{"kept"}) })
	if left, err := s.st.Tokens(s.ctx, a.ID); err != nil || len(left) != 1 || left[0].Name != "kept" {
		t.Errorf("tokens after a new password: %+v %v", left, err)
	}
	one, _ := s.st.CallerBySession(s.ctx, []byte("one"), 50)
	two, _ := s.st.CallerBySession(s.ctx, []byte("two"), 50)
	if one == nil || two != nil {
		t.Errorf("after a new password: %+v, %+v", one, two)
	}
	if secret, err := s.st.SetUpSecret(s.ctx); len(secret) > 0 || err != nil {
		t.Errorf("a set-up code where there is an account: %v", err)
	}
	a.Disabled = 7
	s.write(t, func(tx *store.Tx) error { return tx.SetAccount(a, "keeper") })
	one, _ = s.st.CallerBySession(s.ctx, []byte("one"), 50)
	left, _ := s.st.Tokens(s.ctx, a.ID)
	if now, err := s.st.Account(s.ctx, a.ID); err != nil || now.Disabled != 7 || one != nil || len(left) != 0 {
		t.Errorf("a disabled account: %+v, session %+v, tokens %+v, %v", now, one, left, err)
	}
}

// teams says that what a team holds its members hold, and that nothing of it is left when it goes.
func (s *suite) teams(t *testing.T, account string) {
	team := &app.Team{ID: "t1", Key: "doors", Title: "Doors", Made: 5, Members: []string{account}}
	s.write(t, func(tx *store.Tx) error {
		return errors.Join(tx.SaveTeam(team), tx.SetRoles(&app.RolesRecord{ProjectID: s.env.ProjectID, Account: team.ID,
			Team: true, Roles: []app.Role{app.Auditor}, In: map[int64][]app.Role{s.env.ID: {app.Releaser}}}))
	})
	all, err := s.st.Teams(s.ctx)
	if err != nil || len(all) != 1 || fmt.Sprint(all[0]) != fmt.Sprint(*team) {
		t.Errorf("teams: %+v %v", all, err)
	}
	held, err := s.st.GrantsOf(s.ctx, account)
	if err != nil || fmt.Sprint(held.Roles(s.env.ProjectID, s.env.ID)) != "[auditor keeper on-call releaser]" ||
		fmt.Sprint(held.Roles(s.env.ProjectID, s.env.ID+1)) != "[auditor keeper on-call]" {
		t.Errorf("%+v %v", held, err)
	}
	if by, err := s.st.GrantsIn(s.ctx, s.env.ProjectID); err != nil || len(by[team.ID]) != 2 || by[team.ID][0].Team != "doors" {
		t.Errorf("%+v %v", by, err)
	}
	s.write(t, func(tx *store.Tx) error { return tx.RemoveTeam(team) })
	if held, err := s.st.GrantsOf(s.ctx, account); err != nil || len(held) != 2 {
		t.Errorf("after the team: %+v %v", held, err)
	}
}
