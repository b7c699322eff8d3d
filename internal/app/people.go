package app

import (
	"encoding/hex"
	"strings"
)

// RobotPrefix begins what stands in place of an address of an account that nobody signs in to.
const RobotPrefix = "robot:"

// IsRobot tells whether nobody signs in to the account: programs act in its name.
func (a *Account) IsRobot() bool { return strings.HasPrefix(a.Email, RobotPrefix) }

// Account is a person, or a robot.
type Account struct {
	ID       string `json:"id" db:"id"`
	Email    string `json:"email" db:"email"`
	Name     string `json:"name" db:"name"`
	Keeper   bool   `json:"keeper" db:"keeper"` // of the installation
	Created  int64  `json:"created" db:"created"`
	Disabled int64  `json:"disabled,omitempty" db:"disabled"` // since when it may not be used
	Password string `json:"-" db:"password"`
}

// Token is a token of a person or a robot. It has their rights, or fewer.
type Token struct {
	ID        string `json:"id" db:"id"`
	AccountID string `json:"-" db:"account_id"`
	Name      string `json:"name" db:"name"`
	Created   int64  `json:"created" db:"created"`
	Expires   int64  `json:"expires" db:"expires"` // Unix milliseconds
	Digest    []byte `json:"-" db:"digest"`
	// Narrow is what it is held to, of all that its account may do; nil: nothing.
	Narrow *Narrow `json:"narrow,omitempty" db:"-"`
}

// Caller is who stands behind a token or a session.
type Caller struct {
	Account    Account  `db:"-"`
	Grants     Grants   `db:"-"`
	Teams      []string `db:"-"`          // keys of all teams that the account is in
	Narrow     *Narrow  `db:"-"`          // of a token; the grants are within it already
	Credential string   `db:"credential"` // a token's id
	Label      string   `db:"label"`      // a token's name
	Expires    int64    `db:"expires"`    // Unix milliseconds
	CSRF       string   `db:"csrf"`       // of a session
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
