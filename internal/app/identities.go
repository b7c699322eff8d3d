package app

import (
	"crypto/sha256"
	"encoding/hex"
)

// Identity binds a subject of a provider to an account.
type Identity struct {
	ID        string `json:"id" db:"id"` // of issuer and subject
	AccountID string `json:"-" db:"account_id"`
	Issuer    string `json:"issuer" db:"issuer"`
	Subject   string `json:"subject" db:"subject"`
	Made      int64  `json:"made" db:"made"`
	// Confirmed is when the account's person, or a keeper of the installation, said that it is theirs; 0: not yet.
	Confirmed int64 `json:"confirmed,omitempty" db:"confirmed"`
}

// IdentityID is the id of a subject of an issuer.
func IdentityID(issuer, subject string) string {
	sum := sha256.Sum256([]byte(issuer + "\n" + subject))
	return hex.EncodeToString(sum[:])
}

// IdentityGone is one that is taken away.
type IdentityGone struct{ ID string }

// AccountGone is an account of which nothing personal is left.
type AccountGone struct{ Account }
