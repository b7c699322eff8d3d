// Package people holds accounts, sessions and personal tokens: who somebody is.
//
// Its noun is a [Service]. What somebody may do is decided by app.Allow alone.
package people

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"net/mail"
	"strings"
	"time"

	"github.com/google/uuid"

	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/audit"
)

// Tx is the transaction that this package writes in.
type Tx interface {
	Append(chain string, e audit.Entry, personal []string) error
	AddAccount(*app.Account) error
	SetPassword(account, hash string, butSession []byte) error
	UseSetUpCode(digest []byte) (bool, error)
	AddSession(digest []byte, account, csrf string, created, expires int64) error
	AddToken(*app.Token) error
	RemoveToken(account, id string) (name string, err error)
}

// Records are what this package reads.
type Records interface {
	Account(ctx context.Context, id string) (*app.Account, error)
	AccountByEmail(ctx context.Context, email string) (*app.Account, error)
	SetUpCode(ctx context.Context, digest []byte) (bool, error)
}

// Lifetimes.
const (
	SessionLifetime = 12 * time.Hour
	MaxTokenDays    = 366
)

// Service manages accounts.
type Service struct {
	Write   func(ctx context.Context, fn func(Tx) error) error
	Records Records
	Now     func() time.Time
}

// NewSecret makes 192 random bits as text.
func NewSecret() string {
	var b [24]byte
	rand.Read(b[:]) // never fails
	return base64.RawURLEncoding.EncodeToString(b[:])
}

// Digest is what is kept of a secret.
func Digest(secret string) []byte {
	sum := sha256.Sum256([]byte(secret))
	return sum[:]
}

func newID() string { return uuid.Must(uuid.NewV7()).String() }

func (s *Service) entry(actor app.Actor, action, subject string, said ...string) audit.Entry {
	return audit.Entry{At: s.Now().UnixMilli(), Actor: actor, Action: action, Subject: subject, Change: newID(), Difference: said}
}

// NewSetUpCode makes a code for the first account; empty where there is an account already.
func (s *Service) NewSetUpCode(ctx context.Context) (string, error) {
	code := NewSecret()
	kept, err := s.Records.SetUpCode(ctx, Digest(code))
	if err != nil || !kept {
		return "", err
	}
	return code, nil
}

// SetUp makes the first account, an installation keeper, for who knows the code.
func (s *Service) SetUp(ctx context.Context, code, email, name, password, through string) (*app.Account, error) {
	a, err := s.newAccount(ctx, email, name, password, true)
	if err != nil {
		return nil, err
	}
	err = s.Write(ctx, func(tx Tx) error {
		ok, err := tx.UseSetUpCode(Digest(code))
		if err != nil {
			return err
		}
		if !ok {
			return app.InvalidField("code", "is not the code that the service printed when it started, or was used already")
		}
		return s.addAccount(tx, a, app.Actor{Kind: "set-up", ID: a.ID, Credential: "code", Through: through})
	})
	return a, err
}

// AddAccount makes an account.
func (s *Service) AddAccount(ctx context.Context, actor app.Actor, email, name, password string, keeper bool) (*app.Account, error) {
	if err := app.AllowInstallation(&actor); err != nil {
		return nil, err
	}
	a, err := s.newAccount(ctx, email, name, password, keeper)
	if err != nil {
		return nil, err
	}
	return a, s.Write(ctx, func(tx Tx) error { return s.addAccount(tx, a, actor) })
}

func (s *Service) newAccount(ctx context.Context, email, name, password string, keeper bool) (*app.Account, error) {
	email = strings.ToLower(strings.TrimSpace(email))
	if parsed, err := mail.ParseAddress(email); err != nil || parsed.Address != email || len(email) > 200 {
		return nil, app.InvalidField("email", "must be an address such as ida.holm@pinecrest.example")
	}
	name = strings.TrimSpace(name)
	if name == "" || len(name) > 200 {
		return nil, app.InvalidField("name", "must be 1 to 200 bytes")
	}
	hash, err := hashPassword(ctx, password)
	if err != nil {
		return nil, err
	}
	return &app.Account{ID: newID(), Email: email, Name: name, Password: hash, Keeper: keeper, Created: s.Now().UnixMilli()}, nil
}

func (s *Service) addAccount(tx Tx, a *app.Account, actor app.Actor) error {
	if err := tx.AddAccount(a); err != nil {
		return err
	}
	e := s.entry(actor, "account.made", a.ID, fmt.Sprintf("account ⟨0⟩ of ⟨1⟩ made, installation keeper %t", a.Keeper))
	return tx.Append(audit.Access, e, []string{a.Email, a.Name})
}

// errSignIn says no more than it must.
var errSignIn = app.Faultf(app.Unauthorized, "the e-mail address or the password is wrong")

// SignIn starts a session. It takes as long for an unknown address as for a wrong password.
func (s *Service) SignIn(ctx context.Context, email, password string) (secret, csrf string, a *app.Account, err error) {
	a, err = s.Records.AccountByEmail(ctx, strings.ToLower(strings.TrimSpace(email)))
	var f *app.Fault
	switch {
	case errors.As(err, &f) && f.Kind == app.NotFound:
		_, err = checkPassword(ctx, nobodysHash, password)
		if err == nil {
			err = errSignIn
		}
		return "", "", nil, err
	case err != nil:
		return "", "", nil, err
	}
	ok, err := checkPassword(ctx, a.Password, password)
	if err != nil {
		return "", "", nil, err
	}
	actor := app.Actor{Kind: "person", ID: a.ID, Credential: "password", Through: "console"}
	if !ok {
		err := s.Write(ctx, func(tx Tx) error {
			return tx.Append(audit.Access, s.entry(actor, "sign-in.refused", a.ID, "wrong password"), nil)
		})
		if err != nil {
			return "", "", nil, err
		}
		return "", "", nil, errSignIn
	}
	secret, csrf = NewSecret(), NewSecret()
	now := s.Now()
	err = s.Write(ctx, func(tx Tx) error {
		if err := tx.AddSession(Digest(secret), a.ID, csrf, now.UnixMilli(), now.Add(SessionLifetime).UnixMilli()); err != nil {
			return err
		}
		return tx.Append(audit.Access, s.entry(actor, "signed-in", a.ID, "signed in"), nil)
	})
	return secret, csrf, a, err
}

// ChangePassword replaces one's own password and ends one's other sessions.
func (s *Service) ChangePassword(ctx context.Context, actor app.Actor, session []byte, old, password string) error {
	a, err := s.Records.Account(ctx, actor.ID)
	if err != nil {
		return err
	}
	ok, err := checkPassword(ctx, a.Password, old)
	if err != nil {
		return err
	}
	if !ok {
		return app.InvalidField("old", "is not your present password")
	}
	return s.setPassword(ctx, actor, a.ID, password, session, "password.changed")
}

// ResetPassword gives somebody a new password and ends all of their sessions.
func (s *Service) ResetPassword(ctx context.Context, actor app.Actor, account, password string) error {
	if err := app.AllowInstallation(&actor); err != nil {
		return err
	}
	if _, err := s.Records.Account(ctx, account); err != nil {
		return err
	}
	return s.setPassword(ctx, actor, account, password, nil, "password.reset")
}

func (s *Service) setPassword(ctx context.Context, actor app.Actor, account, password string, session []byte, action string) error {
	hash, err := hashPassword(ctx, password)
	if err != nil {
		return err
	}
	return s.Write(ctx, func(tx Tx) error {
		if err := tx.SetPassword(account, hash, session); err != nil {
			return err
		}
		return tx.Append(audit.Access, s.entry(actor, action, account, "other sessions ended"), nil)
	})
}

// AddToken makes a personal token with its person's rights; the secret is shown once.
func (s *Service) AddToken(ctx context.Context, actor app.Actor, name string, days int) (*app.Token, string, error) {
	name = strings.TrimSpace(name)
	if name == "" || len(name) > 200 {
		return nil, "", app.InvalidField("name", "must be 1 to 200 bytes, such as what the token is for")
	}
	if days < 1 || days > MaxTokenDays {
		return nil, "", app.InvalidField("days", "must be 1 to %d", MaxTokenDays)
	}
	secret := "glt_" + NewSecret()
	now := s.Now()
	k := &app.Token{ID: newID(), AccountID: actor.ID, Name: name, Digest: Digest(secret), Created: now.UnixMilli(), Expires: now.AddDate(0, 0, days).UnixMilli()}
	err := s.Write(ctx, func(tx Tx) error {
		if err := tx.AddToken(k); err != nil {
			return err
		}
		return tx.Append(audit.Access, s.entry(actor, "token.made", k.ID, fmt.Sprintf("personal token %q for %d days", name, days)), nil)
	})
	return k, secret, err
}

// RemoveToken ends one of one's own tokens.
func (s *Service) RemoveToken(ctx context.Context, actor app.Actor, id string) error {
	return s.Write(ctx, func(tx Tx) error {
		name, err := tx.RemoveToken(actor.ID, id)
		if err != nil {
			return err
		}
		if name == "" {
			return app.Faultf(app.NotFound, "you have no token %s", id)
		}
		return tx.Append(audit.Access, s.entry(actor, "token.removed", id, fmt.Sprintf("personal token %q removed", name)), nil)
	})
}
