package app

// CalendarAddress is an address at which somebody reads a project's calendar without signing in, in their own right.
type CalendarAddress struct {
	ID        string `json:"id" db:"id"`
	AccountID string `json:"-" db:"account_id"`
	ProjectID int64  `json:"-" db:"project_id"`
	Made      int64  `json:"made" db:"made"`
	Digest    []byte `json:"-" db:"digest"` // of the secret in the address
}

// CalendarGone is an address that is taken away.
type CalendarGone struct{ ID string }
