package people

import (
	"context"
	"fmt"
	"strings"

	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/audit"
)

// NewToken says what a token is made for, for how long, and what it is held to.
type NewToken struct {
	Name string
	Days int
	Only []app.Narrowed // empty: all that its account may do
}

// AddToken makes a personal token; the secret is shown once.
func (s *Service) AddToken(ctx context.Context, actor app.Actor, in NewToken) (*app.Token, string, error) {
	return s.addToken(ctx, actor, actor.ID, in)
}

func (s *Service) addToken(ctx context.Context, actor app.Actor, account string, in NewToken) (*app.Token, string,
	error) {
	name := strings.TrimSpace(in.Name)
	if mend := app.CheckText(name, 1, 200); mend != "" {
		return nil, "", app.InvalidField("name", "%s, such as what the token is for", mend)
	}
	if in.Days < 1 || in.Days > MaxTokenDays {
		return nil, "", app.InvalidField("days", "must be 1 to %d", MaxTokenDays)
	}
	if len(in.Only) > maxOnly {
		return nil, "", app.InvalidField("only", "takes %d roles", maxOnly)
	}
	now := s.Now()
	k := &app.Token{ID: newID(), AccountID: account, Name: name, Created: now.UnixMilli(),
		Expires: now.AddDate(0, 0, in.Days).UnixMilli()}
	said := fmt.Sprintf("personal token %q for %d days", name, in.Days)
	secret := "glt_" + NewSecret()
	if account != actor.ID || len(in.Only) > 0 {
		k.Narrow = &app.Narrow{Only: in.Only}
		secret = NarrowToken + NewSecret()
	}
	if account != actor.ID {
		k.Narrow.By = actor.ID
		said = fmt.Sprintf("token %q of a robot for %d days", name, in.Days)
	}
	if len(in.Only) > 0 {
		said += fmt.Sprintf(", held to %d roles", len(in.Only))
	}
	k.Digest = TokenDigest(secret)
	e := s.entry(actor, "token.made", k.ID, said)
	err := s.Write(ctx, func(tx Tx) error { return add(tx, k, e) })
	return k, secret, err
}

// NarrowToken begins the tokens that may do less than their account.
const NarrowToken = "gln_"

// maxOnly bounds what a token names.
const maxOnly = 100

// TokenDigest is what is kept of a token. Of a narrow one it is another, so that a process of a release that knows no
// such tokens does not take one for more than it is.
func TokenDigest(secret string) []byte {
	if strings.HasPrefix(secret, NarrowToken) {
		return Digest("narrow " + secret)
	}
	return Digest(secret)
}

// RemoveToken ends a personal token: one's own, or anybody's as a keeper of the installation.
func (s *Service) RemoveToken(ctx context.Context, actor app.Actor, account, id string) error {
	if err := own(actor, account); err != nil {
		return err
	}
	return s.Write(ctx, func(tx Tx) error {
		name, err := tx.RemoveToken(account, id)
		if err != nil {
			return err
		}
		if name == "" {
			return app.Faultf(app.NotFound, "there is no personal token %s: it was removed, or has expired", id)
		}
		_, err = tx.Append(audit.Access, s.entry(actor, "token.removed", id, fmt.Sprintf("personal token %q removed",
			name)), nil)
		return err
	})
}
