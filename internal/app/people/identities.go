package people

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/admit"
	"greenlever.example/greenlever/internal/identity"
)

// IdentityTx is what signing in with a provider writes besides.
type IdentityTx interface {
	SetIdentityTeams(account string, keys []string, until int64) error
}

// Identities are what is read of them.
type Identities interface {
	Identity(ctx context.Context, id string) (*app.Identity, error)
	Identities(ctx context.Context, account string) ([]app.Identity, error)
}

// TeamsFor is how long teams count that a provider said.
const TeamsFor = 8 * time.Hour

// SignInWith starts a session of who came back from a provider. Who is new gets an account; an account that is there
// already is theirs once its person, signed in otherwise, or a keeper of the installation has said so.
func (s *Service) SignInWith(ctx context.Context, who *identity.Who, from From) (secret string, session *app.Session,
	a *app.Account, err error) {
	id := app.IdentityID(who.Issuer, who.Subject)
	bound, err := s.Identities.Identity(ctx, id)
	if err != nil {
		return "", nil, nil, err
	}
	if bound == nil {
		if bound, err = s.bind(ctx, who, id); err != nil {
			return "", nil, nil, err
		}
	}
	if bound.Confirmed == 0 {
		return "", nil, nil, &identity.Refused{Why: identity.Unbound}
	}
	if a, err = s.Records.Account(ctx, bound.AccountID); err != nil {
		return "", nil, nil, err
	}
	if a.Disabled > 0 {
		return "", nil, nil, errors.Join(&identity.Refused{Why: identity.Disabled}, s.write(ctx, s.entry(app.Actor{
			Kind: "person", ID: a.ID, Credential: "identity", Through: "console"}, "sign-in.refused", a.ID,
			"the account is disabled, from ⟨0⟩"), []string{from.Address}, nil))
	}
	secret, session = s.newSession(a.ID, from)
	said := "signed in with " + who.Issuer + " from ⟨0⟩"
	if who.Says {
		said += ", in the teams " + strings.Join(who.Teams, ", ")
	}
	signed := s.entry(app.Actor{Kind: "person", ID: a.ID, Credential: "identity", Through: "console"}, "signed-in",
		a.ID,
		said)
	err = s.Write(ctx, func(tx Tx) error {
		if err := tx.(IdentityTx).SetIdentityTeams(a.ID, who.Teams, s.Now().Add(TeamsFor).UnixMilli()); err != nil {
			return err
		}
		return add(tx, session, signed, from.Address)
	})
	return secret, session, a, err
}

// bind binds a subject that is new: to an account that is new as well, or, until somebody confirms it, to the one that
// has its address.
func (s *Service) bind(ctx context.Context, who *identity.Who, id string) (*app.Identity, error) {
	now := s.Now().UnixMilli()
	i := &app.Identity{ID: id, Issuer: who.Issuer, Subject: who.Subject, Made: now}
	by := app.Actor{Kind: "service", Through: "identity"}
	a, err := s.Records.AccountByEmail(ctx, Address(who.Email))
	f := new(app.Fault)
	switch {
	case err == nil:
		i.AccountID = a.ID
		return i, s.Write(ctx, func(tx Tx) error {
			return add(tx, i, s.entry(by, "identity.asked", a.ID, "a subject of "+who.Issuer+" asks to be it"))
		})
	case !errors.As(err, &f) || f.Kind != app.NotFound:
		return nil, err
	}
	name := strings.TrimSpace(who.Name)
	if name == "" {
		name, _, _ = strings.Cut(who.Email, "@")
	}
	if name, err = checkName(name); err != nil {
		return nil, err
	}
	email, err := checkAddress(who.Email)
	if err != nil {
		return nil, err
	}
	a = &app.Account{ID: newID(), Email: email, Name: name, Created: now}
	i.AccountID, i.Confirmed = a.ID, now
	return i, s.Write(ctx, func(tx Tx) error {
		if err := s.addAccount(tx, a, by); err != nil {
			return err
		}
		return add(tx, i, s.entry(by, "identity.bound", a.ID, "bound to a subject of "+who.Issuer))
	})
}

// Confirm says that a subject is an account's person, or that it is not.
func (s *Service) Confirm(ctx context.Context, actor app.Actor, account, id string, is bool) error {
	if actor.ID != account {
		if err := admit.Installation(&actor); err != nil {
			return err
		}
	}
	i, err := s.Identities.Identity(ctx, id)
	if err != nil {
		return err
	}
	if i == nil || i.AccountID != account {
		return app.Faultf(app.NotFound, "nobody asks to be this account under that id")
	}
	return s.Write(ctx, func(tx Tx) error {
		if !is {
			return add(tx, &app.IdentityGone{ID: id}, s.entry(actor, "identity.removed", account, "no longer a "+
				"subject of "+
				i.Issuer))
		}
		i.Confirmed = s.Now().UnixMilli()
		return add(tx, i, s.entry(actor, "identity.bound", account, "bound to a subject of "+i.Issuer))
	})
}

// RemoveAccount takes out of an account who it was. What it did stays under its id.
func (s *Service) RemoveAccount(ctx context.Context, actor app.Actor, id string) error {
	yes := true
	if _, err := s.EditAccount(ctx, actor, id, Edit{Disabled: &yes}); err != nil {
		return err
	}
	has, err := s.Identities.Identities(ctx, id)
	if err != nil {
		return err
	}
	return s.Write(ctx, func(tx Tx) error {
		for _, i := range has {
			if err := add(tx, &app.IdentityGone{ID: i.ID}, s.entry(actor, "identity.removed", id,
				fmt.Sprintf("no longer a "+
					"subject of %s", i.Issuer))); err != nil {
				return err
			}
		}
		return add(tx, &app.AccountGone{Account: app.Account{ID: id, Email: "left:" + id, Name: "somebody who left"}},
			s.entry(actor, "account.removed", id, "name and address taken out"))
	})
}
