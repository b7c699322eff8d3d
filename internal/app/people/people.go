// Package people holds accounts, sessions and personal tokens: who somebody is.
//
// Its noun is a [Service]. What somebody may do is decided by package admit alone.
package people

import (
	"context"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"net/mail"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/admit"
	"greenlever.example/greenlever/internal/app/audit"
	"greenlever.example/greenlever/internal/app/orders"
)

// Tx is the transaction that this package writes in.
type Tx interface {
	Append(chain string, e audit.Entry, personal []string) (string, error)
	// Write writes an account, a session or a token that is new, and gives what the audit says of it.
	Write(record any) ([]audit.Record, error)
	LockAccounts() ([]app.Account, error)
	SetAccount(a *app.Account, by string) error
	SetPassword(account, hash string, butSession []byte, keepTokens []string) error
	UseSetUpCode(digest []byte) (bool, error)
	EndSession(account string, digest []byte) (bool, error)
	RemoveToken(account, id string) (name string, err error)
}

// Records are what this package reads.
type Records interface {
	Account(ctx context.Context, id string) (*app.Account, error)
	AccountByEmail(ctx context.Context, email string) (*app.Account, error)
	Sessions(ctx context.Context, account string, now int64) ([]app.Session, error)
	SetUpSecret(ctx context.Context) ([]byte, error)
	SetUpCode(ctx context.Context, digest []byte) error
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
	Devices Devices
	// PasswordsOff has nobody but keepers of the installation sign in with a password.
	PasswordsOff bool
	// Identities are whom providers know as which account.
	Identities Identities
	Now        func() time.Time

	strangers quota
}

// From is where a request comes from, for the audit.
type From struct {
	Address string
	Agent   string
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

// Address is an e-mail address in the one form in which it is kept and looked for.
func Address(email string) string { return strings.ToLower(strings.TrimSpace(email)) }

func newID() string { return uuid.Must(uuid.NewV7()).String() }

func (s *Service) entry(actor app.Actor, action, subject string, said ...string) audit.Entry {
	return audit.Entry{At: s.Now().UnixMilli(), Actor: actor, Action: action, Subject: subject, Change: newID(),
		Difference: said}
}

// write appends one entry to the access chain beside what fn does.
func (s *Service) write(ctx context.Context, e audit.Entry, personal []string, fn func(Tx) error) error {
	return s.Write(ctx, func(tx Tx) error {
		if fn != nil {
			if err := fn(tx); err != nil {
				return err
			}
		}
		_, err := tx.Append(audit.Access, e, personal)
		return err
	})
}

// add writes something new, with the entry that tells of it.
func add(tx Tx, record any, e audit.Entry, personal ...string) (err error) {
	if e.Records, err = tx.Write(record); err != nil {
		return err
	}
	_, err = tx.Append(audit.Access, e, personal)
	return err
}

// SetUpCode gives the code for the first account, the same on every process of the service;
// empty where there is an account already.
func (s *Service) SetUpCode(ctx context.Context) (string, error) {
	secret, err := s.Records.SetUpSecret(ctx)
	if err != nil || len(secret) == 0 {
		return "", err
	}
	mac := hmac.New(sha256.New, secret)
	mac.Write([]byte("greenlever set-up"))
	code := base64.RawURLEncoding.EncodeToString(mac.Sum(nil)[:24])
	return code, s.Records.SetUpCode(ctx, Digest(code))
}

// FirstAccount is the first account, and what leaves with it: the private half of the key that emergency orders are
// signed with, which is kept nowhere.
type FirstAccount struct {
	app.Account
	EmergencyKey string `json:"emergencyKey"`
}

// SetUp makes the first account, an installation keeper, for who knows the code.
func (s *Service) SetUp(ctx context.Context, code, email, name, password, through string) (*FirstAccount, error) {
	a, err := s.newAccount(ctx, email, name, password, true)
	if err != nil {
		return nil, err
	}
	public, private, err := orders.NewKey()
	if err != nil {
		return nil, err
	}
	err = s.Write(ctx, func(tx Tx) error {
		ok, err := tx.UseSetUpCode(Digest(code))
		if err != nil {
			return err
		}
		if !ok {
			return app.InvalidField("code", "is not the code that the service printed when it started, or was used "+
				"already")
		}
		by := app.Actor{Kind: "set-up", ID: a.ID, Credential: "code", Through: through}
		if err := s.addAccount(tx, a, by); err != nil {
			return err
		}
		e := s.entry(by, "emergency.key-made", "", orders.KeyMade(public))
		return add(tx, &app.EmergencyKey{Public: public}, e)
	})
	return &FirstAccount{*a, private}, err
}

// AddAccount makes an account.
func (s *Service) AddAccount(ctx context.Context, actor app.Actor, email, name, password string,
	keeper bool) (*app.Account, error) {
	if err := admit.Installation(&actor); err != nil {
		return nil, err
	}
	a, err := s.newAccount(ctx, email, name, password, keeper)
	if err != nil {
		return nil, err
	}
	return a, s.Write(ctx, func(tx Tx) error { return s.addAccount(tx, a, actor) })
}

func (s *Service) newAccount(ctx context.Context, email, name, password string, keeper bool) (*app.Account, error) {
	email, err := checkAddress(email)
	if err != nil {
		return nil, err
	}
	name, err = checkName(name)
	if err != nil {
		return nil, err
	}
	hash, err := hashPassword(ctx, password, email, name)
	if err != nil {
		return nil, err
	}
	return &app.Account{ID: newID(), Email: email, Name: name, Password: hash, Keeper: keeper,
		Created: s.Now().UnixMilli()}, nil
}

func checkAddress(email string) (string, error) {
	email = Address(email)
	if parsed, err := mail.ParseAddress(email); err != nil || parsed.Address != email || len(email) > 200 {
		return "", app.InvalidField("email", "must be an address such as ida.holm@pinecrest.example")
	}
	return email, nil
}

func checkName(name string) (string, error) {
	name = strings.TrimSpace(name)
	if mend := app.CheckText(name, 1, 200); mend != "" {
		return "", app.InvalidField("name", "%s", mend)
	}
	return name, nil
}

func (s *Service) addAccount(tx Tx, a *app.Account, actor app.Actor) error {
	e := s.entry(actor, "account.made", a.ID, fmt.Sprintf("account ⟨0⟩ of ⟨1⟩ made, installation keeper %t", a.Keeper))
	return add(tx, a, e, a.Email, a.Name)
}

// Edit says what to change of an account; nil fields stay.
type Edit struct {
	Name     *string `json:"name,omitempty"`
	Keeper   *bool   `json:"keeper,omitempty"`   // of the installation
	Disabled *bool   `json:"disabled,omitempty"` // its sessions and tokens end; they do not come back
}

// EditAccount changes an account. Somebody must stay who keeps the installation.
func (s *Service) EditAccount(ctx context.Context, actor app.Actor, id string, edit Edit) (*app.Account, error) {
	if err := admit.Installation(&actor); err != nil {
		return nil, err
	}
	var out app.Account
	err := s.Write(ctx, func(tx Tx) error {
		all, err := tx.LockAccounts()
		if err != nil {
			return err
		}
		at := slices.IndexFunc(all, func(a app.Account) bool { return a.ID == id })
		if at < 0 {
			return app.Faultf(app.NotFound, "there is no such account")
		}
		a := &all[at]
		said, personal, err := edit.apply(a, s.Now().UnixMilli())
		if err != nil {
			return err
		}
		out = *a
		if len(said) == 0 {
			return nil
		}
		if !slices.ContainsFunc(all, func(a app.Account) bool { return a.Keeper && a.Disabled == 0 }) {
			return app.Faultf(app.Conflict, "somebody must keep the installation: make somebody else its keeper first")
		}
		if err := tx.SetAccount(a, actor.ID); err != nil {
			return err
		}
		_, err = tx.Append(audit.Access, s.entry(actor, "account.changed", a.ID, said...), personal)
		return err
	})
	return &out, err
}

func (edit *Edit) apply(a *app.Account, now int64) (said, personal []string, err error) {
	if edit.Name != nil && strings.TrimSpace(*edit.Name) != a.Name {
		name, err := checkName(*edit.Name)
		if err != nil {
			return nil, nil, err
		}
		said, personal = append(said, "name ⟨0⟩ → ⟨1⟩"), []string{a.Name, name}
		a.Name = name
	}
	if edit.Keeper != nil && *edit.Keeper != a.Keeper {
		if a.IsRobot() {
			return nil, nil, app.InvalidField("keeper", "a robot cannot keep the installation")
		}
		said = append(said, fmt.Sprintf("installation keeper %t → %t", a.Keeper, *edit.Keeper))
		a.Keeper = *edit.Keeper
	}
	if edit.Disabled != nil && *edit.Disabled != (a.Disabled > 0) {
		a.Disabled = 0
		if *edit.Disabled {
			a.Disabled = now
			said = append(said, "disabled: sessions and personal tokens ended")
		} else {
			said = append(said, "enabled again, without sessions and tokens")
		}
	}
	return said, personal, nil
}

// errSignIn says no more than it must.
var errSignIn = app.Faultf(app.Unauthorized, "the e-mail address or the password is wrong")

// SignIn starts a session. It does the same work for an unknown address, a disabled account
// and a wrong password, and records each with where it came from.
func (s *Service) SignIn(ctx context.Context, email, password string,
	from From) (secret string, session *app.Session, a *app.Account, err error) {
	a, err = s.Records.AccountByEmail(ctx, Address(email))
	var f *app.Fault
	if err != nil && !(errors.As(err, &f) && f.Kind == app.NotFound) {
		return "", nil, nil, err
	}
	hash, usable := nobodysHash, err == nil && a.Password != "" // a robot has none, nor who signs in with a provider
	if usable {
		hash = a.Password
	}
	ok, e := checkPassword(ctx, hash, password)
	if e != nil {
		return "", nil, nil, e
	}
	if !usable || !ok || a.Disabled > 0 {
		return "", nil, nil, s.refuse(ctx, a, err == nil, email, from)
	}
	if s.PasswordsOff && !a.Keeper {
		return "", nil, nil, app.Faultf(app.Forbidden, "passwords are for keepers of the installation here: sign in "+
			"with your company's provider")
	}
	secret, session = s.newSession(a.ID, from)
	actor := app.Actor{Kind: "person", ID: a.ID, Credential: "password", Through: "console"}
	signed := s.entry(actor, "signed-in", a.ID, "signed in from ⟨0⟩")
	err = s.Write(ctx, func(tx Tx) error { return add(tx, session, signed, from.Address) })
	return secret, session, a, err
}

func (s *Service) newSession(account string, from From) (secret string, session *app.Session) {
	now := s.Now()
	secret = NewSecret()
	return secret, &app.Session{Digest: Digest(secret), AccountID: account, CSRF: NewSecret(),
		Created: now.UnixMilli(),
		Expires: now.Add(SessionLifetime).UnixMilli(), Address: cut(from.Address, 64),
		Agent: cut(app.Plain(from.Agent), 200)}
}

func cut(text string, most int) string { return strings.ToValidUTF8(text[:min(len(text), most)], "") }

// refuse records a try to sign in that failed. What is tried on addresses that nobody has is
// recorded as far as a quota goes, so that strangers cannot fill the chain.
func (s *Service) refuse(ctx context.Context, a *app.Account, known bool, email string, from From) error {
	e := s.entry(app.Actor{Kind: "stranger", Through: "console"}, "sign-in.refused", "", "no account ⟨0⟩, from ⟨1⟩")
	personal := []string{cut(Address(email), 200), from.Address}
	if known {
		e = s.entry(app.Actor{Kind: "person", ID: a.ID, Credential: "password", Through: "console"}, "sign-in.refused",
			a.ID, "wrong password, from ⟨0⟩")
		personal = personal[1:]
		if a.Disabled > 0 {
			e.Difference = []string{"the account is disabled, from ⟨0⟩"}
		}
	} else if !s.strangers.take(s.Now()) {
		return errSignIn
	}
	if err := s.write(ctx, e, personal, nil); err != nil {
		return err
	}
	return errSignIn
}

// SignOut ends a session.
func (s *Service) SignOut(ctx context.Context, actor app.Actor, digest []byte, from From) error {
	return s.write(ctx, s.entry(actor, "signed-out", actor.ID, "signed out, from ⟨0⟩"), []string{from.Address},
		func(tx Tx) error {
			_, err := tx.EndSession(actor.ID, digest)
			return err
		})
}

// EndSession ends a session of somebody's by its name: one's own, or anybody's as a keeper of the installation.
func (s *Service) EndSession(ctx context.Context, actor app.Actor, account, id string) error {
	if err := own(actor, account); err != nil {
		return err
	}
	all, err := s.Records.Sessions(ctx, account, s.Now().UnixMilli())
	if err != nil {
		return err
	}
	at := slices.IndexFunc(all, func(v app.Session) bool { return v.ID() == id })
	if at < 0 {
		return app.Faultf(app.NotFound, "there is no session %s: it has ended", id)
	}
	return s.write(ctx, s.entry(actor, "session.ended", account, "session "+id+" ended"), nil, func(tx Tx) error {
		_, err := tx.EndSession(account, all[at].Digest)
		return err
	})
}

// own lets people at what is theirs, and keepers of the installation at everybody's.
func own(actor app.Actor, account string) error {
	if actor.ID == account {
		return nil
	}
	return admit.Installation(&actor)
}

// ChangePassword replaces one's own password. One's other sessions end, and one's tokens but
// for those that are named.
func (s *Service) ChangePassword(ctx context.Context, actor app.Actor, session []byte, old, password string,
	keepTokens []string, from From) error {
	a, err := s.Records.Account(ctx, actor.ID)
	if err != nil {
		return err
	}
	ok, err := checkPassword(ctx, a.Password, old)
	if err != nil {
		return err
	}
	if !ok {
		if err := s.write(ctx, s.entry(actor, "password.refused", a.ID, "wrong present password, from ⟨0⟩"),
			[]string{from.Address}, nil); err != nil {
			return err
		}
		return app.InvalidField("old", "is not your present password")
	}
	return s.setPassword(ctx, actor, a, password, session, keepTokens, "password.changed")
}

// ResetPassword gives somebody a new password and ends all of their sessions and tokens.
func (s *Service) ResetPassword(ctx context.Context, actor app.Actor, account, password string) error {
	if err := admit.Installation(&actor); err != nil {
		return err
	}
	a, err := s.Records.Account(ctx, account)
	if err != nil {
		return err
	}
	if a.IsRobot() {
		return app.Faultf(app.Conflict, "nobody signs in as a robot: make it a token")
	}
	return s.setPassword(ctx, actor, a, password, nil, nil, "password.reset")
}

func (s *Service) setPassword(ctx context.Context, actor app.Actor, a *app.Account, password string, session []byte,
	keepTokens []string, action string) error {
	hash, err := hashPassword(ctx, password, a.Email, a.Name)
	if err != nil {
		return err
	}
	said := "other sessions and all personal tokens ended"
	if len(keepTokens) > 0 {
		said = fmt.Sprintf("other sessions ended, and personal tokens but for %q", keepTokens)
	}
	return s.write(ctx, s.entry(actor, action, a.ID, said), nil, func(tx Tx) error {
		return tx.SetPassword(a.ID, hash, session, keepTokens)
	})
}
