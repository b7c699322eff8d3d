package app

import "encoding/hex"

// Account is a person.
type Account struct {
	ID       string `json:"id" db:"id"`
	Email    string `json:"email" db:"email"`
	Name     string `json:"name" db:"name"`
	Keeper   bool   `json:"keeper" db:"keeper"` // of the installation
	Created  int64  `json:"created" db:"created"`
	Disabled int64  `json:"disabled,omitempty" db:"disabled"` // since when it may not be used
	Password string `json:"-" db:"password"`
}

// Token is a personal token. It has its person's rights.
type Token struct {
	ID        string `json:"id" db:"id"`
	AccountID string `json:"-" db:"account_id"`
	Name      string `json:"name" db:"name"`
	Created   int64  `json:"created" db:"created"`
	Expires   int64  `json:"expires" db:"expires"` // Unix milliseconds
	Digest    []byte `json:"-" db:"digest"`
}

// Caller is who stands behind a token or a session.
type Caller struct {
	Account    Account          `db:"-"`
	Roles      map[int64][]Role `db:"-"`          // by project
	Credential string           `db:"credential"` // a token's id
	Label      string           `db:"label"`      // a token's name
	Expires    int64            `db:"expires"`    // Unix milliseconds
	CSRF       string           `db:"csrf"`       // of a session
}

// Session is a signed-in browser.
type Session struct {
	AccountID string `json:"-" db:"account_id"`
	CSRF      string `json:"-" db:"csrf"`
	Digest    []byte `json:"-" db:"digest"`
	Created   int64  `json:"created" db:"created"`
	Expires   int64  `json:"expires" db:"expires"`
	Address   string `json:"address" db:"address"` // that it was signed in from
	Agent     string `json:"agent" db:"agent"`     // the browser, as it calls itself
}

// ID names a session without giving it away.
func (s *Session) ID() string { return hex.EncodeToString(s.Digest[:min(8, len(s.Digest))]) }
